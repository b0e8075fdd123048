"""A small selection of tests that together serve all reasons; no test of it could be left out."""

from __future__ import annotations

import heapq
from collections.abc import Hashable, Mapping
from typing import TypeVar

Test = TypeVar("Test", bound=Hashable)
Reason = TypeVar("Reason", bound=Hashable)


def fewest(reasons_of: Mapping[Test, frozenset[Reason]]) -> list[Test]:
    """Return tests that together have every reason which any test has.

    The test with the most missing reasons is taken first (Chvatal 1979: at most ln n times the
    least number of tests); then tests that the others make needless are removed. The cost grows
    with the sum of all reasons.
    """
    missing = set().union(*reasons_of.values()) if reasons_of else set()
    order = {test: rank for rank, test in enumerate(reasons_of)}
    queue = [(-len(own), order[test], test) for test, own in reasons_of.items()]
    heapq.heapify(queue)
    chosen: list[Test] = []
    while missing:
        known, rank, test = heapq.heappop(queue)
        left = len(reasons_of[test] & missing)
        if left < -known:  # others have some of its reasons by now
            if left:
                heapq.heappush(queue, (-left, rank, test))
            continue
        chosen.append(test)
        missing -= reasons_of[test]
    return _needed(reasons_of, chosen)


def _needed(reasons_of: Mapping[Test, frozenset[Reason]], chosen: list[Test]) -> list[Test]:
    counts: dict[Reason, int] = {}
    for test in chosen:
        for reason in reasons_of[test]:
            counts[reason] = counts.get(reason, 0) + 1
    kept = set[Test]()
    for test in sorted(chosen, key=lambda each: len(reasons_of[each])):
        if all(counts[reason] > 1 for reason in reasons_of[test]):
            for reason in reasons_of[test]:
                counts[reason] -= 1
        else:
            kept.add(test)
    return [test for test in chosen if test in kept]
