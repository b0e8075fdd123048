"""The entries of a list as rows of numbers, multiplied out as far as that stays cheap.

A row is a pattern of the packet's address words (two IPv4 addresses are one word, two IPv6
addresses four), an interval of service ranks, an interval of source-port ranks, and what is asked
of flags and DSCP. An entry with a few addresses and port ranges is a few rows; one with large
groups of addresses is none, and goes to `groups`.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from crossgate.core.model.address import Family, Pattern
from crossgate.core.model.packets import Indices, Marks, Packets, Words
from crossgate.core.sets.region import ALL_DSCP, ALL_FLAGS, Services

MOST_PAIRS = 8
"""An entry of up to so many pairs of a source and a destination pattern is multiplied out."""
SERVICE, SOURCE_PORT = 0, 1
"""The interval dimensions, as columns of `EntryRows.low` and `EntryRows.high`."""


Extra = tuple[int, int]
"""The TCP flags octets and the DSCP values that are asked, as bit sets."""


@dataclass(frozen=True, slots=True, eq=False)
class EntryRows:
    """Rows in the order of their entries.

    `value` and `care` have a column for each word: a packet's words must equal `value` in the bits
    of `care`. `low` and `high` have a column for each dimension, both ends included. `extra` is an
    index into the list's extras, 0 where nothing more is asked.
    """

    value: Words
    care: Words
    low: NDArray[np.int32]
    high: NDArray[np.int32]
    extra: NDArray[np.int32]
    entry: NDArray[np.int32]

    def __len__(self) -> int:
        return len(self.entry)

    @property
    def words(self) -> int:
        """The number of words of a packet's addresses."""
        return int(self.value.shape[1])

    def take(self, chosen: Indices | Marks) -> EntryRows:
        """Return only the given rows."""
        low, high = self.low[chosen], self.high[chosen]
        return EntryRows(
            self.value[chosen], self.care[chosen], low, high, self.extra[chosen], self.entry[chosen]
        )


class Extras:
    """The different demands of entries on TCP flags and DSCP; number 0 demands nothing."""

    def __init__(self) -> None:
        self._numbers: dict[Extra, int] = {(ALL_FLAGS, ALL_DSCP): 0}
        self._flags: NDArray[np.bool_] | None = None
        self._dscp: NDArray[np.bool_] | None = None

    def number(self, services: Services) -> int:
        """Return the number of what some services demand of flags and DSCP."""
        return self._numbers.setdefault((services.flags, services.dscp), len(self._numbers))

    def hold(self, numbers: Indices, packets: Packets, rows: Indices) -> Marks:
        """Return which of some packets meet the demand with the number given for each."""
        if self._flags is None or self._dscp is None:
            self._flags = np.array([_bits(flags, 256) for flags, _ in self._numbers])
            self._dscp = np.array([_bits(dscp, 64) for _, dscp in self._numbers])
        found: Marks = (
            self._flags[numbers, packets.flags[rows]] & self._dscp[numbers, packets.dscp[rows]]
        )
        return found


def _bits(number: int, count: int) -> NDArray[np.bool_]:
    octets = np.frombuffer(number.to_bytes(count // 8, "little"), np.uint8)
    return np.unpackbits(octets, bitorder="little").astype(np.bool_)


class AskedRows(NamedTuple):
    """What an entry asks besides addresses: every interval of service ranks combined with every
    interval of source-port ranks.

    `intervals` are (first service, first port, last service, last port), `extra` the number of its
    demand on flags and DSCP.
    """

    intervals: tuple[tuple[int, int, int, int], ...]
    extra: int


class AskedEntry(NamedTuple):
    """An entry of a list by its index, its patterns, and what it asks besides; equal services are
    one object.
    """

    position: int
    sources: tuple[Pattern, ...]
    destinations: tuple[Pattern, ...]
    asked: AskedRows

    @property
    def multiplied(self) -> bool:
        """Whether it gives few enough rows to be multiplied out."""
        return len(self.sources) * len(self.destinations) <= MOST_PAIRS


def make_rows(family: Family, entries: Iterable[AskedEntry]) -> EntryRows:
    """Return entries as rows: every source pattern with every destination pattern and every
    interval.
    """
    values: list[int] = []
    cares: list[int] = []
    numbers: list[tuple[int, int, int, int, int, int]] = []
    half = family.bits
    full = (1 << half) - 1
    for position, sources, destinations, (intervals, extra) in entries:
        for _, source, free in sources:
            for _, destination, other in destinations:
                value, care = source << half | destination, (full ^ free) << half | full ^ other
                for interval in intervals:
                    values.append(value)
                    cares.append(care)
                    numbers.append((*interval, extra, position))
    table = np.array(numbers, np.int32).reshape(-1, 6)
    low, high, extras, positions = (
        np.ascontiguousarray(each)
        for each in (table[:, :2], table[:, 2:4], table[:, 4], table[:, 5])
    )
    return EntryRows(_words(values, half), _words(cares, half), low, high, extras, positions)


def _words(numbers: Sequence[int], half: int) -> Words:
    if half == 32:
        return np.array(numbers, np.uint64).reshape(-1, 1)
    octets = b"".join(each.to_bytes(32) for each in numbers)
    return np.frombuffer(octets, ">u8").reshape(-1, 4).astype(np.uint64)


def packet_words(packets: Packets) -> Words:
    """Return the address words of packets, in the shape (words, packets)."""
    if packets.family is Family.IPV4:
        return packets.source << np.uint64(32) | packets.destination
    return np.concatenate([packets.source, packets.destination])
