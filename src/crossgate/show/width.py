"""Text that fits the terminal: lines and cells are folded at blanks and commas, and long names
shortened in the middle.

The width is `COLUMNS` where it is set, or else the terminal's; in a pipe there is none, and nothing
is folded, so that other programs get every answer on a line of its own. Colour codes take no room
and continue after a fold.
"""

from __future__ import annotations

import os
import re
import shutil
import sys
from collections.abc import Iterable, Iterator, Sequence
from itertools import zip_longest

from crossgate.core.model.plaintext import columns_of

CODES = re.compile(r"\x1b\[[0-9;]*m")
"""Codes that paint."""
_RESET = "\x1b[0m"
_NARROWEST = 40
"""No terminal is taken to be narrower."""
_LEAST = 8
"""No column is made narrower."""
_GAP = 2
_NAME = re.compile(r"[A-Za-z][A-Za-z0-9_.-]*\Z")
_PIECES = re.compile(r"[^ ,]*,(?! )|[^ ]*(?: +|$)")
"""What is kept together: up to a comma within a word, or to the blanks behind a word."""

_Letter = tuple[str, str]
"""A letter, and the codes that are on where it stands."""


def screen_width() -> int | None:
    """Return the number of columns; None where nothing is to be folded."""
    told = os.environ.get("COLUMNS", "")
    if told.isdecimal() and len(told) < 10 and int(told) > 0:
        return max(int(told), _NARROWEST)
    return max(shutil.get_terminal_size().columns, _NARROWEST) if sys.stdout.isatty() else None


def width(text: str) -> int:
    """Return how many columns a text takes, without colour codes: a wide letter takes two."""
    return columns_of(CODES.sub("", text))


def _wide(letters: Iterable[_Letter]) -> int:
    """Return how many columns letters take."""
    return columns_of("".join(letter for letter, _ in letters))


def _first(letters: Sequence[_Letter], room: int) -> int:
    """Return how many letters from the start fit into some columns, at least one."""
    count = 1
    while count < len(letters) and _wide(letters[: count + 1]) <= room:
        count += 1
    return count


def wrapped(text: str, room: int, rest: int | None = None) -> list[str]:
    """Return a text as lines of at most `room` columns; the lines after the first have `rest`
    columns where that is given. A name that fits into no line is shortened in the middle, anything
    else is cut at the line's end.
    """
    if width(text) <= room:
        return [text]
    rest = room if rest is None else rest
    lines: list[list[_Letter]] = [[]]
    for piece in _pieces(_letters(text)):
        free = (rest if len(lines) > 1 else room) - _wide(lines[-1])
        bare = columns_of("".join(letter for letter, _ in piece).rstrip(" "))
        if bare > free and lines[-1]:
            lines.append([])
            free = rest
        if bare > free:
            piece = _shortened(piece, free)
        while columns_of("".join(letter for letter, _ in piece).rstrip(" ")) > free:
            count = _first(piece, free)
            lines[-1] += piece[:count]
            piece, free = piece[count:], rest
            lines.append([])
        lines[-1] += piece
    return [_painted(line) for line in lines if line]


def hung(line: str) -> Iterator[str]:
    """Yield a line as lines that fit the screen, the later ones two columns further in."""
    room = screen_width()
    if room is None or width(line) <= room:
        yield line
        return
    plain = CODES.sub("", line)
    indent = min(len(plain) - len(plain.lstrip(" ")), room // 2)
    first, *others = wrapped(line, room, room - indent - _GAP)
    yield first
    yield from (" " * (indent + _GAP) + each for each in others)


def columns(rows: Iterable[Sequence[str]], indent: int = 0) -> list[str]:
    """Return rows as lines with aligned columns, two blanks apart and without blanks at the end;
    cells are folded where they must be.
    """
    cells = [_stripped(row) for row in rows]
    widths = [max(map(width, column)) for column in zip_longest(*cells, fillvalue="")]
    room = screen_width()
    if room is not None:
        widths = _fitting(widths, room - indent)
    lines = []
    for row in cells:
        starts = [sum(widths[:column]) + _GAP * column for column in range(len(row))]
        folded = [
            [cell]
            if room is None
            else wrapped(cell, room - indent - start if column == len(row) - 1 else widths[column])
            for column, (cell, start) in enumerate(zip(row, starts, strict=True))
        ]
        for parts in zip_longest(*folded, fillvalue="") if folded else [("",)]:
            shown = _stripped(parts)
            padded = [
                part + " " * (wide - width(part))
                for part, wide in zip(shown[:-1], widths, strict=False)
            ]
            lines.append(" " * indent + (" " * _GAP).join([*padded, *shown[-1:]]))
    return lines


def _stripped(row: Sequence[str]) -> list[str]:
    found = list(row)
    while found and not found[-1]:
        found.pop()
    return found


def _fitting(widths: list[int], room: int) -> list[int]:
    """Return column widths that fit together: the widest columns are narrowed to the same width, as
    far as necessary.
    """
    room -= _GAP * (len(widths) - 1)
    if sum(widths) <= room:
        return widths
    most = _LEAST
    while sum(min(each, most + 1) for each in widths) <= room:
        most += 1
    found = [min(each, most) for each in widths]
    for column, each in enumerate(widths):  # what is left over goes to the first that can use it
        found[column] += max(min(each - found[column], room - sum(found)), 0)
    return found


def _letters(text: str) -> list[_Letter]:
    found: list[_Letter] = []
    state = ""
    for part in re.split(f"({CODES.pattern})", text):
        if CODES.match(part):
            state = "" if part == _RESET else state + part
        else:
            found += [(letter, state) for letter in part]
    return found


def _pieces(letters: list[_Letter]) -> Iterator[list[_Letter]]:
    plain = "".join(letter for letter, _ in letters)
    for match in _PIECES.finditer(plain):
        if match.end() > match.start():
            yield letters[match.start() : match.end()]


def _shortened(piece: list[_Letter], room: int) -> list[_Letter]:
    """Return a name with its middle left out, where there is room for enough of it; any other piece
    unchanged.
    """
    plain = "".join(letter for letter, _ in piece)
    bare = plain.rstrip(" ,")
    tail = piece[len(bare) :]
    if room < _LEAST or not _NAME.match(bare):
        return piece
    keep = room - 1 - len(plain.rstrip(" ")) + len(bare)
    head = (keep + 1) // 2
    return [
        *piece[:head],
        ("…", piece[head][1]),
        *piece[len(bare) - (keep - head) : len(bare)],
        *tail,
    ]


def _painted(letters: Sequence[_Letter]) -> str:
    """Return letters with their colour codes, without blanks at the end."""
    end = len(letters)
    while end and letters[end - 1][0] == " ":
        end -= 1
    shown, state = "", ""
    for letter, codes in letters[:end]:
        if codes != state:
            shown += (_RESET if state else "") + codes
            state = codes
        shown += letter
    return shown + (_RESET if state else "")
