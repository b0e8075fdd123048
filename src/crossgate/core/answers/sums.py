"""Sums over replayed conversations: by verdict, by kind, by line of a list. The sums of parts of
the traffic add up to those of all of it.

Sums contain numbers instead of objects of a plan: lists by their order in the plan, entries by
their order in the list. So they can be computed in another process and sent back.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any, NamedTuple

import numpy as np

from crossgate.core.conversation.opening import service_label
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.accesslist import AnyList, Decider
from crossgate.core.model.address import Address, Family
from crossgate.core.model.packet import SYN, Packet
from crossgate.core.model.packets import Indices, Packets, joined_packets, picked
from crossgate.core.network.paths import Crossing
from crossgate.core.traffic.fates import (
    DENIED,
    NO_PLACE,
    PERMITTED,
    UNROUTABLE,
    VERDICTS,
    Fates,
    Hits,
)
from crossgate.core.traffic.seen import SAID_DENIED, SAID_PERMITTED, Seen

_LEAST_ADDED_UP = 1 << 16


@dataclass(slots=True)
class Sum:
    """A number of conversations, their packets, and the octets of these."""

    conversations: int = 0
    packets: int = 0
    octets: int = 0

    def include(self, other: Sum) -> None:
        """Add another sum to this one."""
        self.conversations += other.conversations
        self.packets += other.packets
        self.octets += other.octets

    def add(self, seen: Seen, rows: Indices) -> None:
        """Add some rows to the sum."""
        self.conversations += len(rows)
        self.packets += int(picked(seen.counts, rows).sum())
        self.octets += int(picked(seen.octets, rows).sum())


class ConversationSort(NamedTuple):
    """Conversations that differ only in the client's port: the ends, the service, the verdict, and
    the line that stopped them.

    `was` is the verdict that it is compared with: that of another plan, or what a device reported.
    """

    source: Address
    destination: Address
    service: str
    verdict: Verdict | None
    decider: Decider | None
    crossing: Crossing | None
    was: Verdict | None = None


class UsedLine(NamedTuple):
    """A line of a list, how many legs of conversations it decided, and the packets that these stand
    for.
    """

    decider: Decider
    legs: int
    packets: int


class _Rows(NamedTuple):
    """Rows of one family that differ in `keys`: a packet of each, and its numbers of conversations,
    packets and octets.
    """

    keys: Indices
    packets: Packets
    sums: Indices

    def added_up(self) -> _Rows:
        """Return the same sums with each key once."""
        _, first, inverse = np.unique(self.keys, axis=0, return_index=True, return_inverse=True)
        sums = np.zeros((len(first), self.sums.shape[1]), np.int64)
        np.add.at(sums, inverse.reshape(-1), self.sums)
        return _Rows(self.keys[first], self.packets.take(first), sums)


_FATE = 5
"""The last columns of the keys: verdict, list, entry, crossing, and the verdict that it is compared
with.
"""


class SumColumns:
    """Sums by kind of conversation, as columns."""

    def __init__(self) -> None:
        self._rows: dict[Family, list[_Rows]] = {}
        self.places: list[Crossing] = []
        """The crossings by their numbers in the keys."""

    def __bool__(self) -> bool:
        return bool(self._rows)

    def add(
        self,
        seen: Seen,
        fates: Fates,
        places: list[Crossing],
        rows: Indices,
        was: Indices | None = None,
    ) -> None:
        """Add some rows, with the fates that a tracer gave them and the tracer's `places`; `was`
        are the verdicts that they are compared with, as in `Fates`.
        """
        if not len(rows):
            return
        packets = seen.packets.take(rows)
        columns = [
            *packets.source,
            *packets.destination,
            packets.protocol,
            packets.destination_port,
            packets.fragment,
        ]
        columns += [fates.verdict[rows], fates.list[rows], fates.entry[rows], fates.crossing[rows]]
        columns += [np.zeros(len(rows)) if was is None else was[rows]]
        keys = np.stack(
            [
                each.view(np.int64) if each.dtype == np.uint64 else each.astype(np.int64)
                for each in columns
            ],
            axis=1,
        )
        numbers = [
            np.ones(len(rows), np.int64),
            *(picked(each, rows).sum(axis=0) for each in (seen.counts, seen.octets)),
        ]
        keys[:, -2] = self._renumbered(places)[keys[:, -2]]
        self._put(packets.family, _Rows(keys, packets, np.stack(numbers, axis=1)))

    def include(self, other: SumColumns) -> None:
        """Add the sums of another part of the traffic, which numbers its crossings by itself."""
        mapped = self._renumbered(other.places)
        for family, parts in other._rows.items():
            for part in parts:
                keys = part.keys.copy()
                keys[:, -2] = mapped[keys[:, -2]]
                self._put(family, part._replace(keys=keys))

    def _renumbered(self, places: Sequence[Crossing]) -> Indices:
        """Return the number here of each crossing of another part of the traffic, at the index that
        it has there.
        """
        numbers = {crossing: number for number, crossing in enumerate(self.places)}
        found = [numbers.setdefault(each, len(numbers)) for each in places]
        self.places = list(numbers)
        return np.array([*found, NO_PLACE], np.int64)  # NO_PLACE is the last one's number, too

    def _put(self, family: Family, rows: _Rows) -> None:
        """Keep rows, and add them up once twice as many are kept as before."""
        kept = self._rows.setdefault(family, [])
        kept.append(rows.added_up())
        later = sum(len(each.keys) for each in kept[1:])
        if later >= max(_LEAST_ADDED_UP, len(kept[0].keys)):
            self._rows[family] = [_joined(kept)]

    def found(self, lists: Sequence[AnyList[Any]], compared: bool) -> dict[ConversationSort, Sum]:
        """Return the sums by kind; `lists` are the plan's in their order, `compared` says whether
        they have a `was`.
        """
        found: dict[ConversationSort, Sum] = {}
        for parts in self._rows.values():
            whole = _joined(parts)
            for row, (numbers, fate) in enumerate(
                zip(whole.sums.tolist(), whole.keys[:, -_FATE:].tolist(), strict=True)
            ):
                sort = self._sort(whole.packets.packet(row), lists, fate, compared)
                found.setdefault(sort, Sum()).include(Sum(*numbers))
        return dict(sorted(found.items(), key=lambda item: _rank(item[0])))

    def _sort(
        self, packet: Packet, lists: Sequence[AnyList[Any]], fate: list[int], compared: bool
    ) -> ConversationSort:
        verdict, number, entry, crossing, was = fate
        decider = None
        if number != NO_PLACE:
            decider = Decider(lists[number], lists[number].entries[entry] if entry >= 0 else None)
        # A conversation is named by what opens it, whatever flags its packets have.
        service = service_label(packet if packet.flags is None else packet._replace(flags=SYN))
        return ConversationSort(
            Address(packet.family, packet.source),
            Address(packet.family, packet.destination),
            service,
            verdict_numbered(verdict),
            decider,
            None if crossing == NO_PLACE else self.places[crossing],
            verdict_numbered(was) if compared else None,
        )


def _rank(sort: ConversationSort) -> tuple[Address, Address, str, str, str, str]:
    line = "" if sort.decider is None else sort.decider.name
    return (
        sort.source,
        sort.destination,
        sort.service,
        f"{sort.was} {sort.verdict}",
        line,
        str(sort.crossing),
    )


def _joined(parts: Sequence[_Rows]) -> _Rows:
    if len(parts) == 1:
        return parts[0]
    columns = (np.concatenate([getattr(each, name) for each in parts]) for name in ("keys", "sums"))
    keys, sums = columns
    return _Rows(keys, joined_packets([each.packets for each in parts]), sums).added_up()


def verdict_numbered(number: int) -> Verdict | None:
    """Return the verdict for a number in `Fates`, None for conversations that have no place in the
    plan.
    """
    return None if number == NO_PLACE else VERDICTS[number]


@dataclass
class SaidByDevices:
    """How the plan's verdicts compare with the decisions that devices reported."""

    agreeing: Sum = field(default_factory=Sum)
    differing: Sum = field(default_factory=Sum)
    untold: Sum = field(default_factory=Sum)
    """Conversations of which nothing is said, or that have no place in the plan."""
    sorts: SumColumns = field(default_factory=SumColumns)
    """What differs; `was` is what the device is said to have decided."""

    def add(self, seen: Seen, fates: Fates, places: list[Crossing]) -> None:
        """Add conversations with their fates. A half-open or varying one agrees with either
        decision, since its packets meet both.
        """
        permitted = fates.verdict == PERMITTED
        stopped = (fates.verdict == DENIED) | (fates.verdict == UNROUTABLE)
        untold = (seen.said == 0) | (fates.verdict == NO_PLACE)
        differs = (permitted & (seen.said & SAID_DENIED != 0)) | (
            stopped & (seen.said & SAID_PERMITTED != 0)
        )
        self.untold.add(seen, np.flatnonzero(untold))
        self.differing.add(seen, np.flatnonzero(differs))
        self.agreeing.add(seen, np.flatnonzero(~untold & ~differs))
        was = np.where(permitted, DENIED, PERMITTED)
        self.sorts.add(seen, fates, places, np.flatnonzero(differs), was)

    def include(self, other: SaidByDevices) -> None:
        """Add the comparison of other conversations."""
        self.agreeing.include(other.agreeing)
        self.differing.include(other.differing)
        self.untold.include(other.untold)
        self.sorts.include(other.sorts)


