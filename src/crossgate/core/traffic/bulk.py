"""Conversations by the thousand through the network: the verdict that `trace` gives, for columns of opening packets.

1. Rows that nothing tells apart are one kind (`traffic.kinds`); only kinds are traced, and count as often as they are met.
2. Both ends of every kind are looked up in the address classes; what happens depends on the pair of classes, and each pair's
   ways come from the itineraries, once.
3. A way is a *lane*: the places with lists that its legs cross, as rows of numbers. A row with several ways is in several lanes.
4. Leg by leg, all rows take their first crossing together, then their second: at each, the rows are sorted by the list that
   stands there, and each list decides its rows at once (`lists.bulk`).
5. A row's verdict is that of its first way; where another way ends otherwise it is `varies`.
6. What a list stops by the TLS that is spoken goes on as long as that is not settled, and is stopped then, as in `traffic.trace`.

What has no place in the plan, since an end is in none of its subnets and it has no outside, gets no verdict.
"""

from __future__ import annotations

from collections.abc import Hashable, Iterator, Sequence
from dataclasses import dataclass, fields, replace
from functools import cached_property
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from crossgate.core.lists.bulk.first_match import FirstMatch
from crossgate.core.lists.bulk.lookup import BLOCK
from crossgate.core.model import iana
from crossgate.core.model.accesslist import AccessList, AnyList, Decider
from crossgate.core.model.address import Address, Family
from crossgate.core.model.condition import Limit, State, hello_of
from crossgate.core.model.packet import ACK, PSH, SYN, TCP, icmp_of
from crossgate.core.model.packets import Indices, Marks, Packets, whole_address
from crossgate.core.model.tls import UNSETTLED
from crossgate.core.network.address_classes import AddressClasses, address_classes
from crossgate.core.network.class_of import NOWHERE, ClassFinder
from crossgate.core.network.endpoints import at_address
from crossgate.core.network.entrance import Entrance
from crossgate.core.network.itineraries import Network, Passage, Way
from crossgate.core.network.matrix import Matrix
from crossgate.core.network.paths import Crossing
from crossgate.core.traffic.kinds import KindFinder
from crossgate.core.traffic.trace import Verdict, is_judged

VERDICTS = (Verdict.PERMITTED, Verdict.DENIED, Verdict.HALF_OPEN, Verdict.UNROUTABLE, Verdict.VARIES)
"""The verdicts by their numbers in `Fates`."""
_PERMITTED, _DENIED, _HALF_OPEN, _UNROUTABLE, _VARIES = range(len(VERDICTS))
NO_PLACE = -1
"""Stands for the verdict of what has no place in the plan, and for the list, entry or crossing where there is none."""

Numbers = NDArray[np.int32]


@dataclass(frozen=True, slots=True, eq=False)
class Fates:
    """What becomes of each of some conversations.

    `verdict` is an index into `VERDICTS`. Where a list stopped it, `list` is that list's number, `entry` the index of the entry
    (-1 for the otherwise line) and `crossing` the number of the place; else they are -1. `met` tells whether any list was asked,
    `on_link` whether both ends are on one link, `unsettled` whether a list would judge what TLS is spoken, and nothing tells it.
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
    """How often each line of a list decided: legs of conversations, and the packets these stand for; the otherwise line is the last."""

    legs: Indices
    packets: Indices

    def add(self, entry: Numbers, legs: Indices, packets: Indices) -> None:
        """Add legs that entries decided, and the packets that these stand for."""
        lines = len(self.legs)
        line = entry % lines
        self.legs += np.bincount(line, legs, minlength=lines).astype(np.int64)
        self.packets += np.bincount(line, packets, minlength=lines).astype(np.int64)


class _Weights(NamedTuple):
    """For each kind: its conversations, their packets there, and the packets on each of three legs."""

    conversations: Indices
    there: Indices
    first_leg: Indices
    second_leg: Indices
    third_leg: Indices


class _Lane(NamedTuple):
    """One way as numbers of crossings, leg by leg, without those that a stateful device lets pass unasked.

    `judged` are those on the way there whose lists ask about TLS, at devices that stop conversations once it is settled.
    """

    legs: tuple[tuple[int, ...], ...]
    judged: frozenset[int]
    arrives: tuple[bool, bool, bool]
    unanswered: bool
    strays: bool


class _Lanes(NamedTuple):
    """All lanes met so far: per leg a row of crossings for each, -1 behind the last; which of the first leg's are judged; whether each arrives."""

    crossings: tuple[Numbers, Numbers, Numbers]
    judged: Marks
    arrives: Marks
    unanswered: Marks
    strays: Marks


