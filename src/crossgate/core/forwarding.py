"""Where a packet goes: the way from one machine to an address, as the places it crosses in order.

1. A packet for its own subnet goes there through switch ports; any other goes to a gateway first.
2. A device looks at connected prefixes, static routes and computed fewest-hop paths; the longest prefix wins, and of
   equally long ones connected beats static beats computed.
3. Each family is a network of its own: an interface carries a family only if it has an address of it.
4. The way depends on where the packet starts and on its destination, never on lists or ports. Lists are asked by
   `trace`, so this module knows none (but for `DEVICE itself` outbound, which is crossed only where a list stands).
"""

from __future__ import annotations

import heapq
from collections.abc import Iterator
from functools import cache
from typing import NamedTuple

from crossgate.core.address import Address, Family
from crossgate.core.network import Device, Direction, Interface, Point, PointKind
from crossgate.core.plan import Plan
from crossgate.core.wire import Wire

HOP_LIMIT = 64
_OUTSIDE_COST = 1000
"""A way through an outside counts as this many hops, so that it is taken only where there is no inner one."""


class Crossing(NamedTuple):
    """A packet passing a place in one direction."""

    point: Point
    direction: Direction


class End(NamedTuple):
    """Where a conversation starts or ends: a host, a device, or an address that nobody has been given.

    `segment` is the subnet or outside it is on, `at` its switch port, `gateways` the gateways it is told to use. For a
    device, `device` is its name and `segment` that of the interface with the address.
    """

    name: str
    address: Address
    segment: str
    at: Point | None = None
    gateways: tuple[Address, ...] = ()
    device: str | None = None


class Path(NamedTuple):
    """The way of a packet: what it crosses, whether it arrives, and if not where it ends and why.

    `forks` tells that somewhere on the way another next device was as good.
    """

    crossings: tuple[Crossing, ...] = ()
    devices: tuple[str, ...] = ()
    arrived: bool = True
    reason: str = ""
    forks: bool = False

    def then(self, *crossings: Crossing) -> Path:
        """Return the path with these crossings added."""
        return self._replace(crossings=self.crossings + crossings) if crossings else self

    def lost(self, reason: str) -> Path:
        """Return the path as one that ends here without arriving."""
        return self._replace(arrived=False, reason=reason)


class _Hop(NamedTuple):
    """A choice of a device: out of `interface` to `neighbour`'s interface, or to the machine itself (None)."""

    interface: Interface
    neighbour: Interface | None


