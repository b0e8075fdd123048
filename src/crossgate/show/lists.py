"""Access lists for people: entries in the order they are read, what their names stand for, and where the list stands."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime

from rich.console import RenderableType
from rich.text import Text

from crossgate.core.accesslist import AccessList, Entry
from crossgate.core.address import Addresses
from crossgate.core.plan import Plan
from crossgate.core.service import Service
from crossgate.core.window import open_at
from crossgate.show.console import QUIET, STRONG, columns, word

_MOST_MEANINGS = 6
"""How many patterns or terms of one name are written out."""


def lines(plan: Plan, access_list: AccessList, at: datetime) -> Iterator[RenderableType]:
    """Yield a list: its head and places, a line an entry, its otherwise line, and the meaning of its names."""
    opened = open_at(plan.windows.values(), at)
    head = Text("list ").append(access_list.name, STRONG).append(f"  {access_list.kind} {access_list.family.word}")
    yield head.append(f"  {access_list.place}", QUIET)
    placements = [placement for placement in plan.placements if placement.access_list == access_list.name]
    for placement in placements:
        yield Text(f"  {placement.direction} on {placement.point}")
    if not placements:
        yield Text("  placed nowhere", "yellow")
    rows: list[tuple[int, list[str | Text]]] = [(note.place.line, ["", "", Text(f"note: {note.text}", QUIET)]) for note in access_list.notes]
    highest = 0
    for entry in access_list.entries:
        # Notes stand by line and entries by number: a line above the ones before it is shown where it is read.
        highest = max(highest, entry.place.line)
        rows.append((highest, _entry_row(plan, entry, opened)))
    rows.sort(key=lambda row: row[0])
    otherwise = access_list.otherwise
    written = "" if otherwise.written else "  (not written: this is how every list ends)"
    last: list[str | Text] = ["otherwise", "", word(otherwise.action).append(written, QUIET)]
    yield columns([*(row for _, row in rows), last], indent=2)
    meanings = _meanings(access_list)
    if meanings:
        yield columns([[Text(name, "cyan"), Text(meaning, QUIET)] for name, meaning in meanings.items()], indent=4)


def _entry_row(plan: Plan, entry: Entry, opened: frozenset[str]) -> list[str | Text]:
    action, _, rest = entry.text.partition(" ")
    state = ""
    text = word(action).append(f" {rest}")
    if entry.off:
        state, text = "off", Text(entry.text, QUIET)
    elif entry.window is not None:
        state = "open" if entry.window in opened else "shut"
        if state == "shut":
            text = Text(entry.text, QUIET)
    if entry.comment:
        text.append(f'  "{entry.comment}"', "italic")
    return [str(entry.number), Text(state, "yellow"), text]


def _meanings(access_list: AccessList) -> dict[str, str]:
    """Return what each name in the list stands for; words that say it themselves are left out."""
    meanings: dict[str, str] = {}
    for entry in access_list.entries:
        for addresses in (entry.source, entry.destination):
            if addresses.text != "any" and addresses.text not in meanings and addresses.text[:1].isalpha() and ":" not in addresses.text:
                meanings[addresses.text] = _addresses(addresses)
        if entry.service.text[:1].isalpha() and "/" not in entry.service.text:
            meaning = _service(entry.service)
            if meaning != entry.service.text:
                meanings.setdefault(entry.service.text, meaning)
    return meanings


def _addresses(addresses: Addresses) -> str:
    return _some([str(pattern) for pattern in addresses.patterns])


def _service(service: Service) -> str:
    return _some([str(term) for term in service.terms])


def _some(texts: list[str]) -> str:
    left = len(texts) - _MOST_MEANINGS
    return ", ".join(texts[:_MOST_MEANINGS]) + (f" and {left} more" if left > 0 else "")
