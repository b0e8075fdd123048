"""Sets of sequences of tokens as numbers: equal sets have equal numbers, however they were put together.

A node is the smallest deterministic automaton of a set: how the sequences end that end here, and a child for each token
that others go on with. Children have smaller numbers than their parents.
"""

from __future__ import annotations

from enum import Enum
from typing import NamedTuple


class Outcome(Enum):
    """How a sequence ends: the packet arrives, or it is lost on the way."""

    ARRIVED = "arrived"
    LOST = "lost"


End = Outcome | str
"""How a sequence ends; in a column, the device at which it does."""


class _Node(NamedTuple):
    """A set of sequences: how those end that end here, and what the others go on with."""

    ends: frozenset[End]
    children: tuple[tuple[int, int], ...]


class Nodes:
    """The nodes of one family of a network; `of` has each by its number."""

    def __init__(self) -> None:
        self.of: list[_Node] = []
        self._numbers: dict[_Node, int] = {}
        self._unions: dict[frozenset[int], int] = {}
        self._prepended: dict[tuple[int, int], int] = {}

    def _intern(self, ends: frozenset[End], children: tuple[tuple[int, int], ...]) -> int:
        node = _Node(ends, children)
        number = self._numbers.get(node)
        if number is None:
            number = self._numbers[node] = len(self.of)
            self.of.append(node)
        return number

    def prepend(self, tokens: tuple[int, ...], number: int) -> int:
        """Return the sequences of a node with tokens before each."""
        for token in reversed(tokens):
            key = (token, number)
            found = self._prepended.get(key)
            if found is None:
                found = self._prepended[key] = self._intern(frozenset(), (key,))
            number = found
        return number

    def union(self, numbers: frozenset[int]) -> int:
        """Return the sequences of several nodes as one."""
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
                waiting = [each for each in beneath.values() if len(each) > 1 and each not in self._unions]
                if waiting:
                    left += waiting
                    continue
                merged = tuple(sorted((token, self._united(each)) for token, each in beneath.items()))
                self._unions[several] = self._intern(frozenset(ends), merged)
            left.pop()
        return self._united(numbers)

    def _united(self, numbers: frozenset[int]) -> int:
        return next(iter(numbers)) if len(numbers) == 1 else self._unions[numbers]

    def ending(self, end: End) -> int:
        """Return the node of the one sequence without tokens that ends so."""
        return self._intern(frozenset((end,)), ())

    def below(self, number: int) -> list[int]:
        """Return a node and all that can be reached from it, each behind its children."""
        seen, front = {number}, [number]
        while front:
            for _, child in self.of[front.pop()].children:
                if child not in seen:
                    seen.add(child)
                    front.append(child)
        return sorted(seen)
