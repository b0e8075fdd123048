"""What routes a device has: connected prefixes, static routes, and computed fewest-hop paths between the devices of one plan.

The longest prefix wins, and of equally long ones connected beats static beats computed. Each family is a network of its own; an
outside joins no devices. Whoever is down has no interface here.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator
from functools import cache
from typing import NamedTuple

from crossgate.core.model.address import Address, Family
from crossgate.core.model.network import Device, Interface
from crossgate.core.model.plan import Plan

FAR = 1_000_000
"""More hops than any way has."""


class Link(NamedTuple):
    """A subnet between two devices: the interface of one, and that of its neighbour."""

    interface: Interface
    neighbour: Interface


class Hop(NamedTuple):
    """A choice of a device: out of `interface` to `neighbour`'s interface, or to the machine itself (None)."""

    interface: Interface
    neighbour: Interface | None


class Routes:
    """The routes of one plan's devices; it keeps what it has worked out."""

    def __init__(self, plan: Plan) -> None:
        self.plan = plan
        self.on_segment: dict[tuple[str, Family], list[Interface]] = {}
        for name in sorted(plan.devices):
            for interface in plan.devices[name].interfaces.values():
                for family in Family if not plan.is_down(interface) else ():
                    if interface.in_family(family):
                        self.on_segment.setdefault((interface.on, family), []).append(interface)
        self._segment_of = cache(plan.segment_of)
        self._known_hops: dict[tuple[str, Address], list[Hop] | str] = {}
        self._costs: dict[tuple[frozenset[str], Family, str | None], dict[str, int]] = {}
        self._prefixes: dict[tuple[str, Family], dict[int, dict[int, list[Interface]]]] = {}
        self._links: dict[tuple[str, Family], list[Link]] = {}
        self._near: dict[tuple[str, Family], list[str]] = {}

    def has_route(self, name: str, destination: Address) -> bool:
        """Whether a device knows a way to an address: it has the address itself, or a route to it."""
        return self._owner(destination) == name or not isinstance(self._hops(self.plan.devices[name], destination), str)

    def _hops(self, device: Device, destination: Address) -> list[Hop] | str:
        """Return a device's best next hops to an address, by device name, or why it has none."""
        key = (device.name, destination)
        if key not in self._known_hops:
            self._known_hops[key] = self._best_hops(device, destination)
        return self._known_hops[key]

    def _best_hops(self, device: Device, destination: Address) -> list[Hop] | str:
        family, value = destination
        best: tuple[int, int] = (-1, 0)
        hops: list[Hop] | str = []
        for wildcard, interfaces in self._connected(device, family).items():
            near = interfaces.get(value & ~wildcard)
            if near is not None:
                hops, best = [Hop(interface, None) for interface in near], (family.bits - wildcard.bit_length(), 2)
                break
        for route in device.routes:
            rank = (route.destination.prefix_length, 1)
            if route.destination.family is not family or not route.destination.contains(value) or rank < best:
                continue
            through = self._static_hop(device, route.via)
            if rank == best and isinstance(hops, list):
                hops = hops if isinstance(through, str) else sorted([*hops, *through], key=_by_device)
            else:
                hops, best = through, rank
        if (self.computed_length(destination), 0) > best:
            return self._computed(device, destination) or hops or f"{device.name} has no route to {destination}"
        return hops or f"{device.name} has no route to {destination}"

    def _static_hop(self, device: Device, via: Address) -> list[Hop] | str:
        """Return the hops to a static route's next device, by each interface on its subnet, or why there are none."""
        connected = (interfaces.get(via.value & ~wildcard) for wildcard, interfaces in self._connected(device, via.family).items())
        near = next(filter(None, connected), [])
        if via in self.plan.gateway_at:
            others = [each for each in self.answering(via) if each.device != device.name]
            found = [Hop(interface, each) for interface in near for each in others]
            return found or f"{device.name}'s route goes by {via}, and nobody answers"
        neighbour = self.plan.interface_of.get(via)
        if not near or (neighbour is not None and self.plan.is_down(neighbour)):
            return f"{device.name}'s route goes by {via}, and the way there is down"
        on = near[0].on
        outside = self.plan.segments[on].outside
        if neighbour is None and not outside:
            return f"{device.name}'s route goes by {via}, and no device has that address"
        if neighbour is not None and outside:
            return (
                f"{device.name}'s route goes by {via}, which is {neighbour.device} across {on}, and an outside is no way "
                "between two devices; join them by a subnet"
            )
        return [Hop(interface, neighbour) for interface in near]

    def _connected(self, device: Device, family: Family) -> dict[int, dict[int, list[Interface]]]:
        """Return a device's interfaces by their connected prefixes: by wildcard, the longest prefix first, then by value."""
        key = (device.name, family)
        if key not in self._prefixes:
            found: dict[int, dict[int, list[Interface]]] = {}
            for interface in self._up(device):
                for block in dict.fromkeys(own.connected for own in interface.in_family(family)):
                    found.setdefault(block.wildcard, {}).setdefault(block.value, []).append(interface)
            self._prefixes[key] = dict(sorted(found.items()))
        return self._prefixes[key]

    def computed_length(self, destination: Address) -> int:
        """Return the length of the prefix that computed paths to an address are known by; -1 where there are none."""
        target = self._segment_of(destination)
        if self.plan.static_routing or target is None:
            return -1
        blocks = () if target.outside else target.prefixes
        family, value = destination
        return next((block.prefix_length for block in blocks if block.family is family and block.contains(value)), 0)

    def _computed(self, device: Device, destination: Address) -> list[Hop]:
        """Return the next hops of the fewest-hop paths."""
        family = destination.family
        here = [each for each in self.at_end(destination) if each.device == device.name]
        if here:
            return [Hop(interface, None) for interface in sorted(here, key=lambda each: each.name)]
        costs = self.costs_to(destination)
        near = [link for link in self.links(device.name, family) if link.neighbour.device in costs]
        best = min((costs[link.neighbour.device] for link in near), default=0)
        return [Hop(*link) for link in near if costs[link.neighbour.device] == best]

    def links(self, name: str, family: Family) -> list[Link]:
        """Return the links from a device to each of its neighbours, by the neighbours' names."""
        key = (name, family)
        if key not in self._links:
            found = [
                Link(interface, neighbour)
                for interface in self._up(self.plan.devices[name])
                if interface.in_family(family) and not self.plan.segments[interface.on].outside
                for neighbour in self.on_segment[(interface.on, family)]
                if neighbour.device != name
            ]
            self._links[key] = sorted(found, key=lambda link: (link.neighbour.device, link.interface.name))
        return self._links[key]

    def _up(self, device: Device) -> Iterator[Interface]:
        """Yield the interfaces of a device that carry something."""
        return (interface for interface in device.interfaces.values() if not self.plan.is_down(interface))

    def owner(self, destination: Address) -> Interface | None:
        """Return the interface with an address, unless it is down."""
        interface = self.plan.interface_of.get(destination)
        return None if interface is None or self.plan.is_down(interface) else interface

    def _owner(self, destination: Address) -> str | None:
        """Return the device that has an address, and is up."""
        interface = self.owner(destination)
        return interface.device if interface else None

    def answering(self, address: Address) -> list[Interface]:
        """Return the interfaces, but those that are down, of the devices that answer for a shared gateway's address, as they are written."""
        gateway = self.plan.gateway_at.get(address)
        own = () if gateway is None else (self.plan.devices[point.owner].interfaces[point.part] for point in gateway.by)
        return [interface for interface in own if not self.plan.is_down(interface)]

    def costs(self, segment: str, family: Family, owner: str | None = None) -> dict[str, int]:
        """Return, for each device that has a way to a segment, how many hops it is away (0: it has an interface there).

        With `owner`, the device that has the address looked for, getting to it is one hop less than to the segment.
        """
        return self._costs_to(frozenset(each.device for each in self.on_segment.get((segment, family), [])), family, owner)

    def _costs_to(self, on: frozenset[str], family: Family, owner: str | None) -> dict[str, int]:
        key = (on, family, owner)
        if key not in self._costs:
            self._costs[key] = self.hops_to(on, family, owner)
        return self._costs[key]

    def at_end(self, destination: Address) -> list[Interface]:
        """Return the interfaces by which computed paths to an address end: on its outside, or with an address of their own in its prefix."""
        target = self._segment_of(destination)
        near = [] if target is None else self.on_segment.get((target.name, destination.family), [])
        if target is None or target.outside:
            return near
        return [each for each in near if any(own.connected.contains(destination.value) for own in each.in_family(destination.family))]

    def costs_to(self, destination: Address) -> dict[str, int]:
        """Return, for each device that has a way to an address, how many hops of computed paths it is away."""
        on = frozenset(interface.device for interface in self.at_end(destination))
        return self._costs_to(on, destination.family, self._owner(destination))

    def hops_to(self, ends: Collection[str], family: Family, owner: str | None = None) -> dict[str, int]:
        """Return how many hops each device is away from the nearest of some, breadth first; `owner` is at -1, the others at 0."""
        costs = dict.fromkeys(ends, 0)
        front, cost = list(ends), 0
        if owner is not None:
            costs[owner] = -1
            front = [*ends, *(name for name in self._neighbours(owner, family) if name not in costs)]
            costs.update((name, 0) for name in front if name != owner)
        while front:
            cost += 1
            following = []
            for name in front:
                for neighbour in self._neighbours(name, family):
                    if neighbour not in costs:
                        costs[neighbour] = cost
                        following.append(neighbour)
            front = following
        return costs

    def _neighbours(self, name: str, family: Family) -> list[str]:
        """Return the devices that share a subnet of a family with one."""
        key = (name, family)
        if key not in self._near:
            self._near[key] = list(dict.fromkeys(link.neighbour.device for link in self.links(name, family)))
        return self._near[key]

    def distance(self, start: str, end: str, family: Family) -> int:
        """Return how many devices lie between two segments: 0 for the same one, a huge number when there is no way."""
        if start == end:
            return 0
        costs = self.costs(end, family)
        near = self.on_segment.get((start, family), [])
        return min((costs[interface.device] + 1 for interface in near if interface.device in costs), default=FAR)


def _by_device(hop: Hop) -> tuple[str, str]:
    return (hop.neighbour.device if hop.neighbour else "", hop.interface.name)
