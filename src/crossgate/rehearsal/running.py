"""A running conversation: the ways that its packets take, what translations have made of it, and
which devices know it.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import NamedTuple

from crossgate.core.conversation.rules import Decided
from crossgate.core.model.packet import ICMP, ICMPV6, PORT_PROTOCOLS, TCP, Packet
from crossgate.core.network.one_way import OneWay
from crossgate.core.network.paths import Endpoint
from crossgate.core.network.view import FIRST_CHOICE, LAST_CHOICE, Choice, View, choosing, packet_in
from crossgate.rehearsal.frames import PacketEnds, Read

_FIN, _RST, _SYN, _ACK = 1, 4, 2, 16
_ESTABLISHED, _BEGUN, _DATAGRAMS, _ECHO = 7440, 240, 300, 60
"""So many seconds a device remembers a conversation of which it sees nothing: TCP that is
established, or begun or ending (RFC 5382 section 5), UDP (RFC 4787 section 4.3) and what is like
it, and ICMP (RFC 5508 section 3.2).
"""


@dataclass(slots=True, eq=False)
class Running:
    """A conversation, given by the packet that opened it, as its sender sent that.

    `back` is the way of the answers, None until there is one; `known` are the devices that remember
    it. `due` are the lists that let it pass until its TLS version settles, and `stopped` is the
    list that then stopped it. Sent `alone` it is one packet, which nobody remembers.
    """

    origin: Endpoint
    first: Packet
    numbers: tuple[int, int]
    there: OneWay
    alone: bool
    choice: Choice | None = None
    back: OneWay | None = None
    receiver: Endpoint | None = None
    known: frozenset[str] = frozenset()
    due: list[Decided] = field(default_factory=list)
    said: bytes = b""
    stopped: Decided | None = None
    seen: float = 0.0
    ended: int = 0
    answered: bool = False
    kept: dict[tuple[object, ...], object] = field(default_factory=dict)
    """What has become of packets that are alike, while nothing changes that it depends on."""

    @property
    def idle(self) -> int:
        """The seconds after which it is forgotten."""
        if self.first.protocol == TCP:
            return _ESTABLISHED if self.answered and self.ended != 3 else _BEGUN
        return _ECHO if self.first.protocol in (ICMP, ICMPV6) else _DATAGRAMS

    def notice(self, read: Read, returns: bool, now: float) -> None:
        """Note a packet of the conversation: its time, whether it is an answer, and whether it ends
        the connection.
        """
        self.seen, flags = now, read.packet.flags
        self.answered = self.answered or returns
        if flags is not None and flags & (_FIN | _RST):
            self.ended |= 3 if flags & _RST else 1 << returns

    def is_over(self, now: float) -> bool:
        """Whether it is forgotten by now."""
        return now - self.seen > self.idle

    def begins_again(self, read: Read) -> bool:
        """Whether a packet of its opener opens it again, after it has ended."""
        flags = read.packet.flags
        return bool(self.ended == 3 and flags is not None and flags & (_SYN | _ACK) == _SYN)

    def opening_in(self, view: View) -> tuple[Packet, tuple[int, int]]:
        """Return the packet that opened it as a view sees it, and its numbers."""
        packet = packet_in(view, self.first, self.choice)
        if packet.source_port is not None and packet.destination_port is not None:
            return packet, (packet.source_port, packet.destination_port)
        if self.choice is not None and choosing(view) is not None:
            return packet, (self.choice.port, self.choice.port)  # an echo's identifier
        return packet, self.numbers

    def seen_as(self, read: Read, returns: bool, view: View) -> Packet:
        """Return a packet of it as a list sees it in a view."""
        if not view and not self.there.state.view:
            return read.packet
        opening, _ = self.opening_in(view)
        source, destination = opening.source, opening.destination
        ports = opening.source_port, opening.destination_port
        if returns:
            source, destination, ports = destination, source, (ports[1], ports[0])
        return read.packet._replace(
            source=source, destination=destination, source_port=ports[0], destination_port=ports[1]
        )

    def ends(self, returns: bool, view: View) -> PacketEnds:
        """Return the source and destination, with their ports, of its packets in a view; with
        `returns`, of its answers.
        """
        opening, numbers = self.opening_in(view)
        if returns:
            return PacketEnds(opening.destination, opening.source, (numbers[1], numbers[0]))
        return PacketEnds(opening.source, opening.destination, numbers)


class Ports:
    """The ports and echo identifiers that translations have chosen: no two conversations to one far
    end share one.
    """

    def __init__(self) -> None:
        self._taken: dict[tuple[object, ...], Running] = {}

    def choose(self, running: Running) -> None:
        """Choose an address of the pool and a port for a translated sender, its own port where that
        is free (RFC 4787 section 4.2.1).
        """
        made = choosing(running.there.state.view)
        first = running.first
        if made is None or first.fragment:
            return
        addresses = [value for each in made.pool for value in range(each.first, each.last + 1)]
        # One sender keeps one address (RFC 4787 section 4.1).
        start = first.source % len(addresses)
        for address in (*addresses[start:], *addresses[:start]):
            for number in _candidates(running):
                key = (address, first.protocol, number, first.destination, first.destination_port)
                holder = self._taken.get(key)
                if holder is None or holder is running or holder.first.source == first.source:
                    self._taken[key] = running
                    running.choice = Choice(address, number)
                    return

    def give_back(self, running: Running) -> None:
        """Release what was chosen for a conversation."""
        first, choice = running.first, running.choice
        if choice is not None:
            where = first.destination, first.destination_port
            key = (choice.address, first.protocol, choice.port, *where)
            if self._taken.get(key) is running:
                del self._taken[key]


def _candidates(running: Running) -> Iterator[int]:
    """Yield the numbers that may replace a sender's own, its own one first."""
    own, has_ports = running.numbers[0], running.first.protocol in PORT_PROTOCOLS
    if own >= FIRST_CHOICE or not has_ports:
        yield own
    if has_ports or running.first.icmp_type is not None:
        span = LAST_CHOICE - FIRST_CHOICE + 1
        yield from (FIRST_CHOICE + (own + step) % span for step in range(span))


class KeptResult(NamedTuple):
    """The result for packets that are alike: the machine that gets them, or none, their changed
    ends, by how much their hop limit is lowered, and the lines that decided.
    """

    machine: str | None
    ends: PacketEnds
    hops: int
    decided: tuple[Decided, ...]
