"""Access lists for people: entries in the order they are read, what their names stand for, and
where the list is placed.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime
from types import MappingProxyType
from typing import Any

from crossgate.core.answers.why import Why
from crossgate.core.conversation.opening import service_label
from crossgate.core.lists.taken import Taken
from crossgate.core.model.accesslist import AccessList, AnyList, line_name
from crossgate.core.model.address import Addresses, Family
from crossgate.core.model.dated import dated
from crossgate.core.model.entry import AnyEntry, Kind
from crossgate.core.model.ethernet import EthernetList, format_mac, looks_like_mac
from crossgate.core.model.iana import MISTAKEN
from crossgate.core.model.network import PointKind
from crossgate.core.model.plan import Plan
from crossgate.core.model.service import Service
from crossgate.core.model.window import is_past, open_at
from crossgate.core.wording.list_sentences import list_sentences
from crossgate.core.wording.sentences import DOES
from crossgate.core.wording.sets import Wording
from crossgate.show.console import alert, count, leading_word, name, quiet, strong, word
from crossgate.show.trace import why_rows
from crossgate.show.width import columns

_MOST_MEANINGS = 6
"""How many patterns or terms of one name are written out."""


def lines(
    plan: Plan,
    access_list: AnyList[Any],
    at: datetime,
    hits: Mapping[int | None, int],
    taken: Mapping[int, Taken] = MappingProxyType({}),
) -> Iterator[str]:
    """Yield a list: its first line and places, a line for each entry, its otherwise line, and the
    meaning of its names.

    `hits` is the list's tally by entry number, None for the otherwise line; empty when nothing is
    counted. `taken` is what lines above take from some entries.
    """
    opened = open_at(plan.every_window.values(), at)
    yield from _head(plan, access_list)
    wording = Wording(plan) if taken else None
    rows = [
        (note.place.line, ["", "", *[""] * bool(hits), quiet(f"note: {note.text}")])
        for note in access_list.notes
    ]
    lowest = 0
    for entry in access_list.entries:
        # Notes stand by line and entries by number: an entry written further up is shown where it
        # is read.
        lowest = max(lowest, entry.place.line)
        rows.append((lowest, _entry_row(entry, at, opened, hits)))
        if wording is not None and entry.number in taken:
            rows += [
                (lowest, ["", "", *[""] * bool(hits), quiet(told)])
                for told in _taken_lines(wording, access_list, taken[entry.number])
            ]
    rows.sort(key=lambda row: row[0])
    otherwise = access_list.otherwise
    written = "" if otherwise.written else quiet("  (not written: this is how every list ends)")
    yield from columns(
        [
            *(row for _, row in rows),
            ["otherwise", "", *_tally(hits, None), word(otherwise.action) + written],
        ],
        indent=2,
    )
    yield from columns(
        ([name(each), quiet(meaning)] for each, meaning in _meanings(access_list).items()), indent=4
    )


def worded_lines(
    plan: Plan, access_list: AnyList[Any], taken: Mapping[int, Taken]
) -> Iterator[str]:
    """Yield a list in sentences: its first line and places, its notes, and what each line says.
    `taken` is what lines above take from some entries.
    """
    yield from _head(plan, access_list)
    yield from (f"  {quiet(f'note: {note.text}')}" for note in access_list.notes)
    comments = {each.number: f" {each.said}" for each in access_list.entries if each.said}
    yield from columns(
        (
            [
                "" if each.number is None else str(each.number),
                each.text + quiet(comments.get(each.number or 0, "")),
            ]
            for each in list_sentences(plan, access_list, taken)
        ),
        indent=2,
    )


def _head(plan: Plan, access_list: AnyList[Any]) -> Iterator[str]:
    """Yield what a list is, where it is written, and where it is placed."""
    head = f"list {strong(access_list.name)}  {access_list.kind} {access_list.about}"
    dated = f"  until {access_list.until}" if access_list.until else ""
    yield f"{head}{dated}{_owner(access_list.owner)}  {quiet(str(access_list.place))}"
    placements = [
        placement for placement in plan.every_placement if placement.access_list == access_list.name
    ]
    for placement in placements:
        members = [
            each.owner if each.kind is PointKind.HOST else str(each)
            for each in plan.hosts_at(placement)
            if each != placement.point
        ]
        yield f"  {placement.where}" + quiet(f"  {', '.join(members)}" * bool(members))
    if not placements:
        yield alert("  placed nowhere")


def _taken_lines(wording: Wording, access_list: AnyList[Any], taken: Taken) -> Iterator[str]:
    """Yield what each line above takes from an entry, and whether nothing is left."""
    for part in taken.parts:
        whole = len(taken.parts) == 1 and not taken.left
        what = (
            "all of it"
            if whole
            else wording.in_a_line(part.packets, access_list.kind is Kind.STANDARD)
        )
        yield f"above, {part.taker.number} {DOES[part.taker.action]} {what}" + (
            f" during {part.taker.window}" if part.taker.window else ""
        )
    if not taken.left and len(taken.parts) > 1:
        yield "nothing is left for it"


def short_lines(
    plan: Plan, lists: Sequence[AnyList[Any]], hits: Mapping[str, Mapping[int | None, int]]
) -> Iterator[str]:
    """Yield a line for each list: name, kind, number of entries, places, and its tally where
    something is counted.
    """
    rows = []
    for access_list in lists:
        stands = [
            each.where for each in plan.every_placement if each.access_list == access_list.name
        ]
        counted = sum(hits.get(access_list.name, {}).values())
        off = sum(entry.off for entry in access_list.entries)
        size = count(len(access_list.entries), "entry", "entries") + (f", {off} off" if off else "")
        rows.append(
            [
                strong(access_list.name),
                f"{access_list.kind} {access_list.about}",
                size,
                f"{counted:,}x" if counted else "",
                ", ".join(stands) or alert("placed nowhere"),
            ]
        )
    if not any(row[3] for row in rows):
        rows = [[*row[:3], row[4]] for row in rows]
    yield from columns(rows)


def _tally(hits: Mapping[int | None, int], number: int | None) -> list[str]:
    return [quiet(f"{hits.get(number, 0):>5,}x")] if hits else []


def _entry_row(
    entry: AnyEntry, at: datetime, opened: frozenset[str], hits: Mapping[int | None, int]
) -> list[str]:
    state = (
        "off"
        if entry.off
        else ""
        if entry.window is None
        else "open"
        if entry.window in opened
        else "over"
        if is_past(entry.until, at)
        else "shut"
    )
    text = leading_word(entry.text) if entry.is_awake(opened) else quiet(entry.text)
    comment = f'  "{entry.comment}"' if entry.comment else ""
    return [
        str(entry.number),
        alert(state) if state else "",
        *_tally(hits, entry.number),
        text + _owner(entry.owner) + comment,
    ]


def _owner(name: str) -> str:
    """Return who answers for a line, "" for nobody."""
    return quiet(f"  for {name}") if name else ""


def dated_lines(plan: Plan, at: datetime) -> Iterator[str]:
    """Yield the lines with a last day, the earliest first."""
    rows = [
        [
            alert(str(each.until)) if is_past(each.until, at) else str(each.until),
            "over" if is_past(each.until, at) else "",
            quiet(plan.line_of(each.place)),
            "" if each.entry is None else line_name(each.access_list or "", each.entry),
            leading_word(each.text),
            each.owner,
        ]
        for each in dated(plan)
    ]
    kept = [column for column in range(6) if any(row[column] for row in rows)]
    yield from columns([[row[column] for column in kept] for row in rows])
    if not rows:
        yield "no entry, list or claim has a last day; an entry gets one by: until 2027-03-31"


def _meanings(access_list: AnyList[Any]) -> dict[str, str]:
    """Return what each name in the list stands for; words that need no explanation are left out."""
    meanings: dict[str, str] = {}
    if isinstance(access_list, EthernetList):
        for stations in (
            each for entry in access_list.entries for each in (entry.source, entry.destination)
        ):
            if stations.text != "any" and not looks_like_mac(stations.text):
                meanings[stations.text] = _some(
                    [format_mac(value) for value, _ in stations.patterns]
                )
    if not isinstance(access_list, AccessList):
        return meanings
    for entry in access_list.entries:
        for addresses in (entry.source, entry.destination):
            if (
                addresses.text != "any"
                and addresses.text not in meanings
                and addresses.text[:1].isalpha()
                and ":" not in addresses.text
            ):
                meanings[addresses.text] = _addresses(addresses)
        if entry.service.text[:1].isalpha() and "/" not in entry.service.text:
            meaning = _service(entry.service, access_list.family)
            if entry.service.text in MISTAKEN:
                meaning = (
                    f"protocol {entry.service.terms[0].protocol}, "
                    f"{MISTAKEN[entry.service.text].is_really}"
                )
            if meaning != entry.service.text:
                meanings.setdefault(entry.service.text, meaning)
    return meanings


def _addresses(addresses: Addresses) -> str:
    return _some([str(pattern) for pattern in addresses.patterns])


def _service(service: Service, family: Family) -> str:
    return _some([term.text(family) for term in service.terms])


def _some(texts: list[str]) -> str:
    left = len(texts) - _MOST_MEANINGS
    return ", ".join(texts[:_MOST_MEANINGS]) + (f" and {left} more" if left > 0 else "")


def why_lines(found: Sequence[tuple[AnyList[Any], Sequence[Why]]]) -> Iterator[str]:
    """Yield for each list that a packet meets why each line matches or not, down to the line that
    decides.
    """
    for access_list, several in found:
        for each in several:
            yield f"{strong(access_list.name)}  {service_label(each.packet)}"
            entry = each.decider.entry
            last = (
                ["otherwise", word(each.decider.action)]
                if entry is None
                else [str(entry.number), leading_word(entry.text)]
            )
            yield from columns([*why_rows(each, False), last], indent=2)
