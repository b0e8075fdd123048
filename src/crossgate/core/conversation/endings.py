"""How conversations end: groups of their ways that end alike, each with what one of these ways
met.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import NamedTuple

from crossgate.core.conversation.places import Asked, Walk
from crossgate.core.conversation.rules import Decided, Decision, Leg
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.accesslist import AccessList, Decider
from crossgate.core.network.nodes import Sequence as Tokens
from crossgate.core.network.nodes import SequenceEnd
from crossgate.core.network.paths import Crossing
from crossgate.core.network.way_graph import WayGraph

Decisions = Mapping[tuple[Leg, Asked], Decision]


class MetLink(NamedTuple):
    """An element of a linked list of what was met: a token, the node after it, what was met before,
    and how many tokens were `met` in all.
    """

    before: MetLink | None
    token: int
    node: int
    met: int


class Lines:
    """All lines that decided something during one walk over all ways, with a bit for each."""

    def __init__(self) -> None:
        self.every: list[tuple[int, int, Decider]] = []
        """Each with the number of its leg and the token of its place, by the numbers of their bits.
        """
        self._bits: dict[tuple[int, int, Decider], int] = {}

    def bit(self, leg: int, token: int, decider: Decider) -> int:
        """Return the bit that stands for the decision of a line about a leg, given by its number,
        at a place, given by its token.
        """
        key = leg, token, decider
        bit = self._bits.get(key)
        if bit is None:
            bit = self._bits[key] = 1 << len(self.every)
            self.every.append(key)
        return bit


class Example(NamedTuple):
    """One of the ways that end alike: what was met there, and back where answers `returned`; and
    what lists did.

    `decisions` are those of each list with a leg, or with the leading leg of its direction where
    they do the same with all legs.
    """

    walk: Walk
    there: MetLink | None
    back: MetLink | None
    returned: bool
    decisions: Decisions
    lines: Lines


class Ending(NamedTuple):
    """Some ways of a conversation that end alike: the end, and the number of ways.

    `first` says that it is the first of all ways and no other; it stands first among several
    endings. `by` says whether the line asked about decided on each of the ways; the example is one
    on which it did not, where there is one. `decided` are the lines that decided on some of them, a
    bit for each. `judges` are the lists that judge the TLS version on some of them.
    """

    verdict: Verdict
    leg: Leg
    stop: Decided | None
    by: bool = False
    number: int = 1
    first: bool = True
    decided: int = 0
    judges: frozenset[AccessList] = frozenset()
    example: Example | None = None

    def and_(self, other: Ending) -> Ending:
        """Return one ending for the ways of two that end alike: the numbers are added; the example
        is one on which the line asked about did not decide, if there is one.
        """
        return self._replace(
            by=self.by and other.by,
            number=self.number + other.number,
            decided=self.decided | other.decided,
            judges=self.judges | other.judges,
            example=self.example if self.by <= other.by else other.example,
        )

    @property
    def lines(self) -> list[tuple[int, Crossing, Decider]]:
        """The lines that decided on some of these ways, each with the number of its leg and its
        place.
        """
        if self.example is None:
            return []
        every, places = self.example.lines.every, self.example.walk.places
        return [
            (every[number][0], *places.decided(every[number][1], every[number][2]))
            for number in numbers_of(self.decided)
        ]

    @property
    def passed(self) -> tuple[Decided, ...]:
        """The lines that permitted it on some of these ways, each once for a leg, in the order of
        their first decision.
        """
        if self.example is None:
            return ()
        lines = (self.example.lines.every[number] for number in numbers_of(self.decided))
        return tuple(
            self.example.walk.places.decided(token, decider)
            for _, token, decider in lines
            if decider.permits
        )


def numbers_of(bits: int) -> Iterator[int]:
    """Yield the indices of the bits that are set."""
    while bits:
        lowest = bits & -bits
        yield lowest.bit_length() - 1
        bits ^= lowest


def sequences(ending: Ending) -> tuple[Tokens, Tokens]:
    """Return the token sequences of an ending's example, there and back; where nothing returned,
    that of the first way back.
    """
    example = ending.example
    assert example is not None  # the walk found it
    ways = example.walk.ways
    if ways.count == 1:
        return ways.there.first_sequence, ways.back.first_sequence
    end = SequenceEnd.LOST if ending.verdict is Verdict.UNROUTABLE else SequenceEnd.ARRIVED
    if not example.returned:
        return _sequence(
            ways.there, example.there, end if ending.stop is None else None
        ), ways.back.first_sequence
    stopped = ending.stop is not None and ending.leg.returns and not ending.leg.settles
    there = _sequence(ways.there, example.there, SequenceEnd.ARRIVED)
    return there, _sequence(ways.back, example.back, None if stopped else end)


def _sequence(graph: WayGraph, link: MetLink | None, end: SequenceEnd | None) -> Tokens:
    """Return the sequence that meets the given tokens and has this outcome; without an outcome, it
    goes on with whatever comes first.
    """
    tokens, node = list[int](), graph.nodes.of[graph.number if link is None else link.node]
    while link is not None:
        tokens.append(link.token)
        link = link.before
    tokens.reverse()
    while end is None and not node.ends:
        token, following = node.children[0]
        tokens.append(token)
        node = graph.nodes.of[following]
    return Tokens(tuple(tokens), min(node.ends, key=str) if end is None else end)
