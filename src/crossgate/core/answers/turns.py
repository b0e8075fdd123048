"""When did an answer turn? A search through the versions of something, newest first, that looks at
few of them.

Back from the newest it looks at versions 1, 2, 4, 8 steps further and so on; between two that differ
it goes on by halves, in every half whose ends differ. So n versions with t turns need about
(t + 1) * log2(n) looks. What turned and turned back between two versions that were looked at is not
seen, unless `every` version is to be looked at.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterator
from typing import NamedTuple, TypeVar

Seen = TypeVar("Seen", bound=Hashable)


class Turned(NamedTuple):
    """An answer that one version gives and the older one no more; `skipped` versions between them
    cannot be asked.
    """

    newer: int
    older: int
    skipped: int


def turns(
    count: int, look: Callable[[int], Hashable | None], every: bool = False
) -> Iterator[Turned]:
    """Yield where answers turn among versions 0, the newest, to `count` - 1, newest first.

    `look` returns a version's answer, None where it cannot be asked; equal answers are no turn.
    """
    known = (index for index in range(count) if look(index) is not None)
    newest = next(known, None)
    if newest is None:
        return
    stops = range(newest + 1, count) if every else _stops(newest, count)
    last = newest
    for wanted in stops:
        stop = _asked(look, wanted, last + 1, count) if look(wanted) is None else wanted
        if stop is not None and stop > last:
            yield from _between(look, last, stop)
            last = stop


def _stops(newest: int, count: int) -> Iterator[int]:
    """Yield the versions further and further back, the oldest last."""
    step = 1
    while newest + step < count - 1:
        yield newest + step
        step *= 2
    if count - 1 > newest:
        yield count - 1


def _asked(look: Callable[[int], Hashable | None], wanted: int, low: int, high: int) -> int | None:
    """Return the version nearest to one, from `low` up to below `high`, that can be asked."""
    around = sorted(range(low, high), key=lambda each: (abs(each - wanted), each))
    return next((each for each in around if look(each) is not None), None)


def _between(look: Callable[[int], Hashable | None], newer: int, older: int) -> Iterator[Turned]:
    """Yield the turns between two versions that can be asked, as far as ends of halves differ."""
    left = [(newer, older)]
    while left:
        first, last = left.pop()
        if look(first) == look(last):
            continue
        middle = _asked(look, (first + last) // 2, first + 1, last)
        if middle is None:
            yield Turned(first, last, last - first - 1)
        else:
            left += [(middle, last), (first, middle)]
