"""Spans of numbers against plain sets of them."""

from __future__ import annotations

from itertools import pairwise

from hypothesis import given
from hypothesis import strategies as st

from crossgate.core.sets import spans as line
from crossgate.core.sets.spans import Spans

NUMBERS = range(-1, 14)
SPANS = st.lists(
    st.tuples(st.integers(0, 12), st.integers(0, 12)).filter(lambda each: each[0] < each[1])
)


def numbers(spans: Spans) -> set[int]:
    return {each for first, end in spans for each in range(first, end)}


@given(SPANS)
def test_joined_spans_have_the_same_numbers_and_are_apart(spans: list[line.Span]) -> None:
    found = line.joined(spans)
    assert numbers(found) == numbers(tuple(spans))
    assert all(one[1] < other[0] for one, other in pairwise(found))
    assert line.size(found) == len(numbers(found))


@given(SPANS, SPANS)
def test_operators_are_those_of_sets(one: list[line.Span], other: list[line.Span]) -> None:
    here, there = line.joined(one), line.joined(other)
    assert numbers(line.common(here, there)) == numbers(here) & numbers(there)
    assert numbers(line.less(here, there)) == numbers(here) - numbers(there)
    assert line.meet(here, there) is bool(numbers(here) & numbers(there))
    assert line.within(here, there) is (numbers(here) <= numbers(there))
    assert [each for each in NUMBERS if line.contains(here, each)] == sorted(numbers(here))


@given(SPANS)
def test_spans_that_touch_are_as_good_as_one(spans: list[line.Span]) -> None:
    parts = tuple((each, each + 1) for each in sorted(numbers(tuple(spans))))
    assert line.within(line.joined(spans), parts)
    assert line.within(parts, line.joined(spans))
