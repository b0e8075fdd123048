"""Packets of captures in columns, as they arrive."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from crossgate.core.model.packets import Indices, Marks, Words
from crossgate.core.traffic.seen import AGAIN, SECOND, Seen

NEVER = -(1 << 62)


class Arrived(NamedTuple):
    """A batch of rows in the order of their times. Times had reached `clock` before it; `anew` says
    that all open conversations have ended.
    """

    seen: Seen
    clock: int
    anew: bool

    def clocks(self) -> Indices:
        """Return for each row the time that had been reached when it came."""
        return np.maximum(self.seen.first, self.clock)


class Arrivals:
    """Rows of one family as they come in: put in the order of time batch by batch, each packet
    once.
    """

    def __init__(self, idle: int = 300 * SECOND) -> None:
        self._idle = idle
        self._recent: tuple[Words, Indices] = np.zeros(0, np.uint64), np.zeros(0, np.int64)
        self._latest = NEVER
        self.again = 0
        """How many packets were seen more than once."""
        self.backwards = 0
        """How many rows came after a later one."""

    def take(self, seen: Seen) -> Arrived:
        """Take a batch of rows as `opened` returns them. A batch that begins earlier than what was
        seen so far by more than the idle time, as from another file, starts anew.
        """
        if not len(seen):
            return Arrived(seen, self._latest, anew=False)
        anew = int(seen.first.min()) < self._latest - self._idle
        if anew:
            self._latest = NEVER
            self._recent = self._recent[0][:0], self._recent[1][:0]
        clock = self._latest
        self._look_back(seen.first)
        if (seen.first[1:] < seen.first[:-1]).any():
            seen = seen.take(np.argsort(seen.first, kind="stable"))
        return Arrived(self._once(seen), clock, anew)

    def _look_back(self, times: Indices) -> None:
        reached = np.maximum.accumulate(np.concatenate([[self._latest], times]))
        self.backwards += int((times < reached[:-1]).sum())
        self._latest = int(reached[-1])

    def _once(self, seen: Seen) -> Seen:
        """Return the rows without packets that were seen before."""
        if not seen.identity.any():
            return seen
        identity = np.concatenate([self._recent[0], seen.identity])
        times = np.concatenate([self._recent[1], seen.first])
        again = np.zeros(len(identity), np.bool_)
        rows = np.flatnonzero(not_alone(identity) & (identity != 0))
        if len(rows):
            order = rows[np.lexsort((times[rows], identity[rows]))]
            same = (identity[order][1:] == identity[order][:-1]) & (np.diff(times[order]) <= AGAIN)
            again[order[1:][same]] = True
        recent = times > self._latest - AGAIN
        self._recent = identity[recent], times[recent]
        again = again[len(again) - len(seen) :]
        self.again += int(again.sum())
        return seen.take(~again) if again.any() else seen


def not_alone(digest: Words) -> Marks:
    """Tell which rows share their digest with another row."""
    ordered = np.sort(digest)
    shared = ordered[1:][ordered[1:] == ordered[:-1]]
    if not len(shared):
        return np.zeros(len(digest), np.bool_)
    found: Marks = shared[np.minimum(np.searchsorted(shared, digest), len(shared) - 1)] == digest
    return found
