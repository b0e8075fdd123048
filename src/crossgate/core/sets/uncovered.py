"""The rest of a box without many others: when no single one covers it, do they all together?

1. A few parts are taken out one by one, the one that takes the most first (`_by_pieces`).

2. Many boxes, which may have scattered bits, are settled bit by bit (`_by_bits`). The spans of
numbers are cut where any box begins or ends, so that only bits are left within a cell. Then one bit
after the other is fixed, first the one that the boxes with the fewest bits depend on: boxes that
disagree drop out, and a box that has no bit left to disagree covers the rest. When few bits are
left, all their combinations are ticked off in one array.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from functools import cache, reduce
from itertools import product
from operator import or_

import numpy as np
from numpy.typing import NDArray

from crossgate.core.sets.atoms import bits_of
from crossgate.core.sets.boxes import Box, minus, overlap
from crossgate.core.sets.effort import spend

_Rows = NDArray[np.uint8]
"""A row a box, a column a bit: 0, 1, or 2 where it is free."""

_FEW_PARTS = 24
"""Up to so many parts they are taken out of a box one by one."""
_FREE = 2
_FEW_BITS = 14
_MOST_CELLS = 256
_MANY = 1024


def first_uncovered(box: Box, parts: Sequence[Box]) -> Box | None:
    """Return a box that is in none of `parts` and inside the given box; None when the parts cover
    it together.
    """
    if len(parts) > _FEW_PARTS:
        boxes = [part for each in parts if (part := overlap(each, box)) is not None]
        cells = _cells(box, boxes)
        if cells is not None:
            return _by_bits(box, cells, boxes)
    return _by_pieces(box, parts)


def _by_pieces(box: Box, parts: Sequence[Box]) -> Box | None:
    """Return an uncovered box, or None, taking out one part after another, depth first. Of the
    parts that touch a box the one that takes the most goes first, so that few pieces arise.
    """
    stack: list[tuple[Iterator[Box], Sequence[Box]]] = [(iter((box,)), parts)]
    while stack:
        pieces, candidates = stack[-1]
        piece = next(pieces, None)
        if piece is None:
            stack.pop()
            continue
        touching: list[Box] = []
        best: Box | None = None
        for each in candidates:
            part = overlap(each, piece)
            if part is None:
                continue
            touching.append(each)
            if best is None or part.weight > best.weight:
                best = part
                if part == piece:
                    break
        spend()
        if best is None:
            return piece
        if best != piece:
            # The largest of what is left comes first: with one more bit fixed it misses many of the
            # others.
            stack.append((minus(piece, best), touching))
    return None


def _by_bits(box: Box, cells: Iterable[Box], parts: Sequence[Box]) -> Box | None:
    """Return an uncovered box, or None, within cells of a box in which no part begins or ends a
    span.
    """
    spans = np.array([part[3:] for part in parts], np.int64).reshape(-1, 6)
    bits = [
        (part.value & box.wildcard & ~part.wildcard, box.wildcard & ~part.wildcard)
        for part in parts
    ]
    whole = np.array([not fixed for _, fixed in bits], np.bool_)
    for cell in cells:
        own = np.array(cell[3:], np.int64)
        covering = ((spans[:, ::2] <= own[::2]) & (own[1::2] <= spans[:, 1::2])).all(axis=1)
        if (covering & whole).any():
            continue  # one of them has all of the cell
        inside = {bits[index] for index in np.flatnonzero(covering).tolist()}
        asked = reduce(or_, (fixed for _, fixed in inside), 0)
        columns = [1 << shift for shift in bits_of(asked)]
        rows = np.where(
            _digits([fixed for _, fixed in inside], asked),
            _digits([value for value, _ in inside], asked),
            _FREE,
        )
        found = _lucky(rows) or _search(rows, np.arange(len(columns)))
        if found is not None:
            fixed = sum(columns[column] for column in found)
            return cell._replace(
                value=cell.value | sum(columns[column] for column, bit in found.items() if bit),
                wildcard=cell.wildcard & ~fixed,
            )
    return None


def _digits(numbers: Sequence[int], asked: int) -> _Rows:
    """Return the `asked` bits of some numbers, the lowest first, a row for each number."""
    size = asked.bit_length() // 8 + 1
    octets = np.frombuffer(
        b"".join(each.to_bytes(size, "little") for each in numbers), np.uint8
    ).reshape(-1, size)
    return np.unpackbits(octets, axis=1, bitorder="little")[:, bits_of(asked)]


def _cells(box: Box, parts: Sequence[Box]) -> Iterable[Box] | None:
    """Return a box cut at every end of a span of its parts; None when that makes too many cells."""
    cuts = []
    for first in (3, 5, 7):
        starts = {
            box[first],
            *(part[first] for part in parts),
            *(part[first + 1] + 1 for part in parts),
        }
        inside = sorted(start for start in starts if box[first] <= start <= box[first + 1])
        cuts.append(
            list(zip(inside, [*(start - 1 for start in inside[1:]), box[first + 1]], strict=True))
        )
    if len(cuts[0]) * len(cuts[1]) * len(cuts[2]) > _MOST_CELLS:
        return None
    return (
        Box(box.family, box.value, box.wildcard, *protocols, *sources, *ports)
        for protocols, sources, ports in product(*cuts)
    )


@cache
def _choices(columns: int) -> NDArray[np.float32]:
    """Return many random choices of bits, a column for each choice: -1 for 0, and 1 for 1."""
    return 2 * np.random.default_rng(64).integers(0, 2, (columns, _MANY)).astype(np.float32) - 1


_SIGN = np.array([-1, 1, 0], np.float32)
"""What stands for a bit that is 0, 1 or free: the sum of its products with a choice is the number
of fixed bits where all agree.
"""


def _lucky(rows: _Rows) -> dict[int, int] | None:
    """Try many random choices of all bits at once, and return one that no row agrees with; None
    proves nothing.
    """
    choices, signs = _choices(rows.shape[1]), _SIGN[rows]
    free = np.flatnonzero((signs @ choices < np.abs(signs).sum(axis=1, keepdims=True)).all(axis=0))
    return (
        {column: int(bit > 0) for column, bit in enumerate(choices[:, free[0]])}
        if len(free)
        else None
    )


def _search(rows: _Rows, columns: NDArray[np.int64]) -> dict[int, int] | None:
    """Return values of the bits, by column, with which no row agrees; None when every choice agrees
    with some row.
    """
    if not len(rows):
        return {}
    spend()
    fixed = rows != _FREE
    lengths = fixed.sum(axis=1)
    if not lengths.all():
        return None
    used = fixed.any(axis=0)
    if not used.all():
        rows, columns, fixed = rows[:, used], columns[used], fixed[:, used]
    if len(columns) <= _FEW_BITS:
        return _ticked_off(rows, columns)
    weight = np.ldexp(1.0, -lengths.astype(np.int64))
    ones, zeros = weight @ (rows == 1), weight @ (rows == 0)
    column = int((ones + zeros + 4 * ones * zeros).argmax())
    for bit in (0, 1) if zeros[column] <= ones[column] else (1, 0):
        left = rows[(rows[:, column] == bit) | ~fixed[:, column]]
        found = _search(np.delete(left, column, axis=1), np.delete(columns, column))
        if found is not None:
            return {**found, int(columns[column]): bit}
    return None


def _ticked_off(rows: _Rows, columns: NDArray[np.int64]) -> dict[int, int] | None:
    """Go through every combination of a few bits, and return one that no row agrees with."""
    ticked = np.zeros((2,) * len(columns), np.bool_)
    for row in rows.tolist():
        ticked[tuple(slice(None) if bit == _FREE else bit for bit in row)] = True
    flat = int(ticked.argmin())
    chosen = np.unravel_index(flat, ticked.shape)
    return (
        None
        if ticked[chosen]
        else {int(column): int(bit) for column, bit in zip(columns, chosen, strict=True)}
    )
