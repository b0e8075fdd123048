"""The grid for people: sources down, destinations across under numbers, a letter a cell, two where families differ."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from crossgate.core.answers.grid import Cell, Change
from crossgate.core.model.address import Family
from crossgate.core.traffic.trace import Verdict
from crossgate.show.console import columns, count, name, quiet, strong, word

_LETTERS = {Verdict.PERMITTED: "p", Verdict.DENIED: "D", Verdict.HALF_OPEN: "H", Verdict.UNROUTABLE: "U", Verdict.VARIES: "v"}
_COLUMNS = 80
_MIXED = "m"
_NONE = "·"


def lines(sources: Sequence[str], destinations: Sequence[str], services: Sequence[str], cells: Iterable[Cell]) -> Iterator[str]:
    """Yield one grid a service, then the legend."""
    found = {(cell.service, cell.source, cell.destination): cell.verdicts() for cell in cells}
    width = max((len(source) for source in sources), default=0)
    numbers = {destination: str(number) for number, destination in enumerate(destinations, 1)}
    used: set[str] = set()
    differ = False
    for service in services:
        letters = {
            (source, destination): _letters(found.get((service, source, destination)), source == destination)
            for source in sources
            for destination in destinations
        }
        used |= {letter for pair in letters.values() for letter in pair}
        differ = differ or any(len(pair) == 2 for pair in letters.values())
        wide = max((*map(len, letters.values()), len(str(len(destinations))))) + 1
        if width + 4 + wide * len(destinations) > _COLUMNS:
            wide = 2
        yield strong(service)
        # Where numbers would run into each other they stand upright.
        upright = wide <= len(str(len(destinations)))
        for head in _upright(numbers.values()) if upright else [tuple(numbers.values())]:
            yield " " * (width + 4) + "".join(number.rjust(wide) for number in head)
        for source in sources:
            label = numbers.get(source, "")
            row = "".join(
                " " * (wide - len(letters[(source, destination)])) + _paint(letters[(source, destination)]) for destination in destinations
            )
            yield f"{source.ljust(width)} {label:>3}{row}"
        yield ""
    outside = [f"{number} {destination}" for destination, number in numbers.items() if destination not in sources]
    if outside:
        yield "across: " + ", ".join(outside)
    meanings = [(_LETTERS[verdict], str(verdict)) for verdict in Verdict]
    meanings += [(_MIXED, "parts of the service differ"), (_NONE, "no common family"), ("-", "itself")]
    yield "  ".join(f"{_paint(letter)} {meaning}" for letter, meaning in meanings if letter in used)
    if differ:
        yield quiet("two letters: IPv4 and IPv6 differ")


def _upright(numbers: Iterable[str]) -> Iterator[tuple[str, ...]]:
    """Yield numbers digit under digit, row by row."""
    texts = list(numbers)
    longest = max(map(len, texts))
    yield from zip(*(text.rjust(longest) for text in texts), strict=True)


def _letters(verdicts: dict[Family, tuple[Verdict, ...]] | None, itself: bool) -> str:
    if itself:
        return "-"
    letters = [_LETTERS[each[0]] if len(each) == 1 else _MIXED for each in (verdicts or {}).values()]
    return "".join(letters) if len(set(letters)) > 1 else letters[0] if letters else _NONE


def _paint(letters: str) -> str:
    words = {letter: str(verdict) for verdict, letter in _LETTERS.items()} | {_MIXED: "half-open"}
    return "".join(word(words[letter], shown=letter) if letter in words else quiet(letter) for letter in letters)


def change_lines(changes: Sequence[Change], before: str, after: str) -> Iterator[str]:
    """Yield the cells that two plans answer differently."""
    if not changes:
        yield f"every cell is the same in {before} and {after}"
        return
    rows = [
        [
            name(change.source),
            "to",
            name(change.destination),
            change.service,
            change.family.label,
            "was",
            _said(change.was),
            "is",
            _said(change.now),
        ]
        for change in changes
    ]
    yield from columns(rows)
    yield strong(f"{count(len(changes), 'cell')} changed from {before} to {after}")


def _said(verdicts: tuple[Verdict, ...] | None) -> str:
    return "/".join(word(verdict) for verdict in verdicts) if verdicts else "not there"
