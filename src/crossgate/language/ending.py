"""Edits that end a finding, each proved before it is shown, like mends of expectations (`mending`)."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from datetime import datetime

from crossgate.core.audit import audit
from crossgate.core.audit.context import Case
from crossgate.core.audit.near import Hosts
from crossgate.core.audit.notation import Subnets, other_mask
from crossgate.core.audit.registry import AUDITS
from crossgate.core.conversation.opening import Conversation
from crossgate.core.conversation.packets import Tracer
from crossgate.core.lists.insertion import free_numbers
from crossgate.core.model import iana
from crossgate.core.model.accesslist import AccessList, Action, Entry, Kind
from crossgate.core.model.address import Address, Addresses, Family
from crossgate.core.model.conditions import During
from crossgate.core.model.finding import KINDS, Finding
from crossgate.core.model.network import Direction, Point, PointKind, Segment, stands_at
from crossgate.core.model.packet import Packet
from crossgate.core.model.plan import Plan
from crossgate.core.network.endpoints import at_address
from crossgate.core.network.ways import Network
from crossgate.core.sets.patterns import less
from crossgate.core.sets.region import Region, entry_region
from crossgate.core.traffic.session import Session
from crossgate.core.wording.needed import answer_service
from crossgate.language import edits
from crossgate.language.cells import entry_cells
from crossgate.language.change import Proposal
from crossgate.language.draft import Draft
from crossgate.language.inserting import insert_entry
from crossgate.language.mending import (
    MOST_EDITS,
    MOST_MENDS,
    Mendable,
    Step,
    applied,
    free_name,
    insertions,
    proved,
)
from crossgate.language.reader import Reading
from crossgate.language.twin import ERRORS, NEIGHBOURS, write_twin

_PERMITTING = ("lease-blocked", "renewal-blocked", "names-blocked", "time-blocked")
"""The findings that say what an entry is to permit before the line that stops it."""


def mend_finding(reading: Reading, finding: Finding, now: datetime, session: Session) -> Mendable:
    """Look for mends of a finding; `session` is of the unchanged plan."""
    where = (
        ""
        if finding.access_list is None
        else f" in {finding.access_list}" + ("" if finding.entry is None else f" {finding.entry}")
    )
    mends = []
    ways = ((step, applied(reading, step)) for step in _steps_for(reading.plan, finding))
    edited: list[tuple[tuple[str, ...], Reading]] = [
        ((step.said,), after) for step, after in ways if after is not None
    ]
    if finding.name == "neighbour-can-claim":
        edited += _at_ports(reading, finding)
    if (
        finding.name == "spoofable"
        and (unclaimed := _unclaimed(reading, finding, now, session)) is not None
    ):
        edited.append(unclaimed)
    if (
        finding.name in _PERMITTING
        and (let_by := _let_by(reading, finding, now, session)) is not None
    ):
        edited.append(let_by)
    own = _asked_for(reading.plan, finding) if finding.name == "wrong-side" else []
    for said, after in edited:
        mend = proved(reading, after, said, now, session, own)
        if not mend.proposal.refused and _ended(mend.proposal, finding):
            mends.append(mend)
    mends.sort(key=lambda each: each.weight)
    return Mendable(
        f"{finding.name}{where}",
        finding.place,
        finding.fault.what,
        mends[:MOST_MENDS],
        "" if mends else finding.fault.mend,
    )


def moves(session: Session, packet: Packet, now: datetime) -> list[Step]:
    """Return the edits that move entries which match a packet, or its reverse, but see no such
    traffic where they are, to where it passes.
    """
    found: dict[str, Step] = {}
    turned = packet._replace(source=packet.destination, destination=packet.source)
    focus = {
        access_list.name: [
            each.number
            for each in access_list.entries
            if not each.off and (each.matches(packet) or each.matches(turned))
        ]
        for access_list in session.plan.lists.values()
        if access_list.family is packet.family
    }
    case = Case(session, now, focus={name: numbers for name, numbers in focus.items() if numbers})
    for finding in AUDITS["wrong-side"](case):
        access_list = session.plan.lists.get(finding.access_list or "")
        entry = (
            None
            if access_list is None or finding.entry is None
            else access_list.entry(finding.entry)
        )
        if access_list is not None and entry is not None:
            for step in (
                *_moved(session.plan, finding, access_list, entry),
                *_turned(access_list, entry),
            ):
                found.setdefault(step.said, step)
    return list(found.values())


def _ended(proposal: Proposal, finding: Finding) -> bool:
    """Whether an edit ends a finding."""
    impact = proposal.impact
    if impact is None or any(
        each[:1] + each[2:4] == finding[:1] + finding[2:4] for each in impact.findings
    ):
        return False  # the same is found fault with for another reason
    return any(
        (each.name, each.access_list, each.fault.what)
        == (finding.name, finding.access_list, finding.fault.what)
        for each in impact.gone
    )


def _asked_for(plan: Plan, finding: Finding) -> list[Region]:
    """Return the packets of the entry that a finding is about: a mend is meant to change what
    becomes of them.
    """
    access_list = plan.lists.get(finding.access_list or "")
    entry = (
        None if access_list is None or finding.entry is None else access_list.entry(finding.entry)
    )
    region = (
        None if access_list is None or entry is None else entry_region(entry, access_list.family)
    )
    return [] if region is None else [region]


def _steps_for(plan: Plan, finding: Finding) -> Iterator[Step]:
    """Yield edits that could end a finding."""
    if finding.access_list is None:
        return
    access_list = plan.lists.get(finding.access_list)
    if access_list is None:
        return
    entry = None if finding.entry is None else access_list.entry(finding.entry)
    if finding.name == "unplaced":
        yield Step(
            f"drop list {access_list.name}",
            lambda draft: edits.drop_list(draft, edits.find_list(draft.plan, access_list.name)),
        )
        yield from _placings(plan, access_list)
    if finding.name == "nothing-permitted":
        yield Step(
            f"{access_list.name}: otherwise permit",
            lambda draft: _otherwise(draft, access_list, Action.PERMIT),
        )
    if finding.name == "icmp6-needed":
        yield Step(
            f"{access_list.name} begins with what RFC 4890 section 4.3.1 asks for",
            lambda draft: _first(draft, access_list, ERRORS),
        )
    if finding.name == "bogus-source":
        text = f"deny {finding.beside}"
        yield Step(
            f"in list {access_list.name}, before what it permits: {text}",
            lambda draft: _before_permits(draft, access_list, text),
        )
    if finding.name == "neighbour-blocked":
        yield Step(
            f"{access_list.name} begins with neighbour discovery",
            lambda draft: _first(draft, access_list, NEIGHBOURS),
        )
    if finding.name == "one-family":
        twin = f"{access_list.name}{'6' if access_list.family is Family.IPV4 else '4'}"
        yield Step(
            f"write {twin}, the twin of {access_list.name}, and place it there",
            lambda draft: write_twin(draft, access_list, twin, placed=True),
        )
    if finding.name == "out-of-order":
        yield Step(
            "set the plan in its usual layout, entries in the order of their numbers",
            edits.tidy_plan,
        )
    if entry is None:
        return
    yield from _written_anew(plan, finding, access_list, entry)
    if finding.name == "wrong-side":
        yield from _moved(plan, finding, access_list, entry)
        yield from _turned(access_list, entry)
    if finding.name == "replies-blocked" and finding.packet is not None:
        yield from _answers_let_by(plan, finding.packet, entry)
    if finding.beside and finding.name not in _PERMITTING:
        yield from _denied_beside(access_list, entry, finding.beside)
    if finding.name in ("never-reached", "no-effect"):
        above = (
            number
            for number in finding.because
            if (each := access_list.entry(number)) is not None and each.action is not entry.action
        )
        first = min(above, default=None)
        if first is None:
            yield Step(
                f"drop {access_list.name} {entry.number}",
                lambda draft: edits.drop_entry(draft, access_list, entry),
            )
        else:
            yield Step(
                f"move {access_list.name} {entry.number} before {first}",
                lambda draft: edits.move_entry(draft, access_list, entry, edits.Spot(before=first)),
            )


def _denied_beside(access_list: AccessList, entry: Entry, service: str) -> Iterator[Step]:
    """Yield the edit that denies another service between the same ends, right after an entry."""
    if access_list.kind is Kind.STANDARD:
        return
    _, _, _, _, source, destination, *_ = entry_cells(entry.text.split(), standard=False)
    during = "" if entry.window is None else f" {During(entry.window)}"
    text = f"{entry.action} {service} {source} {destination}{during}"
    yield Step(
        f"in list {access_list.name}, behind {entry.number}: {text}",
        lambda draft: _behind(draft, access_list, entry, text),
    )


def _placings(plan: Plan, access_list: AccessList) -> Iterator[Step]:
    """Yield placements for a list that is not placed: for an extended one, where the machines in
    its entries come in (`points`).
    """
    if access_list.kind is not Kind.EXTENDED:
        return
    sources = [
        entry.source
        for entry in access_list.entries
        if not entry.off and entry.source.text != "any"
    ]
    subnets = {
        segment.name
        for segment in plan.segments.values()
        for each in sources
        if _within(segment, each)
    }
    for device in plan.devices.values():
        for interface in device.interfaces.values():
            free = (interface.point, Direction.INBOUND, access_list.family) not in plan.placed
            if free and interface.on in subnets:
                point = interface.point
                yield Step(
                    f"place {access_list.name} inbound on {point}",
                    _placing(access_list, point),
                )


def _placing(access_list: AccessList, point: Point) -> Callable[[Draft], object]:
    return lambda draft: edits.place_list(draft, access_list, Direction.INBOUND, point)


def _rewriting(entry: Entry, text: str) -> Callable[[Draft], object]:
    return lambda draft: edits.change_entry(draft, entry, text)


def _within(segment: Segment, addresses: Addresses) -> bool:
    return not segment.outside and any(
        block.covers(each) for block in segment.prefixes for each in addresses.patterns
    )


def _written_anew(
    plan: Plan, finding: Finding, access_list: AccessList, entry: Entry
) -> Iterator[Step]:
    """Yield edits that replace an address or a service of an entry by what is meant."""
    words: list[tuple[str, str]] = []
    if finding.instead:
        text, said = (
            entry.text,
            " and ".join(f"{new} instead of {old}" for old, new in finding.instead),
        )
        for old, new in finding.instead:
            text = _with(text, old, new)
        yield Step(f"{access_list.name} {entry.number}: {said}", _rewriting(entry, text))
    for addresses in (entry.source, entry.destination):
        if finding.name == "mask-reversed" and (meant := other_mask(addresses)) is not None:
            words.append((addresses.text, meant))
        if finding.name == "subnet-missed":
            words += [(addresses.text, name) for name, _, _ in Subnets(plan).nearly(addresses)]
    if finding.name == "protocol-meant":
        tokens = entry.service.text.split(",")
        meant = ",".join(
            each if (found := iana.mistaken(each)) is None else found.write for each in tokens
        )
        words += [(entry.service.text, meant)]
    for old, new in words:
        text = _with(entry.text, old, new)
        if text != entry.text:
            yield Step(
                f"{access_list.name} {entry.number}: {new} instead of {old}",
                _rewriting(entry, text),
            )


def _with(text: str, old: str, new: str) -> str:
    """Return an entry's text with some words replaced."""
    return re.sub(rf"(?<!\S){re.escape(old)}(?!\S)", new.replace("\\", r"\\"), text, count=1)


