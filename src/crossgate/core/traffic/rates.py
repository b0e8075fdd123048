"""Which part of some traffic is within the rate limits of a plan's lists, and which is beyond:
token buckets, driven by the times at which traffic was seen.

A limit of N a second is a bucket that holds N tokens at first and at most, and gets N more in each
second. Each opening packet takes a token. Where there is none, the packet is beyond the limit, and
the entry does not apply to it.
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
    """The buckets of all limits: one for each place where a limit is met and, where the limit says
    so, for each source.
    """

    def __init__(self) -> None:
        self._buckets: dict[tuple[Hashable, ...], tuple[int, int]] = {}
        self.beyond: Counter[Limit] = Counter()
        """How much was beyond each limit."""

    def exceeded(self, time: int, source: Hashable, met: Met) -> frozenset[Limit]:
        """Take the tokens for a packet from a source at a time, and return the limits that it
        exceeds. Times must not fall from call to call.
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
        """Take a token out of a bucket; return whether there was one."""
        key = (place, limit, source if limit.each_source else None)
        token = limit.seconds * SECOND  # as parts of which there come `most` in a microsecond
        left, before = self._buckets.get(key, (limit.most * token, time))
        left = min(limit.most * token, left + (time - before) * limit.most)
        taken = left >= token
        self._buckets[key] = (left - token * taken, time)
        return taken
