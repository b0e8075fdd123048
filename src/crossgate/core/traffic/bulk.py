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
from functools import cached_property
from typing import NamedTuple

import numpy as np

from crossgate.core.conversation.packets import Tracer
from crossgate.core.conversation.rules import Leg, judges, unasked
from crossgate.core.lists.bulk.lookup import BLOCK
from crossgate.core.model.address import Address, Family
from crossgate.core.model.condition import State
from crossgate.core.model.conditions import Limit
from crossgate.core.model.packet import TCP, Packet
from crossgate.core.model.packets import Indices, Marks, Packets, whole_address
from crossgate.core.model.scope import scope_of
from crossgate.core.network.address_classes import AddressClasses, address_classes
from crossgate.core.network.class_of import NOWHERE, ClassFinder
from crossgate.core.network.crossed import CrossedGraphs
from crossgate.core.network.endpoints import NO_SEGMENT, at_address
from crossgate.core.network.entrance import Entrance
from crossgate.core.network.matrix import Matrix
from crossgate.core.network.paths import Crossing, Endpoint
from crossgate.core.network.way_graph import Passage
from crossgate.core.network.ways import Network, Way, Ways
from crossgate.core.traffic.across import Across
from crossgate.core.traffic.asked import AskedLists
from crossgate.core.traffic.fates import (
    LANE,
    NO_PLACE,
    VARIES,
    VERDICTS,
    Fates,
    Lane,
    Lanes,
    Numbers,
    Weights,
    by_value,
)
from crossgate.core.traffic.kinds import KindFinder
from crossgate.core.traffic.run import InLanes, Kinds, Run, courses_of, with_flags
from crossgate.core.traffic.sent import CrossedPair, is_led_in


