"""Access lists as written: the `list` line, its entries, notes and `otherwise`.

A plan may have a hundred thousand entries, so an entry is read in one pass over its words, and what
many entries share (a service, the addresses of a name) is one object.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from datetime import date
from typing import NamedTuple, cast

from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.address import Addresses, Family, anywhere
from crossgate.core.model.condition import Condition, qualifiers_of
from crossgate.core.model.entry import MOST_NUMBER, Action, AnEntry, Entry, Kind, Note, Otherwise
from crossgate.core.model.errors import PlanError
from crossgate.core.model.ethernet import (
    EthernetList,
)
from crossgate.core.model.service import IP, Service
from crossgate.language.conditions import (
    EntryHead,
    beyond_sources,
    misplaced,
    owner,
    read_conditions,
    until,
)
from crossgate.language.entry_head import ACTION_WORDS, entry_head
from crossgate.language.frame_entries import FrameEntryReader
from crossgate.language.lines import Line
from crossgate.language.mends import mended
from crossgate.language.names import FollowOn, Names
from crossgate.language.row import Row
from crossgate.language.words import Words

ETHERNET = "ethernet"
_FAMILIES = {family.word: family for family in Family}


class Head(NamedTuple):
    """The first line of a list; without a family it is an ethernet list."""

    name: str
    kind: Kind
    family: Family | None
    until: date | None = None
    owner: str = ""


def header(words: Words) -> Head:
    """Read the first line of a list."""
    words.keyword("list")
    name = (
        words.number("a list number", MOST_NUMBER)
        if words.peek().isdigit()
        else words.name("a list")
    )
    kind = Kind(words.choice([kind.value for kind in Kind]))
    family = _FAMILIES.get(words.choice((*_FAMILIES, ETHERNET)))
    day = until(words) if words.peek() == "until" else None
    answers = owner(words)
    words.end()
    return Head(str(name), kind, family, day, answers)


def access_list(words: Words, names: Names) -> None:
    """Read a list with its block; faulty lines are left out."""
    lines, errors = [words.line, *words.block], len(names.errors)
    found = names.kept.whole(lines) or _access_list(words, names)
    if len(names.errors) == errors:
        names.kept.keep(lines, found)
    if isinstance(found, EthernetList):
        names.plan.frame_lists[found.name] = found
    else:
        names.plan.lists[found.name] = found


def _access_list(words: Words, names: Names) -> AccessList | EthernetList:
    name, kind, family, day, answers = header(words)
    if family is None:
        frames, otherwise, notes = _block(
            words, names, name, FrameEntryReader(names, kind, name).entry, lambda error, line: error
        )
        return EthernetList(
            name, kind, frames, otherwise, words.place, notes, until=day, owner=answers
        )
    reader = _EntryReader(names, kind, family, name)

    def mend(error: PlanError, line: Line) -> PlanError:
        return mended(error, line, kind, family, lambda other: reader.entry(Words(other), 0))

    own, otherwise, notes = _block(words, names, name, reader.entry, mend)
    return AccessList(
        name, kind, own, otherwise, words.place, notes, family, until=day, owner=answers
    )


def _block(
    words: Words,
    names: Names,
    name: str,
    read: Callable[[Words, int], AnEntry],
    mend: Callable[[PlanError, Line], PlanError],
) -> tuple[tuple[AnEntry, ...], Otherwise, tuple[Note, ...]]:
    """Read the lines of a list: its entries in the order of their numbers, its otherwise line, and
    its notes.
    """
    entries: dict[int, AnEntry] = {}
    known, kept = names.kept.entries(words.line.text)
    notes: list[Note] = []
    otherwise: Otherwise | None = None
    highest = 0
    for line in words.block:
        try:
            at = Words(line)
            first = at.peek()
            if first == "note":
                notes.append(note(at))
            elif first == "otherwise":
                if otherwise is not None:
                    raise at.error(
                        f"list {name} has its otherwise in line {otherwise.place.line} already",
                        index=0,
                    )
                otherwise = closing_line(at)
            else:
                before = cast("AnEntry | None", known.get(line.text))
                entry = before or read(at, highest + 10)
                if before is not None and entry.place != at.place:
                    entry = replace(entry, place=at.place)
                if first.isdecimal():
                    kept[line.text] = entry
                if entry.number in entries:
                    raise at.error(
                        (
                            f"list {name} has an entry {entry.number} in line "
                            f"{entries[entry.number].place.line} already"
                        ),
                        index=0,
                    )
                entries[entry.number] = entry
                highest = max(highest, entry.number)
        except FollowOn as error:
            names.errors.append(error)
        except PlanError as error:
            names.errors.append(mend(error, line))
    ordered = tuple(entries[number] for number in sorted(entries))
    return ordered, otherwise or Otherwise(Action.DENY, words.place, written=False), tuple(notes)


def note(words: Words) -> Note:
    """Read a `note` line of a list."""
    words.keyword("note")
    text = words.text("the remark, in double quotes")
    words.end()
    return Note(text, words.place)


def closing_line(words: Words) -> Otherwise:
    """Read an `otherwise` line of a list."""
    words.keyword("otherwise")
    action = ACTION_WORDS[words.choice(ACTION_WORDS)]
    words.end()
    return Otherwise(action, words.place, written=True)


def one_entry(
    line: Line, names: Names, kind: Kind, family: Family, next_number: int, name: str = ""
) -> Entry:
    """Read a single entry for the list `name`; without a number it gets `next_number`. Raises
    `PlanError`.
    """
    reader = _EntryReader(names, kind, family, name)
    try:
        return reader.entry(Words(line), next_number)
    except PlanError as error:
        raise mended(
            error, line, kind, family, lambda other: reader.entry(Words(other), 0)
        ) from None


class _EntryReader:
    """Reads the entries of one list."""

    def __init__(self, names: Names, kind: Kind, family: Family, name: str) -> None:
        self.name = name
        self.names = names
        self.kind = kind
        self.family = family
        self.any = anywhere(family)

    def entry(self, words: Words, next_number: int) -> Entry:
        """Read an entry; one without a number gets the next."""
        number, off, start, action = entry_head(words, next_number)
        service, destination = IP, self.any
        if self.kind is Kind.STANDARD:
            source = self._only_source(words)
        else:
            service = self._service(words)
            source = self.names.addresses(words, self.family)
            words.keyword("to")
            destination = self.names.addresses(words, self.family)
        conditions, log, answers, comment = tuple[Condition, ...](), False, "", ""
        end = words.index
        if end < len(words.words):
            conditions = read_conditions(
                words, EntryHead(self.names, self.name, number, action, service), self.kind
            )
            log = words.accept("log")
            end = words.index
            answers = owner(words)
            comment = words.text("a comment in double quotes") if words.peek()[:1] == '"' else ""
            if words.peek():
                raise words.error(misplaced(words.take(""), self.kind))
        text = " ".join(words.words[start:end])
        return Entry(
            number,
            action,
            conditions,
            off,
            log,
            comment,
            answers,
            text,
            words.place,
            service,
            source,
            destination,
            qualifiers_of(conditions),
        )

    def _only_source(self, words: Words) -> Addresses:
        """Read the source of a standard list's entry; where a service stands in its place, the
        error says so.
        """
        start = words.index
        try:
            return self.names.addresses(words, self.family)
        except PlanError as error:
            if isinstance(error, FollowOn) or words.index != start + 1:
                raise
            word = words.words[start]
            if not self.names.plan.is_service(word):
                raise
            raise words.error_from(start, beyond_sources(word)) from None

    def _service(self, words: Words) -> Service:
        """Read the service of an extended list's entry; where addresses stand in its place, the
        error says so.
        """
        try:
            return self.names.service(words, self.family)
        except PlanError as error:
            word = words.words[words.index - 1].removesuffix(",")
            if isinstance(error, FollowOn) or not self.names.says_addresses(word):
                raise
            raise words.error(
                f"{word} stands where a service belongs: ip for all of them, else as tcp/443"
            ) from None


LIST_LINES = (Row("note", "TEXT", note), Row("otherwise", "ACTION", closing_line))
"""What stands in the block of a list besides entries."""
