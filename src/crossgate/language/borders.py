"""Edits that keep false source addresses out where they come in."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from datetime import datetime

from crossgate.core.audit import audit
from crossgate.core.audit.near import Hosts
from crossgate.core.lists.insertion import free_numbers
from crossgate.core.model.address import Family
from crossgate.core.model.entry import Action, Entry, Kind
from crossgate.core.model.finding import Finding
from crossgate.core.model.finding_kinds import KINDS
from crossgate.core.model.network import Direction, Point, PointKind
from crossgate.core.model.plan import Plan
from crossgate.core.sets.patterns import less
from crossgate.core.traffic.session import Session
from crossgate.language.draft import Draft
from crossgate.language.reader import Reading
from crossgate.language.steps import MendStep, applied, free_name, insertions, new_list

_UNADDRESSED = {Family.IPV4: ("0.0.0.0",), Family.IPV6: ("fe80::/10", "::")}
"""What a machine sends from before it has an address, and to its neighbours: it gets none without
(RFC 2827 section 4, RFC 4862).
"""
MOST_BORDERS = 24
"""At so many segments at most what others can claim is dropped by one mend."""


def unclaimed(
    reading: Reading, finding: Finding, now: datetime, session: Session
) -> tuple[tuple[str, ...], Reading] | None:
    """Return the plan in which nobody can claim a source that an entry permits any more, with the
    edits: one for each segment where that is possible.

    Where machines of a subnet come in, sources that are not the subnet's own are dropped (in a list
    that is there already, only those that the entry permits); where an outside does, all sources of
    the subnets (RFC 2827). On a subnet between devices, sources come from anywhere and cannot be
    dropped.
    """
    state, claim, said = reading, finding, list[str]()
    while (
        claim.segment is not None
        and claim.access_list is not None
        and claim.entry is not None
        and len(said) < MOST_BORDERS
    ):
        entry = state.plan.lists[claim.access_list].entry(claim.entry)
        step = (
            None
            if entry is None or claim.packet is None
            else _border(state.plan, claim.segment, claim.packet.family, entry)
        )
        after = None if step is None else applied(state, step)
        if step is None or after is None:
            break
        state, said = after, [*said, step.said]
        focus = {claim.access_list: {claim.entry}}
        found = audit(
            Session(state.plan, beside=session),
            now,
            focus=focus,
            leave_out=[each for each in KINDS if each != "spoofable"],
        ).findings
        again = next((each for each in found if each.name == "spoofable"), None)
        if again is None or again.segment == claim.segment:
            break
        claim = again
    return (tuple(said), state) if said else None


def at_ports(reading: Reading, finding: Finding) -> Iterator[tuple[tuple[str, ...], Reading]]:
    """Yield the plan in which neighbours cannot take the addresses that an entry trusts, with the
    edit.
    """
    own = reading.plan.lists.get(finding.access_list or "")
    entry = None if own is None or finding.entry is None else own.entry(finding.entry)
    step = None if entry is None else _ports(reading.plan, finding, entry)
    after = None if step is None else applied(reading, step)
    if step is not None and after is not None:
        yield (step.said,), after


def _border(plan: Plan, name: str, family: Family, entry: Entry) -> MendStep | None:
    """Return the edit that drops sources of an entry that do not belong to a segment, where its
    machines come in; None where no list can be placed there.
    """
    segment = plan.segments[name]
    points = [
        each.point
        for device in plan.devices.values()
        for each in device.interfaces.values()
        if each.on == name
    ]
    shared = {each.owner for gateway in plan.gateways if gateway.on == name for each in gateway.by}
    if len({each.owner for each in points} - shared) + bool(shared) > 1:
        return None
    own = [] if segment.outside else [block for block in segment.prefixes if block.family is family]
    foreign = less(entry.source.patterns, own)
    words = (
        [entry.source.text] if foreign == {*entry.source.patterns} else sorted(map(str, foreign))
    )
    inside = [
        each.name
        for each in plan.segments.values()
        if not each.outside and any(block.family is family for block in each.prefixes)
    ]
    new, otherwise = [f"deny {each}" for each in inside], Action.PERMIT
    if not segment.outside:
        new, otherwise = [f"permit {each}" for each in (name, *_UNADDRESSED[family])], Action.DENY
    return _dropping(plan, family, points, words, new, otherwise)


def _ports(plan: Plan, finding: Finding, entry: Entry) -> MendStep | None:
    """Return the edit that drops trusted addresses at the switch ports of the neighbours; None
    where there are too many ports.
    """
    assert finding.packet is not None  # it has a witness
    family = finding.packet.family
    (beside,) = (
        each
        for each in Hosts(plan, family).beside(entry.source.patterns)
        if each.segment == finding.segment
    )
    trusted = [
        host.name
        for host in plan.hosts.values()
        if host.on == beside.segment
        and host.name not in beside.neighbours
        and host.in_family(family) is not None
    ]
    if len(beside.neighbours) > MOST_BORDERS:
        return None
    hosts = [plan.hosts[name] for name in beside.neighbours]
    points = [
        host.at if host.at and (host.at, Direction.INBOUND, family) in plan.placed else host.point
        for host in hosts
    ]
    new = [f"deny {name}" for name in trusted]
    named = Point(PointKind.SUBNET, beside.segment)
    every = list(dict.fromkeys(points))
    return _dropping(plan, family, every, trusted, new, Action.PERMIT, named)


def _dropping(
    plan: Plan,
    family: Family,
    points: Sequence[Point],
    words: Sequence[str],
    new: Sequence[str],
    otherwise: Action,
    named: Point | None = None,
) -> MendStep | None:
    """Return the edit that drops sources given by some words where they come in at some points: as
    entries before all others in the lists that are there, and in one new list, `named` after a
    point or the first of these, where there is none. None where a list has no room.
    """
    stands = {point: plan.placed.get((point, Direction.INBOUND, family)) for point in points}
    said, changes = list[str](), list[Callable[[Draft], object]]()
    for access_list in dict.fromkeys(each for each in stands.values() if each is not None):
        standard = access_list.kind is Kind.STANDARD
        texts = [f"deny {each}" if standard else f"deny ip {each} to any" for each in words]
        numbers = free_numbers(
            access_list, access_list.entries[0] if access_list.entries else None, len(texts)
        )
        if not numbers:
            return None
        said.append(f"{access_list.name} begins with {'; '.join(texts)}")
        changes.append(insertions(access_list.name, numbers, texts))
    free = [point for point, access_list in stands.items() if access_list is None]
    if free:
        known = free_name(plan, named or free[0], Direction.INBOUND, family)
        said.append(
            f"new list {known}, inbound on {', '.join(map(str, free))}: {'; '.join(new)}; "
            f"otherwise {otherwise}"
        )
        inward = [(point, Direction.INBOUND) for point in free]
        changes.append(new_list(known, (Kind.STANDARD, family), new, inward, otherwise))
    return (
        MendStep("; ".join(said), lambda draft: [change(draft) for change in changes])
        if changes
        else None
    )
