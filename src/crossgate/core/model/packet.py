"""One packet, and the packets that a conversation is made of.

A conversation is told by its first packet; `legs` derives the ones that follow: TCP's SYN, SYN+ACK and ACK
(RFC 9293 section 3.5), request and reply for everything else, one leg for ICMP messages that nobody answers.
"""

from __future__ import annotations

from collections.abc import Iterator
from enum import StrEnum
from typing import NamedTuple

from crossgate.core.model import iana
from crossgate.core.model.address import Family

ICMP, TCP, UDP, ICMPV6 = 1, 6, 17, 58
ECHO = {Family.IPV4: 8, Family.IPV6: 128}
"""The type of an echo request, by family (RFC 792, RFC 4443 section 4.1)."""
PORT_PROTOCOLS = frozenset({6, 17, 33, 132})
"""TCP, UDP, DCCP and SCTP: the protocols whose ports a list can ask for."""

SYN, ACK = iana.FLAGS["SYN"], iana.FLAGS["ACK"]
CLIENT_PORT = 51000
"""The source port of a traced client that names none."""


def icmp_of(family: Family) -> int:
    """Return the protocol that is ICMP in a family; the other one's number is a protocol like any other there."""
    return ICMP if family is Family.IPV4 else ICMPV6


class Leg(StrEnum):
    """Which packet of a conversation it is."""

    SYN = "SYN"
    SYN_ACK = "SYN+ACK"
    ACK = "ACK"
    REQUEST = "request"
    REPLY = "reply"

    @property
    def returns(self) -> bool:
        """Whether it travels from the far end back to the sender."""
        return self in (Leg.SYN_ACK, Leg.REPLY)


class Packet(NamedTuple):
    """The fields of one packet that a list can ask for.

    Addresses are integers of `family`. Ports are None where the protocol has none or the packet is a non-initial
    fragment; `icmp_type`, `icmp_code` and `flags` (the octet of TCP flags) likewise. `dscp` is 6 bits.
    """

    family: Family
    source: int
    destination: int
    protocol: int
    source_port: int | None = None
    destination_port: int | None = None
    icmp_type: int | None = None
    icmp_code: int | None = None
    flags: int | None = None
    fragment: bool = False
    dscp: int = 0


def legs(first: Packet, on_link: bool = False) -> Iterator[tuple[Leg, Packet]]:
    """Yield the legs of the conversation that `first` opens, each with its packet; `on_link` between machines of one link."""
    back = first._replace(
        source=first.destination,
        destination=first.source,
        source_port=first.destination_port,
        destination_port=first.source_port,
    )
    if first.protocol == TCP:
        yield Leg.SYN, first._replace(flags=SYN)
        yield Leg.SYN_ACK, back._replace(flags=SYN | ACK)
        yield Leg.ACK, first._replace(flags=ACK)
        return
    yield Leg.REQUEST, first
    if first.icmp_type is None:
        yield Leg.REPLY, back
        return
    answer = iana.ANSWERED[first.protocol].get(first.icmp_type)
    if answer is None and on_link:
        answer = iana.ANSWERED_ON_LINK[first.protocol].get(first.icmp_type)
    if answer is not None:
        yield Leg.REPLY, back._replace(icmp_type=answer, icmp_code=0)
