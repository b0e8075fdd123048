"""Entries that match nothing of what passes their list's place, and where the traffic that they ask
for does pass.

1. What passes a place is what machines send from their own addresses, on any of the equally good
ways. A device's own addresses count where an entry names them singly or has no others; traffic that
stays on its link also counts from a sender without an address.

2. Where nothing passes, the same place is tried in the other direction, and with source and
destination exchanged, and then the way that the traffic takes through the network.

3. A denial of inside sources coming in from an outside, or of outside sources coming from inside,
guards against false source addresses (RFC 2827): it is where it belongs.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

from crossgate.core.answers.points import suiting
from crossgate.core.audit.coming_by import comes_by
from crossgate.core.audit.context import Case
from crossgate.core.audit.frames import misplaced
from crossgate.core.audit.registry import finds
from crossgate.core.audit.translations import asks_for_another
from crossgate.core.model.accesslist import AccessList, line_name
from crossgate.core.model.address import Family
from crossgate.core.model.entry import Action, Entry
from crossgate.core.model.finding import Fault, Finding
from crossgate.core.model.network import EACH_WAY, Direction, PointKind
from crossgate.core.model.plan import Plan
from crossgate.core.network.paths import Crossing
from crossgate.core.sets.addresses import apart
from crossgate.core.sets.effort import answered
from crossgate.core.sets.region import Region, entry_region

_MOST_PAIRS = 64
"""So many pairs of ends are asked for their way, to name a place on it."""


@finds("wrong-side")
def wrong_side(case: Case) -> Iterator[Finding]:
    """Yield the entries that match nothing of what passes any place of their list."""
    for access_list in case.placed():
        crossings = [Crossing(*place) for place in case.plan.places_of(access_list)]
        for entry in case.scope.entries(access_list):
            with answered(
                (
                    f"whether anything can match {line_name(access_list.name, entry.number)} "
                    "where it "
                    "stands"
                ),
                case.missed,
            ):
                found = _fault(case, access_list, entry, crossings)
                if found is not None and asks_for_another(case, access_list, entry) is None:
                    fault, passes = found
                    yield Finding(
                        "wrong-side",
                        entry.place,
                        access_list.name,
                        entry.number,
                        fault,
                        passes=passes and passes.place,
                    )
    yield from misplaced(case)


def _fault(
    case: Case, access_list: AccessList, entry: Entry, crossings: Sequence[Crossing]
) -> tuple[Fault, Crossing | None] | None:
    """Return why nothing that passes can match an entry, how to mend it, and where the traffic does
    pass; None where something can match.
    """
    region = entry_region(entry, access_list.family)
    if region is not None:
        if any(comes_by(case, entry, region, each) for each in crossings):
            return None
        if entry.action is not Action.PERMIT and any(
            _guards(case, entry, access_list.family, each) for each in crossings
        ):
            return None
    places = [each for each in case.plan.placements if each.access_list == access_list.name]
    nothing = f"nothing that passes {' or '.join(each.where for each in places)} can match it"
    if region is not None:
        classes = case.session.address_classes(region.family)
        turned = replace(entry, source=entry.destination, destination=entry.source)
        for crossing in crossings:
            other = next(direction for direction in EACH_WAY if direction is not crossing.direction)
            one_way = crossing.direction is not Direction.WITHIN
            back = crossing._replace(direction=other)
            if one_way and comes_by(case, entry, region, back):
                return Fault(
                    f"{nothing}, but {other} there it could", f"place the list {other}"
                ), back
            if comes_by(case, turned, region.between(region.destination, region.source), crossing):
                return Fault(
                    f"{nothing}: there source and destination are the other way round", "swap them"
                ), None
        links = [
            {
                classes[index].end.segment
                for index in case.machines.meant(region.family, each.patterns)
            }
            for each in (entry.source, entry.destination)
        ]
        if links[0] == links[1] and len(links[0]) == 1:
            return Fault(
                (
                    f"{nothing}: both ends are on {links[0].pop()}, and what stays there passes no "
                    "device"
                ),
                "drop it",
            ), None
        elsewhere = _elsewhere(case, access_list, entry, region)
        if elsewhere is not None:
            place = elsewhere.where
            return Fault(
                f"{nothing}: what it asks for passes {place}", "move it to a list that stands there"
            ), elsewhere
        if entry.action is not Action.PERMIT and any(
            _anybody_sends(case, entry, region, each) for each in crossings
        ):
            return None  # who claims such an address may be meant
    return Fault(nothing, "put it where its traffic passes, see: crossgate points FROM TO"), None


def _guards(case: Case, entry: Entry, family: Family, crossing: Crossing) -> bool:
    """Whether a denial drops false source addresses that come in: inside ones from an outside;
    outside ones, for any destination, from inside; and those of neighbours where a single machine
    is plugged in.
    """
    if crossing.direction is not Direction.INBOUND:
        return False
    passing, plan = case.passages.crossing(family, crossing), case.plan
    senders = case.machines.meant(family, entry.source.patterns)
    if passing.senders(senders):
        return False
    whoever_for = any(each.wildcard == family.mask for each in entry.destination.patterns)
    inside = [plan.segments.get(passing.classes[index].end.segment) for index in senders]
    if whoever_for and crossing.point.kind in (PointKind.PORT, PointKind.HOST):
        hosts = plan.hosts.values()
        own = {each.on for each in hosts if crossing.point in (each.at, each.point)}
        return all(each is None or each.outside or each.name in own for each in inside)
    return _is_outward(plan, crossing) or (
        whoever_for and not any(each is not None and not each.outside for each in inside)
    )


def _is_outward(plan: Plan, crossing: Crossing) -> bool:
    segment = plan.segment_at(crossing.point)
    return segment is not None and segment.outside


def _anybody_sends(case: Case, entry: Entry, region: Region, crossing: Crossing) -> bool:
    """Whether traffic to a destination of an entry passes a place, whatever source address its
    sender claims.
    """
    family = region.family
    receivers = case.session.address_classes(family).holding(entry.destination.patterns)
    passing = case.passages.crossing(family, crossing, receivers)
    return any(
        index in passing.anyone_to
        and apart(region.source, case.machines.own_addresses(family, index) & region.destination)
        for index in receivers
    )


def _elsewhere(
    case: Case, access_list: AccessList, entry: Entry, region: Region
) -> Crossing | None:
    """Return the place that suits a list of this kind on the way of what an entry asks for; None
    where such traffic passes nowhere.
    """
    classes, tried = case.session.address_classes(region.family), 0
    sides = [
        [
            index
            for index in case.machines.meant(region.family, each.patterns)
            if not classes[index].scoped
        ]
        for each in (entry.source, entry.destination)
    ]
    for one in sides[0]:
        for other in sides[1]:
            ends = classes[one].end, classes[other].end
            if ends[0].segment == ends[1].segment or case.network.sends_nothing(ends[0]):
                continue
            tried += 1
            if tried > _MOST_PAIRS:
                return None
            path = case.network.path(ends[0], ends[1].address)
            place = suiting(path).get(access_list.kind) if path.arrived else None
            if place is not None:
                return place
    return None
