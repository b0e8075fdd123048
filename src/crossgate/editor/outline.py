"""What an editor shows about a whole file: its parts, what can be folded, a line above lists and
expectations, numbers, and colours.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import accumulate, pairwise
from typing import NamedTuple

from crossgate.core.model.named import NameSpace
from crossgate.editor.plans import OpenPlan
from crossgate.language.syntax import STATEMENTS
from crossgate.language.texts import Text


class OutlinePart(NamedTuple):
    """A statement that defines a name, or a line of its block: what it is, its name and where that
    stands, its last line, and its `lines`.
    """

    what: str
    name: str
    first: int
    last: int
    column: int
    lines: Sequence[OutlinePart] = ()


MOST_LINES = 2_000
"""So many lines of blocks are told of a file: an editor asks for all of them after each change."""


def parts(text: Text) -> Iterator[OutlinePart]:
    """Yield the statements of a file that define names, in order, each with the lines of its block;
    where there are too many, without the longest blocks.
    """
    heads = [
        (*each, _last(text, each[0]))
        for each in text.declared.values()
        if each[1].space is not NameSpace.POINT and text.heads[each[0]] == each[0]
    ]
    lengths = sorted(last - number for number, _, last in heads)
    longest = max(
        (
            length
            for length, every in zip(lengths, accumulate(lengths), strict=True)
            if every <= MOST_LINES
        ),
        default=0,
    )
    for number, mention, last in heads:
        block = range(number + 1, last + 1) if last - number <= longest else ()
        lines = [each for line in block if (each := _inner(text, line)) is not None]
        yield OutlinePart(
            text.written(number).keyword, mention.name, number, last, mention.start, lines
        )


def _inner(text: Text, number: int) -> OutlinePart | None:
    """Return a line of a block: an entry by its number, an interface or a port by its name, others
    by their first word.
    """
    line = text.line(number)
    words = line.partition("#")[0].split(None, 1)
    if not words:
        return None
    name, what = words[0], words[1].rstrip() if len(words) > 1 else ""
    column = line.index(name)
    if name in ("interface", "port") and what:
        name, what = what.split(None, 1)[0], name
        column = line.index(name, column + len(what))
    return OutlinePart(what, name, number, number, column)


def folds(text: Text) -> Iterator[tuple[int, int]]:
    """Yield the first and the last lines of what can be folded: blocks, and what follows a comment
    line up to the next such one.
    """
    sections = [number for number, line in enumerate(text.lines) if line.startswith("# --")]
    for start, end in pairwise([*sections, len(text.lines)]):
        last = end - 1
        while last > start and not text.line(last).strip():
            last -= 1
        if last > start:
            yield start, last
    for number in range(len(text.lines)):
        if (
            text.heads[number] == number
            and STATEMENTS.get(text.written(number).keyword, STATEMENTS["title"]).block
        ):
            last = _last(text, number)
            if last > number:
                yield number, last


def _last(text: Text, number: int) -> int:
    """Return the last line of a statement's block that is not blank."""
    last = number
    for line in range(number + 1, len(text.lines)):
        if text.heads[line] != number:
            break
        if text.line(line)[:1] in (" ", "\t") and text.line(line).strip():
            last = line
    return last


def notes(opened: OpenPlan, text: Text) -> Iterator[tuple[int, str]]:
    """Yield what is shown above lines: for a list where it is placed, how long it is and which
    entries nothing reaches; for an expectation whether it holds.
    """
    if opened.reading is None:
        return
    plan, settled = opened.reading.plan, opened.settled
    for each in plan.every_list.values():
        if each.place.file == text.file:
            stands = [
                placed.where for placed in plan.every_placement if placed.access_list == each.name
            ]
            told = ["placed " + ", ".join(stands) if stands else "placed nowhere"]
            told.append(f"{len(each.entries):,} {'entry' if len(each.entries) == 1 else 'entries'}")
            if settled is not None:
                hidden = sum(
                    found.name == "never-reached" and found.access_list == each.name
                    for found in settled.findings
                )
                told += [f"{hidden} never reached"] if hidden else []
            yield each.place.line - 1, " · ".join(told)
    for promise in plan.expectations:
        if promise.place.file == text.file:
            verified = None if settled is None else settled.proved.get(promise.place)
            if verified is not None:
                yield (
                    promise.place.line - 1,
                    "held"
                    if verified.held
                    else f"{'failed' if verified.answered else 'not answered'}: {verified.why}",
                )


def numbers(opened: OpenPlan, text: Text, first: int, last: int) -> Iterator[tuple[int, int, str]]:
    """Yield the lines of entries written without a number, with the column for one and the number
    that they have.
    """
    if opened.reading is None:
        return
    for access_list in opened.reading.plan.every_list.values():
        for entry in access_list.entries if access_list.place.file == text.file else ():
            number = entry.place.line - 1
            if first <= number <= last:
                written = text.written(number)
                if written.words and not written.keyword.isdecimal():
                    yield number, written.words[0].start, str(entry.number)


class Painted(NamedTuple):
    """A word, its columns, and its kind for colouring (`PAINTS`)."""

    line: int
    start: int
    length: int
    paint: str


PAINTS = {
    "word": "keyword",
    "remark": "comment",
    "TEXT": "string",
    "NUMBER": "number",
    "NEW": "class",
    "PART": "property",
    "LIST": "type",
    "SERVICE": "function",
    "WINDOW": "event",
    "FINDING": "enumMember",
    "NAME": "variable",
    "ENDPOINT": "variable",
    "MACHINE": "variable",
    "SUBNET": "variable",
    "HOST": "variable",
    "GROUP": "variable",
    "DEVICE": "variable",
    "POINT": "property",
    "PORT": "property",
}
"""What words are painted as, by what they are, in the names of the protocol; all others are
numbers.
"""


def painted(text: Text, first: int, last: int) -> Iterator[Painted]:
    """Yield the words of some lines with their kinds for colouring."""
    for number in range(first, min(last + 1, len(text.lines))):
        written = text.written(number)
        for token, role in zip(written.words, written.roles, strict=True):
            if role and token.text != ",":
                yield Painted(
                    number, token.start, token.end - token.start, PAINTS.get(role, "number")
                )
