"""Frames and packets as octets: fields that lists ask for are read, addresses and ports are
rewritten, and the packets that devices send themselves are made.

Sources: RFC 791, RFC 8200, RFC 9293, RFC 768, RFC 792, RFC 4443; RFC 826 and RFC 4861 for address
resolution; RFC 1071 and RFC 1624 for checksums.
"""

from __future__ import annotations

import struct
from typing import NamedTuple

from crossgate.core.model.address import Address, Family
from crossgate.core.model.packet import ICMP, ICMPV6, PORT_PROTOCOLS, TCP, UDP, Packet

ETHERNET = 14
"""The octets of an Ethernet header: two hardware addresses and the EtherType."""
IPV4, ARP, IPV6 = 0x0800, 0x0806, 0x86DD
_ETHERTYPES = {Family.IPV4: IPV4, Family.IPV6: IPV6}
_HOP_BY_HOP, _ROUTING, _FRAGMENT, _OPTIONS = 0, 43, 44, 60
_SOLICITATION, _ADVERTISEMENT = 135, 136
_IGMP, _LINK_LOCAL = 2, 0xFE80 >> 6
_OF_THE_LINK = frozenset((130, 131, 132, 133, 134, 135, 136, 137, 143))
"""ICMPv6 types: multicast listeners (RFC 3810) and neighbour discovery (RFC 4861)."""
HOP_LIMIT = 64
"""The hop limit of what devices send (IANA: IP option numbers, IP time to live)."""
_NEXT_LIMIT = 255
"""The hop limit of neighbour discovery, which no router passes on (RFC 4861 section 7.1.1)."""
_MOST_QUOTED = {Family.IPV4: 548, Family.IPV6: 1232}
"""So much of a packet is quoted in a message about it (RFC 1812 section 4.3.2.3, RFC 4443 section
2.4).
"""
_ERRORS = {Family.IPV4: frozenset((3, 4, 5, 11, 12)), Family.IPV6: frozenset(range(128))}
_CHECKSUM_AT = {TCP: 16, UDP: 6, ICMP: 2, ICMPV6: 2}


class Read(NamedTuple):
    """A packet as read from octets: where it begins (`at`), where its payload begins, and its hop
    limit.

    `numbers` tell conversations of one protocol between two addresses apart, for the sender and for
    the receiver: its ports, or an echo's identifier twice.
    """

    packet: Packet
    numbers: tuple[int, int]
    at: int
    carried: int
    hops: int

    @property
    def key(self) -> tuple[int, ...]:
        """What distinguishes its conversation from all others of its sender."""
        packet = self.packet
        return packet.protocol, packet.source, packet.destination, *self.numbers

    @property
    def answers_to(self) -> tuple[int, ...]:
        """The `key` of the packet that this one may answer: with ends and ports exchanged."""
        packet, (one, other) = self.packet, self.numbers
        return packet.protocol, packet.destination, packet.source, other, one


def read_frame(frame: bytes) -> Read | None:
    """Read the packet in a frame; None where it has none, or only part of its headers."""
    if len(frame) < ETHERNET:
        return None
    kind = frame[12] << 8 | frame[13]
    try:
        if kind == IPV4:
            return read_ipv4(frame, ETHERNET)
        return read_ipv6(frame, ETHERNET) if kind == IPV6 else None
    except (struct.error, IndexError):
        return None


def read_ipv4(octets: bytes, at: int) -> Read | None:
    """Read an IPv4 packet. Raises `struct.error` or `IndexError` where octets are missing."""
    first, marks, fragment, hops, protocol, source, destination = struct.unpack_from(
        "!BB4xHBB2xII", octets, at
    )
    if first >> 4 != 4 or first & 15 < 5:
        return None
    carried = at + (first & 15) * 4
    return _read(
        octets,
        Packet(Family.IPV4, source, destination, protocol, dscp=marks >> 2),
        at,
        carried,
        hops,
        bool(fragment & 0x1FFF),
    )


