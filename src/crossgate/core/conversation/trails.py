"""How far a walk has come: what keeps ways apart, and what is known of those that are kept
together.
"""

from __future__ import annotations

from typing import NamedTuple

from crossgate.core.conversation.endings import MetLink
from crossgate.core.conversation.places import WalkPlace
from crossgate.core.model.accesslist import Decider

NEVER = 99
"""The leg of what decides on no leg."""


class Stop(NamedTuple):
    """A line that stops a conversation, with the token of its place."""

    token: int
    decider: Decider


class LateStop(NamedTuple):
    """The first line that stops the earliest later leg which any line stops."""

    leg: int
    stop: Stop


class TrailKind(NamedTuple):
    """What keeps ways apart from each other.

    `first` marks the first way of all; `late` is what stops a later leg. `judges` are the places on
    the way there whose lists may judge the TLS version, each with the line that is due; `seen` the
    stateful devices on the way back. Where it matters which devices were passed on the way there,
    ways are kept as families instead (`many`).
    """

    first: bool = True
    late: LateStop | None = None
    judges: tuple[tuple[WalkPlace, Decider | None], ...] = ()
    seen: frozenset[str] = frozenset()


class Trail:
    """What is known of ways of one kind that have come equally far.

    `lines` are the lines that decided on some of them, a bit for each, `later` those that decide
    later legs. `by` is the earliest leg on which the line asked about decides, on the way where
    that is latest. `remembered` are the stateful devices passed on each, `number` is the number of
    ways, and `link` is what one of them met: one on which the line asked about decides as late as
    on any.
    """

    __slots__ = ("by", "later", "lines", "link", "number", "remembered")

    def __init__(
        self,
        lines: int = 0,
        later: int = 0,
        by: int = NEVER,
        remembered: frozenset[str] = frozenset(),
        number: int = 1,
        link: MetLink | None = None,
    ) -> None:
        self.lines, self.later, self.by, self.remembered, self.number, self.link = (
            lines,
            later,
            by,
            remembered,
            number,
            link,
        )

    def copy(self) -> Trail:
        """Return a copy that can be continued independently."""
        return Trail(self.lines, self.later, self.by, self.remembered, self.number, self.link)

    def times(self, factor: int) -> Trail:
        """Return the same with the number of ways multiplied."""
        return Trail(
            self.lines, self.later, self.by, self.remembered, self.number * factor, self.link
        )

    def and_(self, other: Trail | None) -> Trail:
        """Return what is known of both together; of this one where the other is None."""
        if other is None:
            return self
        latest = other if other.by >= self.by else self
        remembered, number = self.remembered & other.remembered, self.number + other.number
        return Trail(
            self.lines | other.lines,
            self.later | other.later,
            latest.by,
            remembered,
            number,
            latest.link,
        )


START = TrailKind()


def met(link: MetLink | None) -> int:
    """Return how many tokens have been met."""
    return 0 if link is None else link.met
