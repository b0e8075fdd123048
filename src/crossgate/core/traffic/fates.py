"""The fates of columns of conversations as numbers, and the lanes that they take
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
    """The fate of each of some conversations.

    `verdict` is an index into `VERDICTS`. Where a list stopped it, `list` is that list's number,
    `entry` the index of the entry (-1 where none matched) and `crossing` the number of the place;
    otherwise they are -1. `met` says whether any list was asked, `on_link` whether both ends are on
    one link, `unsettled` whether a list would ask for the TLS version and nothing tells it.
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
    """How often each line of a list decided: legs of conversations, and the packets that these
    stand for; the last line is for what matches no entry.
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
    """What each kind stands for: its conversations, their packets there, and the packets on each of
    three legs.
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
    """A way as numbers of crossings, leg by leg (`LANE`), without those that a stateful device lets
    pass without asking.

    `judged` are the crossings on the way there whose lists ask for a TLS version, at devices that
    stop a conversation once that is settled.
    """

    legs: tuple[tuple[int, ...], ...]
    judged: frozenset[int]
    arrives: tuple[bool, bool, bool]
    unanswered: bool
    strays: bool


class Lanes(NamedTuple):
    """All lanes so far: for each leg a row of crossings for each lane, -1 after the last one; which
    of the first leg's are judged; and whether each lane arrives.
    """

    crossings: tuple[Numbers, Numbers, Numbers, Numbers]
    judged: Marks
    arrives: Marks
    unanswered: Marks
    strays: Marks


def by_value(values: Indices | Numbers) -> Iterator[tuple[int, Indices]]:
    """Yield each different value with the indices at which it occurs."""
    order = np.argsort(values, kind="stable")
    ordered = values[order]
    bounds = (
        np.flatnonzero(np.r_[True, ordered[1:] != ordered[:-1], True])
        if len(ordered)
        else np.zeros(1, np.int64)
    )
    for start, end in zip(bounds[:-1].tolist(), bounds[1:].tolist(), strict=True):
        yield int(ordered[start]), order[start:end]