class _Place(NamedTuple):
    """A crossing with the list that stands there for a family."""

    crossing: Crossing
    list: int


class BulkTracer:
    """Traces columns of conversations through one network; what is worked out for pairs of ends and for lists is kept."""

    def __init__(self, network: Network, entered: Entrance | None = None) -> None:
        """Make it; with `entered` every conversation comes in there, whatever its source address."""
        self.network = network
        self.entered = entered
        self.lists: list[AnyList[Any]] = list(network.plan.every_list.values())
        """The plan's lists, in the order of their numbers in `Fates`: those for packets, then those for frames."""
        self._list_numbers = {each.name: number for number, each in enumerate(self.lists)}
        self._asked: list[AccessList] = []
        """The lists that packets are asked of: the plan's, with the same numbers; then what those for frames are for the packets in some."""
        self._number: dict[AccessList, int] = {}
        self._own: list[tuple[int, Numbers]] = []
        """For each list that is asked the number of the plan's list that it is, and which line of that each of its lines is."""
        self.hits: list[Hits] = []
        self.forget_hits()
        self._permits: list[Marks] = []
        self._flagged: list[bool] = []
        self._limits: list[dict[int, Limit]] = []
        """The limits of each list, by the index of their entry."""
        for each in network.plan.lists.values():
            self._numbered(each)
        self._families: dict[Family, _Ends] = {}
        self._places: list[_Place] = []
        self._place_numbers: dict[tuple[Crossing, int], int] = {}
        self._lane_numbers: dict[_Lane, int] = {}
        self._every_lane: list[_Lane] = []
        self._lanes: _Lanes | None = None
        self._matches: dict[tuple[int, State], FirstMatch] = {}

    def _take_in(self, own: AccessList) -> None:
        self._asked.append(own)
        number = self._list_numbers[own.name]
        indexes = {each.number: index for index, each in enumerate(self.lists[number].entries)}
        # The line behind the last entry is the otherwise line, as -1 is.
        lines = [*(indexes[each.number] for each in own.entries), -1]
        self._own.append((number, np.array(lines, np.int32)))
        self._permits.append(np.array([Decider(own, entry).permits for entry in (*own.entries, None)]))
        self._flagged.append(any(entry.qualifiers.flags for entry in own.entries))
        limits = enumerate(own.entries)
        self._limits.append({index: entry.limit for index, entry in limits if entry.limit is not None and not entry.off})

    def forget_hits(self) -> None:
        """Count what lines decide from nothing; what was counted stays with whom it was given to."""
        self.hits = [Hits(*(np.zeros(len(each.entries) + 1, np.int64) for _ in range(2))) for each in self.lists]

    def place(self, number: int) -> Crossing:
        """Return the crossing that has a number in `Fates`."""
        return self._places[number].crossing

    @property
    def places(self) -> int:
        """How many numbers of crossings there are."""
        return len(self._places)

    def ends(self, family: Family) -> _Ends:
        """Return the address classes of a family, with the lanes between them."""
        if family not in self._families:
            self._families[family] = _Ends(self, family)
        return self._families[family]

    def trace(self, packets: Packets, windows: Indices, states: Sequence[State], there: Indices, back: Indices) -> Fates:
        """Trace conversations by their opening packets, and count what decided.

        `states[windows[row]]` are the windows open at a row; `there` and `back` are how many packets went each way. Raises
        `TooManyPieces` where the equal paths between two ends differ in too many ways.
        """
        ends = self.ends(packets.family)
        first = kind = np.arange(len(packets))
        if len(packets) > _FEW:
            first, kind = ends.kinds.find(packets, windows)
        tcp = (packets.protocol == TCP) & ~packets.fragment
        # The first packet of TCP alone is a SYN.
        counted = [there, np.where(tcp, np.minimum(there, 1), there), back, np.maximum(there - 1, 0)]
        weights = [np.bincount(kind, each, minlength=len(first)).astype(np.int64) for each in (np.ones(len(kind)), *counted)]
        parts = []
        for start in range(0, len(first), BLOCK):
            part = slice(start, start + BLOCK)
            chosen = first[part]
            parts.append(self._traced(ends, packets.take(chosen), windows[chosen], states, _Weights(*(each[part] for each in weights))))
        if not parts:
            numbers, marks = np.zeros(0, np.int32), np.zeros(0, np.bool_)
            return Fates(np.zeros(0, np.int8), numbers, numbers, numbers, marks, marks, marks)
        columns = {each.name: np.concatenate([getattr(part, each.name) for part in parts])[kind] for each in fields(Fates)}
        return Fates(**columns)

    def _traced(self, ends: _Ends, packets: Packets, windows: Indices, states: Sequence[State], weights: _Weights) -> Fates:
        pairs, of_row = ends.pairs(packets)
        rows, lanes, first = _expanded(pairs, of_row)
        on_link = np.array([each.on_link for each in pairs], np.bool_)[of_row]
        run = _Run(self, packets, windows, states, weights, rows, lanes, first, on_link)
        run.legs()
        count = len(packets)
        verdict = np.full(count, NO_PLACE, np.int8)
        verdict[rows[first]] = run.verdict[first]
        differing = rows[run.verdict != verdict[rows]]
        verdict[differing] = _VARIES
        stopped = [np.full(count, NO_PLACE, np.int32) for _ in range(3)]
        for column, found in zip(stopped, run.stopped, strict=True):
            column[rows[first]] = found[first]
            column[differing] = NO_PLACE
        met = np.zeros(count, np.bool_)
        met[rows[run.met]] = True
        unsettled = np.zeros(count, np.bool_)
        unsettled[rows[run.unsettled]] = True
        return Fates(verdict, stopped[0], stopped[1], stopped[2], met, run.on_link, unsettled)

    # What the run asks

    def decided(self, number: int, packets: Packets, windows: Indices, states: Sequence[State]) -> Numbers:
        """Return the entry of a list that decides each of some packets of its family; `states[windows[row]]` are open at a row."""
        if not self._asked[number].is_conditional:
            return self._match(number, frozenset()).decide(packets)
        found = np.empty(len(packets), np.int32)
        for state, own in _by_value(windows):
            found[own] = self._match(number, states[state]).decide(packets.take(own))
        return found

    def let_by(
        self, number: int, packets: Packets, windows: Indices, states: Sequence[State], entry: Numbers
    ) -> Iterator[tuple[Indices, Numbers]]:
        """Yield which of some packets that entries of a list stop it lets by as long as TLS is not settled, and the entries that do.

        `entry` is what `decided` returned for them.
        """
        access_list = self._asked[number]
        stopped = np.flatnonzero(~self._permits[number][entry])
        for state, own in _by_value(windows[stopped]):
            left = stopped[own]
            for other in access_list.undecided(states[state]):
                found = self._match(number, other).decide(packets.take(left))
                by = self._permits[number][found]
                if by.any():
                    yield left[by], found[by]
                left = left[~by]

    def asks_for_tls(self, number: int) -> bool:
        """Whether a list asks what TLS is spoken."""
        return bool(self._asked[number].tls)

    def _match(self, number: int, state: State) -> FirstMatch:
        access_list = self._asked[number]
        key = (number, access_list.relevant(state))
        if key not in self._matches:
            self._matches[key] = FirstMatch(access_list, key[1])
        return self._matches[key]

    def limited(self, packets: Packets, windows: Indices, states: Sequence[State]) -> Marks:
        """Return which conversations are opened by packets that an entry with a limit takes, on their first ways."""
        found = np.zeros(len(packets), np.bool_)
        pairs, of_row = self.ends(packets.family).pairs(packets)
        packets = _with_flags(packets, courses_of(packets, found)[0], SYN)
        asked = [{self._places[each].list for each in self._first_leg(pair)} for pair in pairs]
        for number in {each for lists in asked for each in lists if self._limits[each]}:
            rows = np.flatnonzero(np.array([number in lists for lists in asked], np.bool_)[of_row])
            entry = self.unsettled(number, packets.take(rows), windows[rows], states)
            found[rows[np.isin(entry, list(self._limits[number]))]] = True
        return found

    def limits_met(self, packets: Packets, state: State) -> list[tuple[Hashable, Limit]]:
        """Return the limits that the one packet that opens a conversation meets on its first way, each with the number of the crossing."""
        pairs, _ = self.ends(packets.family).pairs(packets)
        first = np.zeros(1, np.int64)
        packets = _with_flags(packets, courses_of(packets, np.zeros(1, np.bool_))[0], SYN)
        found: list[tuple[Hashable, Limit]] = []
        for crossing in self._first_leg(pairs[0]):
            number = self._places[crossing].list
            entry = int(self.unsettled(number, packets, first, [state])[0])
            limit = self._limits[number].get(entry)
            if limit is not None and limit not in state:
                found.append((crossing, limit))
            if not self._permits[number][entry]:
                break
        return found

    def unsettled(self, number: int, packets: Packets, windows: Indices, states: Sequence[State]) -> Numbers:
        """Return the entry of a list that decides each of some packets as long as it is not settled what TLS is spoken."""
        entry = self.decided(number, packets, windows, states)
        if self.asks_for_tls(number):
            found = entry.copy()
            for rows, by in self.let_by(number, packets, windows, states, entry):
                found[rows] = by
            return found
        return entry

    def _first_leg(self, pair: _Pair) -> tuple[int, ...]:
        """Return the crossings with lists on the way there, the first one of equal ways."""
        return self._every_lane[pair.lanes[0]].legs[0] if pair.lanes else ()

    def own_line(self, number: int, entry: Numbers) -> tuple[int, Numbers]:
        """Return which of the plan's lists one that is asked is, and which of its lines some lines of it are."""
        own, lines = self._own[number]
        return own, lines[entry]

    def permits(self, number: int) -> Marks:
        """Return whether each line of a list lets by; the otherwise line is the last."""
        return self._permits[number]

    def flagged(self, number: int) -> bool:
        """Whether some entry of a list asks for TCP flags."""
        return self._flagged[number]

    def list_at(self, crossings: Numbers) -> Numbers:
        """Return the number of the list at each crossing."""
        found: Numbers = np.array([each.list for each in self._places], np.int32)[crossings]
        return found

    # Lanes

    def lane(self, way: Way, family: Family, strays: bool) -> int:
        """Return the number of the lane that a way is; `strays` where its replies go to another machine than the sender."""
        stateful = way.there.stateful
        there, back = self._crossings(way.there, family), self._crossings(way.back, family)
        later, answers = (tuple(each for each in several if self._is_asked(self.place(each), stateful)) for several in (there, back))
        judged = frozenset(each for each in there if self._asked[self._places[each].list].tls and is_judged(self.place(each), way))
        lane = _Lane((there, answers, later), judged, (way.there.arrived, way.back.arrived, way.there.arrived), way.unanswered, strays)
        number = self._lane_numbers.setdefault(lane, len(self._lane_numbers))
        if number == len(self._every_lane):
            self._every_lane.append(lane)
            self._lanes = None
        return number

    def _crossings(self, passage: Passage, family: Family) -> tuple[int, ...]:
        lists = ((each, self.network.list_at(each, family)) for each in passage.crossings)
        return tuple(self._crossing(each, self._numbered(own)) for each, own in lists if own is not None)

    def _numbered(self, own: AccessList) -> int:
        """Return the number of a list; one of frames is taken in as what it is for the packets in them."""
        if own not in self._number:
            self._number[own] = len(self._asked)
            self._take_in(own)
        return self._number[own]

    @staticmethod
    def _is_asked(crossing: Crossing, stateful: frozenset[str]) -> bool:
        """Whether a list is asked of what a conversation goes on with, where stateful devices have let it by."""
        return crossing.rulings is not None or crossing.point.device not in stateful

    def _crossing(self, crossing: Crossing, number: int) -> int:
        found = self._place_numbers.setdefault((crossing, number), len(self._places))
        if found == len(self._places):
            self._places.append(_Place(crossing, number))
        return found

    def lanes(self) -> _Lanes:
        """Return all lanes so far as arrays."""
        if self._lanes is None:
            every = self._every_lane
            crossings = []
            for leg in range(3):
                table = np.full((len(every), max((len(each.legs[leg]) for each in every), default=0)), NO_PLACE, np.int32)
                for number, each in enumerate(every):
                    table[number, : len(each.legs[leg])] = each.legs[leg]
                crossings.append(table)
            judged = np.array(
                [[each in lane.judged for each in row] for lane, row in zip(every, crossings[0].tolist(), strict=True)], np.bool_
            )
            arrives = np.array([each.arrives for each in every], np.bool_).reshape(-1, 3)
            marks = (np.array([getattr(each, name) for each in every], np.bool_) for name in ("unanswered", "strays"))
            self._lanes = _Lanes((crossings[0], crossings[1], crossings[2]), judged.reshape(crossings[0].shape), arrives, *marks)
        return self._lanes


