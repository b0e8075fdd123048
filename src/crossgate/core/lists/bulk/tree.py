"""A decision tree over the rows of a list, built level by level with NumPy.

1. A node stands for the packets that agree in everything the path to it has looked at, and has the
rows that may take one of them, in order. It looks at one *window* of up to twelve neighbouring
bits: of an address word, of the service rank or of the source-port rank. Each value of the window
has a child.

2. A row that leaves a bit of the window free goes into several children. The worth of a window is
its gain, the bits by which it narrows a packet's rows down, less what it repeats; both are
estimated on a sample of the node's rows.

3. The first row that takes every packet of a node ends its list: no packet reaches the rows after
it.

4. A node with few rows, or one that no window divides well, is a leaf. Children and leaves with the
same rows are stored once.

A node is one word of 64 bits, so that all packets of a block step down together: see `NODE_BASE`
and its neighbours.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from crossgate.core.lists.bulk.rows import SOURCE_PORT, EntryRows
from crossgate.core.lists.bulk.windows import (
    DIMENSIONS,
    Level,
    WindowChooser,
    Windows,
    bit_count,
    lines_of,
    ragged,
)
from crossgate.core.model.packets import Indices, Marks, Words

BLOCK_BITS = 15
"""Packets are looked up in blocks of 2^15, whose columns stay in the processor's cache."""
NODE_FIELD, NODE_MASK, NODE_BASE = BLOCK_BITS, 20, 32
"""Where a node's word has its parts: the window's shift from bit 0, the field, the window's mask,
and the first child's number.

The field stands where it is an offset into the block's columns, one behind the other.
"""

_MOST_LEVELS = 14


class Tree(NamedTuple):
    """Nodes and leaves; the nodes from number `len(nodes) - leaves` on are leaves.

    `levels` steps lead from the root to a leaf. `rows` are the rows of all leaves one after the
    other, `counts` the number of rows of each, `closed` whether the last one takes all.
    """

    nodes: Words
    levels: int
    rows: Indices
    counts: Indices
    closed: Marks

    @property
    def inner(self) -> int:
        """The number of nodes that are not leaves."""
        return len(self.nodes) - len(self.counts)


