"""Boxes as NumPy columns, and all pairs of them that overlap, found without comparing every pair.

A row is a box. Its addresses are words of 64 bits; the flags, fragment and DSCP bits are one more
word; the spans are six numbers. To find pairs, the rows are divided by one address bit after the
other: those with a 0 there, those with a 1, and those where it is free. Rows that differ in a bit
are not compared.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from crossgate.core.model.address import Family
from crossgate.core.model.packets import Scalar
from crossgate.core.sets.boxes import LOW_BITS, LOW_FREE, Box

Words = NDArray[np.uint64]
Numbers = NDArray[np.int64]
Spans = NDArray[np.int32]

CACHED_CELLS = 1 << 16
"""So many pairs of rows are compared at once that a processor's cache has what is worked out of
them.
"""
_LEAF_ROWS = 192
_MOST_CELLS = 1 << 21
_SAMPLE = 256
_WORD = (1 << 64) - 1


def _taken(columns: NDArray[Scalar], rows: Numbers) -> NDArray[Scalar]:
    """Return some rows of columns, each column contiguous in memory."""
    return columns.T.take(rows, axis=1).T


class BoxColumns(NamedTuple):
    """Rows of boxes: `value` and `wildcard` have a column for each word, the lowest word first;
    `spans` has six columns.

    `entry` is the index of each row's region, in ascending order; `loose` marks a row that is
    larger than its region.
    """

    value: Words
    wildcard: Words
    spans: Spans
    entry: Numbers
    loose: NDArray[np.bool_]

    def take(self, rows: Numbers) -> BoxColumns:
        """Return only the given rows."""
        return BoxColumns(
            _taken(self.value, rows),
            _taken(self.wildcard, rows),
            _taken(self.spans, rows),
            self.entry[rows],
            self.loose[rows],
        )

    def down(self) -> BoxColumns:
        """Return the same rows with a second axis of length one, to be compared with all rows of
        other columns at once.
        """
        return BoxColumns(
            self.value[:, None],
            self.wildcard[:, None],
            self.spans[:, None],
            self.entry[:, None],
            self.loose[:, None],
        )

    def across(self) -> BoxColumns:
        """Return the same rows along the second axis, to be compared with columns that are
        `down`.
        """
        return BoxColumns(
            self.value[None],
            self.wildcard[None],
            self.spans[None],
            self.entry[None],
            self.loose[None],
        )


def box_columns(boxes: Sequence[Box], entry: Sequence[int], loose: Sequence[bool]) -> BoxColumns:
    """Return boxes of one family as columns."""
    count = 1 + (2 * boxes[0].family.bits // 64 if boxes else 1)
    value, wildcard = (np.empty((count, len(boxes)), np.uint64).T for _ in range(2))
    for word in range(count):
        shift = LOW_BITS + 64 * (word - 1) if word else 0
        mask = _WORD if word else LOW_FREE
        value[:, word] = [box.value >> shift & mask for box in boxes]
        wildcard[:, word] = [box.wildcard >> shift & mask for box in boxes]
    spans = np.asfortranarray(np.array([box[3:] for box in boxes], np.int32).reshape(-1, 6))
    return BoxColumns(value, wildcard, spans, np.array(entry, np.int64), np.array(loose, np.bool_))


def row_box(family: Family, value: Words, spans: Spans) -> Box:
    """Return the box of a single packet, given as words and spans."""
    bits = int(value[0]) | sum(
        int(word) << LOW_BITS + 64 * bit_index for bit_index, word in enumerate(value[1:])
    )
    return Box(family, bits, 0, *(int(number) for number in spans))


def overlapping(one: BoxColumns, other: BoxColumns) -> NDArray[np.bool_]:
    """Tell whether rows overlap: row by row, or every row with every other when one is `down` and
    the other `across`.
    """
    found: NDArray[np.bool_] = one.spans[..., 0] <= other.spans[..., 1]
    for word in range(one.value.shape[-1] - 1, -1, -1):
        free = one.wildcard[..., word] | other.wildcard[..., word]
        found = found & ((one.value[..., word] ^ other.value[..., word]) & ~free == 0)
    found &= other.spans[..., 0] <= one.spans[..., 1]
    for first in (2, 4):
        found &= one.spans[..., first] <= other.spans[..., first + 1]
        found &= other.spans[..., first] <= one.spans[..., first + 1]
    return found


def meeting_box(columns: BoxColumns, box: Box) -> Numbers:
    """Return the rows that overlap a box, in ascending order: what `overlapping` tells of a single
    box, but a row that fails in one column is not looked at in the next.
    """
    rows = np.arange(len(columns.entry))
    for word in range(columns.value.shape[1] - 1, -1, -1):
        shift = LOW_BITS + 64 * (word - 1) if word else 0
        mask = _WORD if word else LOW_FREE
        value, wildcard = (
            np.uint64(box.value >> shift & mask),
            np.uint64(box.wildcard >> shift & mask),
        )
        free = columns.wildcard[rows, word] | wildcard
        rows = rows[(columns.value[rows, word] ^ value) & ~free == 0]
    spans = box[3:]
    for first in (0, 4, 2):
        begins, ends = columns.spans[rows, first], columns.spans[rows, first + 1]
        rows = rows[(begins <= spans[first + 1]) & (ends >= spans[first])]
    return rows


def covering(outer: BoxColumns, inner: BoxColumns) -> NDArray[np.bool_]:
    """Tell whether rows of `outer` cover those of `inner`; rows are paired as in `overlapping`."""
    found: NDArray[np.bool_] = outer.spans[..., 0] <= inner.spans[..., 0]
    for word in range(outer.value.shape[-1] - 1, -1, -1):
        astray = inner.wildcard[..., word] | (inner.value[..., word] ^ outer.value[..., word])
        found = found & (astray & ~outer.wildcard[..., word] == 0)
    found &= inner.spans[..., 1] <= outer.spans[..., 1]
    for first in (2, 4):
        found &= outer.spans[..., first] <= inner.spans[..., first]
        found &= inner.spans[..., first + 1] <= outer.spans[..., first + 1]
    return found


def covering_pairs(
    outer: BoxColumns, outer_rows: Numbers, inner: BoxColumns, inner_rows: Numbers
) -> Numbers:
    """Return the indices of the pairs in which a row of `outer` covers one of `inner`; a pair that
    fails in one column is not looked at in the next.
    """
    pairs = np.arange(len(outer_rows))
    for word in range(outer.value.shape[-1] - 1, -1, -1):
        of, within = outer_rows[pairs], inner_rows[pairs]
        astray = inner.wildcard[within, word] | (inner.value[within, word] ^ outer.value[of, word])
        pairs = pairs[astray & ~outer.wildcard[of, word] == 0]
    for first in (4, 0, 2):
        of, within = outer_rows[pairs], inner_rows[pairs]
        fits = outer.spans[of, first] <= inner.spans[within, first]
        fits &= inner.spans[within, first + 1] <= outer.spans[of, first + 1]
        pairs = pairs[fits]
    return pairs


def common(one: BoxColumns, other: BoxColumns) -> BoxColumns:
    """Return the intersection of rows that overlap, row by row; entries and looseness are those of
    `other`.
    """
    spans = np.where(
        np.arange(6) % 2 == 0,
        np.maximum(one.spans, other.spans),
        np.minimum(one.spans, other.spans),
    )
    return BoxColumns(
        one.value | other.value, one.wildcard & other.wildcard, spans, other.entry, other.loose
    )


def meeting(table: BoxColumns, rows: Numbers) -> Iterator[tuple[Numbers, Numbers, Numbers]]:
    """Yield, group by group, some of `rows` and all pairs with them: (rows, row, other row), the
    pairs sorted by both.

    Each of `rows`, which ascend, is in exactly one group; the other row of a pair may be any row of
    another entry.
    """
    stack = [(rows, np.arange(len(table.entry)))]
    while stack:
        asking, others = stack.pop()
        bit = _dividing_bit(table, asking) if len(asking) > _LEAF_ROWS else None
        if bit is None:
            most = max(_MOST_CELLS // max(len(others), 1), 1)
            for start in range(0, len(asking), most):
                part = asking[start : start + most]
                yield part, *_pairs(table, part, others)
            continue
        word, bit_index = bit
        shift = np.uint64(bit_index)
        for digit in (0, 1, None):
            chosen = asking[_digit(table, asking, word, shift) == (2 if digit is None else digit)]
            if len(chosen):
                stack.append(
                    (
                        chosen,
                        others
                        if digit is None
                        else others[_may_be(table, others, word, shift, digit)],
                    )
                )


def _pairs(table: BoxColumns, rows: Numbers, others: Numbers) -> tuple[Numbers, Numbers]:
    """Return all overlapping pairs of a row and an other row, of different entries."""
    across = table.take(others).across()
    most = max(CACHED_CELLS // max(len(others), 1), 1)
    found = []
    for start in range(0, len(rows), most):
        down = table.take(rows[start : start + most]).down()
        left, right = np.nonzero(overlapping(down, across) & (down.entry != across.entry))
        found.append((left + start, right))
    left, right = (np.concatenate(each) for each in zip(*found, strict=True))
    return rows[left], others[right]


def _digit(table: BoxColumns, rows: Numbers, word: int, shift: np.uint64) -> Numbers:
    """Return each row's bit: 0, 1, or 2 where it is free."""
    one = np.uint64(1)
    value = table.value[rows, word] >> shift & one
    return np.where(table.wildcard[rows, word] >> shift & one, np.uint64(2), value).astype(np.int64)


def _may_be(
    table: BoxColumns, rows: Numbers, word: int, shift: np.uint64, digit: int
) -> NDArray[np.bool_]:
    digits = _digit(table, rows, word, shift)
    found: NDArray[np.bool_] = (digits == digit) | (digits == 2)
    return found


def _dividing_bit(table: BoxColumns, rows: Numbers) -> tuple[int, int] | None:
    """Return the address bit (word, bit) that divides these rows best, or None when no bit divides
    them.
    """
    sample = rows if len(rows) <= _SAMPLE else rows[:: len(rows) // _SAMPLE]
    shifts = np.arange(64, dtype=np.uint64)
    best, most = None, 0
    for word in range(1, table.value.shape[1]):
        fixed = ~table.wildcard[sample, word, None] >> shifts & np.uint64(1)
        ones = table.value[sample, word, None] >> shifts & np.uint64(1)
        with_one = ones.sum(axis=0).astype(np.int64)
        with_zero = fixed.sum(axis=0).astype(np.int64) - with_one
        score = with_one * with_zero
        bit_index = int(score.argmax())
        if score[bit_index] > most:
            best, most = (word, bit_index), int(score[bit_index])
    return best