class Forwarding:
    """Answers which way packets go in one plan; it keeps what it has worked out."""

    def __init__(self, plan: Plan) -> None:
        self.plan = plan
        self.wire = Wire(plan)
        self.on_segment: dict[tuple[str, Family], list[Interface]] = {}
        for name in sorted(plan.devices):
            for interface in plan.devices[name].interfaces.values():
                for family in Family:
                    if interface.in_family(family):
                        self.on_segment.setdefault((interface.on, family), []).append(interface)
        self._segment_of = cache(plan.segment_of)
        self._known_hops: dict[tuple[str, Address], list[_Hop] | str] = {}
        self._costs: dict[tuple[str, Family, str | None], dict[str, int]] = {}
        self._paths: dict[tuple[str | None, str, Point | None, tuple[Address, ...], Address], Path] = {}

    def path(self, origin: End, destination: Address) -> Path:
        """Return the way from `origin` to an address; of equal ones the first by device name."""
        key = (origin.device, origin.segment, origin.at, origin.gateways, destination)
        if key not in self._paths:
            self._paths[key] = next(self.paths(origin, destination))
        return self._paths[key]

    def paths(self, origin: End, destination: Address) -> Iterator[Path]:
        """Yield every way that is as good as the first, the first one first."""
        if origin.device is not None:
            device = self.plan.devices[origin.device]
            if destination in device.addresses():
                yield Path()
                return
            out = Crossing(device.itself, Direction.OUTBOUND)
            placed = (out.point, out.direction, destination.family) in self.plan.placed
            yield from self._routed(Path(devices=(device.name,)).then(*[out] * placed), device, destination, own=True)
            return
        segment = self.plan.segments[origin.segment]
        attached = origin.at
        target = self._segment_of(destination)
        if segment.holds(destination) or (
            segment.outside and target is not None and target.outside and self._delivers(segment.name, destination)
        ):
            yield from self._deliver(Path(), segment.name, attached, destination)
            return
        gateways = self._gateways(origin, destination)
        if not gateways:
            yield Path().lost(f"{origin.segment} has no gateway for {destination.family.label}")
            return
        for gateway in gateways:
            path = Path(forks=len(gateways) > 1)
            ports = self.wire.between(attached, gateway)
            if ports is None:
                yield path.lost(f"no cable leads from {attached} to {gateway.point}")
                continue
            path = path.then(*_crossings(ports))
            if not segment.outside:
                path = path.then(Crossing(Point(PointKind.SUBNET, segment.name), Direction.OUTBOUND))
            yield from self._enter(path, gateway, destination)

    def _delivers(self, segment: str, destination: Address) -> bool:
        """Whether an outside address is to be had on this outside: only hosts and interfaces are bound to one."""
        host = self.plan.host_of.get(destination)
        interface = self.plan.interface_of.get(destination)
        return segment == (host.on if host else interface.on if interface else segment)

    def _gateways(self, origin: End, destination: Address) -> list[Interface]:
        """Return the interfaces that a machine may hand a packet to: those it is told, else the nearest to the end."""
        told = [self.plan.interface_of[address] for address in origin.gateways if address.family is destination.family]
        if told:
            return told
        near = self.on_segment.get((origin.segment, destination.family), [])
        if self.plan.static_routing:
            able = [interface for interface in near if self._hops(self.plan.devices[interface.device], destination)]
            return (able or near)[:1]
        target = self._segment_of(destination)
        if target is None or not near:
            return near[:1]
        costs = self.costs(target.name, destination.family, self._owner(destination))
        best = min(costs.get(interface.device, _OUTSIDE_COST**2) for interface in near)
        return [interface for interface in near if costs.get(interface.device, _OUTSIDE_COST**2) == best]

    def _enter(self, path: Path, interface: Interface, destination: Address) -> Iterator[Path]:
        """Go on from the arrival of a packet at a device's interface."""
        device = self.plan.devices[interface.device]
        path = path._replace(devices=(*path.devices, device.name)).then(Crossing(interface.point, Direction.INBOUND))
        if destination in device.addresses():
            yield path.then(Crossing(device.itself, Direction.INBOUND))
        elif len(path.devices) > HOP_LIMIT:
            last = path.devices[-1]
            ring = path.devices[path.devices.index(last) : path.devices.index(last, path.devices.index(last) + 1) + 1]
            yield self._without_loop(path).lost(f"it goes round in a circle: {' to '.join(ring)}")
        else:
            yield from self._routed(path, device, destination, own=False)

    def _without_loop(self, path: Path) -> Path:
        """Cut a path that goes round down to its first round."""
        seen: set[Crossing] = set()
        for index, crossing in enumerate(path.crossings):
            if crossing in seen:
                return path._replace(crossings=path.crossings[:index])
            seen.add(crossing)
        return path

    def _routed(self, path: Path, device: Device, destination: Address, own: bool) -> Iterator[Path]:
        """Go on from a device that has to send a packet on; `own` packets are not asked at its interfaces."""
        hops = self._hops(device, destination)
        if isinstance(hops, str):
            yield path.lost(hops)
            return
        for interface, neighbour in hops:
            on = path._replace(forks=True) if len(hops) > 1 else path
            if not own:
                on = on.then(Crossing(interface.point, Direction.OUTBOUND))
            if not self.plan.segments[interface.on].outside:
                on = on.then(Crossing(Point(PointKind.SUBNET, interface.on), Direction.INBOUND))
            if neighbour is None:
                yield from self._deliver(on, interface.on, interface, destination)
                continue
            ports = self.wire.between(interface, neighbour)
            if ports is None:
                yield on.lost(f"no cable leads from {interface.point} to {neighbour.point}")
                continue
            yield from self._enter(on.then(*_crossings(ports)), neighbour, destination)

    def _deliver(self, path: Path, segment: str, attached: Interface | Point | None, destination: Address) -> Iterator[Path]:
        """Hand a packet to the machine on this segment that has its destination, or to nobody's address there."""
        owner = self.plan.interface_of.get(destination)
        host = self.plan.host_of.get(destination)
        if owner is not None and owner.on == segment:
            ports = self.wire.between(attached, owner)
        else:
            ports = self.wire.between(attached, host.at if host and host.on == segment else None)
        if ports is None:
            end = owner.point if owner else host.name if host else destination
            yield path.lost(f"no cable leads to {end}: its switch is not joined to the one the packet comes from")
        elif owner is not None and owner.on == segment:
            yield from self._enter(path.then(*_crossings(ports)), owner, destination)
        elif host is not None and host.on != segment:
            yield path.lost(f"it goes out to {segment}, but {host.name} is on {host.on}")
        elif self.plan.segments[segment].outside and (inner := self._segment_of(destination)) is not None and not inner.outside:
            yield path.lost(f"it goes out to {segment}, but {destination} is in {inner.name}")
        else:
            yield path.then(*_crossings(ports))

    def _hops(self, device: Device, destination: Address) -> list[_Hop] | str:
        """Return a device's best next hops to an address, by device name, or why it has none."""
        key = (device.name, destination)
        if key not in self._known_hops:
            self._known_hops[key] = self._best_hops(device, destination)
        return self._known_hops[key]

    def _best_hops(self, device: Device, destination: Address) -> list[_Hop] | str:
        family, value = destination
        best: tuple[int, int] = (-1, 0)
        hops: list[_Hop] | str = []
        for interface in device.interfaces.values():
            for own in interface.in_family(family):
                if own.connected.contains(value) and (own.length, 2) >= best:
                    hops = [_Hop(interface, None)]
                    best = (own.length, 2)
        for route in device.routes:
            rank = (route.destination.prefix_length, 1)
            if route.destination.family is not family or not route.destination.contains(value) or rank < best:
                continue
            through = self._static_hop(device, route.via)
            if rank == best and isinstance(hops, list) and not isinstance(through, str):
                hops = sorted([*hops, *through], key=_by_device)
            else:
                hops, best = through, rank
        computed, length = self._computed(device, destination)
        if computed and (length, 0) > best:
            return computed
        return hops or f"{device.name} has no route to {destination}"

    def _static_hop(self, device: Device, via: Address) -> list[_Hop] | str:
        interface = next(
            interface
            for interface in device.interfaces.values()
            for own in interface.in_family(via.family)
            if own.connected.contains(via.value)
        )
        neighbour = self.plan.interface_of.get(via)
        if neighbour is None and not self.plan.segments[interface.on].outside:
            return f"{device.name}'s route goes by {via}, and no device has that address"
        return [_Hop(interface, neighbour)]

    def _computed(self, device: Device, destination: Address) -> tuple[list[_Hop], int]:
        """Return the next hops of the fewest-hop paths, and the length of the prefix they are known by."""
        target = self._segment_of(destination)
        if self.plan.static_routing or target is None:
            return [], 0
        family = destination.family
        length = next((block.prefix_length for block in target.prefixes if block.family is family and block.contains(destination.value)), 0)
        if target.outside and destination in self.plan.host_of:
            length = family.bits
        costs = self.costs(target.name, family, self._owner(destination))
        hops = []
        for interface in device.interfaces.values():
            if not interface.in_family(family):
                continue
            if interface.on == target.name:
                return [_Hop(interface, None)], length
            cost = _OUTSIDE_COST if self.plan.segments[interface.on].outside else 1
            for neighbour in self.on_segment[(interface.on, family)]:
                if neighbour.device != device.name and neighbour.device in costs:
                    hops.append((costs[neighbour.device] + cost, _Hop(interface, neighbour)))
        best = min((cost for cost, _ in hops), default=0)
        return sorted((hop for cost, hop in hops if cost == best), key=_by_device), length

    def _owner(self, destination: Address) -> str | None:
        """Return the device that has an address."""
        interface = self.plan.interface_of.get(destination)
        return interface.device if interface else None

    def costs(self, segment: str, family: Family, owner: str | None = None) -> dict[str, int]:
        """Return, for each device that has a way to a segment, how many hops it is away (0: it has an interface there).

        With `owner`, the device that has the address looked for, getting to it is one hop less than to the segment.
        """
        key = (segment, family, owner)
        if key in self._costs:
            return self._costs[key]
        costs: dict[str, int] = {}
        queue = [(0, interface.device) for interface in self.on_segment.get((segment, family), [])]
        if owner is not None:
            queue.append((-1, owner))
        heapq.heapify(queue)
        while queue:
            cost, name = heapq.heappop(queue)
            if name in costs:
                continue
            costs[name] = cost
            for interface in self.plan.devices[name].interfaces.values():
                step = _OUTSIDE_COST if self.plan.segments[interface.on].outside else 1
                if interface.in_family(family):
                    for neighbour in self.on_segment[(interface.on, family)]:
                        if neighbour.device not in costs:
                            heapq.heappush(queue, (cost + step, neighbour.device))
        return self._costs.setdefault(key, costs)

    def distance(self, start: str, end: str, family: Family) -> int:
        """Return how many devices lie between two segments: 0 for the same one, a huge number when there is no way."""
        if start == end:
            return 0
        costs = self.costs(end, family)
        near = self.on_segment.get((start, family), [])
        return min((costs[interface.device] + 1 for interface in near if interface.device in costs), default=_OUTSIDE_COST**2)


def _crossings(ports: list[tuple[Point, Direction]]) -> list[Crossing]:
    return [Crossing(point, direction) for point, direction in ports]


def _by_device(hop: _Hop) -> tuple[str, str]:
    return (hop.neighbour.device if hop.neighbour else "", hop.interface.name)
