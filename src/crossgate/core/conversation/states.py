"""How far a part of what is carried has been followed: on all ways, or on the only one."""

from __future__ import annotations

from typing import Generic, TypeVar

from crossgate.core.conversation.many import Many
from crossgate.core.conversation.places import Asked
from crossgate.core.conversation.rules import Decision, Leg
from crossgate.core.conversation.trails import START, Stop, Trail, TrailKind
from crossgate.core.network.nodes import SequenceEnd

Part = TypeVar("Part")
Known = dict[tuple[Leg, Asked], Decision]
Found = dict[tuple[SequenceEnd | Stop, TrailKind], Trail | Many]
"""How ways of one direction end: by no way, by arriving, or by a line."""


Front = dict[int, dict[TrailKind, Trail | Many]]
"""What has come to the nodes that are still to be gone over."""


class WalkState(Generic[Part]):
    """How far a part has been followed. Where a list divides the part, the state is copied, and
    each copy goes on from there.
    """

    __slots__ = ("answers", "arrived", "front", "known", "many", "part", "there", "waiting")

    def __init__(self, part: Part, node: int) -> None:
        self.part = part
        self.known: Known = {}
        self.front: Front = {node: {START: Trail()}}
        self.many = False
        """Whether it matters of each way there which stateful devices it passed."""
        self.there: Found = {}
        self.arrived = False
        """Whether all ways there have been followed to their ends."""
        self.waiting: list[TrailKind] = []
        """The kinds of ways there of which the ways back are still to be followed; where they all
        fare alike there just one for all.
        """
        self.answers: dict[TrailKind, Found] = {}

    def fork(self, part: Part, key: tuple[Leg, Asked], decision: Decision) -> WalkState[Part]:
        """Return a copy for a piece of the part, with the decision of one more list about it."""
        other = WalkState(part, 0)
        other.known = {**self.known, key: decision}
        other.front = {node: dict(here) for node, here in self.front.items()}
        other.there, other.many, other.arrived, other.waiting = (
            dict(self.there),
            self.many,
            self.arrived,
            list(self.waiting),
        )
        other.answers = {kind: dict(found) for kind, found in self.answers.items()}
        return other


class OneWayState(Generic[Part]):
    """How far a part has been followed where there is a single way: the direction, there (0) or
    back (1), and how many of its places it has met.

    `arrived` is the result of the way there once it is followed back; `end` is how it ended.
    """

    __slots__ = ("arrived", "end", "kind", "known", "met", "part", "trail", "way")

    def __init__(self, part: Part) -> None:
        self.part = part
        self.known: Known = {}
        self.way, self.met, self.kind, self.trail = 0, 0, START, Trail()
        self.arrived: tuple[TrailKind, Trail] | None = None
        self.end: SequenceEnd | Stop = SequenceEnd.ARRIVED

    def fork(self, part: Part, key: tuple[Leg, Asked], decision: Decision) -> OneWayState[Part]:
        """Return a copy for a piece of the part, with the decision of one more list about it."""
        other = OneWayState(part)
        other.known = {**self.known, key: decision}
        other.way, other.met, other.kind, other.trail, other.arrived = (
            self.way,
            self.met,
            self.kind,
            self.trail.copy(),
            self.arrived,
        )
        return other
