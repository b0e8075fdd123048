"""Groups of alike conversations, joined where little of the whole was not seen."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from math import ceil

from crossgate.core.answers.groups import FlowGroup, Kind, Term

Counts = Mapping[Kind, int]
"""How many conversations there were from an address to another one for a term."""


def rounded_up(number: float) -> int:
    """Return a number rounded up to two significant digits."""
    whole = ceil(number - 1e-9)
    unit: int = 10 ** max(len(str(whole)) - 2, 0)
    return -(-whole // unit) * unit


def _seen(group: FlowGroup, counts: Counts) -> int:
    """Return how many conversations of a group were seen."""
    return sum(
        (one, other, term) in counts
        for one in group.sources
        for other in group.destinations
        for term in group.terms
    )


def loosened(
    groups: Sequence[FlowGroup], counts: Counts, room: float
) -> list[tuple[FlowGroup, list[FlowGroup]]]:
    """Join groups of the same services as long as no more than `room` of each was not seen; return
    each with the groups that it was made of.
    """
    if not room:
        return [(each, [each]) for each in groups]
    found, left = [], sorted(groups, key=lambda each: -len(each.sources) * len(each.destinations))
    most: dict[frozenset[Term], int] = {}
    for each in groups:
        most[each.terms] = most.get(each.terms, 0) + len(each.sources) * len(each.destinations)
    while left:
        base = left.pop(0)
        parts, before = [base], -1
        while before != len(left):
            before = len(left)
            for each in [each for each in left if each.terms == base.terms]:
                whole = FlowGroup(
                    base.sources | each.sources, base.destinations | each.destinations, base.terms
                )
                size = len(whole.sources) * len(whole.destinations)
                if (
                    1 - most[base.terms] / size <= room
                    and 1 - _seen(whole, counts) / (size * len(base.terms)) <= room
                ):
                    base = whole
                    parts.append(each)
                    left.remove(each)
        found.append((base, parts))
    return found
