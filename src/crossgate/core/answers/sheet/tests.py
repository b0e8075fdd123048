"""What can be tested by hand: a ping, a connection or a query to a name server from one machine to
another, and what is then seen.
"""

from __future__ import annotations

from enum import StrEnum
from typing import NamedTuple

from crossgate.core.conversation.endings import Ending
from crossgate.core.conversation.opening import Conversation
from crossgate.core.conversation.packets import Tracer
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.accesslist import Decider, DeciderKey
from crossgate.core.model.address import Address
from crossgate.core.model.entry import Action
from crossgate.core.model.packet import CLIENT_PORT, ECHO, SYN, TCP, UDP, Packet, icmp_of

DNS = 53
"""The port of name servers (RFC 1035 section 4.2)."""


class Can(StrEnum):
    """The kinds of tests that a person can make with common programs."""

    PING = "ping"
    CONNECT = "connect"
    LOOKUP = "lookup"


class SeenInTest(StrEnum):
    """What is seen of a test at the machine that makes it.

    It is refused where a device says so (ICMP administratively prohibited, which programs report as
    no route to host). A machine on which nothing listens refuses the connection itself, so the
    packet has arrived; the plan never predicts that, since it does not say which services run.
    """

    ANSWERED = "answered"
    REFUSED = "refused"
    SILENCE = "silence"
    NOBODY_LISTENS = "nobody listens"


class SheetKey(NamedTuple):
    """What makes two tests the same: the machines, the family, and what is sent."""

    source: str
    destination: Address
    what: tuple[int, int | None, int | None]


def can_try(packet: Packet) -> Can | None:
    """Return the kind of test by which a packet can be sent; None where no common program sends
    it.
    """
    if packet.fragment or packet.dscp:
        return None
    if packet.protocol == TCP:
        return Can.CONNECT if packet.flags == SYN else None
    if packet.protocol == UDP:
        return Can.LOOKUP if packet.destination_port == DNS else None
    echo = packet.protocol == icmp_of(packet.family) and packet.icmp_type == ECHO[packet.family]
    return Can.PING if echo and not packet.icmp_code else None


def key_of(conversation: Conversation) -> SheetKey:
    """Return the key of the test that a conversation is."""
    first = conversation.first
    own_port = None if first.source_port == CLIENT_PORT else first.source_port
    what = first.protocol, first.destination_port, own_port
    return SheetKey(conversation.source.name, conversation.destination.address, what)


def seen_of(ending: Ending) -> SeenInTest:
    """Return what is seen where a conversation ends so. One that is cut off once its TLS version is
    known was connected before.
    """
    if ending.verdict is Verdict.PERMITTED or (ending.stop is not None and ending.leg.settles):
        return SeenInTest.ANSWERED
    stop = ending.stop
    told = stop is not None and stop.decider.action is Action.REJECT and not ending.leg.returns
    return SeenInTest.REFUSED if told else SeenInTest.SILENCE


class Tried(NamedTuple):
    """A test with what the plan predicts: its conversation, what is seen, and the lines that decide
    about it, each once.
    """

    conversation: Conversation
    can: Can
    seen: SeenInTest
    ending: Ending
    deciders: dict[DeciderKey, Decider]

    def __repr__(self) -> str:
        return f"<Tried {self.conversation!r}: {self.seen}>"


class Trying:
    """Predicts tests on a plan in one state of its conditions, with all lines or without one."""

    def __init__(self, tracer: Tracer) -> None:
        self._tracer = tracer
        self._shown: dict[tuple[SheetKey, DeciderKey], bool] = {}

    def tried(self, conversation: Conversation) -> Tried | None:
        """Return a test with what the plan predicts; None where nobody can make it by hand, or
        where the result depends on which equal path is taken.
        """
        can = can_try(conversation.first)
        if can is None:
            return None
        endings = self._tracer.endings(conversation)
        first, seen = endings[0], seen_of(endings[0])
        if any(seen_of(each) is not seen for each in endings[1:]):
            return None
        deciders = {each.decider.key: each.decider for each in first.passed}
        if first.stop is not None:
            deciders[first.stop.decider.key] = first.stop.decider
        return Tried(conversation, can, seen, first, deciders)

    def shows(self, tried: Tried, line: DeciderKey) -> bool:
        """Whether a test shows that a line is at work: without that line something else would be
        seen (for an otherwise line: if it did the opposite).
        """
        known = key_of(tried.conversation), line
        if known not in self._shown:
            without = self._tracer.without(tried.deciders[line])
            ending = without.endings(tried.conversation)[0]
            self._shown[known] = seen_of(ending) is not tried.seen
        return self._shown[known]
