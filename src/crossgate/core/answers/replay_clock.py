"""When conversations of a replay begin, in the windows of a plan."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime, tzinfo

import numpy as np

from crossgate.core.model.condition import State
from crossgate.core.model.packets import Indices
from crossgate.core.model.window import Period, open_at
from crossgate.core.network.ways import Network
from crossgate.core.traffic.seen import SECOND

_MINUTE = 60 * SECOND


class Clock:
    """Which windows are open at times in microseconds, on the wall clock of a zone, None for the
    system's zone.
    """

    def __init__(self, network: Network, zone: tzinfo | None) -> None:
        self._windows = list(network.plan.every_window.values())
        self._zone = zone
        self._numbers: dict[State, int] = {}
        self.states: list[State] = []
        self._minutes: dict[int, int] = {}

    def wall(self, time: int) -> datetime:
        """Return a time as the clock in that zone shows it."""
        return datetime.fromtimestamp(time / SECOND, self._zone).replace(tzinfo=None)

    def of(self, times: Indices) -> Indices:
        """Return for each time the index in `states` of the set of windows that are open."""
        if not self._windows:
            self.states = [frozenset()]
            return np.zeros(len(times), np.int64)
        minutes, inverse = np.unique(times // _MINUTE, return_inverse=True)
        return np.array([self._state(each) for each in minutes.tolist()], np.int64)[inverse]

    def stretches(self, times: Indices, by: Period) -> Iterator[tuple[datetime, Indices]]:
        """Yield the hours or days into which some times fall, in order, each with the indices of
        its times.
        """
        minutes, inverse = np.unique(times // _MINUTE, return_inverse=True)
        begins = [_begin(self.wall(each * _MINUTE), by) for each in minutes.tolist()]
        numbers = {each: number for number, each in enumerate(sorted(set(begins)))}
        of_row = np.array([numbers[each] for each in begins], np.int64)[inverse.reshape(-1)]
        for begin, number in numbers.items():
            yield begin, np.flatnonzero(of_row == number)

    def _state(self, minute: int) -> int:
        if minute not in self._minutes:
            opened_now = open_at(self._windows, self.wall(minute * _MINUTE))
            number = self._numbers.setdefault(opened_now, len(self._numbers))
            if number == len(self.states):
                self.states.append(opened_now)
            self._minutes[minute] = number
        return self._minutes[minute]


def _begin(moment: datetime, by: Period) -> datetime:
    hour = moment.replace(minute=0, second=0, microsecond=0)
    return hour if by is Period.HOUR else hour.replace(hour=0)
