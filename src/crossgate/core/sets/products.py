"""The algebra of products: six bit masks over the atoms of a frame; the intersection of two, and
the rest of one without others.

A product is a tuple of six integers, none of them 0: the sides of a `Region` in the frame's atoms.
Functions here yield lazily where they can, and count their pieces for the question that is being
answered.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import TypeVar

from crossgate.core.sets.effort import spend

Product = tuple[int, int, int, int, int, int]

WHAT_FIRST = (2, 4, 3, 5, 0, 1)
"""What is carried is told apart first: only where it is all of one kind can flags and source ports
leave something out.
"""

_Row = TypeVar("_Row")


def meet(one: Product, other: Product) -> Product | None:
    """Return what two products have in common, or None."""
    a, b, c = one[0] & other[0], one[1] & other[1], one[2] & other[2]
    if not (a and b and c):
        return None
    d, e, f = one[3] & other[3], one[4] & other[4], one[5] & other[5]
    return (a, b, c, d, e, f) if d and e and f else None


def minus(whole: Product, part: Product, order: Sequence[int] = WHAT_FIRST) -> Iterator[Product]:
    """Yield the rest of a product without a part of it: at most six products that do not
    overlap.
    """
    left = list(whole)
    for side in order:
        rest = left[side] & ~part[side]
        if rest:
            piece = left.copy()
            piece[side] = rest
            yield (piece[0], piece[1], piece[2], piece[3], piece[4], piece[5])
            left[side] = part[side]


def split(
    whole: Product, rows: Sequence[tuple[Product, _Row]], order: Sequence[int] = WHAT_FIRST
) -> Iterator[tuple[Product, _Row | None]]:
    """Yield a product in pieces that do not overlap, each with the value of the first row that
    contains it; None where no row does.
    """
    stack = [(whole, rows, 0)]
    while stack:
        spend()
        piece, candidates, start = stack.pop()
        a, b, c, d, e, f = piece
        for index in range(start, len(candidates)):
            (p, q, r, s, t, u), own = candidates[index]
            if p & a and q & b and r & c and s & d and t & e and u & f:
                part = (p & a, q & b, r & c, s & d, t & e, u & f)
                yield part, own
                if part != piece:
                    after = index + 1
                    stack += [(each, candidates, after) for each in minus(piece, part, order)]
                break
        else:
            yield piece, None


def left(
    whole: Product, rows: Sequence[Product], order: Sequence[int] = WHAT_FIRST
) -> Iterator[Product]:
    """Yield the rest of a product without some rows, in pieces that do not overlap; the row that
    takes the most is taken out first.
    """
    stack = [(whole, rows)]
    while stack:
        spend()
        piece, candidates = stack.pop()
        a, b, c, d, e, f = piece
        touching: list[Product] = []
        best: Product | None = None
        most = (-1, 0)
        for row in candidates:
            p, q, r = row[0] & a, row[1] & b, row[2] & c
            if not (p and q and r):
                continue
            s, t, u = row[3] & d, row[4] & e, row[5] & f
            if not (s and t and u):
                continue
            touching.append(row)
            filled = (p == a) + (q == b) + (r == c) + (s == d) + (t == e) + (u == f)
            if filled == 6:
                break
            if filled >= most[0]:
                weight = filled, p.bit_count() * q.bit_count() * r.bit_count()
                if weight > most:
                    best, most = (p, q, r, s, t, u), weight
        else:
            if best is None:
                yield piece
            else:
                stack += [(each, touching) for each in minus(piece, best, order)]


def is_left(whole: Product, rows: Sequence[Product], order: Sequence[int] = WHAT_FIRST) -> bool:
    """Whether anything is left of a product once some rows are taken out of it."""
    return next(left(whole, rows, order), None) is not None


def joined(products: Iterable[Product]) -> list[Product]:
    """Return the same packets in fewer products: those that differ in one side only become one.
    They may overlap.
    """
    found = dict.fromkeys(products)
    before = -1
    while len(found) != before:
        before = len(found)
        spend(before)
        for side in (2, 0, 1, 3, 4, 5):
            groups: dict[tuple[int, ...], int] = {}
            for product in found:
                others = product[:side] + product[side + 1 :]
                groups[others] = groups.get(others, 0) | product[side]
            if len(groups) < len(found):
                found = {(*key[:side], mask, *key[side:]): None for key, mask in groups.items()}  # type: ignore[misc]
    return list(found)
