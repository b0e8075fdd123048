"""A single fault that a network can have."""

from __future__ import annotations

from datetime import datetime
from enum import IntEnum
from typing import NamedTuple

from crossgate.core.answers.sheet.tests import SeenInTest
from crossgate.core.conversation.opening import Conversation
from crossgate.core.conversation.rules import LEADING, Leg
from crossgate.core.model.network import Point
from crossgate.core.model.plan import Plan


class Size(IntEnum):
    """How much has to be wrong for a fault to be true; the smaller fault is the likelier."""

    SMALL = 1
    SOME = 2
    LARGE = 3


class NotListening(NamedTuple):
    """A machine on which nothing listens at a protocol's port: it refuses a TCP connection, and may
    report an unreachable UDP port.
    """

    name: str
    protocol: int
    port: int | None

    def seen(self, told: Conversation, else_seen: SeenInTest) -> SeenInTest:
        """Return what is observed of a conversation for which `else_seen` would be observed without
        the fault.
        """
        first = told.first
        there = (told.destination.name, first.protocol, first.destination_port) == self
        return (
            SeenInTest.NOBODY_LISTENS if there and else_seen is SeenInTest.ANSWERED else else_seen
        )


class Silence(NamedTuple):
    """A machine from which nothing is heard: it sends nothing, or what it sends `stays` in its
    subnet.
    """

    name: str
    stays: bool

    def seen(self, told: Conversation, else_seen: SeenInTest) -> SeenInTest:
        """Return what is observed of a conversation for which `else_seen` would be observed without
        the fault.
        """
        if self.stays and told.on_link:
            return else_seen
        silent = told.source.name == self.name or (
            told.destination.name == self.name and else_seen is SeenInTest.ANSWERED
        )
        return SeenInTest.SILENCE if silent else else_seen

    def decides(self, told: Conversation, leg: Leg, point: Point) -> bool:
        """Whether packets of a leg still reach a list at a point although the machine is silent."""
        if self.stays and told.on_link:
            return True
        sender = told.destination if leg.returns else told.source
        if leg not in LEADING or (leg.returns and told.source.name == self.name):
            return self.name not in (told.source.name, told.destination.name)
        if sender.name != self.name:
            return True
        on_its_link = point == sender.at or point.owner in (sender.name, sender.segment)
        return self.stays and on_its_link


class PossibleFault(NamedTuple):
    """Something that may be wrong: in words, its size, the plan that the network then follows, and
    the time by which its windows are judged. A fault at a machine, which no plan can express, is in
    `ends`.
    """

    text: str
    size: Size
    plan: Plan
    at: datetime
    ends: NotListening | Silence | None = None
