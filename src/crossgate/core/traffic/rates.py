"""What of some traffic is within the limits of a plan's lists, and what is beyond: token buckets,
by the time at which things were seen.

A limit of N a second is a bucket that holds N tokens at first and at most, and gets N more in each
second. What opens takes a token; where there is none it is beyond the limit, and the entry is as if
it were not there for it.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Hashable, Iterable

from crossgate.core.model.conditions import Limit

SECOND = 1_000_000
"""Times are in microseconds."""

Met = Callable[[frozenset[Limit]], Iterable[tuple[Hashable, Limit]]]
"""Tells which limits something meets, in order, each with the place where, while some are exceeded
for it.
"""


class Rates:
    """The buckets of all limits, each for the place where it is met and, where the limit says so,
    for each source.
    """

    def __init__(self) -> None:
        self._buckets: dict[tuple[Hashable, ...], tuple[int, int]] = {}
        self.beyond: Counter[Limit] = Counter()
        """How much was beyond each limit."""

    def exceeded(self, time: int, source: Hashable, met: Met) -> frozenset[Limit]:
        """Take what something that came at a time from a source needs, and return the limits that
        are exceeded for it.

        Times must not fall from call to call.
        """
        over: frozenset[Limit] = frozenset()
        granted: set[tuple[Hashable, Limit]] = set()
        while True:
            for place, limit in met(over):
                if (place, limit) in granted:
                    continue
                if not self._take(place, limit, source, time):
                    over |= {limit}
                    break
                granted.add((place, limit))
            else:
                self.beyond.update(over)
                return over

    def _take(self, place: Hashable, limit: Limit, source: Hashable, time: int) -> bool:
        """Take a token out of a bucket; tell whether there was one."""
        key = (place, limit, source if limit.each_source else None)
        token = limit.seconds * SECOND  # as parts of which there come `most` in a microsecond
        left, before = self._buckets.get(key, (limit.most * token, time))
        left = min(limit.most * token, left + (time - before) * limit.most)
        taken = left >= token
        self._buckets[key] = (left - token * taken, time)
        return taken