class TreeBuilder:
    """Builds the tree of some rows; `ranks` are the numbers of service ranks and source-port
    ranks.
    """

    def __init__(self, rows: EntryRows, ranks: tuple[int, int], leaf_rows: int) -> None:
        self._rows = rows
        self._top = np.array(ranks) - 1
        self._bits = np.array([int(each).bit_length() for each in self._top])
        self._leaf_rows = leaf_rows
        self._most = 40 * len(rows) + 400_000
        self._weights = np.random.default_rng(1).integers(1, 1 << 63, len(rows), dtype=np.uint64)
        self._windows = WindowChooser(rows, self._bits, leaf_rows)

    def build(self) -> Tree:
        """Build it."""
        rows = self._rows
        level = Level(
            np.zeros(len(rows), np.int64),
            np.arange(len(rows)),
            np.zeros((1, rows.words), np.uint64),
            np.zeros((1, 2), np.int64),
            np.zeros((1, 2), np.int64),
        )
        slots, nodes_of_slots, total = np.array([0]), np.array([0]), 1
        written: list[tuple[Indices, Words]] = []
        leaves: list[tuple[Indices, Indices, Marks]] = []
        depth = leaf_count = kept = 0
        while True:
            level, closed = self._ended(level)
            counts = np.bincount(level.node, minlength=level.nodes)
            leaf = counts - closed <= self._leaf_rows
            if depth >= _MOST_LEVELS or kept + len(level.row) > self._most:
                leaf[:] = True
            windows = self._windows.choose(level, counts, leaf)
            depth += 1
            words = np.zeros(level.nodes, np.uint64)
            numbers, found = self._leaves(level, counts, leaf, closed)
            words[leaf] = (numbers + leaf_count).astype(np.uint64) | np.uint64(1 << 63)
            leaf_count += len(found[1])
            kept += len(found[0])
            leaves.append(found)
            going = np.flatnonzero(~leaf)
            fans = 1 << windows.width[going]
            bases = total + np.cumsum(fans) - fans
            words[going] = self._node_words(windows, going, bases)
            written.append((slots, words[nodes_of_slots]))
            if not len(going):
                break
            level, nodes_of_slots = self._cut(level.pairs(~leaf[level.node]), windows, going, fans)
            slots = total + np.arange(len(nodes_of_slots))
            total += len(slots)
        return _assembled(total, written, leaves, leaf_count, depth)

    def _ended(self, level: Level) -> tuple[Level, Marks]:
        """Leave out the rows after the first one that takes every packet of its node, and tell
        which nodes have such a row.
        """
        rows, node, row = self._rows, level.node, level.row
        takes = ((lines_of(rows.care, row) & ~lines_of(level.known, node)) == 0).all(axis=1) & (
            rows.extra[row] == 0
        )
        last = np.minimum(level.start + (1 << (self._bits - level.fixed)) - 1, self._top)
        within = (lines_of(rows.low, row) <= lines_of(level.start, node)) & (
            lines_of(rows.high, row) >= lines_of(last, node)
        )
        takes &= within.all(axis=1)
        first = np.full(level.nodes, len(node))
        taking = np.flatnonzero(takes)[::-1]
        first[node[taking]] = taking
        return level.pairs(np.arange(len(node)) <= first[node]), first < len(node)

    # Leaves and children

    def _leaves(
        self, level: Level, counts: Indices, leaf: Marks, closed: Marks
    ) -> tuple[Indices, tuple[Indices, Indices, Marks]]:
        """Return the number of each leaf of a level, and the rows, counts and ends of the different
        leaves.
        """
        chosen = np.flatnonzero(leaf)
        lists = level.row[leaf[level.node]]
        same = self._same(counts[chosen], lists, closed[chosen].astype(np.uint64))
        kept = np.flatnonzero(same == np.arange(len(same)))
        owner, place = ragged(counts[chosen[kept]])
        starts = np.cumsum(counts[chosen]) - counts[chosen]
        number = np.zeros(len(same), np.int64)
        number[kept] = np.arange(len(kept))
        return number[same], (
            lists[starts[kept][owner] + place],
            counts[chosen[kept]],
            closed[chosen[kept]],
        )

    def _same(self, counts: Indices, lists: Indices, salt: Words) -> Indices:
        """Return for each list of rows the first list with the same rows and the same salt."""
        starts = np.cumsum(counts) - counts
        some = counts > 0
        digest = salt * np.uint64(0x9E3779B97F4A7C15)
        if len(lists):
            digest[some] += np.add.reduceat(self._weights[lists], starts[some])
        _, first, inverse = np.unique(digest, return_index=True, return_inverse=True)
        same = first[inverse]
        owner, place = ragged(counts)
        alike = (counts[same] == counts) & (salt[same] == salt)
        compared = alike[owner]
        owner, place = owner[compared], place[compared]
        differing = lists[starts[owner] + place] != lists[starts[same[owner]] + place]
        alike[owner[differing]] = False
        return np.where(alike, same, np.arange(len(same)))

    def _cut(
        self, level: Level, windows: Windows, going: Indices, fans: Indices
    ) -> tuple[Level, Indices]:
        """Return the children of the nodes `going`, and the child for each of their slots; equal
        children of a node are one.
        """
        rows, words = self._rows, self._rows.words
        dimension, shift, width = (each[level.node] for each in windows)
        mask = (1 << width) - 1
        address = dimension < words
        word = np.where(address, dimension, 0)
        digit = (rows.value[level.row, word] >> shift.astype(np.uint64)).astype(np.int64) & mask
        free = (~rows.care[level.row, word] >> shift.astype(np.uint64)).astype(np.int64) & mask
        free[~address] = 0
        copies = 1 << bit_count(free)
        for each in DIMENSIONS:
            pairs = np.flatnonzero(dimension == words + each)
            node, row = level.node[pairs], level.row[pairs]
            low = np.maximum(rows.low[row, each] - level.start[node, each], 0)
            high = np.minimum(
                rows.high[row, each] - level.start[node, each],
                (mask[pairs] + 1 << shift[pairs]) - 1,
            )
            digit[pairs] = low >> shift[pairs]
            copies[pairs] = (high >> shift[pairs]) - digit[pairs] + 1
        owner, place = ragged(copies)
        digits = digit[owner]
        spread = np.flatnonzero(free[owner])
        digits[spread] |= _deposited(place[spread], free[owner[spread]])
        ranks = np.flatnonzero(~address[owner])
        digits[ranks] += place[ranks]

        first = np.zeros(level.nodes, np.int64)
        first[going] = np.cumsum(fans) - fans
        slot = first[level.node[owner]] + digits
        order = np.argsort(slot, kind="stable")
        slot, row = slot[order], level.row[owner[order]]
        parent = np.repeat(going, fans)
        slots = len(parent)
        counts = np.bincount(slot, minlength=slots)
        # Under a window of ranks equal lists are apart: the child says where its ranks start.
        by_rank = (windows.dimension[parent] >= words) & (counts > 0)
        salt = (parent + 1).astype(np.uint64) + np.where(
            by_rank, np.arange(slots) + level.nodes + 1, 0
        ).astype(np.uint64)
        salt[counts == 0] = 0
        same = self._same(counts, row, salt)
        kept = same == np.arange(slots)
        number = np.cumsum(kept) - 1
        chosen = kept[slot]
        return self._children(
            level, windows, parent[kept], (np.arange(slots) - first[parent])[kept]
        )._replace(node=number[slot[chosen]], row=row[chosen]), number[same]

    def _children(self, level: Level, windows: Windows, parent: Indices, digit: Indices) -> Level:
        """Return children without rows, each with what the path to it has looked at."""
        words = self._rows.words
        known, fixed, start = (
            lines_of(level.known, parent),
            lines_of(level.fixed, parent),
            lines_of(level.start, parent),
        )
        dimension, shift, width = (each[parent] for each in windows)
        address = np.flatnonzero(dimension < words)
        looked_at = ((1 << width[address]) - 1).astype(np.uint64) << shift[address].astype(
            np.uint64
        )
        known[address, dimension[address]] |= looked_at
        for each in DIMENSIONS:
            own = np.flatnonzero(dimension == words + each)
            start[own, each] += digit[own] << shift[own]
            fixed[own, each] += width[own]
        nothing = np.zeros(0, np.int64)
        return Level(nothing, nothing, known, fixed, start)

    def _node_words(self, windows: Windows, going: Indices, bases: Indices) -> Words:
        """Return the words of nodes that are not leaves; the source-port rank is in the upper half
        of the field for services.
        """
        words = self._rows.words
        dimension, shift, width = (each[going] for each in windows)
        field = np.minimum(dimension, words)
        shift = shift + 32 * (dimension == words + SOURCE_PORT)
        parts = (shift, field << NODE_FIELD, ((1 << width) - 1) << NODE_MASK, bases << NODE_BASE)
        found: Words = np.bitwise_or.reduce([each.astype(np.uint64) for each in parts])
        return found


