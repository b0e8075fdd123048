"""Edits that end a finding, each proved before it is shown, like mends of expectations
(`mending`).
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime

from crossgate.core.audit.context import Case
from crossgate.core.audit.registry import AUDITS
from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.address import Addresses, Family
from crossgate.core.model.conditions import During
from crossgate.core.model.entry import Action, Entry, Kind
from crossgate.core.model.finding import Finding
from crossgate.core.model.network import Direction, Segment
from crossgate.core.model.packet import Packet
from crossgate.core.model.plan import Plan
from crossgate.core.sets.region import Region, entry_region
from crossgate.core.traffic.session import Session
from crossgate.language import edits, list_edits
from crossgate.language.borders import at_ports, unclaimed
from crossgate.language.cells import entry_cells
from crossgate.language.change import Proposal
from crossgate.language.draft import Draft
from crossgate.language.entry_steps import (
    answers_let_by,
    moved_along,
    placing_at,
    turned_round,
    written_anew,
)
from crossgate.language.mending import MOST_EDITS, MOST_MENDS, Mendable, proved
from crossgate.language.reader import Reading
from crossgate.language.steps import (
    MendStep,
    add_above,
    add_behind,
    add_first,
    applied,
)
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
        edited += at_ports(reading, finding)
    if (
        finding.name == "spoofable"
        and (kept_out := unclaimed(reading, finding, now, session)) is not None
    ):
        edited.append(kept_out)
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


def moves(session: Session, packet: Packet, now: datetime) -> list[MendStep]:
    """Return the edits that move entries which match a packet, or its reverse, but see no such
    traffic where they are, to where it passes.
    """
    found: dict[str, MendStep] = {}
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
                *moved_along(session.plan, finding, access_list, entry),
                *turned_round(access_list, entry),
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


def _steps_for(plan: Plan, finding: Finding) -> Iterator[MendStep]:
    """Yield edits that could end a finding."""
    if finding.access_list is None:
        return
    access_list = plan.lists.get(finding.access_list)
    if access_list is None:
        return
    entry = None if finding.entry is None else access_list.entry(finding.entry)
    if finding.name == "unplaced":
        yield MendStep(
            f"drop list {access_list.name}",
            lambda draft: list_edits.drop_list(
                draft, edits.find_list(draft.plan, access_list.name)
            ),
        )
        yield from _placings(plan, access_list)
    if finding.name == "nothing-permitted":
        yield MendStep(
            f"{access_list.name}: otherwise permit",
            lambda draft: _otherwise(draft, access_list, Action.PERMIT),
        )
    if finding.name == "icmp6-needed":
        yield MendStep(
            f"{access_list.name} begins with what RFC 4890 section 4.3.1 asks for",
            lambda draft: add_first(draft, access_list, ERRORS),
        )
    if finding.name == "bogus-source":
        text = f"deny {finding.beside}"
        yield MendStep(
            f"in list {access_list.name}, before what it permits: {text}",
            lambda draft: _before_permits(draft, access_list, text),
        )
    if finding.name == "neighbour-blocked":
        yield MendStep(
            f"{access_list.name} begins with neighbour discovery",
            lambda draft: add_first(draft, access_list, NEIGHBOURS),
        )
    if finding.name == "one-family":
        twin = f"{access_list.name}{'6' if access_list.family is Family.IPV4 else '4'}"
        yield MendStep(
            f"write {twin}, the twin of {access_list.name}, and place it there",
            lambda draft: write_twin(draft, access_list, twin, placed=True),
        )
    if finding.name == "out-of-order":
        yield MendStep(
            "set the plan in its usual layout, entries in the order of their numbers",
            edits.tidy_plan,
        )
    if entry is None:
        return
    yield from written_anew(plan, finding, access_list, entry)
    if finding.name == "wrong-side":
        yield from moved_along(plan, finding, access_list, entry)
        yield from turned_round(access_list, entry)
    if finding.name == "replies-blocked" and finding.packet is not None:
        yield from answers_let_by(plan, finding.packet, entry)
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
            yield MendStep(
                f"drop {access_list.name} {entry.number}",
                lambda draft: edits.drop_entry(draft, access_list, entry),
            )
        else:
            yield MendStep(
                f"move {access_list.name} {entry.number} before {first}",
                lambda draft: edits.move_entry(
                    draft, access_list, entry, edits.EntrySpot(before=first)
                ),
            )


def _denied_beside(access_list: AccessList, entry: Entry, service: str) -> Iterator[MendStep]:
    """Yield the edit that denies another service between the same ends, right after an entry."""
    if access_list.kind is Kind.STANDARD:
        return
    _, _, _, _, source, destination, *_ = entry_cells(entry.text.split(), standard=False)
    during = "" if entry.window is None else f" {During(entry.window)}"
    text = f"{entry.action} {service} {source} {destination}{during}"
    yield MendStep(
        f"in list {access_list.name}, behind {entry.number}: {text}",
        lambda draft: add_behind(draft, access_list, entry, text),
    )


def _placings(plan: Plan, access_list: AccessList) -> Iterator[MendStep]:
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
                yield MendStep(
                    f"place {access_list.name} inbound on {point}",
                    placing_at(access_list, point),
                )


def _within(segment: Segment, addresses: Addresses) -> bool:
    return not segment.outside and any(
        block.covers(each) for block in segment.prefixes for each in addresses.patterns
    )


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


def _permitting(access_list: AccessList, finding: Finding) -> MendStep:
    """Return the edit by which a list permits what a finding says, before the line that denies
    it.
    """
    entry = None if finding.entry is None else access_list.entry(finding.entry)
    spot = "at the end" if entry is None else f"before {entry.number}"
    text = f"permit {finding.beside}"
    return MendStep(
        f"in list {access_list.name}, {spot}: {text}",
        lambda draft: add_above(draft, access_list, entry, text),
    )


def _before_permits(draft: Draft, access_list: AccessList, text: str) -> None:
    permits = (each for each in access_list.entries if each.action is Action.PERMIT)
    add_above(draft, access_list, next(permits, None), text)


def _otherwise(draft: Draft, access_list: AccessList, action: Action) -> None:
    if access_list.otherwise.written:
        line = draft.line(access_list.otherwise.place)
        draft.replace(access_list.otherwise.place, f"{line.indent}otherwise {action}")
    else:
        draft.after(list_edits.last_line(access_list), f"    otherwise {action}")
