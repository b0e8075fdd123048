"""What two plans treat differently, as values."""

from __future__ import annotations

from datetime import datetime
from typing import NamedTuple

from crossgate.core.conversation.rules import Decided
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.accesslist import Decider
from crossgate.core.model.address import Family
from crossgate.core.model.conditions import Limit
from crossgate.core.model.packet import Packet
from crossgate.core.model.tls import Hello
from crossgate.core.sets.frame import PacketSet
from crossgate.core.sets.minimise import SetLine


class ComparedFate(NamedTuple):
    """What becomes of conversations in one of two plans: their verdict, whether the sender is told
    of a denial, and which line decided.

    For conversations that get through, `decided` is the line that permitted them where the other
    plan decides; None where no list stands there.
    """

    verdict: Verdict
    told: bool
    decided: Decided | None


class ListDifference(NamedTuple):
    """Packets that two lists treat differently: the decision before and after, the packets as
    lines, an example, and the moment at which it is so.
    """

    was: Decider
    now: Decider
    lines: list[SetLine]
    packet: Packet
    moment: datetime | None
    exceeded: frozenset[Limit] | None = None
    spoken: tuple[Hello | None, ...] | None = None

    @property
    def deciders(self) -> tuple[Decider | None, Decider | None]:
        """The lines that decide about them before and after."""
        return self.was, self.now


class Difference(NamedTuple):
    """Traffic that two plans treat differently; `stray` packets open no conversation.

    It is so at `moment`, None for always; while the rate limits `exceeded` are, None where limits
    make no difference; and for conversations that settle on the TLS in `spoken`, None where that
    makes no difference. `devices` says that at least one end is a device's own address; otherwise
    neither is. `clients` is the part of `lines` that comes from client ports, empty where nothing
    does. `sets` are the packets of that part exactly, or all packets where it is empty.
    """

    family: Family
    stray: bool
    devices: bool
    was: ComparedFate
    now: ComparedFate
    lines: list[SetLine]
    clients: list[SetLine]
    packet: Packet
    moment: datetime | None
    exceeded: frozenset[Limit] | None = None
    spoken: tuple[Hello | None, ...] | None = None
    sets: tuple[PacketSet, ...] = ()

    def __repr__(self) -> str:
        family, lines = self.family.label, len(self.lines)
        return f"<Difference {family} {self.was.verdict} to {self.now.verdict} lines={lines}>"

    @property
    def deciders(self) -> tuple[Decider | None, Decider | None]:
        """The lines that decide about it before and after."""
        return (
            self.was.decided and self.was.decided.decider,
            self.now.decided and self.now.decided.decider,
        )