def _moved(plan: Plan, finding: Finding, access_list: AccessList, entry: Entry) -> Iterator[Step]:
    """Yield the edits that move an entry to where its packets pass: its list is placed there, or
    the entry goes into a list that is there or is made for it.
    """
    if finding.passes is None:
        return
    point, direction = finding.passes
    there = plan.placed.get((point, direction, access_list.family))
    where = stands_at(direction, point)
    if there is None:
        yield Step(
            f"place {access_list.name} {where} instead",
            lambda draft: edits.move_list(draft, access_list, direction, point),
        )
        name = free_name(plan, point, direction, access_list.family)
        yield Step(
            (
                f"move {access_list.name} {entry.number} to a new list {name}, {where}: "
                f"{entry.text}; "
                "otherwise permit"
            ),
            lambda draft: _taken_to_new(draft, access_list, entry, name, (point, direction)),
        )
    elif there is not access_list and there.kind is access_list.kind:
        yield Step(
            f"move {access_list.name} {entry.number} to {there.name}, which stands {where}",
            lambda draft: _taken_to(draft, access_list, entry, there),
        )


def _taken_to(draft: Draft, access_list: AccessList, entry: Entry, there: AccessList) -> None:
    insert_entry(draft, there, _written(entry), edits.Spot(effective=True))
    edits.drop_entry(draft, access_list, entry)


