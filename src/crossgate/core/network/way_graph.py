"""What packets meet on all their paths from one end to another: a graph, which can be read step by
step or passage by passage.
"""

from __future__ import annotations

from collections.abc import Container, Iterator
from functools import cached_property
from typing import NamedTuple

from crossgate.core.model.network import Direction, Point
from crossgate.core.network.nodes import Nodes, Sequence, SequenceEnd
from crossgate.core.network.paths import Crossing


class Border(NamedTuple):
    """A border of translations, crossed in one direction: an interface with rules, or any of the
    other interfaces of a device that translates, for which the device itself stands.
    """

    point: Point
    direction: Direction


class Marker(NamedTuple):
    """A token that no packet meets: it keeps sequences apart that are otherwise equal."""

    what: tuple[object, ...]


Token = Crossing | Border | Marker | str
"""A place with a list, crossed in a direction by packets or by frames; the name of a stateful
device that is passed; where addresses may be translated; or a marker.
"""


class Passage(NamedTuple):
    """What packets meet on one way: the places with lists in order, the stateful devices with
    lists, and whether they arrive.
    """

    crossings: tuple[Crossing, ...]
    stateful: frozenset[str]
    arrived: bool


class WayStep(NamedTuple):
    """A point of the automaton of ways: the outcomes of packets that meet nothing more, and the
    `moves` of the others. A move is the number of the token that is met next, and the step that
    follows it.
    """

    ends: frozenset[SequenceEnd]
    moves: tuple[tuple[int, int], ...]


class WayGraph:
    """What packets from one end to another meet on their different ways; `count` is the number of
    these ways, and `first` is the way of the first path.

    `steps` are the ways as an automaton, the start first, each step before those that follow it.
    `number` is the node of the ways, and `first_sequence` the tokens of the first one.
    """

    def __init__(
        self, nodes: Nodes, tokens: list[Token], number: int, first: Sequence | None
    ) -> None:
        """Make the graph of a node; where it has several sequences, `first` is the one of the first
        path.
        """
        self.nodes = nodes
        self._tokens = tokens
        self.number = number
        self.count: int = nodes.count(number)
        self.first_sequence: Sequence = nodes.sequences(number)[0] if first is None else first
        self.first: Passage = self._passage(self.first_sequence)

    def __iter__(self) -> Iterator[Passage]:
        """Yield the ways one by one, the first one first. Raises `TooManyPieces` where there are
        more than `MOST_WAYS`.
        """
        return map(self._passage, self.sequences)

    @cached_property
    def sequences(self) -> list[Sequence]:
        """The token sequences of the ways, the first one first. Raises `TooManyPieces` where there
        are more than `MOST_WAYS`.
        """
        every = self.nodes.sequences(self.number) if self.count > 1 else ()
        return [self.first_sequence, *(each for each in every if each != self.first_sequence)]

    @cached_property
    def steps(self) -> list[WayStep]:
        """The ways as an automaton."""
        numbers = self.nodes.below(self.number)[::-1]
        step = {number: index for index, number in enumerate(numbers)}
        nodes = [self.nodes.of[number] for number in numbers]
        return [
            WayStep(
                frozenset(end for end in node.ends if isinstance(end, SequenceEnd)),
                tuple((token, step[child]) for token, child in node.children),
            )
            for node in nodes
        ]

    def token_at(self, number: int) -> Token:
        """Return the token that has a number."""
        return self._tokens[number]

    @cached_property
    def met(self) -> frozenset[int]:
        """The tokens that are met on at least one way, by their numbers."""
        return frozenset(token for step in self.steps for token, _ in step.moves)

    @cached_property
    def crossings(self) -> tuple[Crossing, ...]:
        """Every place with a list that is met on at least one way, in an order that all ways
        keep.
        """
        if self.count == 1:
            return self.first.crossings
        met = dict.fromkeys(self.token_at(token) for step in self.steps for token, _ in step.moves)
        return tuple(each for each in met if isinstance(each, Crossing))

    @cached_property
    def seen(self) -> bool:
        """Whether some place sees packets otherwise than they were sent."""
        return any(each.view for each in self.crossings)

    @cached_property
    def devices(self) -> frozenset[str]:
        """The names of the stateful devices with lists that packets pass on at least one way."""
        return frozenset(each for each in map(self.token_at, self.met) if isinstance(each, str))

    @cached_property
    def always(self) -> frozenset[str]:
        """The names of the stateful devices with lists that packets pass on every way."""
        if self.count == 1:
            return self.first.stateful
        return frozenset(name for name in self.first.stateful if self.all_meet((name,)))

    @cached_property
    def ends(self) -> frozenset[SequenceEnd]:
        """The outcomes of the ways: arrived, lost, or both."""
        return frozenset(end for step in self.steps for end in step.ends)

    def alike(self, other: WayGraph, all_devices: bool) -> bool:
        """Whether these are the ways of another plan, leaving out the places that only one of the
        two plans has (`Ways.alike`).
        """
        if self.number == other.number:
            return True
        only = self.met ^ other.met
        apart = [self.token_at(token) for token in only]
        names = {each for each in apart if isinstance(each, str)}
        if names and (
            all_devices
            or any(each.point.device in names for each in self.crossings if each not in apart)
        ):
            return False
        return self.nodes.without(self.number, only) == self.nodes.without(other.number, only)

    def all_meet(self, some: Container[Token]) -> bool:
        """Whether every way meets at least one of the given tokens."""
        reached = {0}
        for number, step in enumerate(self.steps):
            if number in reached:
                if step.ends:
                    return False
                reached.update(
                    following for token, following in step.moves if self.token_at(token) not in some
                )
        return True

    def _passage(self, sequence: Sequence) -> Passage:
        tokens = [self.token_at(each) for each in sequence.tokens]
        places = tuple(each for each in tokens if isinstance(each, Crossing))
        return Passage(
            places,
            frozenset(each for each in tokens if isinstance(each, str)),
            sequence.end is SequenceEnd.ARRIVED,
        )
