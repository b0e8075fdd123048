"""The packets that open conversations of a service: what a client sends first."""

from __future__ import annotations

from crossgate.core.errors import PlanError
from crossgate.core.forwarding import End
from crossgate.core.packet import CLIENT_PORT, ICMP, ICMPV6, PORT_PROTOCOLS, SYN, TCP, Packet
from crossgate.core.service import Service, ServiceTerm, protocol_name
from crossgate.core.trace import Conversation


def conversations(
    service: Service, source: End, destination: End, source_port: int | None = None, claimed: int | None = None
) -> list[Conversation]:
    """Return the conversations that a service stands for, one for each of its terms.

    `claimed` is a source address other than the sender's own. Raises `PlanError` for a service that does not say which
    packet to send: every protocol, every port or a range of ports.
    """
    found = []
    for term in service.terms:
        for port in _ports(term, service):
            first = _packet(term, source, destination, port, source_port, service)
            found.append(Conversation(source, destination, first if claimed is None else first._replace(source=claimed)))
    return found


def _ports(term: ServiceTerm, service: Service) -> list[int | None]:
    if term.protocol is None:
        raise PlanError(f"{service.text} is every protocol, and a traced packet has one; name a service, as ping, tcp/443 or udp/53")
    if term.protocol in PORT_PROTOCOLS:
        name = protocol_name(term.protocol)
        if term.ports is None:
            raise PlanError(f"{name} is every {name.upper()} port, and a traced packet has one; write it as {name}/443")
        if any(last > first for first, last in term.ports):
            first = term.ports[0][0]
            raise PlanError(f"{service.text} is a range of ports, and a traced packet has one; write one of them, as {name}/{first}")
        return [first for first, _ in term.ports]
    if term.protocol in (ICMP, ICMPV6) and term.icmp_type is None:
        raise PlanError(f"{service.text} is every ICMP message, and a traced packet has one; write ping or icmp/TYPE")
    return [None]


def _packet(term: ServiceTerm, source: End, destination: End, port: int | None, source_port: int | None, service: Service) -> Packet:
    assert term.protocol is not None
    family, start, end = source.address.family, source.address.value, destination.address.value
    if port is not None:
        chosen = CLIENT_PORT if source_port is None else source_port
        return Packet(family, start, end, term.protocol, chosen, port, flags=SYN if term.protocol == TCP else None)
    if source_port is not None:
        raise PlanError(f"{service.text} has no ports, so it cannot have the source port {source_port}")
    if term.icmp_type is not None:
        return Packet(family, start, end, term.protocol, icmp_type=term.icmp_type, icmp_code=term.icmp_code or 0)
    return Packet(family, start, end, term.protocol)


def service_of(packet: Packet) -> str:
    """Return the service token of a packet that opens a conversation: `tcp/443`, `icmp/8`, `gre`."""
    if packet.destination_port is not None:
        return str(ServiceTerm(packet.protocol, ((packet.destination_port, packet.destination_port),)))
    return str(ServiceTerm(packet.protocol, icmp_type=packet.icmp_type, icmp_code=packet.icmp_code or None))


def service_label(packet: Packet) -> str:
    """Return the service token of a packet, an echo request as people say it: `ping`."""
    echo = (packet.protocol, packet.icmp_type) in ((ICMP, 8), (ICMPV6, 128))
    return "ping" if echo else service_of(packet)