def _assembled(
    total: int,
    written: list[tuple[Indices, Words]],
    leaves: list[tuple[Indices, Indices, Marks]],
    leaf_count: int,
    levels: int,
) -> Tree:
    """Put the nodes of all levels together, and after them the leaves, each of which is its own
    only child.
    """
    nodes = np.zeros(total + leaf_count, np.uint64)
    for slots, words in written:
        at_leaf = (words >> np.uint64(63)).astype(np.bool_)
        number = (words & np.uint64((1 << 63) - 1)) + np.uint64(total)
        nodes[slots] = np.where(at_leaf, number << np.uint64(NODE_BASE), words)
    nodes[total:] = np.arange(total, total + leaf_count, dtype=np.uint64) << np.uint64(NODE_BASE)
    rows, counts, closed = (np.concatenate([each[part] for each in leaves]) for part in range(3))
    return Tree(nodes, levels, rows, counts, closed)


def _deposited(numbers: Indices, masks: Indices) -> Indices:
    """Return each number with its lowest bits distributed over the bits of its mask."""
    found, numbers = np.zeros_like(numbers), numbers.copy()
    for bit in range(int(masks.max(initial=0)).bit_length()):
        on = masks >> bit & 1
        found |= (numbers & on) << bit
        numbers >>= on
    return found
