"""The way of millions of packets through a tree: down its nodes level by level, then along the rows
of the leaves.

The rows of a leaf are *records*, one after the other: the words that a packet must have, the bits
of them that count, the bounds of the ranks, and the entry. Each leaf ends with a record that takes
everything.

All bounds of a record are tested by one addition. Each bound has a lane in a word, and the highest
bit of a lane is set in the sum where the bound is violated. For a bound `low` on a rank x of b bits
the lane contains 2^b - 1 + low - x; for a bound `high`, 2^b - 1 + x - high. Neither can overflow.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from crossgate.core.lists.bulk.rows import EntryRows, Extras, packet_words
from crossgate.core.lists.bulk.service_line import PortLine, Ranks, ServiceLine
from crossgate.core.lists.bulk.tree import (
    BLOCK_BITS,
    NODE_BASE,
    NODE_FIELD,
    NODE_MASK,
    Tree,
)
from crossgate.core.lists.bulk.windows import ragged
from crossgate.core.model.packets import Indices, Packets, Scalar, Words

BLOCK = 1 << BLOCK_BITS
NONE = (1 << 32) - 1
"""What stands for no entry, so that every entry is less."""

_FEW = 2_000
_LIVE = 0.6
"""Packets that have come to a leaf are set aside once fewer than this part of them is still on the
way.
"""
_WORD = (1 << 64) - 1

Entries = NDArray[np.uint32]


class _LaneWord(NamedTuple):
    """One word of lanes: the dimensions that it tests, each with its first bit, and the highest
    bits of all its lanes.
    """

    dimensions: tuple[tuple[int, int], ...]
    broken: int


class RankLanes:
    """The places of rank bounds in words, given the number of bits of each rank; a rank of no bits
    needs none.
    """

    def __init__(self, bits: tuple[int, ...]) -> None:
        self._bits = bits
        needed = [each for each in range(len(bits)) if bits[each]]
        together = sum(2 * bits[each] + 2 for each in needed) <= 64
        parts = [needed] if together else [[each] for each in needed]
        self.words = [self._word(part) for part in parts]

    def _word(self, dimensions: list[int]) -> _LaneWord:
        placed, broken, at = [], 0, 0
        for dimension in dimensions:
            bits = self._bits[dimension]
            placed.append((dimension, at))
            broken |= 1 << at + bits | 1 << at + 2 * bits + 1
            at += 2 * bits + 2
        return _LaneWord(tuple(placed), broken)

    def bounds(self, rows: EntryRows) -> list[Words]:
        """Return the lanes of rows, with a column for each word."""
        found = []
        for word in self.words:
            column = np.zeros(len(rows), np.uint64)
            for dimension, at in word.dimensions:
                bits = self._bits[dimension]
                below = np.uint64((1 << bits) - 1)
                low, high = (each[:, dimension].astype(np.uint64) for each in (rows.low, rows.high))
                column |= below + low << np.uint64(at) | below - high << np.uint64(at + bits + 1)
            found.append(column)
        return found

    def open(self) -> list[int]:
        """Return the words, lane by lane, of an entry that takes every packet."""
        return [
            sum(((1 << self._bits[each]) - 1) << at for each, at in word.dimensions)
            for word in self.words
        ]

    def packets(self, ranks: list[Ranks]) -> list[Words]:
        """Return what packets with these ranks add to the lanes, with a column for each word."""
        found = []
        for word in self.words:
            column = np.zeros(len(ranks[0]), np.uint64)
            for dimension, at in word.dimensions:
                step = (1 << at + self._bits[dimension] + 1) - (1 << at)
                column += ranks[dimension].astype(np.uint64) * np.uint64(step & _WORD)
            found.append(column)
        return found


class PacketBlock(NamedTuple):
    """Packets prepared for every tree of a list: their columns one after the other, their lanes,
    and the packets.

    `columns` has room for a whole block in each column: the address words, then the service rank
    and source-port rank in one word.
    """

    packets: Packets
    ranks: list[Ranks]
    columns: NDArray[np.int64]
    words: list[Words]
    lanes: list[Words]


class Preparation:
    """Prepares blocks of packets for the trees of one list."""

    def __init__(
        self, services: ServiceLine, ports: PortLine, lanes: RankLanes, words: int
    ) -> None:
        self._services = services
        self._ports = ports
        self._lanes = lanes
        self._columns = np.zeros((words + 1) * BLOCK, np.uint64)

    def block(self, packets: Packets) -> PacketBlock:
        """Prepare a block of packets; this overwrites the block before."""
        count, columns = len(packets), self._columns
        ranks = [self._services.ranks(packets), self._ports.ranks(packets)]
        words = list(packet_words(packets))
        for index, word in enumerate(words):
            columns[index * BLOCK : index * BLOCK + count] = word
        service = columns[len(words) * BLOCK : len(words) * BLOCK + count]
        service[:] = ranks[1]
        service <<= np.uint64(32)
        service |= ranks[0].astype(np.uint64)
        return PacketBlock(
            packets, ranks, columns.view(np.int64), words, self._lanes.packets(ranks)
        )


class Lookup:
    """One tree, with the records of its leaves."""

    def __init__(self, tree: Tree, rows: EntryRows, lanes: RankLanes, extras: Extras) -> None:
        self._nodes = tree.nodes.view(np.int64)
        self._inner, self._levels = tree.inner, tree.levels
        self._words = rows.words
        self._lanes = [np.uint64(each.broken) for each in lanes.words]
        self._extras = extras
        self._stride = 2 * rows.words + len(self._lanes) + 1
        self._records, self._starts = self._made(tree, rows.take(tree.rows), lanes)
        self._entries = self._records[self._stride - 1 :: self._stride].astype(np.uint32)
        self._firsts = self._entries[self._starts // self._stride]

    def _made(self, tree: Tree, rows: EntryRows, lanes: RankLanes) -> tuple[Words, Indices]:
        """Return the records of all leaves, and the index at which each leaf's records start."""
        words, owner = self._words, ragged(tree.counts)[0]
        open_ones = (~tree.closed).astype(np.int64)
        lengths = tree.counts + open_ones
        place = np.arange(len(rows)) + (np.cumsum(open_ones) - open_ones)[owner]
        records = np.zeros((int(lengths.sum()), self._stride), np.uint64)
        records[:, 2 * words : -1] = np.array(lanes.open(), np.uint64)
        records[:, -1] = NONE
        records[place, :words] = rows.value
        records[place, words : 2 * words] = rows.care
        for index, column in enumerate(lanes.bounds(rows)):
            records[place, 2 * words + index] = column
        records[place, -1] = rows.entry.astype(np.uint64) | rows.extra.astype(
            np.uint64
        ) << np.uint64(32)
        return records.reshape(-1), (np.cumsum(lengths) - lengths) * self._stride

    def decide(self, block: PacketBlock, found: Entries, bounded: bool) -> None:
        """Write the index of the first entry that takes each packet into `found`; where `bounded`,
        only if it is lower than the one there.
        """
        leaf = self._down(block)
        if not bounded:
            self._along(block, self._starts[leaf], None, found)
            return
        # Within a leaf entries ascend, so a packet whose leaf begins with a later one than it has
        # found is done.
        live = np.flatnonzero(_taken(self._firsts, leaf) < found)
        self._along(block, self._starts[leaf[live]], live, found)

    def _down(self, block: PacketBlock) -> Indices:
        """Return the leaf that each packet reaches."""
        count = len(block.packets)
        at, place = np.zeros(count, np.int64), np.arange(count)
        done: Indices | None = None
        live: Indices | None = None
        for level in range(self._levels):
            node = _taken(self._nodes, at)
            if level and len(at) > _FEW:
                base = (node.view(np.uint64) >> np.uint64(NODE_BASE)).view(np.int64)
                going = np.flatnonzero(base < self._inner)
                if len(going) < _LIVE * len(at):
                    done, live = (
                        (base.copy(), going)
                        if done is None or live is None
                        else (_put(done, live, base), live[going])
                    )
                    node, place = node[going], live
                    if not len(going):
                        return done - self._inner
            column = node & (7 << NODE_FIELD)
            column += place
            word = _taken(block.columns, column).view(np.uint64)
            word >>= (node & 63).view(np.uint64)
            at = node >> NODE_MASK
            at &= 0xFFF
            at &= word.view(np.int64)
            at += (node.view(np.uint64) >> np.uint64(NODE_BASE)).view(np.int64)
        return (at if done is None or live is None else _put(done, live, at)) - self._inner

    def _along(self, block: PacketBlock, at: Indices, live: Indices | None, found: Entries) -> None:
        """Go along the records of leaves, from the given starts, to the first that takes each of
        the packets `live`, None for all. An entry is written only where it comes before the one
        found already.
        """
        records, stride, width, bounded = self._records, self._stride, self._words, live is not None
        words, lanes = block.words, block.lanes
        if live is not None:
            words, lanes = (
                [_taken(each, live) for each in words],
                [_taken(each, live) for each in lanes],
            )
        while len(at):
            amiss = _taken(records, at)
            amiss ^= words[0]
            amiss &= _taken(records, at + width)
            for index in range(1, width):
                other = _taken(records, at + index)
                other ^= words[index]
                other &= _taken(records, at + (width + index))
                amiss |= other
            for index, broken in enumerate(self._lanes):
                lane = _taken(records, at + (2 * width + index))
                lane += lanes[index]
                lane &= broken
                amiss |= lane
            taken = amiss == 0
            hits = np.flatnonzero(taken)
            decided = _taken(records, at[hits] + (stride - 1))
            asked = np.flatnonzero(decided >> np.uint64(32))
            if len(asked):
                rows = hits[asked] if live is None else live[hits[asked]]
                held = self._extras.hold(
                    (decided[asked] >> np.uint64(32)).astype(np.int64), block.packets, rows
                )
                taken[hits[asked[~held]]] = False
                keep = np.ones(len(hits), np.bool_)
                keep[asked[~held]] = False
                hits, decided = hits[keep], decided[keep]
            found[hits if live is None else live[hits]] = decided.astype(np.uint32)
            going = np.flatnonzero(~taken)
            at = _taken(at, going) + stride
            live = going if live is None else _taken(live, going)
            if bounded:
                before = np.flatnonzero(_taken(self._entries, at // stride) < _taken(found, live))
                at, live, going = at[before], live[before], going[before]
            words, lanes = (
                [_taken(each, going) for each in words],
                [_taken(each, going) for each in lanes],
            )


def _taken(values: NDArray[Scalar], places: Indices) -> NDArray[Scalar]:
    """Return the values at some indices, which must all exist: clipping costs a third of checking
    them.
    """
    return np.take(values, places, mode="clip")


def _put(whole: Indices, places: Indices, values: Indices) -> Indices:
    whole[places] = values
    return whole
