"""A file of a plan as text: its lines, what their words are, and the names that they mention.

Lines and columns count from 0, columns in characters.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterator, Mapping
from functools import cached_property, lru_cache
from typing import NamedTuple

from crossgate.core.model.entry import Kind
from crossgate.core.model.named import NameSpace
from crossgate.core.model.service_words import split_service
from crossgate.language.entries import ETHERNET
from crossgate.language.forms import Form, entry_form, statement_form
from crossgate.language.lines import Token, form_tokens
from crossgate.language.row import Row
from crossgate.language.syntax import STATEMENTS


class Mention(NamedTuple):
    """A name in a line, from one column to another; `declares` says that this line defines it."""

    space: NameSpace
    name: str
    start: int
    end: int
    declares: bool


class LineWords(NamedTuple):
    """A line's words with what each is: "word" for one of the language itself, a kind of
    `forms.KINDS`, "remark", or "" for what does not belong there.

    `form` is the form of the line, None where no line begins so; `is_entry` says that it is an
    entry of a list.
    """

    words: tuple[Token, ...]
    roles: tuple[str, ...]
    form: Form | None
    is_entry: bool

    @property
    def keyword(self) -> str:
        """Its first word."""
        return self.words[0].text if self.words else ""

    def at(self, column: int) -> int | None:
        """Return the index of the word at a column, or the one that ends there."""
        return next(
            (index for index, each in enumerate(self.words) if each.start <= column <= each.end),
            None,
        )


_KINDS = {
    **dict.fromkeys(
        ("NAME", "ENDPOINT", "MACHINE", "SUBNET", "HOST", "GROUP", "DEVICE", "POINT", "PORT"),
        NameSpace.NAME,
    ),
    "SERVICE": NameSpace.SERVICE,
    "WINDOW": NameSpace.WINDOW,
    "LIST": NameSpace.LIST,
    "FINDING": NameSpace.FINDING,
}


class Text:
    """One file's text."""

    def __init__(self, file: str, text: str) -> None:
        self.file = file
        self.text = text
        self.lines = text.split("\n")

    @cached_property
    def returns(self) -> list[tuple[int, int]]:
        """The carriage returns without a line feed, by line and column: they end a line for an
        editor, but not in a plan.
        """
        if "\r" not in self.text:
            return []
        last = len(self.lines) - 1
        return [
            (number, column)
            for number, line in enumerate(self.lines)
            for column, letter in enumerate(line)
            if letter == "\r" and (column < len(line) - 1 or number == last)
        ]

    def shown_at(self, line: int, column: int) -> tuple[int, int]:
        """Return the line and column at which an editor shows a place of the plan."""
        before = bisect_left(self.returns, (line, column)) if self.returns else 0
        if before and self.returns[before - 1][0] == line:
            column -= self.returns[before - 1][1] + 1
        return line + before, column

    def place_at(self, shown: int) -> tuple[int, int]:
        """Return the line and column of the plan at which a line of an editor begins."""
        for before, (line, column) in enumerate(self.returns):
            if shown <= line + before:
                return shown - before, 0
            if shown == line + before + 1:
                return line, column + 1
        return shown - len(self.returns), 0

    @cached_property
    def heads(self) -> list[int]:
        """For each line the line of the statement that it belongs to: itself, or the one that opens
        its block; -1 for none.
        """
        found, head = [], -1
        for number, line in enumerate(self.lines):
            if line[:1] not in (" ", "\t", "", "#", "\r"):
                head = number
            found.append(head)
        return found

    def line(self, number: int) -> str:
        """Return a line without its ending; "" after the last one."""
        return self.lines[number].removesuffix("\r") if number < len(self.lines) else ""

    def written(self, number: int) -> LineWords:
        """Return a line's words with what each is."""
        line, head = self.line(number), self.heads[number] if number < len(self.lines) else -1
        return _written(line, self.line(head) if line[:1] in (" ", "\t") and head >= 0 else "")

    def mentions(self, number: int) -> tuple[Mention, ...]:
        """Return the names that a line mentions."""
        head = self.heads[number]
        line = self.line(number)
        return _mentions(line, self.line(head) if line[:1] in (" ", "\t") and head >= 0 else "")

    def mention_at(self, number: int, column: int) -> Mention | None:
        """Return the name at a place, the longest one that ends there."""
        found = (
            [each for each in self.mentions(number) if each.start <= column <= each.end]
            if number < len(self.lines)
            else []
        )
        return min(
            found, key=lambda each: (column == each.end, each.end - each.start), default=None
        )

    @cached_property
    def declared(self) -> dict[tuple[NameSpace, str], tuple[int, Mention]]:
        """The names that the file defines, each with the line and place of its definition; the
        first where there are several.
        """
        found: dict[tuple[NameSpace, str], tuple[int, Mention]] = {}
        for number, line in enumerate(self.lines):
            if self.heads[number] == number or line.split(None, 1)[:1] in (["interface"], ["port"]):
                for each in self.mentions(number):
                    if each.declares:
                        found.setdefault((each.space, each.name), (number, each))
        return found

    def mentioning(self, space: NameSpace, name: str) -> Iterator[tuple[int, Mention]]:
        """Yield every mention of a name, with its line."""
        part = name.rpartition(".")[2] if space is NameSpace.POINT else name
        for number, line in enumerate(self.lines):
            if part in line:
                for each in self.mentions(number):
                    if (each.space, each.name) == (space, name):
                        yield number, each