@dataclass(slots=True)
class SumStretch:
    """The conversations that began in a stretch of time: sums by verdict, None for those without a
    place in the plan, and how often lines decided, legs and packets, by the number of their list
    and their index in it.
    """

    verdicts: dict[Verdict | None, Sum] = field(default_factory=dict)
    lines: dict[tuple[int, int], tuple[int, int]] = field(default_factory=dict)

    def add(self, seen: Seen, fates: Fates, hits: Sequence[Hits], before: Sequence[Hits]) -> None:
        """Add conversations; how often lines decided is the difference between the counts now and
        `before`.
        """
        for number, verdict in (*enumerate(VERDICTS), (NO_PLACE, None)):
            rows = np.flatnonzero(fates.verdict == number)
            if len(rows):
                self.verdicts.setdefault(verdict, Sum()).add(seen, rows)
        for access_list, (now, then) in enumerate(zip(hits, before, strict=True)):
            for line in np.flatnonzero(now.legs - then.legs).tolist():
                own = now.legs[line] - then.legs[line], now.packets[line] - then.packets[line]
                self._include((access_list, line), int(own[0]), int(own[1]))

    def include(self, other: SumStretch) -> None:
        """Add other conversations of the same time."""
        for verdict, each in other.verdicts.items():
            self.verdicts.setdefault(verdict, Sum()).include(each)
        for line, (legs, packets) in other.lines.items():
            self._include(line, legs, packets)

    def _include(self, line: tuple[int, int], legs: int, packets: int) -> None:
        known = self.lines.get(line, (0, 0))
        self.lines[line] = known[0] + legs, known[1] + packets


