"""The places that a conversation crosses, and which of them suit a standard and an extended list.

A standard list asks for sources only, so it belongs near the destination, where it affects the
least other traffic. An extended list names both ends, so it belongs near the source, where it stops
traffic before that travels.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import suppress
from itertools import chain, islice
from typing import NamedTuple

from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.address import Address, Family, looks_like_address, parse_address
from crossgate.core.model.entry import Kind
from crossgate.core.model.errors import PlanError
from crossgate.core.model.network import Direction, Point, PointKind
from crossgate.core.network.address_classes import address_classes
from crossgate.core.network.endpoints import at_address, candidates, paired
from crossgate.core.network.forwarding import Forwarding
from crossgate.core.network.paths import Crossing, Endpoint, Path
from crossgate.core.network.ways import Network


class CrossedPoint(NamedTuple):
    """A place on the way there or back, and the list placed there for the family, if there is one.
    With `elsewhere` it is not on the first path, but on another one that is equally good.
    """

    crossing: Crossing
    back: bool
    placed: AccessList | None
    elsewhere: bool = False


class Suited(NamedTuple):
    """A place that suits a kind of list, and the other traffic that passes it: pairs of segment
    names, from and to. `beside` are the places on other equally good paths, where the list has to
    stand too.
    """

    kind: Kind
    crossing: Crossing
    also: tuple[tuple[str, str], ...]
    beside: tuple[Crossing, ...] = ()


class Points(NamedTuple):
    """The places between two ends, there and back, and those that suit a list."""

    source: Endpoint
    destination: Endpoint
    crossed: list[CrossedPoint]
    suited: list[Suited]

    def __repr__(self) -> str:
        ends = f"{self.source.name} to {self.destination.name}"
        return f"<Points {self.source.address.family.label} {ends} crossed={len(self.crossed)}>"


def points(network: Network, source: str, destination: str) -> list[Points]:
    """Return the places between two ends of a plan, for each family that both have; a machine
    stands for the subnet or the outside that it is on. Raises `PlanError` for a word that names no
    end.
    """
    plan = network.plan
    taken = [] if destination in plan.segments else candidates(network, destination)
    starts = _standing_for(network, source, taken)
    ends = _standing_for(network, destination, starts)
    return [
        Points(start, end, crossed(network, start, end), suited(network, start, end))
        for start, end in paired(network, (source, starts), (destination, ends))
    ]


_ANYBODY = {
    Family.IPV4: parse_address("198.51.100.1"),
    Family.IPV6: parse_address("2001:db8:ffff::1"),
}
"""An address of nobody, for a machine of an outside (RFC 5737, RFC 3849)."""


def _standing_for(network: Forwarding, text: str, others: Sequence[Endpoint]) -> list[Endpoint]:
    """Return the ends that a word can stand for (`candidates`): for a subnet or an outside, in each
    family the first host there that is none of the `others`, or any machine where it has no host.
    """
    plan = network.plan
    if looks_like_address(text) or text not in plan.segments:
        return candidates(network, text)
    hosts = [each.name for each in plan.hosts.values() if each.on == text]
    named = [each for name in hosts for each in candidates(network, name)]
    taken = {each.address for each in others}
    found = [
        end
        for family in Family
        for end in islice(
            (
                each
                for each in chain(named, _unnamed(network, text, family))
                if each.address.family is family and each.address not in taken
            ),
            1,
        )
    ]
    return found or candidates(network, text)


def _unnamed(network: Forwarding, segment: str, family: Family) -> Iterator[Endpoint]:
    """Yield machines without a name on a segment that devices of a family are on."""
    if (segment, family) not in network.on_segment:
        return
    with suppress(PlanError):
        anybody = at_address(network, _ANYBODY[family])
        if anybody.segment == segment:
            yield anybody
    for each in address_classes(network, family):
        if each.end.segment == segment and each.end.device is None and not each.scoped:
            yield each.end


def crossed(network: Network, source: Endpoint, destination: Endpoint) -> list[CrossedPoint]:
    """Return the places on the way there and back, in order: those of the first path, then those of
    other equally good paths.
    """
    family = source.address.family
    found = []
    graphs = network.graphs(family)
    there, back_again = (source, destination.address), (destination, source.address)
    for back, (origin, address) in ((False, there), (True, back_again)):
        path = network.answered(source, destination) if back else network.path(origin, address)
        first = path.crossings
        led = back and network.plan.translations[family]
        for crossing in (() if led else graphs.crossings(origin, address)) or first:
            placed = network.list_at(crossing, family)
            found.append(CrossedPoint(crossing, back, placed, crossing not in first))
    return found


def suited(network: Network, source: Endpoint, destination: Endpoint) -> list[Suited]:
    """Return the best places for a standard and for an extended list that is to stop traffic from
    source to destination. Where no device is on the way, they are inside the subnet of both.
    """
    chosen = best_places(network, source, destination)
    own = (source.segment, destination.segment)
    flows = _flows(network, source.address.family, set(chosen.values()))
    return [
        Suited(
            kind,
            crossing,
            tuple(flow for flow in flows[crossing] if flow != own),
            beside(network, source, destination, crossing),
        )
        for kind, crossing in chosen.items()
    ]


def best_places(network: Network, source: Endpoint, destination: Endpoint) -> dict[Kind, Crossing]:
    """Return the best place for each kind of list that is to stop traffic from source to
    destination.
    """
    path = network.path(source, destination.address)
    chosen = suiting(path)
    on = network.plan.segments.get(source.segment)
    if not chosen and path.arrived and on is not None and not on.outside:
        within = Point(PointKind.SUBNET, source.segment)
        return {Kind.EXTENDED: Crossing(within, Direction.WITHIN)}
    return chosen


def suiting(path: Path) -> dict[Kind, Crossing]:
    """Return the place on a path that suits each kind of list; none where it crosses no place."""
    way = [
        crossing
        for crossing in path.crossings
        if crossing.point.kind not in (PointKind.PORT, PointKind.HOST)
        and crossing.direction is not Direction.WITHIN
    ]
    routed = [crossing for crossing in way if crossing.point.kind is not PointKind.SUBNET] or way
    if not routed:
        return {}
    outward = [crossing for crossing in routed if crossing.direction is Direction.OUTBOUND]
    near_end = routed[-1] if routed[-1].point.kind is PointKind.ITSELF else (outward or routed)[-1]
    return {Kind.STANDARD: near_end, Kind.EXTENDED: routed[0]}


def beside(
    network: Network, source: Endpoint, destination: Endpoint, chosen: Crossing
) -> tuple[Crossing, ...]:
    """Return the interfaces on the same segment that other equally good paths cross in the same
    direction in the place of `chosen`.
    """
    interfaces = {
        each.point: each.on
        for device in network.plan.devices.values()
        for each in device.interfaces.values()
    }
    on = interfaces.get(chosen.point)
    crossed = network.graphs(source.address.family).crossings(source, destination.address)
    return tuple(
        each
        for each in crossed
        if on is not None
        and each != chosen
        and each.direction is chosen.direction
        and interfaces.get(each.point) == on
    )


def _flows(
    network: Network, family: Family, places: set[Crossing]
) -> dict[Crossing, list[tuple[str, str]]]:
    """Return which traffic between segments passes some places; the machines of a segment count as
    one.
    """
    from crossgate.core.network.matrix import Matrix

    machines = list(_machines(network, family))
    graphs = network.as_if_placed(family, [each.place for each in places])
    matrix = Matrix(graphs, machines)
    flows: dict[Crossing, list[tuple[str, str]]] = {}
    for place in places:
        rows = dict(matrix.meeting(graphs.bit(place.place), arriving=True))
        flows[place] = [
            (start.segment, machines[end].segment)
            for start, row in zip(machines, matrix.row.tolist(), strict=True)
            if row in rows
            for end in rows[row].nonzero()[0].tolist()
            if start.segment != machines[end].segment
        ]
    return flows


def _machines(network: Network, family: Family) -> Iterator[Endpoint]:
    """Yield one machine for each segment that has the family: at a host's address, or else at a
    free one.
    """
    plan = network.plan
    first: dict[str, Address] = {}
    for host in plan.hosts.values():
        address = host.in_family(family)
        if address is not None and host.on is not None:
            first.setdefault(host.on, address)
    for segment in plan.segments.values():
        taken = first.get(segment.name)
        block = next((block for block in segment.prefixes if block.family is family), None)
        if taken is not None:
            yield Endpoint(segment.name, taken, segment.name)
        elif block is not None:
            free = next(
                (
                    address
                    for address in (
                        Address(family, value) for value in range(block.first + 1, block.last + 1)
                    )
                    if not plan.is_given(address)
                ),
                None,
            )
            if free is not None:
                yield Endpoint(segment.name, free, segment.name)
