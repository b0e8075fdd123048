"""The one family of errors: what a person wrote that cannot be used, where it is, and how to mend
it.

Every error that Cross Gate raises on purpose is a `PlanError`. The commands turn it into text and
an exit status in one place; nothing else prints or swallows one.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple, TypeVar

from crossgate.core.model.plaintext import columns_of


class Place(NamedTuple):
    """A line of a plan: its file, as the user named it, and the line number, from 1."""

    file: str
    line: int

    def __str__(self) -> str:
        return f"{self.file}:{self.line}"


Value = TypeVar("Value", bound=tuple[Any, ...])


def placeless(cls: type[Value]) -> type[Value]:
    """Make a named tuple with a `place` compare equal to another one that differs only in its
    place.

    Two readings of one plan are equal, wherever its lines have moved.
    """
    index = list(cls.__annotations__).index("place")

    def meaning(value: Value) -> tuple[object, ...]:
        return (*value[:index], *value[index + 1 :])

    def equal(self: Value, other: object) -> bool:
        return isinstance(other, cls) and meaning(self) == meaning(other)

    def unequal(self: Value, other: object) -> bool:
        return not equal(self, other)

    def hashed(self: Value) -> int:
        return hash(meaning(self))

    for name, method in (("__eq__", equal), ("__ne__", unequal), ("__hash__", hashed)):
        setattr(cls, name, method)
    return cls


class Instead(NamedTuple):
    """What was most likely meant, and which part of the line it replaces: from column `start` to
    before `end`, counted from 0.
    """

    start: int
    end: int
    text: str


_MARGIN = "    "
"""What stands before a line that is shown."""
_CUT = "…"
"""Where something of it is left out."""


class PlanError(Exception):
    """Something that a person wrote cannot be used.

    `message` says what is wrong and what would be right. `place` and `source` are its line;
    `column` (from 1) and `width` (in characters) mark the faulty words in `source`. `instead` is
    given where the message names what was most likely meant.
    """

    instead: Instead | None = None

    def __init__(
        self,
        message: str,
        *,
        place: Place | None = None,
        source: str = "",
        column: int = 0,
        width: int = 1,
    ) -> None:
        super().__init__(message)
        self.message = message
        self.place = place
        self.source = source
        self.column = column
        self.width = width

    def __str__(self) -> str:
        return self.told()

    def told(self, room: int | None = None) -> str:
        """Return the message with its place, the line and a marker under the faulty words; a line
        wider than `room` columns is cut to the part around them.
        """
        if self.place is None:
            where = ""
        elif self.column:
            where = f"{self.place}:{self.column}: "
        else:
            where = f"{self.place}: "
        if not self.column:
            return where + self.message
        ahead, fault, behind = self._parts()
        if room is not None and columns_of(self.source) > room - len(_MARGIN):
            ahead, fault, behind = _cut(ahead, fault, behind, room - len(_MARGIN))
        # Tabs are repeated before the marker, so that it stands under the word however wide they
        # are shown.
        lead = "".join("\t" if each == "\t" else " " * columns_of(each) for each in ahead)
        marker = "^" + "~" * (max(columns_of(fault), 1) - 1)
        return f"{where}{self.message}\n{_MARGIN}{ahead}{fault}{behind}\n{_MARGIN}{lead}{marker}"

    def _parts(self) -> tuple[str, str, str]:
        """Return the line before, at and after the faulty words."""
        start = self.column - 1
        end = start + max(self.width, 1)
        return self.source[:start], self.source[start:end], self.source[end:]


def _cut(ahead: str, fault: str, behind: str, room: int) -> tuple[str, str, str]:
    """Return the parts of a line cut to `room` columns; what is ahead of the fault gets at most a
    half.
    """
    half = room // 2
    if columns_of(ahead) > half:
        ahead = _CUT + _fitting(ahead[: -half - 1 : -1], half - 1)[::-1]
    room -= columns_of(ahead)
    if columns_of(fault) > room:
        return ahead, _fitting(fault, room - 1) + _CUT, ""
    room -= columns_of(fault)
    if columns_of(behind) > room:
        behind = _fitting(behind, room - 1) + _CUT if room else ""
    return ahead, fault, behind


def _fitting(text: str, room: int) -> str:
    """Return as much of the beginning of a text as fits into some columns."""
    text = text[: max(room, 0)]
    while columns_of(text) > room:
        text = text[:-1]
    return text


class PlanErrors(PlanError):
    """All the errors of one plan, in the order of their places."""

    def __init__(self, errors: Sequence[PlanError]) -> None:
        super().__init__("\n".join(str(error) for error in errors))
        self.errors = tuple(errors)

    def told(self, room: int | None = None) -> str:
        """Return all errors as text, and their number."""
        count = len(self.errors)
        told = [each.told(room) for each in self.errors]
        return "\n".join([*told, f"{count} errors"] if count > 1 else told)


def nearest(name: str, known: Sequence[str]) -> str:
    """Return the known name that `name` was most likely meant to be, or "" when none is similar."""
    import difflib

    for candidate in known:
        if candidate.lower() == name.lower():
            return candidate
    return next(iter(difflib.get_close_matches(name, known, 1, 0.6)), "")


def unknown(kind: str, name: str, known: Sequence[str]) -> str:
    """Return the message that there is no `kind` called `name`, with the most similar known name,
    or all of them while they are few.
    """
    near = nearest(name, known)
    if near:
        return f"no {kind} {name}; there is {near}"
    if known and len(known) <= 6:
        return (
            f"no {kind} {name}; there are {', '.join(known)}"
            if len(known) > 1
            else f"no {kind} {name}; there is {known[0]}"
        )
    return f"no {kind} {name}"