@dataclass
class Sums:
    """All sums over some conversations."""

    verdicts: dict[Verdict | None, Sum] = field(
        default_factory=lambda: {each: Sum() for each in (*VERDICTS, None)}
    )
    """By verdict; None for what has no place in the plan."""
    on_link: Sum = field(default_factory=Sum)
    unmet: Sum = field(default_factory=Sum)
    unsettled: Sum = field(default_factory=Sum)
    """Conversations that lists ask of what TLS they speak, of which nothing tells it."""
    sorts: SumColumns = field(default_factory=SumColumns)
    """What was not permitted, or with another plan what fares otherwise there."""
    said: SaidByDevices = field(default_factory=SaidByDevices)
    users: SumColumns = field(default_factory=SumColumns)
    """What lines permitted, by line, where that is asked for."""
    nowhere: dict[Address, int] = field(default_factory=dict)
    """Addresses that nobody in the plan can have, with the packets of their conversations."""
    first: int | None = None
    last: int | None = None
    """When the first one began and the last one ended, in microseconds."""
    hits: list[Hits] = field(default_factory=list)
    """What the lines of each list decided, in the order of the plan."""
    stretches: dict[datetime, SumStretch] = field(default_factory=dict)
    """The same by hour or day, by when it begins, where that is asked for."""

    def span(self, first: int, last: int) -> None:
        """Extend the time that the sums cover by a span."""
        self.first = first if self.first is None else min(first, self.first)
        self.last = last if self.last is None else max(last, self.last)

    def include(self, other: Sums) -> None:
        """Add the sums of other conversations."""
        for verdict, each in other.verdicts.items():
            self.verdicts[verdict].include(each)
        self.on_link.include(other.on_link)
        self.unmet.include(other.unmet)
        self.unsettled.include(other.unsettled)
        self.sorts.include(other.sorts)
        self.said.include(other.said)
        self.users.include(other.users)
        for address, packets in other.nowhere.items():
            self.nowhere[address] = self.nowhere.get(address, 0) + packets
        if other.first is not None and other.last is not None:
            self.span(other.first, other.last)
        for begins, stretch in other.stretches.items():
            self.stretches.setdefault(begins, SumStretch()).include(stretch)
        for own, others in zip(self.hits, other.hits, strict=True):
            own.legs += others.legs
            own.packets += others.packets
