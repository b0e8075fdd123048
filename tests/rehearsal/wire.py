"""Machines in memory around a fabric: they send frames that dpkt makes, and read with it what they
get, checksums too.
"""

from __future__ import annotations

import struct
from datetime import datetime
from typing import Any, NamedTuple

import dpkt

from crossgate.core.conversation.rules import legs_of
from crossgate.core.model.address import Address, Family
from crossgate.core.model.packet import ACK, SYN, Packet
from crossgate.core.model.plan import Plan
from crossgate.rehearsal.fabric import Fabric

IDENTIFIER = 77


class Got(NamedTuple):
    """A packet that a machine got, as dpkt reads it."""

    machine: str
    ip: Any

    @property
    def ends(self) -> tuple[int, int]:
        """Its addresses."""
        return int.from_bytes(self.ip.src), int.from_bytes(self.ip.dst)


def frame_of(
    packet: Packet,
    mac: int,
    hops: int = 64,
    data: bytes = b"",
    identifier: int = IDENTIFIER,
) -> bytes:
    """Return a frame with a packet, made by dpkt."""
    if packet.protocol == 6:
        carried: Any = dpkt.tcp.TCP(
            sport=packet.source_port, dport=packet.destination_port, flags=packet.flags, data=data
        )
    elif packet.protocol == 17:
        carried = dpkt.udp.UDP(
            sport=packet.source_port, dport=packet.destination_port, data=data, ulen=8 + len(data)
        )
    elif packet.icmp_type is not None:
        body = struct.pack("!HH", identifier, 1) + data
        kind = dpkt.icmp.ICMP if packet.family is Family.IPV4 else dpkt.icmp6.ICMP6
        carried = kind(type=packet.icmp_type, code=packet.icmp_code, data=body)
    else:
        carried = b"\0" * 8 + data
    four = packet.family is Family.IPV4
    ends = [each.to_bytes(4 if four else 16) for each in (packet.source, packet.destination)]
    if four:
        ip = dpkt.ip.IP(src=ends[0], dst=ends[1], p=packet.protocol, ttl=hops, data=carried)
        ip.len = len(ip)
    else:
        ip = dpkt.ip6.IP6(src=ends[0], dst=ends[1], nxt=packet.protocol, hlim=hops, data=carried)
        ip.plen = len(carried)
    kind = dpkt.ethernet.ETH_TYPE_IP if four else dpkt.ethernet.ETH_TYPE_IP6
    return bytes(dpkt.ethernet.Ethernet(src=mac.to_bytes(6), dst=b"\2" * 6, type=kind, data=ip))


def see_that_sums_are_right(octets: bytes) -> None:
    """Fail where a checksum of a frame is not what dpkt makes it."""
    ip = dpkt.ethernet.Ethernet(octets).data
    again = type(ip)(bytes(ip))
    again.sum = 0
    if hasattr(again.data, "sum"):
        again.data.sum = 0
    assert bytes(again) == octets[14:], (ip, again)


class Wire:
    """The machines of a plan around its fabric, each of which answers what it gets."""

    def __init__(self, plan: Plan, at: datetime, way: int | None = 1) -> None:
        self.told: list[Any] = []
        self.fabric = Fabric(plan, lambda: at, self.told.append, way)
        self.now = 0.0

    def send(self, machine: str, octets: bytes) -> list[Got]:
        """Send a frame and return what machines get of it."""
        mac = self.fabric.machines[machine].mac
        assert octets[6:12] == mac.to_bytes(6)
        found = []
        for name, frame in self.fabric.receive(machine, octets, self.now):
            see_that_sums_are_right(frame)
            found.append(Got(name, dpkt.ethernet.Ethernet(frame).data))
        return found

    def sent(
        self,
        machine: str,
        packet: Packet,
        hops: int = 64,
        data: bytes = b"",
        identifier: int = IDENTIFIER,
    ) -> list[Got]:
        """Send a packet and return what machines get of it."""
        mac = self.fabric.machines[machine].mac
        return self.send(machine, frame_of(packet, mac, hops, data, identifier))

    def named(self, family: Family, address: int) -> str | None:
        """Return the machine that has an address."""
        wanted = Address(family, address)
        return next(
            (name for name, each in self.fabric.machines.items() if wanted in each.addresses), None
        )

    def fares(self, first: Packet) -> str:
        """Send what opens a conversation, answer it, and return how far that goes: `stopped`,
        `half-open` or `permitted`.
        """
        self.now += 10_000
        family = first.family
        sender = self.named(family, first.source)
        assert sender is not None
        arrived = self.arriving(sender, first)
        if not arrived:
            return "stopped"
        (got,) = arrived
        legs, answer = legs_of(first, False)
        if len(legs) == 1:
            return "permitted"
        seen = packet_of(family, got)
        back = seen._replace(
            source=seen.destination,
            destination=seen.source,
            source_port=seen.destination_port,
            destination_port=seen.source_port,
            icmp_type=answer,
            icmp_code=None if answer is None else 0,
            flags=None if seen.flags is None else SYN | ACK,
        )
        returned = self.arriving(got.machine, back, identifier_of(got))
        if not returned:
            return "half-open"
        (reply,) = returned
        assert reply.machine == sender
        told = packet_of(family, reply)
        wanted = back._replace(
            source=first.destination,
            destination=first.source,
            source_port=first.destination_port,
            destination_port=first.source_port,
        )
        assert (told, identifier_of(reply)) == (wanted, IDENTIFIER)
        if first.flags is not None and not self.arriving(sender, first._replace(flags=ACK)):
            return "half-open"
        return "permitted"

    def arriving(self, machine: str, packet: Packet, identifier: int = IDENTIFIER) -> list[Got]:
        """Send a packet and return what arrives of it: not what its sender is told about it."""
        got = self.sent(machine, packet, identifier=identifier)
        return [each for each in got if not is_error(packet.family, each, packet)]


def packet_of(family: Family, got: Got) -> Packet:
    """Return the fields of a packet that a machine got."""
    source, destination = got.ends
    carried, protocol = got.ip.data, got.ip.p if family is Family.IPV4 else got.ip.nxt
    packet = Packet(family, source, destination, protocol)
    if protocol in (6, 17):
        packet = packet._replace(
            source_port=carried.sport,
            destination_port=carried.dport,
            flags=carried.flags if protocol == 6 else None,
        )
    elif protocol in (1, 58) and (protocol == 1) == (family is Family.IPV4):
        packet = packet._replace(icmp_type=carried.type, icmp_code=carried.code)
    return packet


def identifier_of(got: Got) -> int:
    """Return the identifier of an echo; that of all others of another packet."""
    carried = got.ip.data
    if not isinstance(carried, (dpkt.icmp.ICMP, dpkt.icmp6.ICMP6)):
        return IDENTIFIER
    return int.from_bytes(bytes(carried)[4:6])


def is_error(family: Family, got: Got, about: Packet) -> bool:
    """Whether what a machine got is told it of its own packet."""
    packet = packet_of(family, got)
    errors = (3, 11) if family is Family.IPV4 else (1, 3)
    return packet.icmp_type in errors and packet.icmp_type != about.icmp_type
