"""Many packets of one family as NumPy columns: for millions what `Packet` is for one.

An IPv4 address is one word of 64 bits, an IPv6 address two, the higher one first.
`destination_port` of an ICMP message is its type and code, as type * 256 + code (as in the IPFIX
elements icmpTypeCodeIPv4 and icmpTypeCodeIPv6). Ports of protocols without ports and of non-initial
fragments, and flags of what is not TCP, are 0 and never looked at.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, fields
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from crossgate.core.model.address import Family
from crossgate.core.model.packet import PORT_PROTOCOLS, TCP, Packet, icmp_of

Words = NDArray[np.uint64]
Octets = NDArray[np.uint8]
Ports = NDArray[np.uint16]
Marks = NDArray[np.bool_]
Indices = NDArray[np.int64]
Scalar = TypeVar("Scalar", bound=np.generic)

_WORD = (1 << 64) - 1


@dataclass(frozen=True, slots=True, eq=False)
class Packets:
    """Columns of packets; `source` and `destination` have the shape (words of an address,
    packets).
    """

    family: Family
    source: Words
    destination: Words
    protocol: Octets
    source_port: Ports
    destination_port: Ports
    flags: Octets
    fragment: Marks
    dscp: Octets

    def __len__(self) -> int:
        return len(self.protocol)

    def take(self, rows: Indices | Marks | slice) -> Packets:
        """Return only the given packets."""
        rows = numbered(rows)
        return Packets(
            self.family,
            *(picked(getattr(self, each), rows) for each in ("source", "destination", *_COLUMNS)),
        )

    def packet(self, row: int) -> Packet:
        """Return the packet at an index."""
        protocol, fragment = int(self.protocol[row]), bool(self.fragment[row])
        source, destination = (
            whole_address(each[:, row]) for each in (self.source, self.destination)
        )
        asked: dict[str, int] = {}
        number = int(self.destination_port[row])
        if not fragment and protocol in PORT_PROTOCOLS:
            asked = {"source_port": int(self.source_port[row]), "destination_port": number}
            if protocol == TCP:
                asked["flags"] = int(self.flags[row])
        elif not fragment and protocol == icmp_of(self.family):
            asked = {"icmp_type": number >> 8, "icmp_code": number & 255}
        return Packet(
            self.family,
            source,
            destination,
            protocol,
            fragment=fragment,
            dscp=int(self.dscp[row]),
            **asked,
        )


def numbered(rows: Indices | Marks | slice) -> Indices | slice:
    """Return rows given by a mask as indices; indices stay as they are."""
    if isinstance(rows, slice):
        return rows
    return np.flatnonzero(rows) if rows.dtype == np.bool_ else rows.astype(np.int64, copy=False)


def picked(columns: NDArray[Scalar], rows: Indices | slice) -> NDArray[Scalar]:
    """Return some rows of one column, or of several laid one after the other: `np.take` is ten
    times as fast as indexing.
    """
    return columns[..., rows] if isinstance(rows, slice) else np.take(columns, rows, axis=-1)


PORTED = np.isin(np.arange(256), list(PORT_PROTOCOLS))
"""Which protocols have ports."""
_COLUMNS = tuple(each.name for each in fields(Packets)[3:])


def address_words(family: Family, addresses: Sequence[int]) -> Words:
    """Return addresses as words, in the shape of `Packets`."""
    if family is Family.IPV4:
        return np.array(addresses, np.uint64).reshape(1, -1)
    return np.array(
        [[each >> 64 for each in addresses], [each & _WORD for each in addresses]], np.uint64
    ).reshape(2, -1)


def whole_address(words: Words) -> int:
    """Return the address that consists of one or two words."""
    value = 0
    for word in words.tolist():
        value = value << 64 | word
    return value


def packet_columns(family: Family, packets: Sequence[Packet]) -> Packets:
    """Return packets of one family as columns."""

    def number(packet: Packet) -> int:
        if packet.icmp_type is not None:
            return packet.icmp_type << 8 | (packet.icmp_code or 0)
        return packet.destination_port or 0

    return Packets(
        family,
        address_words(family, [each.source for each in packets]),
        address_words(family, [each.destination for each in packets]),
        np.array([each.protocol for each in packets], np.uint8),
        np.array([each.source_port or 0 for each in packets], np.uint16),
        np.array([number(each) for each in packets], np.uint16),
        np.array([each.flags or 0 for each in packets], np.uint8),
        np.array([each.fragment for each in packets], np.bool_),
        np.array([each.dscp for each in packets], np.uint8),
    )


def joined_packets(parts: Sequence[Packets]) -> Packets:
    """Return the packets of several columns of one family, one after the other."""
    columns = [
        np.concatenate([getattr(each, name) for each in parts], axis=-1)
        for name in ("source", "destination", *_COLUMNS)
    ]
    return Packets(parts[0].family, *columns)