class _Place(NamedTuple):
    """A crossing, and the list of a family that stands there."""

    crossing: Crossing
    list: int


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
        self._families: dict[Family, _Ends] = {}
        self._places: list[_Place] = []
        self._place_numbers: dict[tuple[Crossing, int], int] = {}
        self._lane_numbers: dict[Lane, int] = {}
        self._every_lane: list[Lane] = []
        self._lanes: Lanes | None = None
        self._tracers: dict[State, Tracer] = {}
        self._across = Across(network, entered, self.asked, self._crossing, self._tracer)

    def _tracer(self, state: State) -> Tracer:
        if state not in self._tracers:
            self._tracers[state] = Tracer(self.network, state)
        return self._tracers[state]

    @property
    def places(self) -> list[Crossing]:
        """The crossings, indexed by the numbers that `Fates` has."""
        return [each.crossing for each in self._places]

    def ends(self, family: Family) -> _Ends:
        """Return the address classes of a family, with the lanes between them."""
        if family not in self._families:
            self._families[family] = _Ends(self, family)
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
        ends: _Ends,
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
            self.asked, self.lanes(), self._list_at(), kinds, InLanes(rows, lanes, first, on_link)
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

    def _others(self, packet: Packet, pair: _Pair, state: State) -> list[_Other]:
        """Return how a conversation ends on the ways of a pair that has too many of them for lanes."""
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
        asked = [{self._places[each].list for each in self._first_leg(pair)} for pair in pairs]
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
        for crossing in self._first_leg(pairs[0]):
            number = self._places[crossing].list
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
        ways = [self._first_leg(each) for each in pairs]
        lists = self._list_at()
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
        pairs: Sequence[_Pair],
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

    def _first_leg(self, pair: _Pair) -> tuple[int, ...]:
        """Return the crossings with lists on the way there, on the first of equal ways."""
        return self._every_lane[pair.lanes[0]].legs[0] if pair.lanes else ()

    def _list_at(self) -> Numbers:
        """Return the number of the list at each crossing."""
        return np.array([each.list for each in self._places], np.int32)

    # Lanes

    def pair(self, ways: Ways, family: Family, on_link: bool, strays: bool = False) -> _Pair:
        """Return what is known of two ends with these ways; `strays` as in `lane`."""
        if ways.count > _MOST_LANES:
            return _Pair((self.lane(ways.first, family, strays),), on_link, ways, strays)
        return _Pair(tuple(dict.fromkeys(self.lane(way, family, strays) for way in ways)), on_link)

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
                    if self._places[each].crossing.remembered_by not in passed
                )
            )
        judged = frozenset(
            each
            for each in there
            if self.asked.asks_for_tls(self._places[each].list)
            and judges(self._places[each].crossing, way.there.stateful, way.back.stateful)
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
            self._lanes = None
        return number

    def _crossings(self, passage: Passage, family: Family) -> tuple[int, ...]:
        lists = ((each, self.network.list_at(each, family)) for each in passage.crossings)
        return tuple(
            self._crossing(each, self.asked.numbered(own)) for each, own in lists if own is not None
        )

    def _crossing(self, crossing: Crossing, number: int) -> int:
        found = self._place_numbers.setdefault((crossing, number), len(self._places))
        if found == len(self._places):
            self._places.append(_Place(crossing, number))
        return found

    def lanes(self) -> Lanes:
        """Return the lanes of all ways so far (`lane`), as arrays."""
        if self._lanes is None:
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
            self._lanes = Lanes(
                (crossings[0], crossings[1], crossings[2], crossings[3]),
                judged.reshape(crossings[0].shape),
                arrives,
                *marks,
            )
        return self._lanes


class _Pair(NamedTuple):
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


class _Other(NamedTuple):
    """How a conversation ends on ways without lanes: the number of the verdict, and whether a list
    was met.
    """

    verdict: int
    met: bool


_FEW = 4_096
"""Up to so many conversations are traced each by itself: to find their kinds would take longer."""
_MANY = 1_000
"""For more pairs of ends it is faster to work out the graphs between all."""
_MOST_LANES = 32
"""More ways of two ends are not gone over one by one, but together for each kind of conversations.
"""
_NO_PAIR = _Pair((), False)


class _Ends:
    """The address classes of one family, and the lanes between each pair of classes that occurred."""

    def __init__(self, tracer: BulkTracer, family: Family) -> None:
        self._tracer, self._family = tracer, family
        self.classes: AddressClasses = address_classes(tracer.network, family)
        self._finder = ClassFinder(family, self.classes)
        self._matrix: Matrix | None = None
        self._pairs: dict[int, _Pair] = {}

    @cached_property
    def kinds(self) -> KindFinder:
        """The finder of kinds of conversations for this family."""
        plan = self._tracer.network.plan
        return KindFinder(
            self._family, plan.lists.values(), self.classes, plan.translations[self._family]
        )

    def found(self, packets: Packets) -> tuple[Indices, Indices]:
        """Return the classes of the sources and destinations of packets. A source address that
        machines of any link can have does not tell where the sender is; where the packets came in
        does.
        """
        source = self._finder.find(packets.source)
        if self._tracer.entered is None:
            source = np.where(self._on_any_link[source], NOWHERE, source)
        return source, self._finder.find(packets.destination)

    @cached_property
    def _on_any_link(self) -> Marks:
        """Return which classes have addresses that machines of any link can have; the last element
        is for `NOWHERE` and is False.
        """
        told = [
            each.end.segment == NO_SEGMENT and scope_of(each.end.address) is not None
            for each in self.classes
        ]
        return np.array([*told, False], np.bool_)

    def pairs(self, packets: Packets) -> tuple[list[_Pair], Indices]:
        """Return the pairs of ends that some packets have, and which of them each packet has; a
        pair without lanes has no place in the plan.
        """
        source, destination = self.found(packets)
        itself = (packets.source == packets.destination).all(axis=0)
        key = (source * len(self.classes) + destination) * 2 + itself
        key[(source == NOWHERE) | (destination == NOWHERE)] = NOWHERE
        unique, first, of_row = np.unique(key, return_index=True, return_inverse=True)
        new = [
            (pair, row)
            for pair, row in zip(unique.tolist(), first.tolist(), strict=True)
            if pair != NOWHERE and pair not in self._pairs
        ]
        if len(new) > _MANY and self._matrix is None and self._tracer.entered is None:
            self._matrix = Matrix(
                self._tracer.network.graphs(self._family), [each.end for each in self.classes]
            )
            self._matrix.work_out()
        for pair, row in new:
            one, other = divmod(pair >> 1, len(self.classes))
            if self._matrix is not None and one != other:
                self._pairs[pair] = self._between_classes(one, other, self._matrix)
            else:  # two machines of a class stand in one place, and its example is only one of them
                ends = [
                    Address(self._family, whole_address(each[:, row]))
                    for each in (packets.source, packets.destination)
                ]
                self._pairs[pair] = self._between(*ends)
        return [self._pairs.get(pair, _NO_PAIR) for pair in unique.tolist()], of_row

    def _between_classes(self, one: int, other: int, matrix: Matrix) -> _Pair:
        start, end = self.classes[one].end, self.classes[other].end
        if self._is_crossed(start, end, start.address):
            crossed = CrossedPair(start, end, start.segment == end.segment)
            return _Pair((), crossed.on_link, crossed=crossed)
        ways = self._tracer.network.between(start, end, matrix.between(one, other))
        return self._tracer.pair(ways, self._family, start.segment == end.segment)

    def _between(self, source: Address, destination: Address) -> _Pair:
        network, entered = self._tracer.network, self._tracer.entered
        start, end = at_address(network, source), at_address(network, destination)
        strays = False
        if entered is not None and not entered.passed(network, start, destination):
            if entered.sender.segment == start.segment and start.device is None:
                start = start._replace(gateways=entered.sender.gateways, at=entered.sender.at)
            else:
                start, strays = entered.sender._replace(address=source), True
        on_link = start.segment == end.segment
        if self._is_crossed(start, end, source) or (
            entered is not None and not strays and is_led_in(network, destination)
        ):
            return _Pair((), on_link, crossed=CrossedPair(start, end, on_link, strays))
        if strays:
            graphs = network.graphs(self._family)
            unanswered = network.unanswered(start, destination)
            ways = Ways(graphs.graph(start, destination), graphs.graph(end, source), unanswered)
        else:
            ways = network.between(start, end)
        return self._tracer.pair(ways, self._family, on_link, strays)

    def _is_crossed(self, start: Endpoint, end: Endpoint, source: Address) -> bool:
        """Whether what is sent between two ends, or its answers, may be translated."""
        graphs = self._tracer.network.graphs(self._family)
        return isinstance(graphs, CrossedGraphs) and graphs.touches(
            source, end.address, (graphs.plain(start, end.address), graphs.plain(end, source))
        )


def _expanded(pairs: list[_Pair], of_row: Indices) -> tuple[Indices, Indices, Marks]:
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
