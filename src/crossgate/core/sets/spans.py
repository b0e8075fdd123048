"""Sets of numbers as spans, for ports, services and contiguous addresses. Spans are half-open and
ascending; two of a set neither overlap nor touch.
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Iterable

Span = tuple[int, int]
"""The numbers from the first up to, and without, the second."""

Spans = tuple[Span, ...]


def joined(spans: Iterable[Span]) -> Spans:
    """Return the union of any spans, in any order."""
    found: list[Span] = []
    for first, end in sorted(spans):
        if found and first <= found[-1][1]:
            if end > found[-1][1]:
                found[-1] = (found[-1][0], end)
        else:
            found.append((first, end))
    return tuple(found)


def common(one: Spans, other: Spans) -> Spans:
    """Return the numbers that are in both sets."""
    if len(other) == 1:
        return _clipped(one, *other[0])
    if len(one) == 1:
        return _clipped(other, *one[0])
    found, here, there = [], 0, 0
    while here < len(one) and there < len(other):
        first, end = max(one[here][0], other[there][0]), min(one[here][1], other[there][1])
        if first < end:
            found.append((first, end))
        if one[here][1] < other[there][1]:
            here += 1
        else:
            there += 1
    return tuple(found)


def meet(one: Spans, other: Spans) -> bool:
    """Whether some number is in both sets."""
    if not one or not other or one[-1][1] <= other[0][0] or other[-1][1] <= one[0][0]:
        return False
    few, many = (one, other) if len(one) < len(other) else (other, one)
    for first, end in few:
        index = bisect_left(many, (end,))  # the spans before it begin before this one ends
        if index and many[index - 1][1] > first:
            return True
    return False


def _clipped(spans: Spans, first: int, end: int) -> Spans:
    if not spans or (first <= spans[0][0] and spans[-1][1] <= end):
        return spans
    start = _behind(spans, first)
    stop = bisect_left(spans, (end,))
    if start >= stop:
        return ()
    inside = list(spans[start:stop])
    inside[0] = (max(inside[0][0], first), inside[0][1])
    inside[-1] = (inside[-1][0], min(inside[-1][1], end))
    return tuple(inside)


def _behind(spans: Spans, number: int) -> int:
    """Return the index of the first span that ends behind a number."""
    index = bisect_right(spans, (number,))
    return index - (index > 0 and spans[index - 1][1] > number)


def less(one: Spans, other: Spans) -> Spans:
    """Return the numbers that are in the first set only."""
    found, there = [], _behind(other, one[0][0]) if one else 0
    for first, end in one:
        while there < len(other) and other[there][1] <= first:
            there += 1
        index = there
        while index < len(other) and other[index][0] < end:
            if first < other[index][0]:
                found.append((first, other[index][0]))
            first = max(first, other[index][1])
            index += 1
        if first < end:
            found.append((first, end))
    return tuple(found)


def within(one: Spans, other: Spans) -> bool:
    """Whether the second set has all numbers of the first."""
    if one is other or one == other:
        return True
    there = _behind(other, one[0][0]) if one else 0
    for first, end in one:
        while there < len(other) and other[there][1] <= first:
            there += 1
        index = there
        while first < end:
            if index == len(other) or first < other[index][0]:
                return False
            first = other[index][1]
            index += 1
    return True


def contains(spans: Spans, number: int) -> bool:
    """Whether a number is in the set."""
    index = (
        bisect_right(spans, (number, number)) if not spans or spans[-1][0] > number else len(spans)
    )
    return (index > 0 and spans[index - 1][1] > number) or (
        index < len(spans) and spans[index][0] == number
    )


def size(spans: Spans) -> int:
    """Return how many numbers the set has."""
    return sum(end - first for first, end in spans)