def _taken_to_new(
    draft: Draft, access_list: AccessList, entry: Entry, name: str, place: tuple[Point, Direction]
) -> None:
    edits.new_list(
        draft, name, access_list.kind, access_list.family, [_written(entry)], Action.PERMIT
    )
    edits.place_list(
        draft, edits.empty_list(name, access_list.kind, access_list.family), place[1], place[0]
    )
    edits.drop_entry(draft, access_list, entry)


def _written(entry: Entry) -> str:
    """Return an entry as written, with its comment."""
    return entry.text + entry.said


def _turned(access_list: AccessList, entry: Entry) -> Iterator[Step]:
    """Yield an entry with its ends exchanged."""
    one, other = entry.source.text, entry.destination.text
    text = entry.text.replace(f" {one} to {other}", f" {other} to {one}", 1)
    if text != entry.text:
        yield Step(f"{access_list.name} {entry.number}: swap its ends", _rewriting(entry, text))


def _answers_let_by(plan: Plan, packet: Packet, entry: Entry) -> Iterator[Step]:
    """Yield the entry that permits the answers to what an entry takes, right before the line that
    denies them.
    """
    network = Network(plan)
    source, destination = (
        at_address(network, Address(packet.family, value))
        for value in (packet.source, packet.destination)
    )
    trace = Tracer(network).trace(Conversation(source, destination, packet))
    stopped, leg = trace.decided, trace.legs[-1]
    if (
        stopped is None
        or not leg.leg.returns
        or not isinstance(stopped.access_list, AccessList)
        or stopped.crossing.rulings is not None
    ):
        return
    where, below = (
        stopped.access_list,
        stopped.decider.entry if stopped.decider is not None else None,
    )
    service, mark = answer_service(leg.packet)
    ends = entry.destination.text, entry.source.text
    text = (
        f"permit {ends[0]}"
        if where.kind is Kind.STANDARD
        else f"permit {service} {ends[0]} to {ends[1]}{mark}"
    )
    numbers = free_numbers(where, below, 1)
    if numbers:
        yield Step(
            f"in list {where.name}: {numbers[0]} {text}", insertions(where.name, numbers, [text])
        )


