"""The packet that opens a conversation, from one end to another. What follows from it is in
`rules`.
"""

from __future__ import annotations

from typing import NamedTuple

from crossgate.core.model.address import Address, Family
from crossgate.core.model.errors import PlanError
from crossgate.core.model.iana import FLAGS
from crossgate.core.model.packet import CLIENT_PORT, ECHO, PORT_PROTOCOLS, SYN, TCP, Packet, icmp_of
from crossgate.core.model.service import Service, ServiceTerm, protocol_name, protocol_word
from crossgate.core.network.paths import Endpoint


class Conversation(NamedTuple):
    """Who sends what to whom.

    `first` may have a source address that is not the sender's own. A packet that is sent `alone`
    opens nothing, and nobody answers it: a TCP segment of no conversation.
    """

    source: Endpoint
    destination: Endpoint
    first: Packet
    alone: bool = False

    def __repr__(self) -> str:
        family = self.first.family.label
        return f"<Conversation {family} {self.source.name} to {self.destination.name}>"

    @property
    def on_link(self) -> bool:
        """Whether both ends are on one link."""
        return self.source.segment == self.destination.segment

    @property
    def claimed(self) -> Address | None:
        """The source address where it is not the sender's own, or else None."""
        if self.first.source == self.source.address.value:
            return None
        return Address(self.first.family, self.first.source)


def conversations(
    service: Service,
    source: Endpoint,
    destination: Endpoint,
    source_port: int | None = None,
    claimed: int | None = None,
) -> list[Conversation]:
    """Return the conversations that a service stands for, one for each of its terms.

    `claimed` is a source address other than the sender's own. Raises `PlanError` for a service that
    does not say which packet to send: every protocol, every port or a range of ports.
    """
    found = []
    for term in service.terms:
        for port in _ports(term, service, source.address.family):
            first = _packet(term, source, destination, port, source_port, service)
            found.append(
                Conversation(
                    source,
                    destination,
                    first if claimed is None else first._replace(source=claimed),
                )
            )
    return found


_MOST_PORTS = 16
"""Up to so many ports of one protocol are traced one by one."""


def _ports(term: ServiceTerm, service: Service, family: Family) -> list[int | None]:
    if term.protocol is None:
        raise PlanError(
            f"{service.text} is every protocol, and a traced packet has one; name a service, as "
            "ping, tcp/443 or udp/53"
        )
    if term.protocol in PORT_PROTOCOLS:
        name = protocol_name(term.protocol)
        if term.ports is None:
            raise PlanError(
                f"{name} is every {name.upper()} port, and a traced packet has one; write it as "
                f"{name}/443"
            )
        count = sum(last - first + 1 for first, last in term.ports)
        if count > _MOST_PORTS:
            first = term.ports[0][0]
            raise PlanError(
                f"{service.text} is {count:,} ports, and a traced packet has one; write one of "
                f"them, as {name}/{first}"
            )
        return [port for first, last in term.ports for port in range(first, last + 1)]
    if term.protocol == icmp_of(family) and term.icmp_type is None:
        raise PlanError(
            f"{service.text} is every ICMP message, and a traced packet has one; write ping or "
            "icmp/TYPE"
        )
    return [None]


def _packet(
    term: ServiceTerm,
    source: Endpoint,
    destination: Endpoint,
    port: int | None,
    source_port: int | None,
    service: Service,
) -> Packet:
    assert term.protocol is not None
    family, start, end = source.address.family, source.address.value, destination.address.value
    if port is not None:
        chosen = CLIENT_PORT if source_port is None else source_port
        return Packet(
            family,
            start,
            end,
            term.protocol,
            chosen,
            port,
            flags=SYN if term.protocol == TCP else None,
        )
    if source_port is not None:
        raise PlanError(
            f"{service.text} has no ports, so it cannot have the source port {source_port}"
        )
    if term.icmp_type is not None:
        return Packet(
            family,
            start,
            end,
            term.protocol,
            icmp_type=term.icmp_type,
            icmp_code=term.icmp_code or 0,
        )
    return Packet(family, start, end, term.protocol)


def service_of(packet: Packet) -> str:
    """Return the service token of a packet that opens a conversation: `tcp/443`, `icmp/8` (its code
    is 0), `icmp/8/1`, `gre`.
    """
    word = protocol_word(packet.protocol, packet.family)
    if packet.destination_port is not None:
        return f"{word}/{packet.destination_port}"
    if packet.icmp_type is not None:
        return f"{word}/{packet.icmp_type}" + (f"/{packet.icmp_code}" if packet.icmp_code else "")
    return word


def service_label(packet: Packet) -> str:
    """Return the service of a packet in everyday words: `ping` for an echo request, with the flags
    for a TCP segment that is no SYN.
    """
    if packet.icmp_type == ECHO[packet.family] and not packet.icmp_code:
        return "ping"
    if packet.fragment:
        return f"{service_of(packet)} fragment"
    if packet.flags is not None and packet.flags != SYN:
        set_ones = [name for name, bit in FLAGS.items() if packet.flags & bit]
        return (
            f"{service_of(packet)} "
            f"{'with flags ' + ','.join(set_ones) if set_ones else 'without flags'}"
        )
    return service_of(packet)