class _Pair(NamedTuple):
    """What is known of two ends: the lanes between them, none where an end has no place, and whether they are on one link."""

    lanes: tuple[int, ...]
    on_link: bool


_FEW = 4_096
"""Up to so many conversations are traced each by itself: to find their kinds would take longer."""
_MANY = 1_000
"""For more pairs of ends it is faster to work out the itineraries between all."""
_NO_PAIR = _Pair((), False)


class _Ends:
    """The address classes of one family, and the lanes between each two that were met."""

    def __init__(self, tracer: BulkTracer, family: Family) -> None:
        self._tracer, self._family = tracer, family
        self.classes: AddressClasses = address_classes(tracer.network, family)
        self._finder = ClassFinder(family, self.classes)
        self._matrix: Matrix | None = None
        self._pairs: dict[int, _Pair] = {}

    @cached_property
    def kinds(self) -> KindFinder:
        """What tells conversations apart."""
        return KindFinder(self._family, self._tracer.network.plan.lists.values(), self.classes)

    def found(self, packets: Packets) -> tuple[Indices, Indices]:
        """Return the classes of packets' sources and destinations."""
        return self._finder.find(packets.source), self._finder.find(packets.destination)

    def pairs(self, packets: Packets) -> tuple[list[_Pair], Indices]:
        """Return the pairs of ends that some packets have, and which of them each has; one without lanes has no place."""
        source, destination = self.found(packets)
        itself = (packets.source == packets.destination).all(axis=0)
        key = (source * len(self.classes) + destination) * 2 + itself
        key[(source == NOWHERE) | (destination == NOWHERE)] = NOWHERE
        unique, first, of_row = np.unique(key, return_index=True, return_inverse=True)
        new = [
            (pair, row) for pair, row in zip(unique.tolist(), first.tolist(), strict=True) if pair != NOWHERE and pair not in self._pairs
        ]
        if len(new) > _MANY and self._matrix is None and self._tracer.entered is None:
            self._matrix = Matrix(self._tracer.network.itineraries(self._family), [each.end for each in self.classes])
        for pair, row in new:
            one, other = divmod(pair >> 1, len(self.classes))
            if self._matrix is not None and one != other:
                self._pairs[pair] = self._between_classes(one, other, self._matrix)
            else:  # two machines of a class stand in one place, and its example is only one of them
                ends = [Address(self._family, whole_address(each[:, row])) for each in (packets.source, packets.destination)]
                self._pairs[pair] = self._between(*ends)
        return [self._pairs.get(pair, _NO_PAIR) for pair in unique.tolist()], of_row

    def _between_classes(self, one: int, other: int, matrix: Matrix) -> _Pair:
        start, end = self.classes[one].end, self.classes[other].end
        ways = self._tracer.network.between(start, end, matrix.between(one, other))
        lanes = dict.fromkeys(self._tracer.lane(way, self._family, strays=False) for way in ways)
        return _Pair(tuple(lanes), start.segment == end.segment)

    def _between(self, source: Address, destination: Address) -> _Pair:
        network, entered = self._tracer.network, self._tracer.entered
        start, end = at_address(network, source), at_address(network, destination)
        strays = False
        if entered is None or entered.passed(network, start, destination):
            ways = network.between(start, end)
        elif entered.sender.segment == start.segment and start.device is None:
            ways = network.between(start._replace(gateways=entered.sender.gateways, at=entered.sender.at), end)
        else:
            itineraries, strays = network.itineraries(self._family), True
            start = entered.sender._replace(address=source)
            there, back = itineraries.passages(start, destination), itineraries.passages(end, source)
            ways = tuple(Way(one, other, network.unanswered(start, destination)) for one in there for other in back)
        lanes = dict.fromkeys(self._tracer.lane(way, self._family, strays) for way in ways)
        return _Pair(tuple(lanes), start.segment == end.segment)


