"""Observations of conversations, in the same columns for packets, flow records and whole
conversations.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, fields, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from crossgate.core.model import iana
from crossgate.core.model.packet import ACK, PSH, SYN, TCP, icmp_of
from crossgate.core.model.packets import (
    PORTED,
    Indices,
    Marks,
    Octets,
    Packets,
    Ports,
    Words,
    joined_packets,
    numbered,
    picked,
)
from crossgate.core.model.tls import UNSETTLED, Hello

SECOND = 1_000_000
"""Times are microseconds since 1970-01-01 UTC."""
AGAIN = 10_000
"""Within so many microseconds the same IP packet is the one that was seen before."""


@dataclass(frozen=True, slots=True, eq=False)
class Seen:
    """Columns of observations of one family: each row is a packet, a flow record, or a whole
    conversation.

    `packets` are the opening packets, as far as they are known. `first` and `last` are times in
    microseconds. `counts` and `octets` have the shape (2, rows): there, as `packets` go, and back;
    `flags` likewise, all TCP flags that were set. `identifier` is that of an ICMP message. `told`
    says that the direction is certain. `identity` is a digest of what makes an IP packet the same,
    0 for none. `hello` is what a TLS server's hello chose, as `coded` writes it, 0 for none,
    `UNTOLD` where the observation cannot contain hellos. `said` is what a device reported as its
    decision: the bits `SAID_PERMITTED` and `SAID_DENIED`, 0 for no report.
    """

    packets: Packets
    first: Indices
    last: Indices
    counts: Indices
    octets: Indices
    flags: Octets
    identifier: Ports
    told: Marks
    identity: Words
    hello: Words
    said: Octets

    def __len__(self) -> int:
        return len(self.packets)

    def take(self, rows: Indices | Marks | slice) -> Seen:
        """Return only the given rows."""
        rows = numbered(rows)
        return Seen(
            self.packets.take(rows),
            *(picked(getattr(self, each.name), rows) for each in fields(Seen)[1:]),
        )

    def put(self, rows: Indices, others: Seen) -> None:
        """Write other rows into the given ones; the columns may be shared with nobody."""
        for one, other in zip(self._columns(), others._columns(), strict=True):
            one[..., rows] = other

    def _columns(self) -> Iterator[NDArray[Any]]:
        for part in (self.packets, self):
            yield from (
                column
                for each in fields(part)
                if isinstance(column := getattr(part, each.name), np.ndarray)
            )

    def turned(self, rows: Marks) -> Seen:
        """Return the same columns with there and back exchanged in some rows."""
        packets = self.packets
        ends = [
            np.where(rows, one, other)
            for one, other in (
                (packets.destination, packets.source),
                (packets.source, packets.destination),
            )
        ]
        ports = [
            np.where(rows, one, other)
            for one, other in (
                (packets.destination_port, packets.source_port),
                (packets.source_port, packets.destination_port),
            )
        ]
        changed = replace(
            packets,
            source=ends[0],
            destination=ends[1],
            source_port=ports[0],
            destination_port=ports[1],
        )
        pairs = [
            np.where(rows, each[::-1], each) for each in (self.counts, self.octets, self.flags)
        ]
        return replace(self, packets=changed, counts=pairs[0], octets=pairs[1], flags=pairs[2])


UNTOLD = 1
"""Stands for what a record of a flow tells of TLS; every hello is more."""

SAID_PERMITTED, SAID_DENIED = 1, 2
"""What records of a conversation say of it; some may say the one, and some the other."""


def coded(hello: Hello) -> int:
    """Return a hello as one number: its version, then its suite, 16 bits each."""
    return hello.version << 16 | hello.suite


def spoken(seen: Seen) -> Words:
    """Return the TLS version that each conversation settled on, as a number; one of which no data
    was seen, nor a hello, is `UNTOLD`.
    """
    pushed: Marks = (seen.flags[0] | seen.flags[1]) & PSH != 0
    found: Words = np.where(pushed | (seen.hello != 0), seen.hello, UNTOLD).astype(np.uint64)
    return found


def decoded(code: int) -> Hello | None:
    """Return the hello for a number of `coded`; None for 0, which is no TLS."""
    return UNSETTLED if code == UNTOLD else Hello(code >> 16, code & 0xFFFF) if code else None


def joined(parts: Sequence[Seen]) -> Seen:
    """Return the rows of several columns, at least one, one after the other."""
    if len(parts) == 1:
        return parts[0]
    names = [each.name for each in fields(Seen)[1:]]
    columns = {
        name: np.concatenate([getattr(each, name) for each in parts], axis=-1) for name in names
    }
    return Seen(joined_packets([each.packets for each in parts]), **columns)


def opened(seen: Seen, client_ports: tuple[int, int] | None = None) -> Seen:
    """Return rows as their openers sent them, as far as a row by itself tells; `told` where it
    does.

    `client_ports` are given for flow records, whose flags are those of all their packets, so that
    only the ports tell the direction.
    """
    packets = seen.packets
    whole = ~packets.fragment
    tcp, icmp = (
        (packets.protocol == TCP) & whole,
        (packets.protocol == icmp_of(packets.family)) & whole,
    )
    told, back = np.zeros(len(seen), np.bool_), np.zeros(len(seen), np.bool_)
    if client_ports is None:
        syn = tcp & (packets.flags & SYN != 0)
        back |= syn & (packets.flags & ACK != 0)
        told |= syn
    else:
        first, last = client_ports
        ported = PORTED[packets.protocol] & whole
        clients = [
            (first <= each) & (each <= last)
            for each in (packets.source_port, packets.destination_port)
        ]
        told |= ported & (clients[0] != clients[1])
        back |= told & clients[1]
    kind = packets.destination_port >> 8
    changed = packets.destination_port.copy()
    for answers in (iana.ANSWERED, iana.ANSWERED_ON_LINK):
        for request, reply in answers[icmp_of(packets.family)].items():
            told |= icmp & (kind == request)
            replies = icmp & (kind == reply) & (reply not in answers[icmp_of(packets.family)])
            told |= replies
            back |= replies
            changed[replies] = request << 8
    numbers = np.where(icmp, changed, packets.destination_port)
    turned = seen.turned(back) if back.any() else seen
    if not icmp.any():
        return replace(turned, told=told)
    # A message's type and code stand in the destination port, whichever way it goes.
    ports = [
        np.where(icmp, own, each)
        for own, each in (
            (0, turned.packets.source_port),
            (numbers, turned.packets.destination_port),
        )
    ]
    named = replace(
        turned.packets,
        source_port=ports[0].astype(np.uint16),
        destination_port=ports[1].astype(np.uint16),
    )
    return replace(turned, packets=named, told=told)
