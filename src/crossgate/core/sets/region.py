"""A region: a set of packets as one product of six sets, which is never multiplied out. Every entry
of a list takes exactly one region.

The sides are the source and destination addresses, *what* is carried, the source ports, the TCP
flags and DSCP.

1. What is carried is one line of numbers (`Spans`): the protocol, a bit for non-initial fragments,
and the destination port or the ICMP type and code. A packet that has no port or message stands
there once for every number; nothing distinguishes these.

2. Flags are a bit set of the 256 values of their octet, DSCP one of its 64 values.

3. Source ports and flags are asked only of packets that have them. So where these two sides leave
something out, *what* contains only whole packets of protocols with ports, or of TCP.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import cache
from typing import NamedTuple

from crossgate.core.model import iana
from crossgate.core.model.address import Family, Pattern
from crossgate.core.model.entry import Entry
from crossgate.core.model.packet import (
    ACK,
    CLIENT_PORT,
    ECHO,
    MOST_PORT,
    PORT_PROTOCOLS,
    SYN,
    TCP,
    UDP,
    Packet,
    icmp_of,
)
from crossgate.core.model.service import FlagTest, Qualifiers, ServiceTerm
from crossgate.core.sets import spans as line
from crossgate.core.sets.addresses import AddressSet, everywhere
from crossgate.core.sets.spans import Spans

PROTOCOL_SHIFT = 17
FRAGMENT = 1 << 16
PROTOCOLS = 256
WHAT_END = PROTOCOLS << PROTOCOL_SHIFT

ALL_WHAT: Spans = ((0, WHAT_END),)
ALL_PORTS: Spans = ((0, MOST_PORT + 1),)
ALL_FLAGS = (1 << 256) - 1
ALL_DSCP = (1 << 64) - 1


def protocol_line(first: int, last: int | None = None) -> Spans:
    """Return all that a protocol carries, or all from one protocol to another."""
    return ((first << PROTOCOL_SHIFT, (first if last is None else last) + 1 << PROTOCOL_SHIFT),)


FRAGMENTS: Spans = tuple(
    (each << PROTOCOL_SHIFT | FRAGMENT, each + 1 << PROTOCOL_SHIFT) for each in range(PROTOCOLS)
)
WHOLE: Spans = line.less(ALL_WHAT, FRAGMENTS)
"""Packets that are no non-initial fragments."""


def whole_packets(protocol: int) -> Spans:
    """Return what packets of a protocol carry that are no later fragments."""
    return ((protocol << PROTOCOL_SHIFT, protocol << PROTOCOL_SHIFT | FRAGMENT),)


WITH_PORTS: Spans = line.joined(
    span for protocol in PORT_PROTOCOLS for span in whole_packets(protocol)
)


class Services(NamedTuple):
    """All that a region says besides its addresses."""

    what: Spans
    source_ports: Spans
    flags: int
    dscp: int


class Region(NamedTuple):
    """A product: the packets that are in all six sides."""

    source: AddressSet
    destination: AddressSet
    what: Spans = ALL_WHAT
    source_ports: Spans = ALL_PORTS
    flags: int = ALL_FLAGS
    dscp: int = ALL_DSCP

    @property
    def family(self) -> Family:
        """The family of its addresses."""
        return self.source.family

    @property
    def services(self) -> Services:
        """All that it says besides its addresses."""
        return Services(*self[2:])

    def between(self, source: AddressSet, destination: AddressSet) -> Region:
        """Return the same services between other addresses."""
        return self._replace(source=source, destination=destination)

    def common(self, other: Region) -> Region | None:
        """Return the intersection of two regions, or None."""
        flags, dscp, what = (
            self.flags & other.flags,
            self.dscp & other.dscp,
            line.common(self.what, other.what),
        )
        if not (flags and dscp and what):
            return None
        ports = line.common(self.source_ports, other.source_ports)
        source = self.source & other.source if ports else None
        destination = self.destination & other.destination if source else None
        return (
            Region(source, destination, what, ports, flags, dscp)
            if source and destination
            else None
        )

    def meets(self, other: Region) -> bool:
        """Whether some packet is in both regions."""
        return bool(
            self.flags & other.flags
            and self.dscp & other.dscp
            and line.meet(self.what, other.what)
            and line.meet(self.source_ports, other.source_ports)
            and self.source.meets(other.source)
            and self.destination.meets(other.destination)
        )

    def holds(self, other: Region) -> bool:
        """Whether it is known to contain all of another region; where wildcards scatter addresses,
        False may be wrong.
        """
        if other.flags & ~self.flags or other.dscp & ~self.dscp:
            return False
        if not (
            line.within(other.what, self.what)
            and line.within(other.source_ports, self.source_ports)
        ):
            return False
        ends = zip((self.source, self.destination), (other.source, other.destination), strict=True)
        return all(
            one.spans is not None and each.spans is not None and line.within(each.spans, one.spans)
            for one, each in ends
        )


@cache
def every_packet(family: Family) -> Region:
    """Return every packet of a family."""
    return Region(everywhere(family), everywhere(family))


@cache
def flag_set(tests: Sequence[FlagTest]) -> int:
    """Return the octets of flags that pass at least one of some tests, as a bit set."""
    return sum(1 << flags for flags in range(256) if any(test.holds(flags) for test in tests))


def term_line(terms: Sequence[ServiceTerm]) -> Spans:
    """Return what packets of any of some service terms carry; a term that asks for ports or a
    message takes no later fragments.
    """
    found = []
    for term in terms:
        if term.protocol is None:
            return ALL_WHAT
        base = term.protocol << PROTOCOL_SHIFT
        if term.ports is not None:
            found += [(base | first, (base | last) + 1) for first, last in term.ports]
        elif term.icmp_type is not None:
            first = term.icmp_type << 8 | (term.icmp_code or 0)
            found.append(
                (base | first, (base | (first if term.icmp_code is not None else first | 255)) + 1)
            )
        else:
            found.append((base, term.protocol + 1 << PROTOCOL_SHIFT))
    return line.joined(found)


def entry_services(entry: Entry, what: Spans | None = None) -> Services | None:
    """Return all that an entry asks of a packet besides its addresses; None where no packet can
    have it. `what` is its service on the line of numbers where that is known.
    """
    return asked_services(
        term_line(entry.service.terms) if what is None else what, entry.qualifiers
    )


def asked_services(what: Spans, asked: Qualifiers) -> Services | None:
    """Return all that an entry asks of a packet besides its addresses: `what` of protocols and
    ports, limited by the qualifiers `asked`. None where no packet can have that.
    """
    flags = flag_set(asked.flags) if asked.flags else ALL_FLAGS
    source_ports = (
        ALL_PORTS
        if asked.source_ports is None
        else tuple((first, last + 1) for first, last in asked.source_ports)
    )
    if asked.fragments:
        what = line.common(what, FRAGMENTS)
    if asked.source_ports is not None:
        what = line.common(what, WITH_PORTS)
    if asked.flags:
        what = line.common(what, whole_packets(TCP))
    dscp = ALL_DSCP if asked.dscp is None else 1 << asked.dscp
    return Services(what, source_ports, flags, dscp) if what and flags and source_ports else None


def entry_region(entry: Entry, family: Family) -> Region | None:
    """Return the region that an entry takes; None where it takes no packet."""
    services = entry_services(entry)
    if services is None:
        return None
    source, destination = (
        AddressSet.of(family, each.patterns) for each in (entry.source, entry.destination)
    )
    return Region(source, destination, *services)


def packet_region(packet: Packet) -> Region:
    """Return the region of a single packet, with the packets that no list can distinguish from
    it.
    """
    source, destination = (
        AddressSet.of(packet.family, (Pattern(packet.family, value, 0),))
        for value in (packet.source, packet.destination)
    )
    base = packet.protocol << PROTOCOL_SHIFT
    what: Spans = ((base, base | FRAGMENT),)
    if packet.fragment:
        what = ((base | FRAGMENT, packet.protocol + 1 << PROTOCOL_SHIFT),)
    elif packet.destination_port is not None:
        what = ((base | packet.destination_port, (base | packet.destination_port) + 1),)
    elif packet.icmp_type is not None:
        message = base | packet.icmp_type << 8 | (packet.icmp_code or 0)
        what = ((message, message + 1),)
    source_ports = (
        ALL_PORTS if packet.source_port is None else ((packet.source_port, packet.source_port + 1),)
    )
    return Region(
        source,
        destination,
        what,
        source_ports,
        ALL_FLAGS if packet.flags is None else 1 << packet.flags,
        1 << packet.dscp,
    )


def some_service(family: Family, what: Spans, source_ports: Spans, flags: int, dscp: int) -> Packet:
    """Return a packet of these services with addresses 0, a familiar one where possible: TCP before
    UDP, a well-known port, a SYN.
    """
    chosen = _likely(family, what)
    protocol, fragment, number = (
        chosen >> PROTOCOL_SHIFT,
        bool(chosen & FRAGMENT),
        chosen & MOST_PORT,
    )
    marked = _lowest(dscp)
    if not fragment and protocol in PORT_PROTOCOLS:
        client = CLIENT_PORT if line.contains(source_ports, CLIENT_PORT) else source_ports[0][0]
        octet = next((each for each in (SYN, ACK) if flags >> each & 1), _lowest(flags))
        return Packet(
            family,
            0,
            0,
            protocol,
            client,
            number,
            flags=octet if protocol == TCP else None,
            dscp=marked,
        )
    if not fragment and protocol == icmp_of(family):
        return Packet(
            family, 0, 0, protocol, icmp_type=number >> 8, icmp_code=number & 255, dscp=marked
        )
    return Packet(family, 0, 0, protocol, fragment=fragment, dscp=marked)


def _likely(family: Family, what: Spans) -> int:
    """Return the number of a familiar packet on the line of numbers: whole, and of a well-known
    protocol and port where there is one.
    """
    icmp = icmp_of(family)
    ping = ECHO[family] << 8
    usual = ((TCP, 443), (TCP, 80), (TCP, 22), (UDP, 53), (TCP, 53), (UDP, 443), (icmp, ping))
    for protocol, number in usual:
        if line.contains(what, protocol << PROTOCOL_SHIFT | number):
            return protocol << PROTOCOL_SHIFT | number
    for protocol in (TCP, UDP, icmp):
        some = line.common(what, whole_packets(protocol))
        named = next((each for each in _named(protocol) if line.contains(some, each)), None)
        if some:
            return some[0][0] if named is None else named
    for some in (WHOLE, *map(protocol_line, (TCP, UDP, icmp))):
        chosen = line.common(what, some)
        if chosen:
            return chosen[0][0]
    return what[0][0]


@cache
def _named(protocol: int) -> tuple[int, ...]:
    """Return the numbers on the line that stand for ports with an IANA name, in order."""
    name = iana.protocol_names()[protocol]
    ports = sorted(first for (first, _), spoken in iana.services().values() if name in spoken)
    return tuple(protocol << PROTOCOL_SHIFT | port for port in ports)


def _lowest(bits: int) -> int:
    """Return the index of the lowest bit that is set."""
    return (bits & -bits).bit_length() - 1
