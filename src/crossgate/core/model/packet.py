"""One packet: the fields that an access list can ask for."""

from __future__ import annotations

from typing import NamedTuple

from crossgate.core.model import iana
from crossgate.core.model.address import Family

ICMP, TCP, UDP, ICMPV6 = 1, 6, 17, 58
ECHO = {Family.IPV4: 8, Family.IPV6: 128}
"""The type of an echo request, by family (RFC 792, RFC 4443 section 4.1)."""
PORT_PROTOCOLS = frozenset({6, 17, 33, 132})
"""TCP, UDP, DCCP and SCTP: the protocols whose ports a list can ask for."""

SYN, PSH, ACK = (iana.FLAGS[name] for name in ("SYN", "PSH", "ACK"))
MOST_PORT = 65_535
"""Ports are 16 bits (RFC 9293 section 3.1, RFC 768)."""
CLIENT_PORT = 51_000
"""The source port of a traced client that names none."""


def icmp_of(family: Family) -> int:
    """Return the protocol number of ICMP in a family; the number for the other family is an
    ordinary protocol there.
    """
    return ICMP if family is Family.IPV4 else ICMPV6


class Packet(NamedTuple):
    """The fields of a packet that a list can ask for.

    Addresses are integers of `family`. Ports are None where the protocol has none or the packet is
    a non-initial fragment; so are `icmp_type`, `icmp_code` and `flags` (the octet of TCP flags)
    where they do not apply. `dscp` is 6 bits.
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
