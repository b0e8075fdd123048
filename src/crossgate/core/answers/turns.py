"""When did an answer change? A search through versions, newest first, that looks at few of them.

From the newest version it looks 1, 2, 4, 8 and so on versions back. Between two versions that
differ it goes on by halves, in every half whose ends differ. So n versions with t changes need
about (t + 1) * log2(n) looks. A change that was reversed between two versions that were looked at
is not seen, unless `every` version is to be looked at.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterator
from typing import NamedTuple, TypeVar

Seen = TypeVar("Seen", bound=Hashable)


class TurnedVersions(NamedTuple):
    """Two versions that give different answers; the `skipped` versions between them cannot be
    asked.
    """

    newer: int
    older: int
    skipped: int


def turns(
    count: int, look: Callable[[int], Hashable | None], every: bool = False
) -> Iterator[TurnedVersions]:
    """Yield where answers change among the versions 0, the newest, to `count` - 1, newest first.

    `look` returns a version's answer, None where it cannot be asked; equal answers are no change.
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
    """Yield the versions to look at, further and further back, the oldest last."""
    step = 1
    while newest + step < count - 1:
        yield newest + step
        step *= 2
    if count - 1 > newest:
        yield count - 1


def _asked(look: Callable[[int], Hashable | None], wanted: int, low: int, high: int) -> int | None:
    """Return the version nearest to `wanted`, from `low` up to below `high`, that can be asked."""
    around = sorted(range(low, high), key=lambda each: (abs(each - wanted), each))
    return next((each for each in around if look(each) is not None), None)


def _between(
    look: Callable[[int], Hashable | None], newer: int, older: int
) -> Iterator[TurnedVersions]:
    """Return the changes between two versions that can be asked, as far as the ends of halves
    differ.
    """
    left = [(newer, older)]
    while left:
        first, last = left.pop()
        if look(first) == look(last):
            continue
        middle = _asked(look, (first + last) // 2, first + 1, last)
        if middle is None:
            yield TurnedVersions(first, last, last - first - 1)
        else:
            left += [(middle, last), (first, middle)]
