"""Families of sets of numbers, with the number of times each set occurs: as diagrams that share all
that they have in common.

A diagram is a node: the greatest number in any of its sets, the diagram of the sets without that
number, and the diagram of the sets with it, from which the number is left out. A leaf has the empty
set a certain number of times; the leaf 0 has nothing. Equal families have equal node numbers. Two
to the power of eighty ways that pass eighty pairs of devices are a diagram of a few hundred nodes.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterable, Sequence
from typing import NamedTuple, TypeVar

from crossgate.core.sets.effort import spend

_Key = TypeVar("_Key", bound=Hashable)
_Found = TypeVar("_Found")
NONE = 0
"""The family that has no set."""


class _Node(NamedTuple):
    """A number, -1 for a leaf; the sets without it, or for a leaf how often it has the empty set;
    and the sets with it.
    """

    number: int
    without: int
    having: int


class Families:
    """The diagrams of one question, by their numbers."""

    def __init__(self) -> None:
        self._nodes: list[_Node] = []
        self._known: dict[_Node, int] = {}
        self._sums: dict[tuple[int, int], int] = {}
        self._raised: dict[tuple[int, int], int] = {}
        self._parts: dict[tuple[int, int], tuple[int, int]] = {}
        self._totals: dict[int, int] = {}
        self.leaf(0)

    def leaf(self, count: int) -> int:
        """Return the family that has the empty set `count` times."""
        return self._node(_Node(-1, count, NONE))

    def _node(self, node: _Node) -> int:
        if node.number >= 0 and node.having == NONE:
            return node.without
        found = self._known.get(node)
        if found is None:
            spend()
            found = self._known[node] = len(self._nodes)
            self._nodes.append(node)
        return found

    def sum(self, one: int, other: int) -> int:
        """Return the family with the sets of both."""

        def below(pair: tuple[int, int]) -> list[tuple[int, int]]:
            if NONE in pair or all(self._nodes[each].number < 0 for each in pair):
                return []
            (_, a, b), (_, c, d) = self._at_top(pair)
            return [_ordered(a, c), _ordered(b, d)]

        def put(pair: tuple[int, int], found: Sequence[int]) -> int:
            if NONE in pair:
                return sum(pair)
            if not found:
                return self.leaf(sum(self._nodes[each].without for each in pair))
            return self._node(_Node(max(self._nodes[each].number for each in pair), *found))

        return _worked_out(self._sums, _ordered(one, other), below, put)

    def _at_top(self, pair: tuple[int, int]) -> list[_Node]:
        """Return two families, each divided by the greatest number in either."""
        top = max(self._nodes[each].number for each in pair)
        return [
            node if (node := self._nodes[each]).number == top else _Node(top, each, NONE)
            for each in pair
        ]

    def times(self, family: int, factor: int) -> int:
        """Return the family in which each set occurs `factor` times as often."""
        known: dict[int, int] = {}

        def put(each: int, found: Sequence[int]) -> int:
            node = self._nodes[each]
            return (
                self.leaf(node.without * factor)
                if node.number < 0
                else self._node(_Node(node.number, *found))
            )

        return family if factor == 1 else _worked_out(known, family, self._below, put)

    def adding(self, family: int, number: int) -> int:
        """Return the family with a number added to each set."""

        def below(key: tuple[int, int]) -> list[tuple[int, int]]:
            node = self._nodes[key[0]]
            return [(node.without, number), (node.having, number)] if node.number > number else []

        def put(key: tuple[int, int], found: Sequence[int]) -> int:
            each, node = key[0], self._nodes[key[0]]
            if node.number > number:
                return self._node(_Node(node.number, *found))
            return self._node(
                _Node(
                    number,
                    NONE,
                    each if node.number < number else self.sum(node.without, node.having),
                )
            )

        return _worked_out(self._raised, (family, number), below, put)

    def parted(self, family: int, number: int) -> tuple[int, int]:
        """Return the sets that contain a number, and those that do not."""

        def below(key: tuple[int, int]) -> list[tuple[int, int]]:
            node = self._nodes[key[0]]
            return [(node.without, number), (node.having, number)] if node.number > number else []

        def put(key: tuple[int, int], found: Sequence[tuple[int, int]]) -> tuple[int, int]:
            each, node = key[0], self._nodes[key[0]]
            if node.number < number:
                return NONE, each
            if node.number == number:
                return self._node(_Node(number, NONE, node.having)), node.without
            (a, b), (c, d) = found
            return self._node(_Node(node.number, a, c)), self._node(_Node(node.number, b, d))

        return _worked_out(self._parts, (family, number), below, put)

    def without(self, family: int, numbers: Iterable[int]) -> int:
        """Return the sets that contain none of some numbers."""
        for number in numbers:
            family = self.parted(family, number)[1]
        return family

    def total(self, family: int) -> int:
        """Return the number of sets in a family, each counted as often as it occurs."""

        def put(each: int, found: Sequence[int]) -> int:
            return self._nodes[each].without if self._nodes[each].number < 0 else sum(found)

        return _worked_out(self._totals, family, self._below, put)

    def numbers(self, family: int) -> set[int]:
        """Return all numbers that occur in a set of the family."""
        seen, left, found = {family}, [family], set[int]()
        while left:
            each = left.pop()
            if self._nodes[each].number >= 0:
                found.add(self._nodes[each].number)
                fresh = [below for below in self._below(each) if below not in seen]
                seen.update(fresh)
                left += fresh
        return found

    def member(self, family: int) -> set[int]:
        """Return one set of a family that is not empty: at each number one without it, where
        possible.
        """
        found = set[int]()
        while (node := self._nodes[family]).number >= 0:
            if node.without == NONE:
                found.add(node.number)
            family = node.without or node.having
        return found

    def _below(self, family: int) -> list[int]:
        node = self._nodes[family]
        return [node.without, node.having] if node.number >= 0 else []


def _ordered(one: int, other: int) -> tuple[int, int]:
    return (one, other) if one <= other else (other, one)


def _worked_out(
    known: dict[_Key, _Found],
    key: _Key,
    below: Callable[[_Key], Sequence[_Key]],
    put: Callable[[_Key, Sequence[_Found]], _Found],
) -> _Found:
    """Return the result for a key, after those for the keys below it, without recursion; all
    results are kept.
    """
    left = [key]
    while left:
        each = left[-1]
        if each not in known:
            several = below(each)
            missing = [other for other in several if other not in known]
            if missing:
                left += missing
                continue
            known[each] = put(each, [known[other] for other in several])
        left.pop()
    return known[key]
