"""What becomes of columns of conversations, in numbers, and the lanes that they take
(`traffic.bulk`).
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from crossgate.core.conversation.rules import Leg
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.packets import Indices, Marks

VERDICTS = (
    Verdict.PERMITTED,
    Verdict.DENIED,
    Verdict.HALF_OPEN,
    Verdict.UNROUTABLE,
    Verdict.VARIES,
)
"""The verdicts by their numbers in `Fates`."""
PERMITTED, DENIED, HALF_OPEN, UNROUTABLE, VARIES = range(len(VERDICTS))

NO_PLACE = -1
"""Stands for the verdict of what has no place in the plan, and for the list, entry or crossing
where there is none.
"""
Numbers = NDArray[np.int32]


@dataclass(frozen=True, slots=True, eq=False)
class Fates:
    """What becomes of each of some conversations.

    `verdict` is an index into `VERDICTS`. Where a list stopped it, `list` is that list's number,
    `entry` the index of the entry (-1 for the otherwise line) and `crossing` the number of the
    place; else they are -1. `met` tells whether any list was asked, `on_link` whether both ends are
    on one link, `unsettled` whether a list would judge what TLS is spoken, and nothing tells it.
    """

    verdict: NDArray[np.int8]
    list: Numbers
    entry: Numbers
    crossing: Numbers
    met: Marks
    on_link: Marks
    unsettled: Marks


@dataclass(slots=True)
class Hits:
    """How often each line of a list decided: legs of conversations, and the packets these stand
    for; the otherwise line is the last.
    """

    legs: Indices
    packets: Indices

    def add(self, entry: Numbers, legs: Indices, packets: Indices) -> None:
        """Add legs that entries decided, and the packets that these stand for."""
        lines = len(self.legs)
        line = entry % lines
        self.legs += np.bincount(line, legs, minlength=lines).astype(np.int64)
        self.packets += np.bincount(line, packets, minlength=lines).astype(np.int64)


class Weights(NamedTuple):
    """For each kind: its conversations, their packets there, and the packets on each of three
    legs.
    """

    conversations: Indices
    there: Indices
    first_leg: Indices
    second_leg: Indices
    third_leg: Indices


LANE = (Leg.SYN, Leg.SYN_ACK, Leg.ACK, Leg.SERVER_HELLO)
"""The legs of a lane: the first one there, the first one back, and what follows there and back;
other protocols have the first two.
"""


class Lane(NamedTuple):
    """One way as numbers of crossings, leg by leg (`LANE`), without those that a stateful device
    lets pass unasked.

    `judged` are those on the way there whose lists ask about TLS, at devices that stop
    conversations once it is settled.
    """

    legs: tuple[tuple[int, ...], ...]
    judged: frozenset[int]
    arrives: tuple[bool, bool, bool]
    unanswered: bool
    strays: bool


class Lanes(NamedTuple):
    """All lanes met so far: per leg a row of crossings for each, -1 behind the last; which of the
    first leg's are judged; whether each arrives.
    """

    crossings: tuple[Numbers, Numbers, Numbers, Numbers]
    judged: Marks
    arrives: Marks
    unanswered: Marks
    strays: Marks


def by_value(values: Indices | Numbers) -> Iterator[tuple[int, Indices]]:
    """Yield each different value with the places that have it."""
    order = np.argsort(values, kind="stable")
    ordered = values[order]
    bounds = (
        np.flatnonzero(np.r_[True, ordered[1:] != ordered[:-1], True])
        if len(ordered)
        else np.zeros(1, np.int64)
    )
    for start, end in zip(bounds[:-1].tolist(), bounds[1:].tolist(), strict=True):
        yield int(ordered[start]), order[start:end]
