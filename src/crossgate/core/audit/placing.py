"""Findings about where lists are placed."""

from __future__ import annotations

from collections.abc import Iterator

from crossgate.core.audit.context import Case
from crossgate.core.audit.registry import finds
from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.address import Address, Family, single
from crossgate.core.model.entry import Kind
from crossgate.core.model.finding import Fault, Finding
from crossgate.core.model.network import (
    Direction,
    Host,
    Placement,
    Point,
    PointKind,
    Segment,
    stands_at,
)
from crossgate.core.network.paths import Crossing
from crossgate.core.sets.addresses import AddressSet, everywhere
from crossgate.core.sets.effort import answered
from crossgate.core.sets.region import Region
from crossgate.core.wording.sentences import first_of


@finds("unplaced")
def unplaced(case: Case) -> Iterator[Finding]:
    """Yield the lists that are placed nowhere, so that no packet is checked against them."""
    placed = {placement.access_list for placement in case.plan.every_placement}
    for access_list in case.plan.every_list.values():
        if access_list.name not in placed:
            where = (
                "SWITCH.PORT" if access_list.name in case.plan.frame_lists else "DEVICE.INTERFACE"
            )
            mend = f"write: place {access_list.name} inbound on {where}"
            yield Finding(
                "unplaced",
                access_list.place,
                access_list.name,
                None,
                Fault("nothing places it, so no packet ever meets it", mend),
            )


@finds("asked-twice")
def asked_twice(case: Case) -> Iterator[Finding]:
    """Yield the placements of a list at a switch port whose machine has the same list, or an equal
    one, of its own: packets are checked twice.
    """
    plan = case.plan
    hosts: dict[Point, list[Host]] = {}
    for host in plan.hosts.values():
        if host.at is not None and host.name in plan.followed:
            hosts.setdefault(host.at, []).append(host)
    for placement in plan.placements:
        here = plan.lists[placement.access_list]
        for host in hosts.get(placement.point, ()):
            own = plan.placed.get((host.point, placement.direction, here.family))
            if own is not None and own.says == here.says:
                fault = Fault(
                    (
                        f"{own.name} follows {host.name}, which is at {placement.point}: "
                        f"{placement.direction} there the same is asked twice"
                    ),
                    f"lift it: crossgate lift {here.name} {placement.direction} {placement.point}",
                )
                yield Finding("asked-twice", placement.place, here.name, None, fault)


@finds("standard-near-source")
def standard_near_source(case: Case) -> Iterator[Finding]:
    """Yield the standard lists that deny machines where they leave their own subnet, and so
    everything that these send.
    """
    for placement in case.plan.placements:
        access_list = case.plan.lists[placement.access_list]
        segment = _source_side(case, placement)
        if access_list.kind is not Kind.STANDARD or segment is None:
            continue
        crossing = Crossing(placement.point, placement.direction)
        passing = case.passages.crossing(access_list.family, crossing)
        classes = passing.classes
        own = passing.senders(
            index for index, each in enumerate(classes) if each.end.segment == segment.name
        )
        to = {
            each.end.segment: None
            for source in own
            for index, each in enumerate(classes)
            if not each.scoped and each.end.segment != segment.name and passing.sends(source, index)
        }
        stopped = None
        with answered(f"which machines of {segment.name} {access_list.name} stops", case.missed):
            stopped = _stopped_machine(case, access_list, segment)
        if len(to) > 1 and stopped is not None:
            fault = Fault(
                f"a standard list sees only sources: what it stops of {segment.name} "
                f"{placement.where}, as {stopped}, "
                f"it stops on the way to {first_of([*to])} alike",
                "place it near the destination, or write an extended list",
            )
            yield Finding("standard-near-source", placement.place, access_list.name, None, fault)


def _source_side(case: Case, placement: Placement) -> Segment | None:
    """Return the subnet whose machines' traffic comes in at a place, where that is the first place
    it crosses; None elsewhere.
    """
    point, segment = placement.point, None
    if point.kind is PointKind.SUBNET and placement.direction is Direction.OUTBOUND:
        segment = case.plan.segments.get(point.owner)
    elif placement.direction is Direction.INBOUND:
        segment = case.plan.segment_at(point)
    return None if segment is None or segment.outside else segment


def _stopped_machine(case: Case, access_list: AccessList, segment: Segment) -> Address | None:
    """Return an address of a subnet, possible for a machine, that a list denies."""
    family, own = access_list.family, [*case.plan.interface_of, *case.plan.gateway_at]
    for opened in case.states(access_list):
        for block in (each for each in segment.prefixes if each.family is family):
            ends = tuple(
                single(Address(family, value))
                for value in (block.first, block.last)
                if block.size > 2
            )
            taken = AddressSet.of(
                family, (*ends, *(single(address) for address in own if address.family is family))
            )
            machines = Region(AddressSet.of(family, (block,)), everywhere(family))
            regions = case.session.regions.of(access_list, opened)
            for piece, _ in regions.split(machines, permitted=False):
                for part in piece.regions():
                    free = part.source - taken
                    if free:
                        return Address(family, max(free.patterns, key=lambda each: each.size).first)
    return None


@finds("one-family")
def one_family(case: Case) -> Iterator[Finding]:
    """Yield the placements of a list for one family at places that the other family passes without
    a list.
    """
    placed = case.plan.asked
    for placement in case.plan.placements:
        family = case.plan.lists[placement.access_list].family
        other = Family.IPV6 if family is Family.IPV4 else Family.IPV4
        open_at = (
            point
            for point in case.plan.points_of(placement.point, family)
            if (point, placement.direction, other) not in placed
            and case.passages.crossing(other, Crossing(point, placement.direction))
        )
        point = next(open_at, None)
        if point is None:
            continue
        what = (
            f"{other.label} passes {stands_at(placement.direction, point)} too, and no list of "
            "it stands there"
        )
        fault = Fault(what, f"write an {other.word} list and place it there")
        yield Finding("one-family", placement.place, placement.access_list, None, fault)
