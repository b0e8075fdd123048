"""Which bits a node of the tree looks at next: the choice of windows (`tree`, 1 and 2)."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from crossgate.core.lists.bulk.rows import SERVICE, SOURCE_PORT, EntryRows
from crossgate.core.model.packets import Indices, Marks, Scalar, Words

DIMENSIONS = (SERVICE, SOURCE_PORT)
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


class Level(NamedTuple):
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
        """The number of nodes."""
        return len(self.known)

    def pairs(self, chosen: Marks) -> Level:
        """Return the same nodes with only some of their rows."""
        return self._replace(node=self.node[chosen], row=self.row[chosen])


class Windows(NamedTuple):
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


class WindowChooser:
    """Chooses windows for nodes of some rows; `bits` are those of service ranks and of source-port
    ranks, and a leaf is to have at most `leaf_rows` rows.
    """

    def __init__(self, rows: EntryRows, bits: Indices, leaf_rows: int) -> None:
        self._rows, self._bits, self._leaf_rows = rows, bits, leaf_rows
        places = np.arange(64 * rows.words)
        self._word_of, self._bit_of = places // 64, 63 - places % 64
        self._side_of = places // (64 if rows.words > 1 else 32)

    def choose(self, level: Level, counts: Indices, leaf: Marks) -> Windows:
        """Choose a window for each node that is no leaf; a node that no window divides well becomes
        a leaf.
        """
        found = Windows(*(np.zeros(level.nodes, np.int64) for _ in range(3)))
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
        for dimension in DIMENSIONS:
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
    ) -> tuple[Windows, NDArray[np.float64]]:
        """Return the best window in an address word for each node, and its worth.

        Its upper end is chosen bit by bit, as if bits were independent; how far it extends down, by
        counting the repeated rows.
        """
        rows, nodes = self._rows, np.arange(len(known))
        value, care = lines_of(rows.value, sample), lines_of(rows.care, sample)
        fixed = care & ~lines_of(known, owner)
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
            repeated = np.add.reduceat(2.0 ** bit_count(within), firsts) / sampled
            sums = gained[nodes, np.minimum(top + width, len(self._side_of))] - gained[nodes, top]
            sums = sums - _REPEATED * np.log2(repeated) - _EACH_BIT * width
            better = fits & (sums > score) & _bearable(repeated, counts)
            score[better], chosen[better] = sums[better], width
        return Windows(word, bit - chosen + 1, chosen), score

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
        chosen: Windows,
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


def lines_of(table: NDArray[Scalar], rows: Indices) -> NDArray[Scalar]:
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


def bit_count(numbers: NDArray[np.uint64] | Indices) -> Indices:
    """Return how many of the lowest 12 bits of each number are set."""
    return _COUNTS[numbers.astype(np.int64)]


_COUNTS = np.array([each.bit_count() for each in range(1 << 12)])
