"""Frames decoded in columns: Ethernet with VLAN tags, raw IP, Linux cooked and loopback frames;
IPv4, IPv6, and what they carry.

All frames of a batch are in one buffer. A field is read for all frames at once; a frame whose
captured part ends before something that a list can ask for is `cut`.

Sources: IEEE 802.1Q, LINKTYPE values of the pcap capture file format, RFC 791, RFC 8200 section 4
(extension headers), RFC 4302 (authentication header), RFC 9293, RFC 768, RFC 9260, RFC 4340, RFC
792, RFC 4443.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from crossgate.core.model import iana
from crossgate.core.model.address import Family
from crossgate.core.model.packet import ICMP, ICMPV6, TCP
from crossgate.core.model.packets import PORTED, Indices, Marks, Packets, Words, picked
from crossgate.core.traffic.seen import Seen
from crossgate.formats.readers.tls import HANDSHAKE, SERVER_HELLO

ETHERNET, LOOPBACK, LOOP = 1, 0, 108
COOKED, COOKED_2 = 113, 276
RAW = frozenset({12, 14, 101, 228, 229})
KINDS = {
    ETHERNET: "Ethernet",
    LOOPBACK: "loopback",
    LOOP: "loopback",
    COOKED: "Linux cooked",
    COOKED_2: "Linux cooked v2",
} | dict.fromkeys(RAW, "raw IP")
"""The link types that are read (LINKTYPE and DLT values), with their names."""

_VLAN = (0x8100, 0x88A8, 0x9100)
_ETHERTYPE = {Family.IPV4: 0x0800, Family.IPV6: 0x86DD}
_EXTENSIONS = (0, 43, 60, 135, 139, 140)
"""IPv6 extension headers that say their length in units of 8 octets behind the first 8 (IANA:
ipv6-extension-header).
"""
_AUTHENTICATION, _FRAGMENT = 51, 44
_MOST_TAGS, _MOST_EXTENSIONS = 4, 12
_MIX = np.uint64(0x9E3779B97F4A7C15)


_ANSWERED = {
    family: np.isin(np.arange(256), [each for pair in iana.ANSWERED[own].items() for each in pair])
    for family, own in ((Family.IPV4, ICMP), (Family.IPV6, ICMPV6))
}
"""Which ICMP types of a family are requests or answers, and so have an identifier."""


class Frames(NamedTuple):
    """Frames in one buffer: the start of each, the end of its captured part, and its time in
    microseconds.
    """

    octets: NDArray[np.uint8]
    start: Indices
    end: Indices
    time: Indices


class Found(NamedTuple):
    """The packets of each family in some frames, and the numbers of the frames without one.

    `other` frames carry no IP, `cut` ones were captured too short for what a list asks, `damaged`
    ones have headers that contradict themselves.
    """

    seen: dict[Family, Seen]
    other: Indices
    cut: Indices
    damaged: Indices
    hellos: list[tuple[Family, int, int, int]]
    """What may be a TLS server's hello: the family, the row, and where in the buffer the record is,
    from and to.
    """


class _Fields:
    """Reads big-endian fields at offsets into the buffer; beyond its end everything is 0."""

    def __init__(self, octets: NDArray[np.uint8]) -> None:
        padded = np.concatenate([octets, np.zeros(64, np.uint8)])
        self._last = len(octets) + 48
        self._by_size = {
            size: np.ndarray((len(padded) - size + 1,), f">u{size}", padded, 0, (1,))
            for size in (1, 2, 4, 8)
        }

    def read(self, at: Indices, size: int = 1) -> Indices:
        """Return the numbers of `size` octets."""
        return self._by_size[size][np.minimum(at, self._last)].astype(np.int64)

    def words(self, at: Indices) -> NDArray[np.uint64]:
        """Return the words of 8 octets."""
        return self._by_size[8][np.minimum(at, self._last)].astype(np.uint64)


def _part(words: NDArray[np.uint64], after: int, octets: int) -> Indices:
    """Return the numbers in `octets` octets of 8-octet words that are followed by `after`
    octets.
    """
    return (words >> np.uint64(8 * after) & np.uint64((1 << 8 * octets) - 1)).view(np.int64)


def packets_of(frames: Frames, link_type: int) -> Found:
    """Return the packets in some frames of one link type."""
    fields = _Fields(frames.octets)
    at, kind = _network(fields, frames, link_type)
    version = fields.read(at) >> 4
    short = at >= frames.end
    seen: dict[Family, Seen] = {}
    hellos: list[tuple[Family, int, int, int]] = []
    cut, damaged, other = [np.flatnonzero(short)], [], ~short
    for family in Family:
        claims = version == family if kind is None else kind == _ETHERTYPE[family]
        chosen = np.flatnonzero(claims & ~short)
        other[chosen] = False
        packets = (_ipv4 if family is Family.IPV4 else _ipv6)(
            fields, at[chosen], frames.end[chosen]
        )
        sound = packets.sound & (version[chosen] == family)
        damaged.append(chosen[~sound])
        cut.append(chosen[sound & ~packets.whole])
        kept = np.flatnonzero(sound & packets.whole)
        if len(kept):
            seen[family] = _seen(family, packets, kept, frames.time[chosen[kept]])
            ends = frames.end[chosen[kept]]
            payload = packets.payload[kept]
            rows = np.flatnonzero(payload + 9 < ends)
            rows = rows[fields.read(payload[rows]) == HANDSHAKE]
            rows = rows[fields.read(payload[rows] + 5) == SERVER_HELLO]
            hellos += [(family, row, int(payload[row]), int(ends[row])) for row in rows.tolist()]
    return Found(
        seen,
        np.flatnonzero(other),
        np.sort(np.concatenate(cut)),
        np.sort(np.concatenate(damaged)),
        hellos,
    )


def _network(fields: _Fields, frames: Frames, link_type: int) -> tuple[Indices, Indices | None]:
    """Return where each frame's network header starts, and its EtherType, None for a kind of link
    without one.
    """
    if link_type in RAW:
        return frames.start, None
    if link_type in (LOOPBACK, LOOP):
        return frames.start + 4, None
    place, header = {ETHERNET: (12, 14), COOKED: (14, 16), COOKED_2: (0, 20)}[link_type]
    kind, at = fields.read(frames.start + place, 2), frames.start + header
    for _ in range(_MOST_TAGS):
        tagged = np.isin(kind, _VLAN)
        if not tagged.any():
            break
        kind = np.where(tagged, fields.read(at + 2, 2), kind)
        at = at + 4 * tagged
    return at, kind


class _Read(NamedTuple):
    """Fields of packets of one family. `payload` is the start of TCP's payload, the packet's end
    for others; `whole` says that everything a list asks for was captured, `sound` that the headers
    make sense.
    """

    source: Words
    destination: Words
    protocol: Indices
    ports: tuple[Indices, Indices]
    flags: Indices
    fragment: Marks
    dscp: Indices
    identifier: Indices
    octets: Indices
    identity: Words
    payload: Indices
    whole: Marks
    sound: Marks


def _ipv4(fields: _Fields, at: Indices, end: Indices) -> _Read:
    first, second, third = (fields.words(at + after) for after in (0, 8, 16))
    header = _part(first, 7, 1) % 16 * 4
    octets, protocol = _part(first, 4, 2), _part(second, 6, 1)
    source, destination = (
        each.reshape(1, -1) for each in (second & np.uint64(0xFFFFFFFF), third >> np.uint64(32))
    )
    # An empty length is what a capture taken before the network card cuts large packets shows
    # (segmentation offload).
    sound = (header >= 20) & ((octets >= header) | (octets == 0) | (at + 20 > end))
    fragment = first & np.uint64(0x1FFF) != 0
    return _carried(
        fields,
        Family.IPV4,
        at,
        at + header,
        end,
        (source, destination),
        protocol,
        fragment,
        _part(first, 6, 1) >> 2,
        np.where(octets > 0, octets, end - at),
        first << np.uint64(16),
        sound,
    )


def _ipv6(fields: _Fields, at: Indices, end: Indices) -> _Read:
    source, destination = (
        np.stack([fields.words(at + first), fields.words(at + first + 8)]) for first in (8, 24)
    )
    octets, protocol, place = fields.read(at + 4, 2) + 40, fields.read(at + 6), at + 40
    fragment = np.zeros(len(at), np.bool_)
    for _ in range(_MOST_EXTENSIONS):
        authentication, piece = protocol == _AUTHENTICATION, (protocol == _FRAGMENT) & ~fragment
        extended = (
            (np.isin(protocol, _EXTENSIONS) | authentication | piece) & ~fragment & (place < end)
        )
        if not extended.any():
            break
        length = fields.read(place + 1)
        length = np.where(piece, 8, np.where(authentication, (length + 2) * 4, (length + 1) * 8))
        fragment |= extended & piece & (fields.read(place + 2, 2) >> 3 != 0)
        protocol = np.where(extended, fields.read(place), protocol)
        place = place + np.where(extended, length, 0)
    dscp = fields.read(at, 2) >> 6 & 63
    return _carried(
        fields,
        Family.IPV6,
        at,
        place,
        end,
        (source, destination),
        protocol,
        fragment,
        dscp,
        octets,
        fields.words(at) & np.uint64(0xF00FFFFFFFFFFF00),
        np.ones(len(at), np.bool_),
    )


def _carried(
    fields: _Fields,
    family: Family,
    at: Indices,
    place: Indices,
    end: Indices,
    ends: tuple[Words, Words],
    protocol: Indices,
    fragment: Marks,
    dscp: Indices,
    octets: Indices,
    digest: Words,
    sound: Marks,
) -> _Read:
    """Return the fields of packets whose transport headers start at `place`."""
    own = ICMP if family is Family.IPV4 else ICMPV6
    ported, icmp, tcp = (
        each & ~fragment for each in (PORTED[protocol], protocol == own, protocol == TCP)
    )
    needed = np.where(tcp, 14, np.where(ported, 4, np.where(icmp, 2, 0)))
    whole = (at + (20 if family is Family.IPV4 else 40) <= end) & (place + needed <= end)
    head = [fields.words(place + after) for after in (0, 8, 16)]
    first, second = _part(head[0], 6, 2), _part(head[0], 4, 2)
    ports = np.where(ported, first, 0), np.where(ported, second, np.where(icmp, first, 0))
    flags = np.where(tcp, _part(head[1], 2, 1), 0)
    payload = np.where(tcp, place + (_part(head[1], 3, 1) >> 4) * 4, end)
    identifier = np.zeros(len(at), np.int64)
    if icmp.any():
        identifier = np.where(
            icmp & (place + 8 <= end) & _ANSWERED[family][first >> 8], _part(head[0], 2, 2), 0
        )
    # What is the same before and after a router: not the lifetime, nor the header checksum.
    there = [
        np.where(place + after + 8 <= end, word, 0)
        for after, word in zip((0, 8, 16), head, strict=True)
    ]
    identity = np.zeros(len(at), np.uint64)
    for word in (digest, *ends[0], *ends[1], *there):
        identity = (identity ^ word) * _MIX
        identity ^= identity >> np.uint64(31)
    return _Read(
        *ends,
        protocol,
        ports,
        flags,
        fragment,
        dscp,
        identifier,
        octets,
        np.maximum(identity, 1),
        payload,
        whole,
        sound,
    )


def _seen(family: Family, read: _Read, kept: Indices, time: Indices) -> Seen:
    flags = read.flags[kept].astype(np.uint8)
    ports = [each[kept].astype(np.uint16) for each in read.ports]
    packets = Packets(
        family,
        picked(read.source, kept),
        picked(read.destination, kept),
        read.protocol[kept].astype(np.uint8),
        ports[0],
        ports[1],
        flags,
        read.fragment[kept],
        read.dscp[kept].astype(np.uint8),
    )
    none = np.zeros(len(kept), np.int64)
    return Seen(
        packets,
        time,
        time,
        np.stack([none + 1, none]),
        np.stack([read.octets[kept], none]),
        np.stack([flags, np.zeros_like(flags)]),
        read.identifier[kept].astype(np.uint16),
        np.zeros(len(kept), np.bool_),
        read.identity[kept],
        np.zeros(len(kept), np.uint64),
        np.zeros(len(kept), np.uint8),
    )
