"""How far a walk has come: what tells ways apart, and what is known of those that are alike."""

from __future__ import annotations

from typing import Generic, NamedTuple, TypeVar

from crossgate.core.conversation.endings import Link
from crossgate.core.conversation.places import Place
from crossgate.core.conversation.rules import Decision, Leg
from crossgate.core.model.accesslist import AccessList, Decider
from crossgate.core.network.nodes import Outcome

Part = TypeVar("Part")
NEVER = 99
"""The leg of what decides on no leg."""


class Stop(NamedTuple):
    """A line that stops, by the token of its place."""

    token: int
    decider: Decider


class LateStop(NamedTuple):
    """The first line that stops a later leg, of those that stop the earliest such leg."""

    leg: int
    stop: Stop


class Kind(NamedTuple):
    """What tells ways apart later.

    `first` marks the first way of all; `passed` are the stateful devices that matter; `late` is what stops a later leg. `judges` are the
    places on the way there whose lists may judge TLS, each with the line that is due; `seen` the stateful devices on the way back.
    """

    first: bool = True
    passed: frozenset[str] = frozenset()
    late: LateStop | None = None
    judges: tuple[tuple[Place, Decider | None], ...] = ()
    seen: frozenset[str] = frozenset()


class Trail:
    """What is known of ways of one kind that have come equally far.

    `lines` are the lines that decided on some of them, a bit each, `later` those that decide later legs. `by` is the earliest leg on which
    the line asked about decides, of the way where that is latest. `remembered` are the stateful devices passed on each, `number` is how
    many they are, and `link` is what one of them met: one on which the line asked about decides as late as on any.
    """

    __slots__ = ("by", "later", "lines", "link", "number", "remembered")

    def __init__(
        self,
        lines: int = 0,
        later: int = 0,
        by: int = NEVER,
        remembered: frozenset[str] = frozenset(),
        number: int = 1,
        link: Link | None = None,
    ) -> None:
        self.lines, self.later, self.by, self.remembered, self.number, self.link = lines, later, by, remembered, number, link

    def copy(self) -> Trail:
        """Return one that can be led on by itself."""
        return Trail(self.lines, self.later, self.by, self.remembered, self.number, self.link)

    def and_(self, other: Trail | None) -> Trail:
        """Return what is known of both; of this alone where there is no other."""
        if other is None:
            return self
        latest = other if other.by >= self.by else self
        remembered, number = self.remembered & other.remembered, self.number + other.number
        return Trail(self.lines | other.lines, self.later | other.later, latest.by, remembered, number, latest.link)


START = Kind()
BEGUN: dict[Kind, Trail] = {START: Trail()}
Known = dict[tuple[Leg, AccessList], Decision]
Found = dict[tuple[Outcome | Stop, Kind], Trail]
"""How ways of one direction end: by no way, by arriving, or by a line."""


class State(Generic[Part]):
    """How far a part has been followed. Where a list divides it, it is copied, and each copy goes on where it was."""

    __slots__ = ("answers", "arrived", "front", "known", "part", "relevant", "there", "waiting")

    def __init__(self, part: Part, node: int) -> None:
        self.part = part
        self.known: Known = {}
        self.front: dict[int, dict[Kind, Trail]] = {node: BEGUN}
        self.relevant: frozenset[str] = frozenset()
        """The stateful devices by which ways there are told apart."""
        self.there: Found = {}
        self.arrived = False
        """Whether all ways there have been followed to their ends."""
        self.waiting: list[frozenset[str]] = []
        """The devices passed, for each of which the ways back are still to be followed."""
        self.answers: dict[frozenset[str], Found] = {}

    def fork(self, part: Part, key: tuple[Leg, AccessList], decision: Decision) -> State[Part]:
        """Return a copy for a piece of the part, of which it is known what one more list does."""
        other = State(part, 0)
        other.known = {**self.known, key: decision}
        other.front = {node: dict(here) for node, here in self.front.items()}
        other.there, other.relevant, other.arrived, other.waiting = dict(self.there), self.relevant, self.arrived, list(self.waiting)
        other.answers = {passed: dict(found) for passed, found in self.answers.items()}
        return other


class Line(Generic[Part]):
    """How far a part has been followed on a single way: on which way, there (0) or back (1), and how many of its places it has met.

    `arrived` is what came of the way there, once it is followed back; `end` is how it ended.
    """

    __slots__ = ("arrived", "end", "kind", "known", "met", "part", "trail", "way")
    relevant: frozenset[str] = frozenset()
    """No ways there are told apart."""

    def __init__(self, part: Part) -> None:
        self.part = part
        self.known: Known = {}
        self.way, self.met, self.kind, self.trail = 0, 0, START, Trail()
        self.arrived: tuple[Kind, Trail] | None = None
        self.end: Outcome | Stop = Outcome.ARRIVED

    def fork(self, part: Part, key: tuple[Leg, AccessList], decision: Decision) -> Line[Part]:
        """Return a copy for a piece of the part, of which it is known what one more list does."""
        other = Line(part)
        other.known = {**self.known, key: decision}
        other.way, other.met, other.kind, other.trail, other.arrived = self.way, self.met, self.kind, self.trail.copy(), self.arrived
        return other


def met(link: Link | None) -> int:
    """Return how many tokens have been met."""
    return 0 if link is None else link.met
