"""Sets of token sequences as numbers: equal sets have equal numbers, however they were put
together.

A node is the smallest deterministic automaton of a set: the outcomes of sequences that end here,
and a child for each token with which others go on. Children have smaller numbers than their
parents.
"""

from __future__ import annotations

from enum import Enum
from typing import NamedTuple

from crossgate.core.sets.effort import TooManyPieces

MOST_WAYS = 4096
"""Up to so many different ways of one pair are looked at one by one."""


class SequenceEnd(Enum):
    """How a sequence ends: the packet arrives, or it is lost on the way."""

    ARRIVED = "arrived"
    LOST = "lost"


End = SequenceEnd | str
"""How a sequence ends; in a column, the device at which it does."""


class Sequence(NamedTuple):
    """A sequence of tokens, and its outcome."""

    tokens: tuple[int, ...]
    end: End


class _Node(NamedTuple):
    """A set of sequences: the outcomes of those that end here, and the token and child with which
    the others go on.
    """

    ends: frozenset[End]
    children: tuple[tuple[int, int], ...]


class Nodes:
    """The nodes of one family of a network; `of` has each by its number."""

    def __init__(self) -> None:
        self.of: list[_Node] = []
        self._numbers: dict[_Node, int] = {}
        self._unions: dict[frozenset[int], int] = {}
        self._prepended: dict[tuple[int, int], int] = {}
        self._counts: dict[int, int] = {}

    def _intern(self, ends: frozenset[End], children: tuple[tuple[int, int], ...]) -> int:
        node = _Node(ends, children)
        number = self._numbers.get(node)
        if number is None:
            number = self._numbers[node] = len(self.of)
            self.of.append(node)
        return number

    def prepend(self, tokens: tuple[int, ...], number: int) -> int:
        """Return the node of the sequences of `number` with `tokens` put before each."""
        for token in reversed(tokens):
            key = (token, number)
            found = self._prepended.get(key)
            if found is None:
                found = self._prepended[key] = self._intern(frozenset(), (key,))
            number = found
        return number

    def union(self, numbers: frozenset[int]) -> int:
        """Return the node of all sequences of several nodes."""
        left = [numbers]
        while left:
            several = left[-1]
            if len(several) > 1 and several not in self._unions:
                ends: set[End] = set()
                children: dict[int, set[int]] = {}
                for number in several:
                    node = self.of[number]
                    ends |= node.ends
                    for token, child in node.children:
                        children.setdefault(token, set()).add(child)
                beneath = {token: frozenset(each) for token, each in children.items()}
                waiting = [
                    each for each in beneath.values() if len(each) > 1 and each not in self._unions
                ]
                if waiting:
                    left += waiting
                    continue
                merged = tuple(
                    sorted((token, self._united(each)) for token, each in beneath.items())
                )
                self._unions[several] = self._intern(frozenset(ends), merged)
            left.pop()
        return self._united(numbers)

    def _united(self, numbers: frozenset[int]) -> int:
        return next(iter(numbers)) if len(numbers) == 1 else self._unions[numbers]

    def without(self, number: int, tokens: frozenset[int]) -> int:
        """Return the node of the sequences of `number` with some tokens taken out of each."""
        found: dict[int, int] = {}
        for each in self.below(number):
            node = self.of[each]
            numbers = {
                found[child] if token in tokens else self.prepend((token,), found[child])
                for token, child in node.children
            }
            found[each] = self.union(frozenset((*numbers, *map(self.ending, node.ends))))
        return found[number]

    def ending(self, end: End) -> int:
        """Return the node of the one sequence that has no token and this outcome."""
        return self._intern(frozenset((end,)), ())

    def count(self, number: int) -> int:
        """Return how many sequences a node has."""
        if number not in self._counts:
            for each in self.below(number):
                node = self.of[each]
                self._counts[each] = len(node.ends) + sum(
                    self._counts[child] for _, child in node.children
                )
        return self._counts[number]

    def sequences(self, number: int) -> list[Sequence]:
        """Return the sequences of a node. Raises `TooManyPieces` when there are more than
        `MOST_WAYS`.
        """
        if self.count(number) > MOST_WAYS:
            raise too_many_ways()
        found: list[Sequence] = []
        stack: list[tuple[int, tuple[int, ...]]] = [(number, ())]
        while stack:
            current, tokens = stack.pop()
            node = self.of[current]
            found += [Sequence(tokens, end) for end in sorted(node.ends, key=str)]
            stack += [(child, (*tokens, token)) for token, child in reversed(node.children)]
        return found

    def below(self, number: int) -> list[int]:
        """Return a node and all nodes that can be reached from it, each after its children."""
        seen, front = {number}, [number]
        while front:
            for _, child in self.of[front.pop()].children:
                if child not in seen:
                    seen.add(child)
                    front.append(child)
        return sorted(seen)


def too_many_ways() -> TooManyPieces:
    """Return the error for ways that would have to be looked at one by one and are too many."""
    return TooManyPieces(
        f"the equal paths there meet the lists in more than {MOST_WAYS:,} different ways, which "
        "are not looked at one by one"
    )
