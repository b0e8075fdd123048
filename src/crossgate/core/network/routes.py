"""The routes of a device: connected prefixes, static routes, and computed routes of least cost
between the devices of one plan.

The longest prefix wins, and of equally long ones connected beats static and static beats computed.
Each family is routed by itself; an outside joins no devices. A device that is down has no
interfaces here.
"""

from __future__ import annotations

from collections.abc import Iterator
from functools import cache
from typing import NamedTuple

from crossgate.core.model.address import Address, Family, Pattern, prefix
from crossgate.core.model.network import Device, Interface, Route
from crossgate.core.model.plan import Plan
from crossgate.core.network.costs import FAR, Costs, Exits
from crossgate.core.network.failure import Failure, FailureKind


class NextHop(NamedTuple):
    """A choice of a device: out of `interface` to `neighbour`'s interface, or to the destination
    itself (None).
    """

    interface: Interface
    neighbour: Interface | None


class Routes:
    """The routes of the devices of one plan; results are kept."""

    def __init__(self, plan: Plan) -> None:
        self.plan = plan
        self.on_segment: dict[tuple[str, Family], list[Interface]] = {}
        for name in sorted(plan.devices):
            for interface in plan.devices[name].interfaces.values():
                for family in Family if not plan.is_down(interface) else ():
                    if interface.in_family(family):
                        self.on_segment.setdefault((interface.on, family), []).append(interface)
        self.costs = Costs(plan, self.on_segment)
        self._segment_of = cache(plan.segment_of)
        self._ends: dict[Address, dict[str, list[Interface]]] = {}
        self._exits: dict[Address, Exits] = {}
        self._known_next_hops: dict[tuple[str, Address], list[NextHop] | Failure] = {}
        self._prefixes: dict[tuple[str, Family], dict[int, dict[int, list[Interface]]]] = {}

    def has_route(self, name: str, destination: Address) -> bool:
        """Whether a device can send to an address: it has the address itself, or a route to it."""
        return self._owner(destination) == name or not isinstance(
            self._next_hops(self.plan.devices[name], destination), Failure
        )

    def _next_hops(self, device: Device, destination: Address) -> list[NextHop] | Failure:
        """Return a device's best next hops to an address, by device name, or why it has none."""
        key = (device.name, destination)
        if key not in self._known_next_hops:
            self._known_next_hops[key] = self._best_next_hops(device, destination)
        return self._known_next_hops[key]

    def _best_next_hops(self, device: Device, destination: Address) -> list[NextHop] | Failure:
        family, value = destination
        best: tuple[int, int] = (-1, 0)
        nothing = Failure(FailureKind.NO_ROUTE, f"{device.name} has no route to {destination}")
        hops: list[NextHop] | Failure = nothing
        for wildcard, interfaces in self._connected(device, family).items():
            near = interfaces.get(value & ~wildcard)
            if near is not None:
                hops, best = (
                    [NextHop(interface, None) for interface in near],
                    (family.bits - wildcard.bit_length(), 2),
                )
                break
        for route in device.routes:
            rank = (route.destination.prefix_length, 1)
            if (
                route.destination.family is not family
                or not route.destination.contains(value)
                or rank < best
            ):
                continue
            through = self._static_next_hops(device, route.via)
            if rank == best and isinstance(hops, list):
                hops = (
                    hops
                    if isinstance(through, Failure)
                    else sorted([*hops, *through], key=_by_device)
                )
            else:
                hops, best = through, rank
        if (self.computed_length(destination), 0) > best:
            return self._computed(device, destination) or hops
        return hops

    def instead_of(self, device: Device, route: Route) -> list[tuple[Pattern, str]]:
        """Return the prefixes inside that of a static route for which the device always uses a
        better route, each with the kind of that route.
        """
        family, length = route.destination.family, route.destination.prefix_length
        found = [
            (prefix(Address(family, value), family.bits - wildcard.bit_length()), "connected")
            for wildcard, interfaces in self._connected(device, family).items()
            for value in interfaces
            if family.bits - wildcard.bit_length() >= length
        ]
        found += [
            (each.destination, "static")
            for each in device.routes
            if each.destination.prefix_length > length
        ]
        if not self.plan.static_routing:
            blocks = [
                each
                for segment in self.plan.segments.values()
                if not segment.outside
                for each in segment.prefixes
            ]
            found += [
                (each, "computed")
                for each in blocks
                if each.family is family
                and each.prefix_length > length
                and device.name in self.costs_to(Address(family, each.first))
            ]
        return [
            (each, sort)
            for each, sort in found
            if each.family is family and route.destination.covers(each)
        ]

    def _static_next_hops(self, device: Device, via: Address | None) -> list[NextHop] | Failure:
        """Return the hops to a static route's next device, one for each interface on its subnet, or
        why there are none.
        """
        if via is None:
            return Failure(FailureKind.DISCARDED, f"discarded at {device.name}")
        lead = f"{device.name}'s route goes by {via}, "
        connected = (
            interfaces.get(via.value & ~wildcard)
            for wildcard, interfaces in self._connected(device, via.family).items()
        )
        near = next(filter(None, connected), [])
        if via in self.plan.gateway_at:
            others = [each for each in self.answering(via) if each.device != device.name]
            found = [NextHop(interface, each) for interface in near for each in others]
            return found or Failure(FailureKind.NEXT_HOP, f"{lead}and nobody answers")
        neighbour = self.plan.interface_of.get(via)
        if not near or (neighbour is not None and self.plan.is_down(neighbour)):
            return Failure(FailureKind.NEXT_HOP, f"{lead}and the way there is down")
        on = near[0].on
        outside = self.plan.segments[on].outside
        if neighbour is None and not outside:
            return Failure(FailureKind.NEXT_HOP, f"{lead}and no device has that address")
        if neighbour is not None and outside:
            across = (
                f"which is {neighbour.device} across {on}, and an outside is no way between "
                "two devices; join them by a subnet"
            )
            return Failure(FailureKind.NEXT_HOP, lead + across)
        return [NextHop(interface, neighbour) for interface in near]

    def _connected(self, device: Device, family: Family) -> dict[int, dict[int, list[Interface]]]:
        """Return a device's interfaces by their connected prefixes: by wildcard, the longest prefix
        first, then by value.
        """
        key = (device.name, family)
        if key not in self._prefixes:
            found: dict[int, dict[int, list[Interface]]] = {}
            for interface in self.up(device):
                for block in dict.fromkeys(own.connected for own in interface.in_family(family)):
                    found.setdefault(block.wildcard, {}).setdefault(block.value, []).append(
                        interface
                    )
            self._prefixes[key] = dict(sorted(found.items()))
        return self._prefixes[key]

    def computed_length(self, destination: Address) -> int:
        """Return the length of the prefix that computed routes have for an address; -1 where there
        is no such route.
        """
        target = self._segment_of(destination)
        if self.plan.static_routing or target is None:
            return -1
        blocks = () if target.outside else target.prefixes
        family, value = destination
        return next(
            (
                block.prefix_length
                for block in blocks
                if block.family is family and block.contains(value)
            ),
            0,
        )

    def _computed(self, device: Device, destination: Address) -> list[NextHop]:
        """Return the next hops of the least-cost paths."""
        exits = self.exits(destination)
        own = dict(exits.costs).get(device.name, FAR)
        cost, links = self.costs.onward(
            device.name, destination.family, self.costs.to(exits, destination.family)
        )
        last = device.name in exits.last
        here = (
            self.ends_at(destination)[device.name] if own != FAR and (last or own <= cost) else []
        )
        found = [NextHop(interface, None) for interface in here]
        if last or own < cost:
            return found
        return found + [NextHop(link.interface, link.neighbour) for link in links]

    def up(self, device: Device) -> Iterator[Interface]:
        """Yield the interfaces of a device that are up."""
        return (
            interface
            for interface in device.interfaces.values()
            if not self.plan.is_down(interface)
        )

    def owner(self, destination: Address) -> Interface | None:
        """Return the interface with an address, None where it is down."""
        interface = self.plan.interface_of.get(destination)
        return None if interface is None or self.plan.is_down(interface) else interface

    def _owner(self, destination: Address) -> str | None:
        """Return the device that has an address and is up."""
        interface = self.owner(destination)
        return interface.device if interface else None

    def answering(self, address: Address) -> list[Interface]:
        """Return the interfaces, without those that are down, of the devices that answer for a
        shared gateway's address, in the order of the plan.
        """
        gateway = self.plan.gateway_at.get(address)
        own = (
            ()
            if gateway is None
            else (self.plan.devices[point.owner].interfaces[point.part] for point in gateway.by)
        )
        return [interface for interface in own if not self.plan.is_down(interface)]

    def ends_at(self, destination: Address) -> dict[str, list[Interface]]:
        """Return the devices at which computed paths to an address can end, each with the
        interfaces, by name, through which it hands packets out.

        These are the interfaces with an address in the destination's prefix; on an outside, where a
        device has none, those that cost the least.
        """
        if destination not in self._ends:
            self._ends[destination] = self._ending(destination)
        return self._ends[destination]

    def _ending(self, destination: Address) -> dict[str, list[Interface]]:
        target = self._segment_of(destination)
        near = [] if target is None else self.on_segment.get((target.name, destination.family), [])
        found: dict[str, list[Interface]] = {}
        for each in near:
            if self._is_connected(each, destination):
                found.setdefault(each.device, []).append(each)
        if target is not None and target.outside:
            others = [each for each in near if each.device not in found]
            least = {each.device: FAR for each in others}
            for each in others:
                least[each.device] = min(least[each.device], self.costs.leaving(each))
            for each in others:
                if self.costs.leaving(each) == least[each.device]:
                    found.setdefault(each.device, []).append(each)
        return {
            name: sorted(interfaces, key=lambda each: each.name)
            for name, interfaces in found.items()
        }

    def _is_connected(self, interface: Interface, destination: Address) -> bool:
        return any(
            own.connected.contains(destination.value)
            for own in interface.in_family(destination.family)
        )

    def exits(self, destination: Address) -> Exits:
        """Return where computed paths to an address end: at the devices connected to its prefix, or
        else at any device on its outside.
        """
        if destination not in self._exits:
            owner, ends = self._owner(destination), self.ends_at(destination)
            last = (
                ends
                if owner is not None
                else [
                    name for name, near in ends.items() if self._is_connected(near[0], destination)
                ]
            )
            self._exits[destination] = Exits(self._least(ends), frozenset(last), owner)
        return self._exits[destination]

    def _least(self, ends: dict[str, list[Interface]]) -> frozenset[tuple[str, int]]:
        return frozenset((name, min(map(self.costs.leaving, near))) for name, near in ends.items())

    def costs_to(self, destination: Address) -> dict[str, int]:
        """Return the least cost of a computed path from each device to an address, for the devices
        that have one.
        """
        return self.costs.to(self.exits(destination), destination.family)

    def distance(self, start: str, end: str, family: Family) -> int:
        """Return the least cost from one segment to another: 0 for the same one, `FAR` when there
        is no path.
        """
        if start == end:
            return 0
        ends: dict[str, list[Interface]] = {}
        for each in self.on_segment.get((end, family), []):
            ends.setdefault(each.device, []).append(each)
        costs = self.costs.to(Exits(self._least(ends), frozenset(ends)), family)
        return min(
            (costs.get(each.device, FAR) for each in self.on_segment.get((start, family), [])),
            default=FAR,
        )


def _by_device(hop: NextHop) -> tuple[str, str]:
    return (hop.neighbour.device if hop.neighbour else "", hop.interface.name)
