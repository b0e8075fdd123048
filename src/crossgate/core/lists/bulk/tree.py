"""A decision tree over the rows of a list, built level by level with NumPy.

1. A node stands for the packets that agree in everything the path to it has looked at, and has the
rows that may take one of them, in order. It looks at one *window* of up to twelve neighbouring
bits: of an address word, of the service rank or of the source-port rank. Each value of the window
has a child.

2. A row that leaves a bit of the window free goes into several children. The worth of a window is
its gain, the bits by which it narrows a packet's rows down, less what it repeats; both are
estimated on up to `_SAMPLE` of the node's rows.

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
from numpy.typing import NDArray

from crossgate.core.lists.bulk.rows import SERVICE, SOURCE_PORT, Rows
from crossgate.core.model.packets import Indices, Marks, Scalar, Words

BLOCK_BITS = 15
"""Packets are looked up in blocks of 2^15, whose columns stay in the processor's cache."""
NODE_FIELD, NODE_MASK, NODE_BASE = BLOCK_BITS, 20, 32
"""Where a node's word has its parts: the window's shift from bit 0, the field, the window's mask,
and the first child's number.

The field stands where it is an offset into the block's columns, one behind the other.
"""

_DIMENSIONS = (SERVICE, SOURCE_PORT)
_MOST_LEVELS = 14
_SAMPLE = 128
_WIDEST = 8
_WIDTHS = (1, 2, 3, 4, 6, 8, 10)
"""The widths that are tried for a window of ranks."""
_REPEATED = 0.35
"""What one doubling of rows costs against one bit of gain."""
_EACH_BIT = 0.03
"""What a bit of a window costs against one bit of gain: its children take room."""
_LEAST_GAIN, _LEAST_SAVED = 0.08, 1.5
"""A node whose best window gains fewer bits, or saves fewer rows, is a leaf."""
_MOST_REPEATED, _SMALL = 12, 4_000
"""A window that repeats its rows more often is not taken, unless they come to few all the same."""


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


class _Level(NamedTuple):
    """The nodes of one level: `node` and `row` are pairs, ascending; the other fields say what the
    path to each node has looked at.

    `known` are the address bits that were looked at. Of each rank the top `fixed` bits were, and
    `start` is its lowest possible value.
    """

    node: Indices
    row: Indices
    known: Words
    fixed: Indices
    start: Indices

    @property
    def nodes(self) -> int:
        return len(self.known)

    def pairs(self, chosen: Marks) -> _Level:
        """Return the same nodes with only some of their rows."""
        return self._replace(node=self.node[chosen], row=self.row[chosen])


class _Windows(NamedTuple):
    """The window of each node: its dimension (an address word, or a rank after those), lowest bit
    and width.
    """

    dimension: Indices
    shift: Indices
    width: Indices


def ragged(counts: Indices) -> tuple[Indices, Indices]:
    """Return, for lists of these lengths laid one after the other, the index of the list and the
    index within it for each element.
    """
    owner = np.repeat(np.arange(len(counts)), counts)
    return owner, np.arange(len(owner)) - (np.cumsum(counts) - counts)[owner]


