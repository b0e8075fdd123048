"""The meaning of a word, for people: what belongs to it, the lists that its packets meet, and where
it is used.
"""

from __future__ import annotations

import sys
from collections.abc import Iterator, Sequence

from crossgate.core.answers.about.met import RECEIVED, SENT, THERE
from crossgate.core.answers.about.values import About
from crossgate.language.uses import Use
from crossgate.show.console import count, name, quiet, strong
from crossgate.show.width import columns

_MOST = 12
"""Of more names, addresses or lines than these the first are shown, unless all are wanted."""
_HEADINGS = {
    SENT: "lists that are asked about what it sends, in order, on its own link",
    RECEIVED: "lists that are asked about what it gets, in order, on its own link",
    THERE: "lists that stand there, in the order in which they are asked",
}


def lines(about: About, uses: Sequence[Use], every: bool) -> Iterator[str]:
    """Yield all facts about one meaning of a word; with `every` nothing is shortened."""
    most = sys.maxsize if every else _MOST
    head = f"{about.kind} {strong(about.name)}"
    yield head if about.place is None else f"{head}  {quiet(str(about.place))}"
    yield from columns(
        [[each.what, ", ".join(_first(each.values, most))] for each in about.facts], indent=2
    )
    for heading in dict.fromkeys(each.heading for each in about.met):
        yield f"  {_HEADINGS[heading]}:"
        yield from columns(
            [
                [
                    "frames" if each.family is None else each.family.label,
                    name(each.access_list.name),
                    each.where,
                ]
                for each in about.met
                if each.heading == heading
            ],
            indent=4,
        )
    if about.held:
        yield "  entries that ask for it, or for part of it, by another word:"
        rows = [
            [each.access_list.name, f"{each.part} {each.word}", _numbers(each.numbers, most)]
            for each in about.held[:most]
        ]
        yield from columns(rows, indent=4)
        yield from _more(len(about.held) - most, "row", 4)
    if uses:
        yield f"  used in {count(len(uses), 'line')}:"
        yield from columns(
            [
                [quiet(f"{each.file}:{each.line}"), each.access_list, " ".join(each.text.split())]
                for each in uses[:most]
            ],
            indent=4,
        )
        yield from _more(len(uses) - most, "line", 4)


def _first(values: Sequence[str], most: int) -> list[str]:
    more = len(values) - most
    return [*values[:most], *([f"{more} more"] if more > 0 else [])]


def _numbers(numbers: Sequence[int], most: int) -> str:
    return ", ".join(_first([str(each) for each in numbers], most))


def _more(more: int, what: str, indent: int) -> Iterator[str]:
    if more > 0:
        yield " " * indent + quiet(f"{count(more, f'more {what}')}: --every shows all")