_UNADDRESSED = {Family.IPV4: ("0.0.0.0",), Family.IPV6: ("fe80::/10", "::")}
"""What a machine sends from before it has an address, and to its neighbours: it gets none without
(RFC 2827 section 4, RFC 4862).
"""
MOST_BORDERS = 24
"""At so many segments at most what others can claim is dropped by one mend."""


def _unclaimed(
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


def _let_by(
    reading: Reading, finding: Finding, now: datetime, session: Session
) -> tuple[tuple[str, ...], Reading] | None:
    """Return the plan in which what a finding says is permitted, with the edits: one for each list
    that denies the same messages further on.

    A standard list cannot permit a machine only its lease renewals, so there is no edit for that.
    """
    state, stop, said = reading, finding, list[str]()
    known = {each.fault for each in AUDITS[finding.name](Case(session, now))}
    while len(said) < MOST_EDITS:
        own = state.plan.lists.get(stop.access_list or "")
        if own is None or (own.kind is Kind.STANDARD and stop.name != "lease-blocked"):
            return None
        step = _permitting(own, stop)
        after = applied(state, step)
        if after is None:
            return None
        state, said = after, [*said, step.said]
        found = AUDITS[finding.name](Case(Session(state.plan, beside=session), now))
        again = next((each for each in found if each.fault not in known), None)
        if again is None:
            return tuple(said), state
        stop = again
    return None


def _permitting(access_list: AccessList, finding: Finding) -> Step:
    """Return the edit by which a list permits what a finding says, before the line that denies it."""
    entry = None if finding.entry is None else access_list.entry(finding.entry)
    spot = "at the end" if entry is None else f"before {entry.number}"
    text = f"permit {finding.beside}"
    return Step(
        f"in list {access_list.name}, {spot}: {text}",
        lambda draft: _above(draft, access_list, entry, text),
    )


def _at_ports(reading: Reading, finding: Finding) -> Iterator[tuple[tuple[str, ...], Reading]]:
    """Yield the plan in which neighbours cannot take the addresses that an entry trusts, with the
    edit.
    """
    own = reading.plan.lists.get(finding.access_list or "")
    entry = None if own is None or finding.entry is None else own.entry(finding.entry)
    step = None if entry is None else _ports(reading.plan, finding, entry)
    after = None if step is None else applied(reading, step)
    if step is not None and after is not None:
        yield (step.said,), after


def _border(plan: Plan, name: str, family: Family, entry: Entry) -> Step | None:
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


def _ports(plan: Plan, finding: Finding, entry: Entry) -> Step | None:
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
) -> Step | None:
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
        changes.append(_bordering(known, family, new, free, otherwise))
    return (
        Step("; ".join(said), lambda draft: [change(draft) for change in changes])
        if changes
        else None
    )