class TreeBuilder:
    """Builds the tree of some rows; `ranks` are the numbers of service ranks and source-port ranks."""

    def __init__(self, rows: Rows, ranks: tuple[int, int], leaf_rows: int) -> None:
        self._rows = rows
        self._top = np.array(ranks) - 1
        self._bits = np.array([int(each).bit_length() for each in self._top])
        self._leaf_rows = leaf_rows
        self._most = 40 * len(rows) + 400_000
        self._weights = np.random.default_rng(1).integers(1, 1 << 63, len(rows), dtype=np.uint64)
        places = np.arange(64 * rows.words)
        self._word_of, self._bit_of = places // 64, 63 - places % 64
        self._side_of = places // (64 if rows.words > 1 else 32)

    def build(self) -> Tree:
        """Build it."""
        rows = self._rows
        level = _Level(
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
            windows = self._choose(level, counts, leaf)
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

    def _ended(self, level: _Level) -> tuple[_Level, Marks]:
        """Leave out the rows after the first one that takes every packet of its node, and tell
        which nodes have such a row.
        """
        rows, node, row = self._rows, level.node, level.row
        takes = ((_lines(rows.care, row) & ~_lines(level.known, node)) == 0).all(axis=1) & (
            rows.extra[row] == 0
        )
        last = np.minimum(level.start + (1 << (self._bits - level.fixed)) - 1, self._top)
        within = (_lines(rows.low, row) <= _lines(level.start, node)) & (
            _lines(rows.high, row) >= _lines(last, node)
        )
        takes &= within.all(axis=1)
        first = np.full(level.nodes, len(node))
        taking = np.flatnonzero(takes)[::-1]
        first[node[taking]] = taking
        return level.pairs(np.arange(len(node)) <= first[node]), first < len(node)

    # The choice of windows

    def _choose(self, level: _Level, counts: Indices, leaf: Marks) -> _Windows:
        """Choose a window for each node that is no leaf; a node that no window divides well becomes
        a leaf.
        """
        found = _Windows(*(np.zeros(level.nodes, np.int64) for _ in range(3)))
        asking = np.flatnonzero(~leaf)
        if not len(asking):
            return found
        sampled = np.minimum(counts[asking], _SAMPLE)
        owner, place = ragged(sampled)
        starts = np.cumsum(counts) - counts
        sample = level.row[starts[asking][owner] + place * counts[asking][owner] // sampled[owner]]
        widest = np.clip(
            np.ceil(np.log2(counts[asking] / self._leaf_rows)).astype(np.int64) + 1, 1, _WIDEST
        )
        chosen, score = self._address_windows(
            level.known[asking], counts[asking], sampled, owner, sample, widest
        )
        for dimension in _DIMENSIONS:
            if self._bits[dimension]:
                fixed, start = level.fixed[asking, dimension], level.start[asking, dimension]
                self._rank_windows(
                    dimension,
                    fixed,
                    start,
                    counts[asking],
                    sampled,
                    owner,
                    sample,
                    widest,
                    chosen,
                    score,
                )
        for every, own in zip(found, chosen, strict=True):
            every[asking] = own
        saved = counts[asking] * (1 - 2.0 ** -np.maximum(score, 0))
        leaf[asking[(score < _LEAST_GAIN) | (saved < _LEAST_SAVED)]] = True
        return found

    def _address_windows(
        self,
        known: Words,
        counts: Indices,
        sampled: Indices,
        owner: Indices,
        sample: Indices,
        widest: Indices,
    ) -> tuple[_Windows, NDArray[np.float64]]:
        """Return the best window in an address word for each node, and its worth.

        Its upper end is chosen bit by bit, as if bits were independent; how far it extends down, by
        counting the repeated rows.
        """
        rows, nodes = self._rows, np.arange(len(known))
        value, care = _lines(rows.value, sample), _lines(rows.care, sample)
        fixed = care & ~_lines(known, owner)
        firsts = np.cumsum(sampled) - sampled
        of = sampled[:, None].astype(np.float32)
        ones = np.add.reduceat(_unpacked(value & fixed), firsts, axis=0, dtype=np.int32).astype(
            np.float32
        )
        asked = np.add.reduceat(_unpacked(fixed), firsts, axis=0, dtype=np.int32).astype(np.float32)
        free, zeros = of - asked, asked - ones
        gain = -np.log2(
            ((zeros + free) * (zeros + free / 2) + (ones + free) * (ones + free / 2)) / (of * of)
        )
        cost = np.log2(1 + free / of)
        looked_at = _unpacked(known).astype(np.bool_)
        gain[looked_at] = cost[looked_at] = 0
        worth = _running(gain - _REPEATED * cost - _EACH_BIT)
        best, top = np.full(len(nodes), -np.inf), np.zeros(len(nodes), np.int64)
        for width in range(1, int(widest.max()) + 1):
            sums = worth[:, width:] - worth[:, :-width]
            across = self._side_of[width - 1 :] != self._side_of[: len(self._side_of) - width + 1]
            sums[:, across] = -np.inf
            at = sums.argmax(axis=1)
            better = (sums[nodes, at] > best) & (width <= widest)
            best[better], top[better] = sums[nodes, at][better], at[better]
        gained = _running(gain)
        word, bit = self._word_of[top], self._bit_of[top]
        free_bits = ~care[np.arange(len(sample)), word[owner]]
        score, chosen = np.full(len(nodes), -np.inf), np.zeros(len(nodes), np.int64)
        for width in range(1, int(widest.max()) + 1):
            low = bit - width + 1
            fits = (width <= widest) & (low >= 0)
            fits &= (
                self._side_of[np.minimum(top + width - 1, len(self._side_of) - 1)]
                == self._side_of[top]
            )
            within = free_bits >> np.maximum(low, 0)[owner].astype(np.uint64) & np.uint64(
                (1 << width) - 1
            )
            repeated = np.add.reduceat(2.0 ** _bit_count(within), firsts) / sampled
            sums = gained[nodes, np.minimum(top + width, len(self._side_of))] - gained[nodes, top]
            sums = sums - _REPEATED * np.log2(repeated) - _EACH_BIT * width
            better = fits & (sums > score) & _bearable(repeated, counts)
            score[better], chosen[better] = sums[better], width
        return _Windows(word, bit - chosen + 1, chosen), score

    def _rank_windows(  # noqa: PLR0913
        self,
        dimension: int,
        fixed: Indices,
        start: Indices,
        counts: Indices,
        sampled: Indices,
        owner: Indices,
        sample: Indices,
        widest: Indices,
        chosen: _Windows,
        score: NDArray[np.float64],
    ) -> None:
        """Replace the window chosen so far by the next bits of a rank, for each node where that is
        worth more.
        """
        left = self._bits[dimension] - fixed
        low = np.maximum(self._rows.low[sample, dimension] - start[owner], 0)
        high = np.minimum(self._rows.high[sample, dimension] - start[owner], (1 << left[owner]) - 1)
        for width in _WIDTHS:
            asking = np.flatnonzero((width <= widest) & (width <= left))
            if not len(asking):
                continue
            number = np.full(len(left), -1)
            number[asking] = np.arange(len(asking))
            shift = np.maximum(left - width, 0)
            mine = number[owner] >= 0
            line = number[owner][mine] * ((1 << width) + 1)
            begun = np.bincount(
                line + (low >> shift[owner])[mine], minlength=len(asking) * ((1 << width) + 1)
            )
            ended = np.bincount(line + (high >> shift[owner])[mine] + 1, minlength=len(begun))
            held = np.cumsum((begun - ended).reshape(len(asking), -1), axis=1)[:, :-1].astype(
                np.float64
            )
            every = np.maximum(held.sum(axis=1), 1)
            met = np.maximum((held * held).sum(axis=1), 1) / every
            repeated = every / sampled[asking]
            sums = (
                np.log2(sampled[asking] / met) - _REPEATED * np.log2(repeated) - _EACH_BIT * width
            )
            better = (sums > score[asking]) & _bearable(repeated, counts[asking])
            nodes = asking[better]
            score[nodes] = sums[better]
            chosen.dimension[nodes], chosen.shift[nodes] = (
                self._rows.words + dimension,
                shift[nodes],
            )
            chosen.width[nodes] = width

    # Leaves and children

    def _leaves(
        self, level: _Level, counts: Indices, leaf: Marks, closed: Marks
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
        self, level: _Level, windows: _Windows, going: Indices, fans: Indices
    ) -> tuple[_Level, Indices]:
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
        copies = 1 << _bit_count(free)
        for each in _DIMENSIONS:
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

    def _children(
        self, level: _Level, windows: _Windows, parent: Indices, digit: Indices
    ) -> _Level:
        """Return children without rows, each with what the path to it has looked at."""
        words = self._rows.words
        known, fixed, start = (
            _lines(level.known, parent),
            _lines(level.fixed, parent),
            _lines(level.start, parent),
        )
        dimension, shift, width = (each[parent] for each in windows)
        address = np.flatnonzero(dimension < words)
        looked_at = ((1 << width[address]) - 1).astype(np.uint64) << shift[address].astype(
            np.uint64
        )
        known[address, dimension[address]] |= looked_at
        for each in _DIMENSIONS:
            own = np.flatnonzero(dimension == words + each)
            start[own, each] += digit[own] << shift[own]
            fixed[own, each] += width[own]
        nothing = np.zeros(0, np.int64)
        return _Level(nothing, nothing, known, fixed, start)

    def _node_words(self, windows: _Windows, going: Indices, bases: Indices) -> Words:
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


def _lines(table: NDArray[Scalar], rows: Indices) -> NDArray[Scalar]:
    """Return some rows of a table; `np.take` is ten times as fast as indexing."""
    return np.take(table, rows, axis=0)


def _unpacked(words: Words) -> NDArray[np.uint8]:
    """Return the bits of each row's words, the highest bit of the first word first."""
    octets = np.ascontiguousarray(words).astype(">u8").view(np.uint8)
    return np.unpackbits(octets.reshape(len(words), -1), axis=1)


def _running(values: NDArray[np.float32]) -> NDArray[np.float32]:
    return np.concatenate(
        [np.zeros((len(values), 1), np.float32), np.cumsum(values, axis=1, dtype=np.float32)],
        axis=1,
    )


def _bearable(repeated: NDArray[np.float64], counts: Indices) -> Marks:
    found: Marks = (repeated <= _MOST_REPEATED) | (counts * repeated <= _SMALL)
    return found


def _bit_count(numbers: NDArray[np.uint64] | Indices) -> Indices:
    """Return how many of the lowest 12 bits of each number are set."""
    return _COUNTS[numbers.astype(np.int64)]


_COUNTS = np.array([each.bit_count() for each in range(1 << 12)])


def _deposited(numbers: Indices, masks: Indices) -> Indices:
    """Return each number with its lowest bits distributed over the bits of its mask."""
    found, numbers = np.zeros_like(numbers), numbers.copy()
    for bit in range(int(masks.max(initial=0)).bit_length()):
        on = masks >> bit & 1
        found |= (numbers & on) << bit
        numbers >>= on
    return found