def _expanded(pairs: list[_Pair], of_row: Indices) -> tuple[Indices, Indices, Marks]:
    """Return rows and lanes, a row once for each of its lanes, and which of them are a row's first."""
    counts = np.array([len(each.lanes) for each in pairs], np.int64)
    flat = np.array([lane for each in pairs for lane in each.lanes], np.int64)
    starts = np.cumsum(counts) - counts
    rows = np.repeat(np.arange(len(of_row)), counts[of_row])
    place = np.arange(len(rows)) - np.repeat(np.cumsum(counts[of_row]) - counts[of_row], counts[of_row])
    lanes: Indices = flat[starts[of_row[rows]] + place] if len(rows) else flat[:0]
    return rows, lanes, place == 0


class _Run:
    """One run of rows through their lanes."""

    def __init__(
        self, tracer: BulkTracer, packets: Packets, windows: Indices, states: Sequence[State], weights: _Weights,
        rows: Indices, lanes: Indices, first: Marks, on_link: Marks,
    ) -> None:  # fmt: skip
        self._tracer, self._packets, self._windows, self._states = tracer, packets, windows, states
        self._weights = weights
        self._first_leg: dict[int, Numbers] = {}
        self._rows, self._lane, self._first, self.on_link = rows, lanes, first, on_link
        self._lanes = tracer.lanes()
        self.verdict = np.full(len(rows), _PERMITTED, np.int8)
        self.stopped = tuple(np.full(len(rows), NO_PLACE, np.int32) for _ in range(3))
        self.met = np.zeros(len(rows), np.bool_)
        self.unsettled = np.zeros(len(rows), np.bool_)
        self._owed = [[np.full(len(rows), NO_PLACE, np.int32) for _ in range(3)] for _ in range(2)] if self._lanes.judged.any() else []
        """The list, entry and crossing that stop a row once its TLS is settled: the first ones on its way, then the last ones."""

    def legs(self) -> None:
        """Take every leg that follows, in turn."""
        tcp, answered, answers = courses_of(self._packets, self.on_link)
        live = self._leg(0, _with_flags(self._packets, tcp, SYN), np.arange(len(self._rows)))
        live = live[~self._lanes.unanswered[self._lane[live]]]
        live = live[answered[self._rows[live]]]
        if not len(live):
            return
        live = self._leg(1, _with_flags(answers, tcp, SYN | ACK), live)
        strays = self._lanes.strays[self._lane[live]]
        self.verdict[live[strays]] = _HALF_OPEN
        live = live[~strays]
        live = self._leg(2, _with_flags(self._packets, tcp, ACK), live[tcp[self._rows[live]]])
        if self._owed:
            self._settle(live[self._lanes.judged[self._lane[live]].any(axis=1)], answers)

    def _settle(self, live: Indices, answers: Packets) -> None:
        """Take the legs by which TCP conversations settle on the TLS that they speak, or show that they speak none."""
        tcp = np.ones(len(self._packets), np.bool_)
        there, back = (_with_flags(each, tcp, PSH | ACK) for each in (self._packets, answers))
        hellos, windows = [hello_of(each) for each in self._states], self._windows[self._rows[live]]
        untold = np.array([each == UNSETTLED for each in hellos], np.bool_)[windows]
        self.unsettled[live[untold]] = True
        live, windows = live[~untold], windows[~untold]
        speaks = np.array([each is not None for each in hellos], np.bool_)[windows]
        greeted = self._leg(2, there, live[speaks], again=True)
        self._leg(1, back, self._judge(greeted, 1), again=True)
        self._leg(2, there, self._judge(live[~speaks], 0), again=True)

    def _judge(self, live: Indices, which: int) -> Indices:
        """Stop the rows that are to be stopped now, by the first line (0) or the last one (1) on their way, and return the others."""
        number, entry, crossing = (each[live] for each in self._owed[which])
        due = number != NO_PLACE
        stopped = live[due]
        self.verdict[stopped] = _HALF_OPEN
        for column, values in zip(self.stopped, (number, entry, crossing), strict=True):
            column[stopped] = values[due]
        for own, rows in _by_value(number[due]):
            self._count(2, own, entry[due][rows], stopped[rows], np.zeros(len(rows), np.bool_))
        left: Indices = live[~due]
        return left

    def _owe(self, step: int, which: int, chosen: Indices, crossing: Numbers, entry: Numbers) -> None:
        """Remember lines of a list that will stop rows at a step of the first leg, where they are judged."""
        judged = self._lanes.judged[self._lane[chosen], step]
        rows = chosen[judged]
        own, lines = self._tracer.own_line(which, entry[judged])
        for column, values in zip(self._owed[1], (own, lines, crossing[judged]), strict=True):
            column[rows] = values
        first = rows[self._owed[0][0][rows] == NO_PLACE]
        for column, last in zip(*self._owed, strict=True):
            column[first] = last[first]

    def _leg(self, leg: int, packets: Packets, live: Indices, again: bool = False) -> Indices:
        """Take one leg of the rows `live`, by their place in the run, and return those that arrive.

        It goes there (0), back (1), or there once more (2); `again` what follows those three takes the same way.
        """
        table = self._lanes.crossings[leg]
        for step in range(table.shape[1]):
            crossing = table[self._lane[live], step]
            asked = np.flatnonzero(crossing != NO_PLACE)
            if not len(asked):
                break
            number = self._tracer.list_at(crossing[asked])
            entry = np.zeros(len(asked), np.int32)
            permitted = np.ones(len(asked), np.bool_)
            for which, own in _by_value(number.copy()):
                chosen = live[asked[own]]
                decided = self._decided(leg, which, packets, chosen, again)
                if self._tracer.asks_for_tls(which):
                    rows, stops = self._rows[chosen], decided
                    decided = decided.copy()
                    for by, entries in self._tracer.let_by(which, packets.take(rows), self._windows[rows], self._states, stops):
                        decided[by] = entries
                        if leg == 0:
                            self._owe(step, which, chosen[by], crossing[asked[own[by]]], stops[by])
                permitted[own] = self._tracer.permits(which)[decided]
                number[own], entry[own] = self._tracer.own_line(which, decided)
                self._count(leg, int(number[own[0]]), entry[own], chosen, permitted[own], again)
            self.met[live[asked]] = True
            out = asked[~permitted]
            self.verdict[live[out]] = _HALF_OPEN if leg else _DENIED
            for column, values in zip(self.stopped, (number[~permitted], entry[~permitted], crossing[out]), strict=True):
                column[live[out]] = values
            going = np.ones(len(live), np.bool_)
            going[out] = False
            live = live[going]
        arrives = self._lanes.arrives[self._lane[live], leg]
        self.verdict[live[~arrives]] = _UNROUTABLE
        arrived: Indices = live[arrives]
        return arrived

    def _decided(self, leg: int, number: int, packets: Packets, chosen: Indices, again: bool) -> Numbers:
        """Return the entry of a list that decides each of some rows on a leg."""
        if leg == 2 and not self._tracer.flagged(number):
            # The third leg of TCP differs from the first in its flags alone.
            found: Numbers = self._first_leg[number][chosen]
            return found
        rows = self._rows[chosen]
        entry = self._tracer.decided(number, packets.take(rows), self._windows[rows], self._states)
        if leg == 0 and not again:
            self._first_leg.setdefault(number, np.empty(len(self._rows), np.int32))[chosen] = entry
        return entry

    def _count(self, leg: int, number: int, entry: Numbers, chosen: Indices, permitted: Marks, again: bool = False) -> None:
        """Count what decided on first ways: a leg each, and the packets that go on it, none that are counted with another leg."""
        first = self._first[chosen]
        if not first.all():
            entry, chosen, permitted = entry[first], chosen[first], permitted[first]
        rows = self._rows[chosen]
        weights = self._weights
        packets = (weights.first_leg, weights.second_leg, weights.third_leg)[leg][rows]
        if leg == 0 and not permitted.all():
            packets = np.where(permitted, packets, weights.there[rows])  # what is denied is sent again, not answered
        self._tracer.hits[number].add(entry, weights.conversations[rows], np.zeros_like(packets) if again else packets)


