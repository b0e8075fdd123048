"""Edits of one entry that may end a finding: other words, another place, its ends the other way
round.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator

from crossgate.core.audit.notation import Subnets, one_by_one, other_mask
from crossgate.core.conversation.opening import Conversation
from crossgate.core.conversation.packets import Tracer
from crossgate.core.lists.insertion import free_numbers
from crossgate.core.model import iana
from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.address import Address
from crossgate.core.model.entry import Action, Entry, Kind
from crossgate.core.model.finding import Finding
from crossgate.core.model.network import Direction, Point, stands_at
from crossgate.core.model.packet import Packet
from crossgate.core.model.plan import Plan
from crossgate.core.network.endpoints import at_address
from crossgate.core.network.ways import Network
from crossgate.core.wording.answers import answer_service
from crossgate.language import edits, list_edits, placing
from crossgate.language.draft import Draft
from crossgate.language.inserting import insert_entry
from crossgate.language.steps import (
    MendStep,
    free_name,
    insertions,
)


def placing_at(access_list: AccessList, point: Point) -> Callable[[Draft], object]:
    """Return the edit that places a list inbound at a point."""
    return lambda draft: placing.place_list(draft, access_list, Direction.INBOUND, point)


def _rewriting(entry: Entry, text: str) -> Callable[[Draft], object]:
    """Return the edit that writes an entry anew."""
    return lambda draft: edits.change_entry(draft, entry, text)


def written_anew(
    plan: Plan, finding: Finding, access_list: AccessList, entry: Entry
) -> Iterator[MendStep]:
    """Yield edits that replace an address or a service of an entry by what is meant."""
    words: list[tuple[str, str]] = []
    if finding.instead:
        text, said = (
            entry.text,
            " and ".join(f"{new} instead of {old}" for old, new in finding.instead),
        )
        for old, new in finding.instead:
            text = _with(text, old, new)
        yield MendStep(f"{access_list.name} {entry.number}: {said}", _rewriting(entry, text))
    for addresses in (entry.source, entry.destination):
        if finding.name == "mask-reversed" and (meant := other_mask(addresses)) is not None:
            words.append((addresses.text, meant))
        if finding.name == "subnet-missed":
            words += [
                (each.text, name)
                for each in one_by_one(plan, addresses)
                for name, _, _ in Subnets(plan).nearly(each)
            ]
    if finding.name == "protocol-meant":
        tokens = entry.service.text.split(",")
        meant = ",".join(
            each if (found := iana.mistaken(each)) is None else found.write for each in tokens
        )
        words += [(entry.service.text, meant)]
    for old, new in words:
        text = _with(entry.text, old, new)
        if text != entry.text:
            yield MendStep(
                f"{access_list.name} {entry.number}: {new} instead of {old}",
                _rewriting(entry, text),
            )


def _with(text: str, old: str, new: str) -> str:
    """Return an entry's text with some words replaced."""
    return re.sub(rf"(?<!\S){re.escape(old)}(?![^\s,])", new.replace("\\", r"\\"), text, count=1)


def moved_along(
    plan: Plan, finding: Finding, access_list: AccessList, entry: Entry
) -> Iterator[MendStep]:
    """Yield the edits that move an entry to where its packets pass: its list is placed there, or
    the entry goes into a list that is there or is made for it.
    """
    if finding.passes is None:
        return
    point, direction = finding.passes
    there = plan.placed.get((point, direction, access_list.family))
    where = stands_at(direction, point)
    if there is None:
        yield MendStep(
            f"place {access_list.name} {where} instead",
            lambda draft: placing.move_list(draft, access_list, direction, point),
        )
        name = free_name(plan, point, direction, access_list.family)
        yield MendStep(
            (
                f"move {access_list.name} {entry.number} to a new list {name}, {where}: "
                f"{entry.text}; "
                "otherwise permit"
            ),
            lambda draft: _taken_to_new(draft, access_list, entry, name, (point, direction)),
        )
    elif there is not access_list and there.kind is access_list.kind:
        yield MendStep(
            f"move {access_list.name} {entry.number} to {there.name}, which stands {where}",
            lambda draft: _taken_to(draft, access_list, entry, there),
        )


def _taken_to(draft: Draft, access_list: AccessList, entry: Entry, there: AccessList) -> None:
    insert_entry(draft, there, _written(entry), edits.EntrySpot(effective=True))
    edits.drop_entry(draft, access_list, entry)


def _taken_to_new(
    draft: Draft, access_list: AccessList, entry: Entry, name: str, place: tuple[Point, Direction]
) -> None:
    list_edits.new_list(
        draft, name, access_list.kind, access_list.family, [_written(entry)], Action.PERMIT
    )
    placing.place_list(
        draft, list_edits.empty_list(name, access_list.kind, access_list.family), place[1], place[0]
    )
    edits.drop_entry(draft, access_list, entry)


def _written(entry: Entry) -> str:
    """Return an entry as written, with its comment."""
    return entry.text + entry.said


def turned_round(access_list: AccessList, entry: Entry) -> Iterator[MendStep]:
    """Yield an entry with its ends exchanged."""
    one, other = entry.source.text, entry.destination.text
    text = entry.text.replace(f" {one} to {other}", f" {other} to {one}", 1)
    if text != entry.text:
        yield MendStep(f"{access_list.name} {entry.number}: swap its ends", _rewriting(entry, text))


def answers_let_by(plan: Plan, packet: Packet, entry: Entry) -> Iterator[MendStep]:
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
        yield MendStep(
            f"in list {where.name}: {numbers[0]} {text}", insertions(where.name, numbers, [text])
        )
