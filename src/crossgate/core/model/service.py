"""Services: protocols, ports, ICMP messages, TCP flags and DSCP, as an access list can ask for
them.

A service is a union of terms; a term is one protocol with one set of ports or one ICMP message. The
readers here turn a service token of the plan language into terms; the names come from `iana`.
"""

from __future__ import annotations

from typing import NamedTuple

from crossgate.core.model import iana
from crossgate.core.model.address import Family
from crossgate.core.model.errors import PlanError
from crossgate.core.model.packet import ICMP, ICMPV6, MOST_PORT, Packet, icmp_of

Ports = tuple[tuple[int, int], ...]
"""Port intervals, first and last included, ascending and apart from each other."""

WITH_PORTS = ("tcp", "udp", "sctp", "dccp")


class ServiceError(PlanError):
    """A text meant as a service that is not one; `start` and `end` mark the faulty part, `near` is
    what was likely meant there.
    """

    def __init__(self, message: str, start: int = 0, end: int = 0, near: str = "") -> None:
        super().__init__(message)
        self.start = start
        self.end = end
        self.near = near


class ServiceTerm(NamedTuple):
    """One protocol, with what is asked of its ports or of its ICMP type and code; None asks
    nothing.
    """

    protocol: int | None = None
    ports: Ports | None = None
    icmp_type: int | None = None
    icmp_code: int | None = None

    def matches(self, packet: Packet) -> bool:
        """Whether the packet is of this protocol, to one of these ports or with this ICMP message.

        A non-initial fragment carries neither ports nor an ICMP type (RFC 1858), so a term that
        asks for one never matches it.
        """
        if self.protocol is None:
            return True
        if self.protocol != packet.protocol:
            return False
        if self.ports is not None:
            return within(packet.destination_port, self.ports)
        if self.icmp_type is not None:
            return packet.icmp_type == self.icmp_type and self.icmp_code in (None, packet.icmp_code)
        return True

    def text(self, family: Family) -> str:
        """Write the term as lists of a family write it."""
        if self.protocol is None:
            return "ip"
        word = protocol_word(self.protocol, family)
        if self.ports is not None:
            return f"{word}/{format_ports(self.ports)}"
        if self.icmp_type is None:
            return protocol_name(ICMPV6) if word == "icmp" and family is Family.IPV6 else word
        return f"{word}/{self.icmp_type}" + ("" if self.icmp_code is None else f"/{self.icmp_code}")


class Service(NamedTuple):
    """What an entry asks of protocol and ports: any of its terms, and the text it was written
    as.
    """

    text: str
    terms: tuple[ServiceTerm, ...]

    def matches(self, packet: Packet) -> bool:
        """Whether any of the terms matches."""
        for term in self.terms:
            if term.matches(packet):
                return True
        return False


class FlagTest(NamedTuple):
    """TCP flags that must have these values: `packet flags & care == value`."""

    value: int
    care: int

    def holds(self, flags: int) -> bool:
        """Whether the flags octet passes."""
        return flags & self.care == self.value


ESTABLISHED = (
    FlagTest(iana.FLAGS["ACK"], iana.FLAGS["ACK"]),
    FlagTest(iana.FLAGS["RST"], iana.FLAGS["RST"]),
)
"""A TCP segment of a connection that is under way: ACK or RST is set."""


class Qualifiers(NamedTuple):
    """What an extended entry asks beyond protocol, addresses and destination ports; None or () asks
    nothing.
    """

    source_ports: Ports | None = None
    flags: tuple[FlagTest, ...] = ()
    fragments: bool = False
    dscp: int | None = None

    def match(self, packet: Packet) -> bool:
        """Whether the packet passes all that is asked."""
        if self.fragments and not packet.fragment:
            return False
        if self.source_ports is not None and not within(packet.source_port, self.source_ports):
            return False
        if self.flags and (
            packet.flags is None or not any(test.holds(packet.flags) for test in self.flags)
        ):
            return False
        return self.dscp is None or self.dscp == packet.dscp


def both_flags(tests: list[tuple[FlagTest, ...]]) -> tuple[FlagTest, ...]:
    """Return flag tests that pass exactly when every one of some sets has a test that passes; of
    the result, one test must pass.
    """
    joined: tuple[FlagTest, ...] = ()
    for alternatives in tests:
        if not joined:
            joined = alternatives
            continue
        joined = tuple(
            FlagTest(left.value | right.value, left.care | right.care)
            for left in joined
            for right in alternatives
            if (left.value ^ right.value) & left.care & right.care == 0
        ) or (FlagTest(1, 0),)
    return joined


NO_QUALIFIERS = Qualifiers()


def with_qualifiers(one: Qualifiers, other: Qualifiers) -> Qualifiers:
    """Return qualifiers that ask for what both ask."""
    ports = one.source_ports if other.source_ports is None else other.source_ports
    if one.source_ports is not None and other.source_ports is not None:
        shared = [
            (max(a, c), min(b, d)) for a, b in one.source_ports for c, d in other.source_ports
        ]
        ports = join_ports([(first, last) for first, last in shared if first <= last])
    flags = both_flags([each for each in (one.flags, other.flags) if each])
    dscp = one.dscp if other.dscp is None else other.dscp
    if None not in (one.dscp, other.dscp) and one.dscp != other.dscp:
        ports = ()  # no packet has two codepoints, and none comes from no port
    return Qualifiers(ports, flags, one.fragments or other.fragments, dscp)


IP = Service("ip", (ServiceTerm(),))


def within(port: int | None, ports: Ports) -> bool:
    """Whether a port is in one of the intervals; False for a packet without a port."""
    if port is None:
        return False
    for first, last in ports:
        if first <= port <= last:
            return True
    return False


def join_ports(intervals: list[tuple[int, int]]) -> Ports:
    """Sort intervals and join those that overlap or touch."""
    joined: list[tuple[int, int]] = []
    for first, last in sorted(intervals):
        if joined and first <= joined[-1][1] + 1:
            joined[-1] = (joined[-1][0], max(last, joined[-1][1]))
        else:
            joined.append((first, last))
    return tuple(joined)


def protocol_name(number: int) -> str:
    """Return the IANA keyword of a protocol number, or the number itself when it has none."""
    return iana.protocol_names().get(number, str(number))


def protocol_word(number: int, family: Family) -> str:
    """Return the word for a protocol in lists of a family: `icmp` is the family's own ICMP, that of
    the other family is a number.
    """
    if number in (ICMP, ICMPV6):
        return "icmp" if number == icmp_of(family) else str(number)
    return protocol_name(number)


def format_ports(ports: Ports) -> str:
    """Write port intervals as the plan language does: `80,8000-8099,1024-`."""
    return ",".join(
        str(first)
        if first == last
        else f"{first}-"
        if last == MOST_PORT
        else f"-{last}"
        if first == 0
        else f"{first}-{last}"
        for first, last in ports
    )


def format_flags(test: FlagTest) -> str:
    """Write a test of flags as `parse_flags` reads it."""
    return ",".join(
        f"{'' if test.value & bit else '!'}{name}"
        for name, bit in iana.FLAGS.items()
        if test.care & bit
    )
