"""Lanes: all ways on which the same lists are asked about each leg of a conversation, as one.

Crossings, lists and lanes have numbers, so that columns of conversations can have them.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from crossgate.core.conversation.rules import judges, unasked
from crossgate.core.model.address import Family
from crossgate.core.network.paths import Crossing
from crossgate.core.network.way_graph import Passage
from crossgate.core.network.ways import Network, Way, Ways
from crossgate.core.traffic.asked import AskedLists
from crossgate.core.traffic.fates import (
    LANE,
    NO_PLACE,
    Lane,
    Lanes,
    Numbers,
)
from crossgate.core.traffic.sent import CrossedPair

_MOST_LANES = 32
"""More ways of two ends are not gone over one by one, but together for each kind of conversations.
"""


class Pair(NamedTuple):
    """What is known of two ends: the lanes between them, none where an end has no place in the
    plan, and whether they are on one link.

    Where they have too many `ways` for lanes, the only lane is that of the first way. `strays` says
    that replies go to another machine. Between `crossed` ends addresses are translated; they have
    no lanes.
    """

    lanes: tuple[int, ...]
    on_link: bool
    ways: Ways | None = None
    strays: bool = False
    crossed: CrossedPair | None = None


class LaneTable:
    """The lanes of one network that have occurred, and the crossings on them.

    `places` are the crossings by their numbers, and `lists` the numbers of the lists there.
    """

    def __init__(self, network: Network, asked: AskedLists) -> None:
        self._network, self._asked = network, asked
        self.places: list[Crossing] = []
        self.lists: list[int] = []
        self._place_numbers: dict[tuple[Crossing, int], int] = {}
        self._lane_numbers: dict[Lane, int] = {}
        self._every_lane: list[Lane] = []
        self._arrays: Lanes | None = None

    def first_leg(self, pair: Pair) -> tuple[int, ...]:
        """Return the crossings with lists on the way there, on the first of equal ways."""
        return self._every_lane[pair.lanes[0]].legs[0] if pair.lanes else ()

    def list_at(self) -> Numbers:
        """Return the number of the list at each crossing."""
        return np.array(self.lists, np.int32)

    def pair(self, ways: Ways, family: Family, on_link: bool, strays: bool = False) -> Pair:
        """Return what is known of two ends with these ways; `strays` as in `lane`."""
        if ways.count > _MOST_LANES:
            return Pair((self.lane(ways.first, family, strays),), on_link, ways, strays)
        return Pair(tuple(dict.fromkeys(self.lane(way, family, strays) for way in ways)), on_link)

    def lane(self, way: Way, family: Family, strays: bool) -> int:
        """Return the number of the lane that a way belongs to: all ways on which the same lists are
        asked about each leg share one. `strays` says that replies go to another machine than the
        sender.
        """
        there, back = self._crossings(way.there, family), self._crossings(way.back, family)
        asked = []
        for leg in LANE:
            passed = unasked(leg, way.there.stateful, way.back.stateful)
            asked.append(
                tuple(
                    each
                    for each in (back if leg.returns else there)
                    if self.places[each].remembered_by not in passed
                )
            )
        judged = frozenset(
            each
            for each in there
            if self._asked.asks_for_tls(self.lists[each])
            and judges(self.places[each], way.there.stateful, way.back.stateful)
        )
        lane = Lane(
            tuple(asked),
            judged,
            (way.there.arrived, way.back.arrived, way.there.arrived),
            way.unanswered,
            strays,
        )
        number = self._lane_numbers.setdefault(lane, len(self._lane_numbers))
        if number == len(self._every_lane):
            self._every_lane.append(lane)
            self._arrays = None
        return number

    def _crossings(self, passage: Passage, family: Family) -> tuple[int, ...]:
        lists = ((each, self._network.list_at(each, family)) for each in passage.crossings)
        return tuple(
            self.crossing(each, self._asked.numbered(own)) for each, own in lists if own is not None
        )

    def crossing(self, crossing: Crossing, number: int) -> int:
        """Return the number of a crossing at which a list stands."""
        found = self._place_numbers.setdefault((crossing, number), len(self.places))
        if found == len(self.places):
            self.places.append(crossing)
            self.lists.append(number)
        return found

    def arrays(self) -> Lanes:
        """Return the lanes of all ways so far (`lane`), as arrays."""
        if self._arrays is None:
            every = self._every_lane
            crossings = []
            for leg in range(len(LANE)):
                table = np.full(
                    (len(every), max((len(each.legs[leg]) for each in every), default=0)),
                    NO_PLACE,
                    np.int32,
                )
                for number, each in enumerate(every):
                    table[number, : len(each.legs[leg])] = each.legs[leg]
                crossings.append(table)
            judged = np.array(
                [
                    [each in lane.judged for each in row]
                    for lane, row in zip(every, crossings[0].tolist(), strict=True)
                ],
                np.bool_,
            )
            arrives = np.array([each.arrives for each in every], np.bool_).reshape(-1, 3)
            marks = (
                np.array([getattr(each, name) for each in every], np.bool_)
                for name in ("unanswered", "strays")
            )
            self._arrays = Lanes(
                (crossings[0], crossings[1], crossings[2], crossings[3]),
                judged.reshape(crossings[0].shape),
                arrives,
                *marks,
            )
        return self._arrays
