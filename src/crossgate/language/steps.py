"""The edits that mends are made of: each a step, with a sentence about it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple

from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.address import Family
from crossgate.core.model.entry import Action, Entry, Kind
from crossgate.core.model.errors import PlanError
from crossgate.core.model.network import Direction, Point
from crossgate.core.model.plan import Plan
from crossgate.language import edits, list_edits, placing
from crossgate.language.draft import Draft
from crossgate.language.plain_names import plain_name
from crossgate.language.reader import Reading


class MendStep(NamedTuple):
    """One edit: a sentence about it, and the change."""

    said: str
    change: Callable[[Draft], object]


def applied(state: Reading, step: MendStep) -> Reading | None:
    """Return the plan after an edit, None where it would have errors."""
    draft = Draft(state)
    try:
        step.change(draft)
        return state.changed(draft.result())
    except PlanError:
        return None


def insertions(
    name: str, numbers: Sequence[int], texts: Sequence[str]
) -> Callable[[Draft], object]:
    """Return the change that inserts new entries into a list."""

    def change(draft: Draft) -> None:
        access_list = edits.find_list(draft.plan, name)
        for number, text in zip(numbers, texts, strict=True):
            edits.given_entry(draft, access_list, text)
            edits.add_entry(draft, access_list, number, text)

    return change


def new_list(
    name: str,
    sort: tuple[Kind, Family],
    entries: Sequence[str],
    places: Sequence[tuple[Point, Direction]],
    otherwise: Action,
) -> Callable[[Draft], object]:
    """Return the change that writes a new list of a kind and family, and places it."""

    def change(draft: Draft) -> None:
        list_edits.new_list(draft, name, *sort, entries, otherwise)
        for point, direction in places:
            placing.place_list(draft, list_edits.empty_list(name, *sort), direction, point)

    return change


_SIDES = {Direction.INBOUND: "in", Direction.OUTBOUND: "out", Direction.WITHIN: "within"}


def free_name(plan: Plan, point: Point, direction: Direction, family: Family) -> str:
    """Return a free name for a new list at a place."""
    part = f"{point.owner}-{point.part}" if point.part else point.owner
    side = _SIDES[direction]
    name = plain_name(f"{part}-{side}{'6' if family is Family.IPV6 else ''}", "list")
    while name in plan.lists:
        name += "-2"
    return name


def add_above(draft: Draft, access_list: AccessList, entry: Entry | None, text: str) -> None:
    """Insert an entry before another one, or at the end where there is none."""
    own = access_list.entries
    index = len(own) if entry is None else own.index(entry)
    ends = own[index - 1] if index else None, own[index] if index < len(own) else None
    edits.add_entry(draft, access_list, edits.number_between(access_list, *ends), text)


def add_behind(draft: Draft, access_list: AccessList, entry: Entry, text: str) -> None:
    """Insert an entry right after another one."""
    number = edits.number_beside(access_list, edits.EntrySpot(after=entry.number))
    edits.add_entry(draft, access_list, number, text)


def add_first(draft: Draft, access_list: AccessList, text: str) -> None:
    """Insert an entry as the first one of a list."""
    before = access_list.entries[0] if access_list.entries else None
    edits.add_entry(draft, access_list, edits.number_between(access_list, None, before), text)