def _bordering(
    name: str, family: Family, entries: Sequence[str], points: Sequence[Point], otherwise: Action
) -> Callable[[Draft], object]:
    def change(draft: Draft) -> None:
        edits.new_list(draft, name, Kind.STANDARD, family, entries, otherwise)
        for point in points:
            edits.place_list(
                draft, edits.empty_list(name, Kind.STANDARD, family), Direction.INBOUND, point
            )

    return change


def _before_permits(draft: Draft, access_list: AccessList, text: str) -> None:
    permits = (each for each in access_list.entries if each.action is Action.PERMIT)
    _above(draft, access_list, next(permits, None), text)


def _above(draft: Draft, access_list: AccessList, entry: Entry | None, text: str) -> None:
    """Insert an entry before another one, or at the end where there is none."""
    own = access_list.entries
    index = len(own) if entry is None else own.index(entry)
    ends = own[index - 1] if index else None, own[index] if index < len(own) else None
    edits.add_entry(draft, access_list, edits.number_between(access_list, *ends), text)


def _behind(draft: Draft, access_list: AccessList, entry: Entry, text: str) -> None:
    number = edits.number_beside(access_list, edits.Spot(after=entry.number))
    edits.add_entry(draft, access_list, number, text)


def _first(draft: Draft, access_list: AccessList, text: str) -> None:
    before = access_list.entries[0] if access_list.entries else None
    edits.add_entry(draft, access_list, edits.number_between(access_list, None, before), text)


def _otherwise(draft: Draft, access_list: AccessList, action: Action) -> None:
    if access_list.otherwise.written:
        line = draft.line(access_list.otherwise.place)
        draft.replace(access_list.otherwise.place, f"{line.indent}otherwise {action}")
    else:
        draft.after(edits.last_line(access_list), f"    otherwise {action}")