def read_ipv6(octets: bytes, at: int) -> Read | None:
    """Read an IPv6 packet. Raises `struct.error` or `IndexError` where octets are missing."""
    first, protocol, hops = struct.unpack_from("!I2xBB", octets, at)
    if first >> 28 != 6:
        return None
    source = int.from_bytes(octets[at + 8 : at + 24])
    destination = int.from_bytes(octets[at + 24 : at + 40])
    carried, later = at + 40, False
    while protocol in (_HOP_BY_HOP, _ROUTING, _FRAGMENT, _OPTIONS) and not later:
        if protocol == _FRAGMENT:
            later = bool(struct.unpack_from("!H", octets, carried + 2)[0] >> 3)
            protocol, carried = octets[carried], carried + 8
        else:
            protocol, carried = octets[carried], carried + 8 + octets[carried + 1] * 8
    packet = Packet(Family.IPV6, source, destination, protocol, dscp=first >> 22 & 63)
    return _read(octets, packet, at, carried, hops, later)


def _read(
    octets: bytes, packet: Packet, at: int, carried: int, hops: int, later: bool
) -> Read | None:
    protocol = packet.protocol
    if later:
        return Read(packet._replace(fragment=True), (0, 0), at, carried, hops)
    if protocol in PORT_PROTOCOLS:
        ports = struct.unpack_from("!HH", octets, carried)
        flags = octets[carried + 13] if protocol == TCP else None
        packet = packet._replace(source_port=ports[0], destination_port=ports[1], flags=flags)
        return Read(packet, ports, at, carried, hops)
    if protocol == (ICMP if packet.family is Family.IPV4 else ICMPV6):
        kind, code, number = struct.unpack_from("!BB2xH", octets, carried)
        if is_error(packet.family, kind):
            number = 0
        packet = packet._replace(icmp_type=kind, icmp_code=code)
        return Read(packet, (number, number), at, carried, hops)
    return Read(packet, (0, 0), at, carried, hops)


def is_error(family: Family, icmp_type: int | None) -> bool:
    """Whether an ICMP message reports an error, so that no error is sent about it (RFC 1122 section
    3.2.2, RFC 4443 section 2.4).
    """
    return icmp_type in _ERRORS[family]


def said_in(frame: bytes, read: Read) -> bytes:
    """Return the data of a TCP segment; nothing for another packet."""
    if read.packet.protocol != TCP or read.packet.fragment:
        return b""
    return frame[read.carried + (frame[read.carried + 12] >> 4) * 4 :]


def is_housekeeping(read: Read) -> bool:
    """Whether a system sends a packet on its own, about its link and multicast groups, whatever its
    user does: IGMP (RFC 3376), MLD (RFC 3810), and packets without a source address.
    """
    packet = read.packet
    if packet.family is Family.IPV4:
        return packet.protocol == _IGMP
    linked = packet.source == 0 or packet.source >> 118 == _LINK_LOCAL
    return linked or (packet.protocol == ICMPV6 and packet.icmp_type in _OF_THE_LINK)


# What is written anew


class PacketEnds(NamedTuple):
    """The ends of a packet: its addresses, and the `numbers` of `Read`."""

    source: int
    destination: int
    numbers: tuple[int, int]


def ends_of(read: Read) -> PacketEnds:
    """Return the ends of a packet."""
    return PacketEnds(read.packet.source, read.packet.destination, read.numbers)


