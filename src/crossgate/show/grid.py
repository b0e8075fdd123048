"""The grid for people: sources down, destinations across under numbers, a letter for each cell, two
where families differ.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from crossgate.core.answers.alike import MANY, rows_alike
from crossgate.core.answers.grid import Cell, CellChange, LeftOut
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.address import Family
from crossgate.show.console import count, folded, name, quiet, strong, word
from crossgate.show.width import columns, screen_width, wrapped

_LETTERS = {
    Verdict.PERMITTED: "p",
    Verdict.DENIED: "D",
    Verdict.HALF_OPEN: "H",
    Verdict.UNROUTABLE: "U",
    Verdict.VARIES: "v",
    Verdict.SOME: "s",
}
_MEANINGS = {Verdict.VARIES: "varies with the path", Verdict.SOME: "some of it (reach tells)"}
_MIXED = "m"
_WORDS = {letter: str(verdict) for verdict, letter in _LETTERS.items()} | {
    _MIXED: str(Verdict.HALF_OPEN)
}
"""The words by whose colours the letters are painted."""
_NONE = "·"
_ITSELF = "-"
_COLUMNS = 80
"""How wide the names across may stand beside each other where nothing says how wide the screen is.
"""
_LONGEST = 12
"""How many letters of a name are written downwards."""
_LONGEST_LABEL = 24


def lines(
    sources: Sequence[str],
    destinations: Sequence[str],
    services: Sequence[str],
    cells: Iterable[Cell],
    left: LeftOut | None = None,
    every: bool = False,
) -> Iterator[str]:
    """Yield a grid for each service, in several parts where the screen is too narrow, then the
    legend and what is left out. Of many names, equal rows are one, unless `every` row is to be
    shown.
    """
    found = {(cell.service, cell.source, cell.destination): cell.verdicts() for cell in cells}
    numbers = {destination: str(number) for number, destination in enumerate(destinations, 1)}
    told = all(destination in sources for destination in destinations)
    labels = {source: wrapped(source, _LONGEST_LABEL)[0] for source in sources}
    whole = {
        (service, source, destination): _letters(
            found.get((service, source, destination)), source == destination
        )
        for service in services
        for source in sources
        for destination in destinations
    }
    alike: dict[str, Sequence[str]] = dict.fromkeys(sources, ())
    if not every and len(sources) > MANY:

        def read(source: str, destination: str) -> object:
            return [whole[service, source, destination] for service in services]

        alike = {first: others for ((first, *others),) in rows_alike(sources, destinations, read)}
    for source, others in alike.items():
        labels[source] += f" +{len(others)}" * bool(others)
    side = max(len(labels[source]) for source in alike) + (4 if told else 0)
    used: set[str] = set()
    differ = False
    for service in services:
        letters = {
            (source, destination): whole[service, source, destination]
            for source in alike
            for destination in destinations
        }
        used |= {letter for pair in letters.values() for letter in pair}
        differ = differ or any(len(pair) == 2 for pair in letters.values())
        wide = max(map(len, letters.values())) + 1
        beside = max(wide, *(len(each) + 1 for each in destinations))
        if not told and side + beside * len(destinations) <= (screen_width() or _COLUMNS):
            wide = beside
        room = max((screen_width() or 10_000) - side, wide)
        for start in range(0, len(destinations), room // wide):
            part = destinations[start : start + room // wide]
            yield strong(service) + (
                quiet(f"  {start + 1} to {start + len(part)} of {len(destinations)}")
                if len(part) < len(destinations)
                else ""
            )
            for head in _head([numbers[each] if told else each for each in part], wide):
                yield (" " * side + "".join(cell.rjust(wide) for cell in head)).rstrip()
            for source in alike:
                label = (
                    labels[source].ljust(side)
                    if not told
                    else f"{labels[source].ljust(side - 4)} {numbers.get(source, ''):>3}"
                )
                yield label + "".join(
                    " " * (wide - len(letters[(source, destination)]))
                    + _paint(letters[(source, destination)])
                    for destination in part
                )
            yield ""
    meanings = [(_LETTERS[verdict], _MEANINGS.get(verdict, str(verdict))) for verdict in Verdict]
    meanings += [
        (_MIXED, "parts of the service differ"),
        (_NONE, "no common family"),
        (_ITSELF, "itself"),
    ]
    yield "  ".join(f"{_paint(letter)} {meaning}" for letter, meaning in meanings if letter in used)
    if differ:
        yield quiet("two letters: IPv4 and IPv6 differ")
    if len(alike) < len(sources):
        rows = count(len(alike), "row")
        told_so = f"{len(sources)} names in {rows}: who reads alike is one; --every shows each"
        yield from map(quiet, folded(told_so, 0))
        for source, others in alike.items():
            if others:
                own = [f"{numbers[each]} {each}" if told else each for each in (source, *others)]
                yield from map(quiet, folded(", ".join(own), 2))
    yield from _left_out(left)


def _left_out(left: LeftOut | None) -> Iterator[str]:
    if left is not None and left.sentence:
        yield from map(quiet, folded(left.sentence, 0))


def _head(texts: Sequence[str], wide: int) -> list[tuple[str, ...]]:
    """Return the rows of letters above the columns: side by side where the texts are short,
    otherwise written downwards.
    """
    if max(map(len, texts)) < wide:
        return [tuple(texts)]
    cut = [
        text if len(text) <= _LONGEST else f"{text[: _LONGEST - 4]}…{text[-3:]}" for text in texts
    ]
    longest = max(map(len, cut))
    return list(zip(*(text.rjust(longest) for text in cut), strict=True))


def _letters(verdicts: dict[Family, tuple[Verdict, ...]] | None, itself: bool) -> str:
    """Return the letter of each family, or one where they agree: first the mark for verdicts that
    vary, then for those true of some only, then for parts.
    """
    if verdicts is None and itself:
        return _ITSELF
    letters = []
    for told in (verdicts or {}).values():
        one = next(
            (each for each in (Verdict.VARIES, Verdict.SOME) if each in told),
            told[0] if len(told) == 1 else None,
        )
        letters.append(_MIXED if one is None else _LETTERS[one])
    return "".join(letters) if len(set(letters)) > 1 else letters[0] if letters else _NONE


def _paint(letters: str) -> str:
    return "".join(
        word(_WORDS[letter], shown=letter) if letter in _WORDS else quiet(letter)
        for letter in letters
    )


def change_lines(
    changes: Sequence[CellChange], before: str, after: str, left: LeftOut
) -> Iterator[str]:
    """Yield the cells that two plans answer differently, and what is left out."""
    if not changes:
        yield f"every cell is the same in {before} and {after}"
        yield from _left_out(left)
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
    yield from _left_out(left)


def _said(verdicts: tuple[Verdict, ...] | None) -> str:
    return "/".join(word(verdict) for verdict in verdicts) if verdicts else "not there"
