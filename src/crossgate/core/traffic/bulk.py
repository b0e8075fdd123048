"""Conversations by the thousand through the network: the verdict that `trace` gives, for columns of
opening packets.

1. Rows that nothing distinguishes are one kind (`traffic.kinds`); only kinds are traced, and each
counts as often as it occurs.

2. Both ends of every kind are looked up in the address classes. What happens depends on the pair of
classes, and the ways of each pair are taken from the graphs once.

3. A way is a *lane*: the places with lists that its legs cross, as rows of numbers. A row with
several ways is in several lanes.

4. Leg by leg, all rows take their first crossing together, then their second. At each, the rows are
sorted by the list that stands there, and each list decides all its rows at once (`lists.bulk`).

5. A row's verdict is that of its first way; where another way ends differently, it is `varies`.

6. The rules are those of `conversation.rules`. Pairs with too many ways for lanes are left to the
walk.

A conversation gets no verdict where an end has no place in the plan: the end is in no subnet, and
the plan has no outside.
"""

from __future__ import annotations

from collections.abc import Hashable, Iterator, Sequence
from dataclasses import fields
from typing import NamedTuple

import numpy as np

from crossgate.core.conversation.packets import Tracer
from crossgate.core.conversation.rules import Leg
from crossgate.core.lists.bulk.lookup import BLOCK
from crossgate.core.model.address import Family
from crossgate.core.model.condition import State
from crossgate.core.model.conditions import Limit
from crossgate.core.model.packet import TCP, Packet
from crossgate.core.model.packets import Indices, Marks, Packets
from crossgate.core.network.entrance import Entrance
from crossgate.core.network.paths import Crossing
from crossgate.core.network.ways import Network
from crossgate.core.traffic.across import Across
from crossgate.core.traffic.asked import AskedLists
from crossgate.core.traffic.ends_in_columns import EndsInColumns
from crossgate.core.traffic.fates import (
    NO_PLACE,
    VARIES,
    VERDICTS,
    Fates,
    Numbers,
    Weights,
    by_value,
)
from crossgate.core.traffic.lane_table import LaneTable, Pair
from crossgate.core.traffic.run import InLanes, Kinds, Run, courses_of, with_flags


