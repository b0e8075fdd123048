"""Edits of whole lists: new ones, dropped and renumbered ones."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from crossgate.core.model.accesslist import AccessList, AnyList
from crossgate.core.model.address import Family
from crossgate.core.model.entry import MOST_NUMBER, Action, Kind, Otherwise
from crossgate.core.model.errors import Place, PlanError
from crossgate.core.model.ethernet import EthernetList
from crossgate.language.draft import GIVEN, Draft
from crossgate.language.edits import number_entry
from crossgate.language.entries import ETHERNET, header
from crossgate.language.lines import Line, Token, entry_line
from crossgate.language.words import Words


def empty_list(name: str, kind: Kind, family: Family | None) -> AnyList[Any]:
    """Return a list without entries, so that entries can be read for it, and it can be placed,
    before it is written.
    """
    place = Place(GIVEN, 1)
    if family is None:
        return EthernetList(name, kind, (), Otherwise(Action.DENY, place, written=False), place, ())
    return AccessList(
        name, kind, (), Otherwise(Action.DENY, place, written=False), place, (), family
    )


def header_given(name: str, kind: Kind, about: str) -> None:
    """Raise `PlanError` where a new list cannot have a name."""
    header(Words(Line(GIVEN, 1, f"list {name} {kind} {about}")))


def new_list(
    draft: Draft,
    name: str,
    kind: Kind,
    family: Family | None,
    entries: Sequence[str] = (),
    otherwise: Action | None = None,
) -> None:
    """Write a list after the last one, of a family or (None) for frames, with some entries,
    numbered in steps of ten. Raises `PlanError` when the name is taken, or is not a valid one.
    """
    about = ETHERNET if family is None else family.word
    header_given(name, kind, about)
    plan = draft.plan
    if name in plan.every_list:
        raise PlanError(
            f"there is a list {name} already (line {plan.line_of(plan.every_list[name].place)}); give the "
            "new one another name"
        )
    numbered = [f"    {10 * number} {each}" for number, each in enumerate(entries, 1)]
    texts = (
        "",
        f"list {name} {kind} {about}",
        *numbered,
        *([] if otherwise is None else [f"    otherwise {otherwise}"]),
    )
    add_lists(draft, texts)


def add_lists(draft: Draft, lines: Sequence[str]) -> None:
    """Write the lines of lists, a blank one first, after the last list of the plan's own file, or
    of the file that has lists.
    """
    draft.beside([last_line(each) for each in draft.plan.every_list.values()], *lines)


def last_line(access_list: AnyList[Any]) -> Place:
    """Return the place of the last line of a list."""
    places: list[Place] = [access_list.place, access_list.otherwise.place]
    places += [each.place for each in (*access_list.notes, *access_list.entries)]
    return max(places, key=lambda place: place.line)


def drop_list(draft: Draft, access_list: AnyList[Any]) -> None:
    """Remove a list with its block. Raises `PlanError` while it is placed."""
    placed = [
        placement
        for placement in draft.plan.every_placement
        if placement.access_list == access_list.name
    ]
    if placed:
        lines = ", ".join(draft.plan.line_of(each.place) for each in placed)
        raise PlanError(
            f"list {access_list.name} stands in the network (line {lines}); first: crossgate lift "
            f"{access_list.name}"
        )
    last = last_line(access_list)
    for number in range(access_list.place.line, last.line + 1):
        draft.drop(Place(access_list.place.file, number))


def renumber(draft: Draft, access_list: AnyList[Any], start: int, step: int) -> dict[int, int]:
    """Renumber a list's entries in their order, and correct the lines that refer to them; return
    the new numbers by the old ones.
    """
    if access_list.entries and start + step * (len(access_list.entries) - 1) > MOST_NUMBER:
        raise PlanError(
            f"{len(access_list.entries)} entries from {start} in steps of {step} go beyond "
            f"{MOST_NUMBER}; take a smaller step"
        )
    numbers = {
        entry.number: start + step * index for index, entry in enumerate(access_list.entries)
    }
    for entry in access_list.entries:
        line = draft.line(entry.place).text
        parts = entry_line(line)
        if parts.number:
            # In the room that the old number took with the blanks behind it, at least one blank.
            shown = str(numbers[entry.number]).ljust(parts.start - parts.number.start - 1)
            draft.replace(entry.place, f"{line[: parts.number.start]}{shown} {line[parts.start :]}")
        else:
            number_entry(draft, replace(entry, number=numbers[entry.number]))
    mentions = [
        (each.place, each.by.entry, "by")
        for each in draft.plan.expectations
        if each.by and each.by.access_list == access_list.name
    ]
    mentions += [
        (each.place, each.entry, "in")
        for each in draft.plan.acceptances
        if each.access_list == access_list.name
    ]
    for place, number, word in mentions:
        if number is not None:
            said = _mention(draft.line(place), word, access_list.name)
            text = draft.line(place).text
            draft.replace(place, f"{text[: said.start]}{numbers[number]}{text[said.end :]}")
    return numbers


def _mention(line: Line, word: str, name: str) -> Token:
    """Return the number of an entry that follows a word and the list's name in a line."""
    words = line.words()
    return next(
        number
        for before, listed, number in zip(words, words[1:], words[2:], strict=False)
        if (before.text, listed.text) == (word, name)
    )