def passed_on(frame: bytes, read: Read, to: int, by: int, ends: PacketEnds, hops: int) -> bytes:
    """Return a frame with its packet forwarded: from one hardware address to another, with changed
    ends where they differ, and a lower hop limit.
    """
    octets = bytearray(frame)
    octets[:12] = to.to_bytes(6) + by.to_bytes(6)
    at, packet = read.at, read.packet
    if packet.family is Family.IPV4:
        if hops:
            octets[at + 8] -= hops
            checksum = (octets[at + 10] << 8 | octets[at + 11]) + (hops << 8)
            checksum = (checksum & 0xFFFF) + (checksum >> 16)
            octets[at + 10], octets[at + 11] = checksum >> 8, checksum & 255
    else:
        octets[at + 7] -= hops
    if (ends.source, ends.destination, ends.numbers) != (
        packet.source,
        packet.destination,
        read.numbers,
    ):
        _turn(octets, read, ends)
    return bytes(octets)


def _turn(octets: bytearray, read: Read, ends: PacketEnds) -> None:
    packet, at, carried = read.packet, read.at, read.carried
    four = packet.family is Family.IPV4
    place, length = (at + 12, 4) if four else (at + 8, 16)
    before = bytes(octets[place : place + 2 * length])
    after = ends.source.to_bytes(length) + ends.destination.to_bytes(length)
    octets[place : place + 2 * length] = after
    if four:
        _adjust(octets, at + 10, before, after)
    if packet.fragment:
        return
    if packet.protocol == ICMP:  # its checksum is over no addresses
        before = after = b""
    if packet.protocol in PORT_PROTOCOLS or packet.icmp_type is not None:
        echo = packet.icmp_type is not None
        where = slice(carried + 4, carried + 6) if echo else slice(carried, carried + 4)
        numbers = struct.pack("!HH", *ends.numbers)[: 2 if echo else 4]
        before, after = before + bytes(octets[where]), after + numbers
        octets[where] = numbers
    if packet.protocol in _CHECKSUM_AT:
        sum_at = carried + _CHECKSUM_AT[packet.protocol]
        unsummed = packet.protocol == UDP and octets[sum_at : sum_at + 2] == b"\0\0"
        if len(octets) >= sum_at + 2 and not unsummed:
            _adjust(octets, sum_at, before, after)


def _adjust(octets: bytearray, at: int, before: bytes, after: bytes) -> None:
    """Correct a checksum for octets that have changed (RFC 1624)."""
    checksum = ~(octets[at] << 8 | octets[at + 1]) & 0xFFFF
    words = struct.unpack(f"!{len(before) // 2}H", before)
    total = checksum + sum(~each & 0xFFFF for each in words)
    total += sum(struct.unpack(f"!{len(after) // 2}H", after))
    octets[at : at + 2] = (~_folded(total) & 0xFFFF).to_bytes(2)


def _folded(total: int) -> int:
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return total


def _checksum(octets: bytes) -> bytes:
    """Return the Internet checksum of octets (RFC 1071)."""
    padded = octets + b"\0" * (len(octets) % 2)
    total = sum(struct.unpack(f"!{len(padded) // 2}H", padded))
    return (~_folded(total) & 0xFFFF).to_bytes(2)


# What is made


def framed(family: Family, packet: bytes, to: int = 0, by: int = 0) -> bytes:
    """Return a packet in a frame."""
    return to.to_bytes(6) + by.to_bytes(6) + _ETHERTYPES[family].to_bytes(2) + packet


def error_about(frame: bytes, read: Read, source: Address, icmp_type: int, code: int) -> bytes:
    """Return the ICMP message, as a packet, by which a device tells a sender about its packet."""
    family = read.packet.family
    quoted = frame[read.at :][: _MOST_QUOTED[family]]
    destination = Address(family, read.packet.source)
    return icmp_packet(source, destination, struct.pack("!BBxxI", icmp_type, code, 0) + quoted)


