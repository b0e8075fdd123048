"""The algebra of products against sets that are counted out: what is left is all of it, once, and
no more.
"""

from __future__ import annotations

from itertools import product as combinations

from hypothesis import given
from hypothesis import strategies as st

from crossgate.core.sets.products import Product, is_left, joined, left, meet, minus, split

products = st.tuples(*(st.integers(1, 3) for _ in range(6)))


def points(one: Product | None) -> list[tuple[int, ...]]:
    """Count a product out, a point a choice of one bit of each side."""
    return (
        []
        if one is None
        else list(combinations(*([bit for bit in (1, 2) if side & bit] for side in one)))
    )


def once(pieces: list[Product]) -> set[tuple[int, ...]]:
    """Return the points of pieces, in which none is twice."""
    found = [point for piece in pieces for point in points(piece)]
    assert len(found) == len(set(found)), "pieces overlap"
    return set(found)


@given(products, products)
def test_two_meet_in_what_both_have(one: Product, other: Product) -> None:
    assert set(points(meet(one, other))) == set(points(one)) & set(points(other))


@given(products, products, st.permutations(range(6)))
def test_a_product_without_a_part_is_the_rest_in_pieces_apart(
    whole: Product, other: Product, order: list[int]
) -> None:
    part = meet(whole, other)
    if part is not None:
        pieces = list(minus(whole, part, order))
        assert once(pieces) == set(points(whole)) - set(points(part))
        assert len(pieces) <= 6


@given(products, st.lists(products, max_size=6))
def test_what_is_left_without_rows(whole: Product, rows: list[Product]) -> None:
    rest = set(points(whole)) - {point for row in rows for point in points(row)}
    assert once(list(left(whole, rows))) == rest
    assert is_left(whole, rows) is bool(rest)


@given(products, st.lists(products, max_size=6))
def test_a_split_gives_each_packet_to_the_first_row_that_has_it(
    whole: Product, rows: list[Product]
) -> None:
    pieces = list(split(whole, [(row, number) for number, row in enumerate(rows)]))
    assert once([piece for piece, _ in pieces]) == set(points(whole))
    for piece, owner in pieces:
        for point in points(piece):
            assert owner == next(
                (number for number, row in enumerate(rows) if point in points(row)), None
            )


@given(st.lists(products, max_size=6))
def test_joined_are_the_same_packets_in_no_more_products(parts: list[Product]) -> None:
    found = joined(parts)
    assert {point for each in found for point in points(each)} == {
        point for each in parts for point in points(each)
    }
    assert len(found) <= len(set(parts))


def test_products_that_differ_in_one_side_are_one() -> None:
    assert joined([(1, 1, 1, 1, 1, 1), (2, 1, 1, 1, 1, 1), (3, 1, 2, 1, 1, 1)]) == [
        (3, 1, 3, 1, 1, 1)
    ]
