"""Kinds of conversations grouped where they differ in one respect: few groups, each with all of
some sources to all of some destinations for all of some terms.
"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import count
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from crossgate.core.model.packets import Indices

MOST_GROUPS = 2_000
"""A list that would need entries for more groups of conversations is none that people read."""
_MOST_DRAWN, _ODD = (1 << 64) - 1, np.uint64(0x9E3779B97F4A7C15)


class NoPattern(Exception):
    """The conversations have no pattern by which they could be grouped, as those of a scan: so many
    `groups` are left of them.
    """

    def __init__(self, groups: int) -> None:
        super().__init__(f"{groups} groups of conversations")
        self.groups = groups


class Term(NamedTuple):
    """What a conversation is for: a protocol, with its port or ICMP type and code where it has one;
    or the fragments of a protocol. A `reply` is the answer: from that port, or with the ICMP type
    that answers.
    """

    protocol: int
    number: int | None = None
    fragment: bool = False
    reply: bool = False


Kind = tuple[int, int, Term]
"""Conversations that are alike: an opener, whom it writes to, and what for."""


class FlowGroup(NamedTuple):
    """All of these sources to all of these destinations for all of these terms."""

    sources: frozenset[int]
    destinations: frozenset[int]
    terms: frozenset[Term]


def grouped(keys: Sequence[Kind], most: int) -> list[FlowGroup]:
    """Group keys that agree in two of sources, destinations and terms, again and again; each key is
    in exactly one group.

    Raises `NoPattern` where there are more groups than `most`.
    """
    sides = [dict.fromkeys(each[side] for each in keys) for side in (0, 1, 2)]
    numbers = [{value: number for number, value in enumerate(each)} for each in sides]
    of_key = [np.array([numbers[side][each[side]] for each in keys]) for side in (0, 1, 2)]
    # Answers differ by the port that they come from, which an entry asks for once.
    joining = (0, 1) if keys[0][2].reply else (0, 1, 2)
    for seed in count():
        draw = np.random.default_rng(seed)
        drawn = [draw.integers(0, _MOST_DRAWN, len(each), dtype=np.uint64) for each in sides]
        group = _put_together([one[of] for one, of in zip(drawn, of_key, strict=True)], joining)
        if (number := int(group.max()) + 1) > most:
            raise NoPattern(number)
        found = _products(keys, group)
        if sum(_size(each) for each in found) == len(keys):
            return found
    raise AssertionError


def _put_together(sums: list[NDArray[np.uint64]], joining: Sequence[int]) -> Indices:
    """Return the group number of each key, the groups in the order of their first keys.

    A set is known by the sum of random numbers drawn for its members. Groups that agree in two
    sides have nothing in common in the third, so the sum of their union is the sum of both. Two
    different sets with one sum are next to impossible, and the size of a group shows it.
    """
    group = np.arange(len(sums[0]))
    before = 0
    while before != len(sums[0]):
        before = len(sums[0])
        for side in joining:
            one, other = (sums[each] for each in (0, 1, 2) if each != side)
            _, first, alike = np.unique(one + other * _ODD, return_index=True, return_inverse=True)
            alike = np.argsort(np.argsort(first))[alike]  # in the order of the first ones
            order, first = np.argsort(alike, kind="stable"), np.sort(first)
            starts = np.searchsorted(alike[order], np.arange(len(first)))
            united = np.add.reduceat(sums[side][order], starts)
            sums = [united if each == side else sums[each][first] for each in (0, 1, 2)]
            group = alike[group]
    return group


def _products(keys: Sequence[Kind], group: Indices) -> list[FlowGroup]:
    """Return the groups of some keys, given the number of each key's group."""
    members: list[list[Kind]] = [[] for _ in range(int(group.max()) + 1)]
    for key, number in zip(keys, group.tolist(), strict=True):
        members[number].append(key)
    return [FlowGroup(*map(frozenset, zip(*each, strict=True))) for each in members]


def _size(group: FlowGroup) -> int:
    return len(group.sources) * len(group.destinations) * len(group.terms)