class BulkTracer:
    """Traces columns of conversations through one network; results for pairs of ends and for lists
    are kept.
    """

    def __init__(self, network: Network, entered: Entrance | None = None) -> None:
        """Make it; with `entered`, every conversation comes in there, whatever its source address
        is.
        """
        self.network = network
        self.entered = entered
        self.asked = AskedLists(network.plan)
        self._families: dict[Family, EndsInColumns] = {}
        self._lanes = LaneTable(network, self.asked)
        self._tracers: dict[State, Tracer] = {}
        self._across = Across(network, entered, self.asked, self._lanes.crossing, self._tracer)

    def _tracer(self, state: State) -> Tracer:
        if state not in self._tracers:
            self._tracers[state] = Tracer(self.network, state)
        return self._tracers[state]

    @property
    def places(self) -> list[Crossing]:
        """The crossings, indexed by the numbers that `Fates` has."""
        return self._lanes.places

    def ends(self, family: Family) -> EndsInColumns:
        """Return the address classes of a family, with the lanes between them."""
        if family not in self._families:
            self._families[family] = EndsInColumns(self.network, self.entered, self._lanes, family)
        return self._families[family]

    def trace(
        self,
        packets: Packets,
        windows: Indices,
        states: Sequence[State],
        there: Indices,
        back: Indices,
    ) -> Fates:
        """Trace conversations, given their opening packets, and count which lines decided.

        `states[windows[row]]` is the state of conditions for a row; `there` and `back` are the
        numbers of packets in each direction. Raises `TooManyPieces` where lists ask for TLS
        versions on too many ways between two ends.
        """
        ends = self.ends(packets.family)
        first = kind = np.arange(len(packets))
        if len(packets) > _FEW:
            first, kind = ends.kinds.find(packets, windows)
        tcp = (packets.protocol == TCP) & ~packets.fragment
        # The first packet of TCP alone is a SYN.
        counted = [
            there,
            np.where(tcp, np.minimum(there, 1), there),
            back,
            np.maximum(there - 1, 0),
        ]
        weights = [
            np.bincount(kind, each, minlength=len(first)).astype(np.int64)
            for each in (np.ones(len(kind)), *counted)
        ]
        parts = []
        for start in range(0, len(first), BLOCK):
            part = slice(start, start + BLOCK)
            chosen = first[part]
            parts.append(
                self._traced(
                    ends,
                    packets.take(chosen),
                    windows[chosen],
                    states,
                    Weights(*(each[part] for each in weights)),
                )
            )
        if not parts:
            numbers, marks = np.zeros(0, np.int32), np.zeros(0, np.bool_)
            return Fates(np.zeros(0, np.int8), numbers, numbers, numbers, marks, marks, marks)
        columns = {
            each.name: np.concatenate([getattr(part, each.name) for part in parts])[kind]
            for each in fields(Fates)
        }
        return Fates(**columns)

    def _traced(
        self,
        ends: EndsInColumns,
        packets: Packets,
        windows: Indices,
        states: Sequence[State],
        weights: Weights,
    ) -> Fates:
        pairs, of_row = ends.pairs(packets)
        rows, lanes, first = _expanded(pairs, of_row)
        on_link = np.array([each.on_link for each in pairs], np.bool_)[of_row]
        kinds = Kinds(packets, windows, states, weights)
        run = Run(
            self.asked,
            self._lanes.arrays(),
            self._lanes.list_at(),
            kinds,
            InLanes(rows, lanes, first, on_link),
        )
        run.legs()
        count = len(packets)
        verdict = np.full(count, NO_PLACE, np.int8)
        verdict[rows[first]] = run.verdict[first]
        met = np.zeros(count, np.bool_)
        met[rows[run.met]] = True
        differing = rows[run.verdict != verdict[rows]]
        crowded = np.flatnonzero(
            np.array([each.ways is not None for each in pairs], np.bool_)[of_row]
        )
        if len(crowded):
            others = [
                self._others(packets.packet(row), pairs[of_row[row]], states[windows[row]])
                for row in crowded.tolist()
            ]
            met[crowded] |= np.array(
                [any(each.met for each in several) for several in others], np.bool_
            )
            apart = [
                any(each.verdict != verdict[row] for each in several)
                for row, several in zip(crowded.tolist(), others, strict=True)
            ]
            differing = np.concatenate((differing, crowded[apart]))
        verdict[differing] = VARIES
        stopped = [np.full(count, NO_PLACE, np.int32) for _ in range(3)]
        for column, found in zip(stopped, run.stopped, strict=True):
            column[rows[first]] = found[first]
            column[differing] = NO_PLACE
        unsettled = np.zeros(count, np.bool_)
        unsettled[rows[run.unsettled]] = True
        crossed = np.array([each.crossed is not None for each in pairs], np.bool_)[of_row]
        for row in np.flatnonzero(crossed).tolist():
            pair = pairs[of_row[row]]
            assert pair.crossed is not None  # it is one of these
            fate = self._across.fate(packets.packet(row), pair.crossed, states[windows[row]])
            self._across.count(fate, row, weights)
            verdict[row], met[row], unsettled[row] = fate.verdict, bool(fate.lines), fate.unsettled
            for column, value in zip(stopped, fate.stopped, strict=True):
                column[row] = value
        return Fates(verdict, stopped[0], stopped[1], stopped[2], met, run.on_link, unsettled)

    def _others(self, packet: Packet, pair: Pair, state: State) -> list[_Other]:
        """Return how a conversation ends on the ways of a pair that has too many of them for
        lanes.
        """
        assert pair.ways is not None
        found = self._tracer(state).endings_of(packet, pair.on_link, (pair.ways,), pair.strays)
        return [
            _Other(VERDICTS.index(each.verdict), each.stop is not None or bool(each.passed))
            for each in found
        ]

    # What the run asks

    def limited(self, packets: Packets, windows: Indices, states: Sequence[State]) -> Marks:
        """Return which conversations are opened by a packet that an entry with a rate limit takes,
        on their first ways.
        """
        found = np.zeros(len(packets), np.bool_)
        pairs, of_row = self.ends(packets.family).pairs(packets)
        packets = with_flags(packets, courses_of(packets, found)[0], Leg.SYN)
        asked = [
            {self._lanes.lists[each] for each in self._lanes.first_leg(pair)} for pair in pairs
        ]
        for number in {each for lists in asked for each in lists if self.asked.limits[each]}:
            rows = np.flatnonzero(np.array([number in lists for lists in asked], np.bool_)[of_row])
            entry = self.asked.unsettled(number, packets.take(rows), windows[rows], states)
            found[rows[np.isin(entry, list(self.asked.limits[number]))]] = True
        for row, pair in enumerate(pairs[each] for each in of_row.tolist()):
            if pair.crossed is not None:
                fate = self._across.fate(packets.packet(row), pair.crossed, states[windows[row]])
                found[row] = bool(fate.limits())
        return found

    def limits_met(self, packets: Packets, state: State) -> list[tuple[Hashable, Limit]]:
        """Return the rate limits that the opening packet of a conversation meets on its first way,
        each with the number of the crossing.
        """
        pairs, _ = self.ends(packets.family).pairs(packets)
        first = np.zeros(1, np.int64)
        packets = with_flags(packets, courses_of(packets, np.zeros(1, np.bool_))[0], Leg.SYN)
        if pairs[0].crossed is not None:
            every = self._across.fate(packets.packet(0), pairs[0].crossed, state).limits()
            return [each for each in every if each[1] not in state]
        found: list[tuple[Hashable, Limit]] = []
        for crossing in self._lanes.first_leg(pairs[0]):
            number = self._lanes.lists[crossing]
            entry = int(self.asked.unsettled(number, packets, first, [state])[0])
            limit = self.asked.limits[number].get(entry)
            if limit is not None and limit not in state:
                found.append((crossing, limit))
            if not self.asked.permits(number)[entry]:
                break
        return found

    def met_there(
        self, packets: Packets, windows: Indices, states: Sequence[State]
    ) -> Iterator[tuple[Indices, int, Numbers]]:
        """Yield the lists that opening packets meet on their way there, on the first of equal ways:
        which packets, the list's number in the plan, and the line that decides each packet.
        """
        pairs, of_row = self.ends(packets.family).pairs(packets)
        crossed = np.flatnonzero(np.array([each.crossed is not None for each in pairs])[of_row])
        if len(crossed):
            yield from self._met_across(packets, crossed, pairs, of_row, windows, states)
        packets = with_flags(
            packets, courses_of(packets, np.zeros(len(packets), np.bool_))[0], Leg.SYN
        )
        ways = [self._lanes.first_leg(each) for each in pairs]
        lists = self._lanes.list_at()
        for step in range(max(map(len, ways), default=0)):
            crossing = np.array(
                [each[step] if step < len(each) else NO_PLACE for each in ways], np.int64
            )[of_row]
            asked = np.flatnonzero(crossing != NO_PLACE)
            for number, own in by_value(lists[crossing[asked]]):
                rows = asked[own]
                entry = self.asked.unsettled(number, packets.take(rows), windows[rows], states)
                which, lines = self.asked.own_line(number, entry)
                yield rows, which, lines

    def _met_across(
        self,
        packets: Packets,
        rows: Indices,
        pairs: Sequence[Pair],
        of_row: Indices,
        windows: Indices,
        states: Sequence[State],
    ) -> Iterator[tuple[Indices, int, Numbers]]:
        """Yield the same as `met_there` for rows whose way crosses a translation, kind by kind."""
        _, kinds = self.ends(packets.family).kinds.find(packets, windows)
        _, first, inverse = np.unique(kinds[rows], return_index=True, return_inverse=True)
        for kind, row in enumerate(rows[first].tolist()):
            pair = pairs[of_row[row]].crossed
            assert pair is not None
            fate = self._across.fate(packets.packet(row), pair, states[windows[row]])
            own = rows[np.flatnonzero(inverse.reshape(-1) == kind)]
            for leg, _, decider in fate.lines:
                if leg == 0:
                    _, number, line = self._across.line_of(decider)
                    yield own, number, np.full(len(own), line, np.int32)


class _Other(NamedTuple):
    """How a conversation ends on ways without lanes: the number of the verdict, and whether a list
    was met.
    """

    verdict: int
    met: bool


_FEW = 4_096
"""Up to so many conversations are traced each by itself: to find their kinds would take longer."""


def _expanded(pairs: list[Pair], of_row: Indices) -> tuple[Indices, Indices, Marks]:
    """Return rows and lanes, with a row for each of its lanes, and which of these are the first
    lane of their row.
    """
    counts = np.array([len(each.lanes) for each in pairs], np.int64)
    flat = np.array([lane for each in pairs for lane in each.lanes], np.int64)
    starts = np.cumsum(counts) - counts
    rows = np.repeat(np.arange(len(of_row)), counts[of_row])
    place = np.arange(len(rows)) - np.repeat(
        np.cumsum(counts[of_row]) - counts[of_row], counts[of_row]
    )
    lanes: Indices = flat[starts[of_row[rows]] + place] if len(rows) else flat[:0]
    return rows, lanes, place == 0