def icmp_packet(
    source: Address, destination: Address, message: bytes, hops: int = HOP_LIMIT
) -> bytes:
    """Return a packet with an ICMP message, whose checksum is filled in."""
    if source.family is Family.IPV4:
        ends = source.value.to_bytes(4) + destination.value.to_bytes(4)
        message = message[:2] + _checksum(message[:2] + b"\0\0" + message[4:]) + message[4:]
        head = struct.pack("!BBHIBBH", 0x45, 0, 20 + len(message), 0, hops, ICMP, 0)
        return head[:10] + _checksum(head + ends) + ends + message
    ends = source.value.to_bytes(16) + destination.value.to_bytes(16)
    summed = ends + struct.pack("!II", len(message), ICMPV6) + message[:2] + b"\0\0" + message[4:]
    message = message[:2] + _checksum(summed) + message[4:]
    return struct.pack("!IHBB", 6 << 28, len(message), ICMPV6, hops) + ends + message


def quoted_in(frame: bytes, read: Read) -> Read | None:
    """Return the packet that an ICMP error message quotes; None where there is none, or not enough
    of it.
    """
    family = read.packet.family
    if not is_error(family, read.packet.icmp_type):
        return None
    # Eight octets of what a packet carried are enough to tell whose it was, and TCP's flags are
    # behind them.
    padded = frame + b"\0" * 8
    try:
        found = (read_ipv4 if family is Family.IPV4 else read_ipv6)(padded, read.carried + 8)
    except (struct.error, IndexError):
        return None
    return found if found is None or found.carried + 8 <= len(frame) else None


def error_turned(
    frame: bytes, read: Read, quoted: Read, ends: PacketEnds, about: PacketEnds
) -> bytes:
    """Return a frame whose ICMP error message has other ends, and quotes a packet with other
    ends.
    """
    octets = bytearray(frame)
    _turn(octets, quoted, about)
    source, destination = (
        Address(read.packet.family, each) for each in (ends.source, ends.destination)
    )
    message = bytes(octets[read.carried :])
    packet = icmp_packet(source, destination, message, read.hops)
    return bytes(octets[:ETHERNET]) + packet


# Address resolution


class Resolving(NamedTuple):
    """A question for the hardware address of an address, and who asks."""

    target: Address
    asker: Address
    asker_mac: int


def resolving(frame: bytes) -> Resolving | None:
    """Return the question in a frame, an ARP request or a neighbour solicitation; None for another
    frame.
    """
    mac = int.from_bytes(frame[6:12])
    kind = frame[12:14]
    if kind == ARP.to_bytes(2):
        if len(frame) < ETHERNET + 28 or frame[14:22] != bytes.fromhex("0001080006040001"):
            return None
        one, other = (int.from_bytes(frame[at : at + 4]) for at in (28, 38))
        return Resolving(Address(Family.IPV4, other), Address(Family.IPV4, one), mac)
    read = read_frame(frame) if kind == IPV6.to_bytes(2) else None
    if read is None or read.packet.icmp_type != _SOLICITATION or read.packet.protocol != ICMPV6:
        return None
    target = frame[read.carried + 8 : read.carried + 24]
    if len(target) < 16:
        return None
    wanted, asker = int.from_bytes(target), Address(Family.IPV6, read.packet.source)
    return Resolving(Address(Family.IPV6, wanted), asker, mac)


def resolved(asked: Resolving, mac: int) -> bytes:
    """Return the frame that answers a question for a hardware address."""
    target, asker = asked.target, asked.asker
    if target.family is Family.IPV4:
        ends = mac.to_bytes(6) + target.value.to_bytes(4)
        theirs = asked.asker_mac.to_bytes(6) + asker.value.to_bytes(4)
        head = asked.asker_mac.to_bytes(6) + mac.to_bytes(6) + ARP.to_bytes(2)
        return head + bytes.fromhex("0001080006040002") + ends + theirs
    # Solicited, and to be put in place of another (RFC 4861 section 4.4).
    message = struct.pack("!BBHI", _ADVERTISEMENT, 0, 0, 0x60000000) + target.value.to_bytes(16)
    message += b"\2\1" + mac.to_bytes(6)
    packet = icmp_packet(target, asker, message, _NEXT_LIMIT)
    return framed(Family.IPV6, packet, asked.asker_mac, mac)