def _by_value(values: Indices | Numbers) -> Iterator[tuple[int, Indices]]:
    """Yield each different value with the places that have it."""
    order = np.argsort(values, kind="stable")
    ordered = values[order]
    bounds = np.flatnonzero(np.r_[True, ordered[1:] != ordered[:-1], True]) if len(ordered) else np.zeros(1, np.int64)
    for start, end in zip(bounds[:-1].tolist(), bounds[1:].tolist(), strict=True):
        yield int(ordered[start]), order[start:end]


def courses_of(packets: Packets, on_link: Marks) -> tuple[Marks, Marks, Packets]:
    """Return which rows are TCP conversations, which are answered, and the packets of the answers (`traffic.legs`)."""
    tcp = (packets.protocol == TCP) & ~packets.fragment
    icmp = (packets.protocol == icmp_of(packets.family)) & ~packets.fragment
    answer = np.full(len(packets), -1)
    kind = packets.destination_port >> 8
    for answers, where in (
        (iana.ANSWERED_ON_LINK[icmp_of(packets.family)], icmp & on_link), (iana.ANSWERED[icmp_of(packets.family)], icmp),
    ):  # fmt: skip
        for asked, reply in answers.items():
            answer[where & (kind == asked)] = reply
    ports = packets.destination_port, np.where(icmp, np.maximum(answer, 0) << 8, packets.source_port).astype(np.uint16)
    back = replace(packets, source=packets.destination, destination=packets.source, source_port=ports[0], destination_port=ports[1])
    return tcp, ~packets.fragment & (~icmp | (answer >= 0)), back


def _with_flags(packets: Packets, tcp: Marks, flags: int) -> Packets:
    """Return packets with these flags where they are TCP."""
    return replace(packets, flags=np.where(tcp, flags, packets.flags).astype(np.uint8))
