"""What a plan would have done with traffic that was seen: conversations with their verdicts, and the sums of them.

Time is the wall clock of one zone: each conversation's windows are those that are open when it begins.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from datetime import datetime, tzinfo
from typing import NamedTuple

import numpy as np

from crossgate.core.model.accesslist import AccessList, Decider
from crossgate.core.model.address import Address, Family
from crossgate.core.model.packet import SYN, Packet
from crossgate.core.model.packets import Indices, picked, whole_address
from crossgate.core.model.window import open_at
from crossgate.core.network.entrance import Entrance
from crossgate.core.network.itineraries import Network
from crossgate.core.network.routing import Crossing
from crossgate.core.traffic.assembly import SECOND, Assembler, Seen, joined, opened
from crossgate.core.traffic.bulk import NO_PLACE, VERDICTS, BulkTracer, Fates, Hits, courses_of
from crossgate.core.traffic.legs import service_label
from crossgate.core.traffic.trace import Verdict

_BATCH = 1 << 15
_MINUTE = 60 * SECOND


@dataclass(slots=True)
class Sum:
    """So many conversations, their packets, and the octets of these."""

    conversations: int = 0
    packets: int = 0
    octets: int = 0

    def include(self, other: Sum) -> None:
        """Add another sum."""
        self.conversations += other.conversations
        self.packets += other.packets
        self.octets += other.octets

    def add(self, seen: Seen, rows: Indices) -> None:
        """Add some rows."""
        self.conversations += len(rows)
        self.packets += int(picked(seen.counts, rows).sum())
        self.octets += int(picked(seen.octets, rows).sum())


class Sort(NamedTuple):
    """Conversations that are alike but for the client's port: the ends, the service, the verdict, and the line that stopped them.

    `was` is the verdict in the plan that another one is compared with.
    """

    source: Address
    destination: Address
    service: str
    verdict: Verdict | None
    decider: Decider | None
    crossing: Crossing | None
    was: Verdict | None = None


class Line(NamedTuple):
    """A line of a list, how many legs of conversations it decided, and the packets that these stand for."""

    decider: Decider
    legs: int
    packets: int


class Replayed(NamedTuple):
    """Conversations in the order in which they ended, with what becomes of them; `other` is what becomes of them in another plan."""

    seen: Seen
    fates: Fates
    other: Fates | None


class Clock:
    """Which windows are open at times in microseconds, on the wall clock of a zone, None for the system's."""

    def __init__(self, network: Network, zone: tzinfo | None) -> None:
        self._windows = list(network.plan.windows.values())
        self._zone = zone
        self._numbers: dict[frozenset[str], int] = {}
        self.states: list[frozenset[str]] = []
        self._minutes: dict[int, int] = {}

    def wall(self, time: int) -> datetime:
        """Return a time as the clock shows it."""
        return datetime.fromtimestamp(time / SECOND, self._zone).replace(tzinfo=None)

    def of(self, times: Indices) -> Indices:
        """Return for each time the index of the set of windows that are open, in `states`."""
        if not self._windows:
            self.states = [frozenset()]
            return np.zeros(len(times), np.int64)
        minutes, inverse = np.unique(times // _MINUTE, return_inverse=True)
        return np.array([self._state(each) for each in minutes.tolist()], np.int64)[inverse]

    def _state(self, minute: int) -> int:
        if minute not in self._minutes:
            opened_now = open_at(self._windows, self.wall(minute * _MINUTE))
            number = self._numbers.setdefault(opened_now, len(self._numbers))
            if number == len(self.states):
                self.states.append(opened_now)
            self._minutes[minute] = number
        return self._minutes[minute]


class Replay:
    """Conversations put together from what was seen, and traced; sums are added up."""

    def __init__(
        self, network: Network, zone: tzinfo | None = None, idle: int = 300 * SECOND, entrance: Entrance | None = None,
        other: Network | None = None,
    ) -> None:  # fmt: skip
        """Make it; with the network of an `other` plan, what fares otherwise there is kept apart."""
        self.network = network
        self.tracer = BulkTracer(network, entrance)
        self.other = None if other is None else BulkTracer(other, entrance)
        self.clock = Clock(network, zone)
        self._other_clock = None if other is None else Clock(other, zone)
        self._assemblers: dict[Family, Assembler] = {}
        self._waiting: dict[Family, list[Seen]] = {}
        self._idle = idle
        self.verdicts: dict[Verdict | None, Sum] = {each: Sum() for each in (*VERDICTS, None)}
        """By verdict; None for what has no place in the plan."""
        self.on_link, self.unmet = Sum(), Sum()
        self.stopped: dict[Sort, Sum] = {}
        """What was not permitted, or with another plan what fares otherwise there."""
        self.nowhere: dict[Address, int] = {}
        """Addresses that nobody in the plan can have, with the packets of their conversations."""
        self.first: int | None = None
        self.last: int | None = None

    @property
    def again(self) -> int:
        """How many packets were seen more than once."""
        return sum(each.again for each in self._assemblers.values())

    @property
    def backwards(self) -> int:
        """How many packets or records came after a later one."""
        return sum(each.backwards for each in self._assemblers.values())

    def add(self, family: Family, seen: Seen, client_ports: tuple[int, int] | None = None) -> Iterator[Replayed]:
        """Take a batch of what was seen, records of flows where `client_ports` are given, and yield conversations that have ended."""
        if family not in self._assemblers:
            self._assemblers[family] = Assembler(self._idle)
        ended = self._assemblers[family].add(opened(seen, client_ports))
        if len(ended):
            waiting = self._waiting.setdefault(family, [])
            waiting.append(ended)
            if sum(map(len, waiting)) >= _BATCH:
                yield self._traced(family)

    def rest(self) -> Iterator[Replayed]:
        """Yield the conversations that are open at the end."""
        for family, assembler in self._assemblers.items():
            left = assembler.rest()
            if left is not None and len(left):
                self._waiting.setdefault(family, []).append(left)
            if self._waiting.get(family):
                yield self._traced(family)

    def _traced(self, family: Family) -> Replayed:
        seen = joined(self._waiting.pop(family))
        fates = self._fates(self.tracer, self.clock, seen)
        other = None if self.other is None or self._other_clock is None else self._fates(self.other, self._other_clock, seen)
        self._sum(seen, fates)
        if other is None or self.other is None:
            _sort(self.stopped, seen, fates, self.tracer, np.flatnonzero(fates.verdict > 0))
        else:
            _sort(self.stopped, seen, other, self.other, np.flatnonzero(fates.verdict != other.verdict), fates)
        return Replayed(seen, fates, other)

    @staticmethod
    def _fates(tracer: BulkTracer, clock: Clock, seen: Seen) -> Fates:
        windows = clock.of(seen.first)
        return tracer.trace(seen.packets, windows, clock.states, seen.counts[0], seen.counts[1])

    def _sum(self, seen: Seen, fates: Fates) -> None:
        for number, verdict in (*enumerate(VERDICTS), (NO_PLACE, None)):
            self.verdicts[verdict].add(seen, np.flatnonzero(fates.verdict == number))
        self.on_link.add(seen, np.flatnonzero(fates.on_link))
        self.unmet.add(seen, np.flatnonzero(~fates.met & ~fates.on_link & (fates.verdict != NO_PLACE)))
        first, last = int(seen.first.min()), int(seen.last.max())
        self.first = first if self.first is None else min(first, self.first)
        self.last = last if self.last is None else max(last, self.last)
        lost = np.flatnonzero(fates.verdict == NO_PLACE)
        if len(lost):
            ends = self.tracer.ends(seen.packets.family)
            for side, column in zip(ends.found(seen.packets.take(lost)), (seen.packets.source, seen.packets.destination), strict=True):
                for row in lost[side == NO_PLACE].tolist():
                    address = Address(seen.packets.family, whole_address(column[:, row]))
                    self.nowhere[address] = self.nowhere.get(address, 0) + int(seen.counts[:, row].sum())

    def lines(self) -> Iterator[tuple[AccessList, list[Line]]]:
        """Yield each placed list with its lines and how often they decided."""
        placed = {each.name for each in self.network.plan.placed.values()}
        for each, hits in zip(self.tracer.lists, self.tracer.hits, strict=True):
            if each.name in placed:
                yield each, list_lines(each, hits)


def list_lines(access_list: AccessList, hits: Hits) -> list[Line]:
    """Return the lines of a list with how often they decided, the otherwise line last."""
    entries = (*access_list.entries, None)
    counts = zip(entries, hits.legs.tolist(), hits.packets.tolist(), strict=True)
    return [Line(Decider(access_list, entry), legs, packets) for entry, legs, packets in counts]


class ListReplay:
    """What was seen at one list, packet by packet, without conversations: each packet is asked once."""

    def __init__(self, network: Network, access_list: AccessList, zone: tzinfo | None = None) -> None:
        self.access_list = access_list
        self.clock = Clock(network, zone)
        self._asked = BulkTracer(network)
        self._number = self._asked.lists.index(access_list)
        self.packets, self.octets, self.foreign = 0, 0, 0
        """How many packets were asked, their octets, and how many are of the other family."""
        self.denied: dict[Sort, Sum] = {}

    def add(self, family: Family, seen: Seen) -> None:
        """Ask a batch of packets, or of flows, both ways."""
        if family is not self.access_list.family:
            self.foreign += int(seen.counts.sum())
            return
        every = np.ones(len(seen), np.bool_)
        _, _, answers = courses_of(seen.packets, every)
        back = replace(seen.turned(every), packets=replace(answers, flags=seen.flags[1]))
        for side, own in enumerate((seen, back)):
            rows = np.flatnonzero(seen.counts[side])
            if len(rows):
                self._ask(own.take(rows))

    def _ask(self, seen: Seen) -> None:
        windows = self.clock.of(seen.first)
        entry = self._asked.decided(self._number, seen.packets, windows, self.clock.states)
        self.packets += int(seen.counts[0].sum())
        self.octets += int(seen.octets[0].sum())
        self._asked.hits[self._number].add(entry, seen.counts[0], seen.counts[0])
        denied = ~self._asked.permits(self._number)[entry]
        nowhere, none = np.full(len(seen), NO_PLACE, np.int32), np.zeros(len(seen), np.bool_)
        lists = np.full(len(seen), self._number, np.int32)
        fates = Fates(denied.astype(np.int8) * VERDICTS.index(Verdict.DENIED), lists, entry, nowhere, ~none, none)
        _sort(self.denied, seen, fates, self._asked, np.flatnonzero(denied))

    def lines(self) -> list[Line]:
        """Return the list's lines with how often they decided."""
        return list_lines(self.access_list, self._asked.hits[self._number])


def _sort(sums: dict[Sort, Sum], seen: Seen, fates: Fates, tracer: BulkTracer, rows: Indices, was: Fates | None = None) -> None:
    """Add rows to the sums of those that are alike, each sort looked at once."""
    if not len(rows):
        return
    packets = seen.packets.take(rows)
    columns = [*packets.source, *packets.destination, packets.protocol, packets.destination_port, packets.fragment]
    columns += [fates.verdict[rows], fates.list[rows], fates.entry[rows], fates.crossing[rows]]
    columns += [] if was is None else [was.verdict[rows]]
    table = np.stack([each.astype(np.int64) if each.dtype != np.uint64 else each.view(np.int64) for each in columns], axis=1)
    _, first, inverse = np.unique(table, axis=0, return_index=True, return_inverse=True)
    inverse = inverse.reshape(-1)
    packets_of, octets_of = (np.bincount(inverse, picked(each, rows).sum(axis=0)).astype(np.int64) for each in (seen.counts, seen.octets))
    counts = np.bincount(inverse)
    for number, place in enumerate(first.tolist()):
        found = sums.setdefault(_sort_of(packets.packet(place), fates, tracer, int(rows[place]), was), Sum())
        found.conversations += int(counts[number])
        found.packets += int(packets_of[number])
        found.octets += int(octets_of[number])


def _sort_of(packet: Packet, fates: Fates, tracer: BulkTracer, row: int, was: Fates | None) -> Sort:
    source, destination = Address(packet.family, packet.source), Address(packet.family, packet.destination)
    decider = crossing = None
    if fates.list[row] != NO_PLACE:
        access_list = tracer.lists[fates.list[row]]
        decider = Decider(access_list, access_list.entries[fates.entry[row]] if fates.entry[row] >= 0 else None)
        crossing = None if fates.crossing[row] == NO_PLACE else tracer.place(int(fates.crossing[row]))
    # A conversation is named by what opens it, whatever flags its packets have.
    service = service_label(packet if packet.flags is None else packet._replace(flags=SYN))
    return Sort(source, destination, service, verdict_of(fates, row), decider, crossing, None if was is None else verdict_of(was, row))


def verdict_of(fates: Fates, row: int) -> Verdict | None:
    """Return a row's verdict, None for what has no place in the plan."""
    return None if fates.verdict[row] == NO_PLACE else VERDICTS[fates.verdict[row]]