@lru_cache(1 << 16)
def _written(line: str, head: str) -> LineWords:
    """Return the words of a line in the block of a statement, "" for no block."""
    found = list(form_tokens(line))
    form = line_form(found[0].text, head) if found else None
    own = [each for each in found if each.text[0] != "#"]
    remarks = [(each, "remark") for each in found[len(own) :]]
    roles = [*(form.roles(own) if form else ((each, "") for each in own)), *remarks]
    is_entry = form is not None and bool(head) and form is list_form(head)
    return LineWords(
        tuple(token for token, _ in roles), tuple(role for _, role in roles), form, is_entry
    )


def rows_below(head: str) -> Mapping[str, Row]:
    """Return the rows of the lines that begin with a keyword in the block of a statement with this
    first line, by that keyword; those of the statements for "", no block.
    """
    if not head:
        return STATEMENTS
    opening = STATEMENTS.get(head.split(None, 1)[0])
    return {row.keyword: row for row in opening.block} if opening else {}


def line_form(keyword: str, head: str) -> Form | None:
    """Return the form of a line that begins with a word, in the block of a statement with this
    first line, "" for no block; None where no line there does.
    """
    row = rows_below(head).get(keyword)
    if row is not None:
        return statement_form(row)
    return list_form(head)


@lru_cache(1 << 10)
def list_form(head: str) -> Form | None:
    """Return the form of the entries of a list with this first line; None where that does not say
    what list it is.
    """
    words = head.split()
    kind = next((each for each in Kind if words[:1] == ["list"] and each.value in words[2:3]), None)
    return None if kind is None else entry_form(kind, words[3:4] == [ETHERNET])


@lru_cache(1 << 16)
def _mentions(line: str, head: str) -> tuple[Mention, ...]:
    written = _written(line, head)
    found: list[Mention] = []
    for token, role in zip(written.words, written.roles, strict=True):
        if role == "NEW":
            space = STATEMENTS[written.keyword].space
            if space is not None:
                found.append(Mention(space, token.text, token.start, token.end, declares=True))
        elif role == "PART":
            device = head.split()[1] if len(head.split()) > 1 else ""
            found.append(
                Mention(
                    NameSpace.POINT, f"{device}.{token.text}", token.start, token.end, declares=True
                )
            )
        elif role == "SERVICE":
            at = token.start
            for part in split_service(token.text):
                at = line.index(part, at)
                found.append(Mention(NameSpace.SERVICE, part, at, at + len(part), declares=False))
                at += len(part)
        elif role in _KINDS:
            device, dot, _ = token.text.partition(".")
            if dot and _KINDS[role] is NameSpace.NAME:
                end = token.start + len(device)
                found.append(Mention(NameSpace.NAME, device, token.start, end, declares=False))
                found.append(
                    Mention(NameSpace.POINT, token.text, end + 1, token.end, declares=False)
                )
            else:
                found.append(
                    Mention(_KINDS[role], token.text, token.start, token.end, declares=False)
                )
    return tuple(found)
