"""Boxes: sets of packets of one plain shape, which NumPy can pair by the million (`columns`).

1. A box is a product: bits that are fixed or free (both addresses, TCP flags, fragment, DSCP) and
   three spans of numbers (protocol, source port, destination port). A region of one prefix, service
   and mark is a box; others have a smallest box around them, their hull. All other sets are
   products of sets (`region`, `frame`).
2. A packet of a protocol with ICMP messages keeps `type * 256 + code` where others have their
   destination port, so that one span serves both; a box asks for ports or a message only where it
   has fixed the protocol and "no fragment". Packets that have no ports stand in a box once for
   every port; nothing tells these apart.
3. `minus` takes one box out of another and leaves boxes that do not overlap; it looks at the
   protocol and the fragment bit first, so that rule 2 holds for what is left.
"""

from __future__ import annotations

from collections.abc import Generator, Iterator
from typing import NamedTuple

from crossgate.core.model.address import Family, Pattern
from crossgate.core.model.packet import MOST_PORT, Packet
from crossgate.core.model.service import FlagTest

FLAG_BITS, FRAGMENT_BIT, DSCP_SHIFT = 0xFF, 1 << 8, 9


LOW_BITS = 64
"""Where the destination address starts; below it stand flags (8 bits), the fragment bit and DSCP (6
bits).
"""


LOW_FREE = (1 << 15) - 1


ALL_PORTS = (0, MOST_PORT)


class Box(NamedTuple):
    """A product set of packets of one family.

    `wildcard` has a 1 for each free bit, where `value` is 0. The bits are, from the low end: TCP
    flags, fragment, DSCP, and from bit 64 on the destination and the source address.
    """

    family: Family
    value: int
    wildcard: int
    protocol_first: int = 0
    protocol_last: int = 255
    source_first: int = 0
    source_last: int = MOST_PORT
    port_first: int = 0
    port_last: int = MOST_PORT

    @property
    def source(self) -> Pattern:
        """The source addresses."""
        shift = LOW_BITS + self.family.bits
        return Pattern(self.family, self.value >> shift, self.wildcard >> shift)

    @property
    def destination(self) -> Pattern:
        """The destination addresses."""
        mask = self.family.mask
        return Pattern(self.family, self.value >> LOW_BITS & mask, self.wildcard >> LOW_BITS & mask)

    @property
    def flags(self) -> FlagTest:
        """The TCP flags that are fixed, and their values."""
        return FlagTest(self.value & FLAG_BITS, ~self.wildcard & FLAG_BITS)

    @property
    def fragment(self) -> bool | None:
        """Whether its packets are non-initial fragments; None where some are and some are not."""
        return None if self.wildcard & FRAGMENT_BIT else bool(self.value & FRAGMENT_BIT)

    @property
    def dscp(self) -> FlagTest:
        """The bits of DSCP that are fixed."""
        return FlagTest(self.value >> DSCP_SHIFT & 63, ~self.wildcard >> DSCP_SHIFT & 63)

    @property
    def spans(self) -> tuple[int, ...]:
        """The first and last protocol, source port and destination port."""
        return self[3:]

    @property
    def weight(self) -> int:
        """Roughly how many bits are free: the larger of two boxes has more."""
        spans = (
            self.protocol_last - self.protocol_first,
            self.source_last - self.source_first,
            self.port_last - self.port_first,
        )
        return self.wildcard.bit_count() + sum(span.bit_length() for span in spans)


def whole(family: Family) -> Box:
    """Return the box of all packets of a family."""
    return Box(family, 0, ((1 << 2 * family.bits) - 1) << LOW_BITS | LOW_FREE)


def overlap(one: Box, other: Box) -> Box | None:
    """Return what two boxes of a family have in common, or None."""
    family, value, wildcard, p0, p1, s0, s1, d0, d1 = one
    _, other_value, other_wildcard, q0, q1, t0, t1, e0, e1 = other
    if (
        (value ^ other_value) & ~(wildcard | other_wildcard)
        or p0 > q1
        or q0 > p1
        or d0 > e1
        or e0 > d1
        or s0 > t1
        or t0 > s1
    ):
        return None
    return Box(
        family,
        value | other_value,
        wildcard & other_wildcard,
        p0 if p0 > q0 else q0,
        p1 if p1 < q1 else q1,
        s0 if s0 > t0 else t0,
        s1 if s1 < t1 else t1,
        d0 if d0 > e0 else e0,
        d1 if d1 < e1 else e1,
    )


def meets(one: Box, other: Box) -> bool:
    """Whether two boxes of a family have a packet in common."""
    _, value, wildcard, p0, p1, s0, s1, d0, d1 = one
    _, other_value, other_wildcard, q0, q1, t0, t1, e0, e1 = other
    return not (
        (value ^ other_value) & ~(wildcard | other_wildcard)
        or p0 > q1
        or q0 > p1
        or d0 > e1
        or e0 > d1
        or s0 > t1
        or t0 > s1
    )


def covers(outer: Box, inner: Box) -> bool:
    """Whether every packet of `inner` is in `outer`."""
    fixed = ~outer.wildcard
    return (
        inner.wildcard & fixed == 0
        and (inner.value ^ outer.value) & fixed == 0
        and spans_cover(outer, inner)
    )


def spans_cover(outer: Box, inner: Box) -> bool:
    """Whether the protocols and ports of `inner` are all among those of `outer`."""
    return (
        outer.protocol_first <= inner.protocol_first
        and inner.protocol_last <= outer.protocol_last
        and outer.source_first <= inner.source_first
        and inner.source_last <= outer.source_last
        and outer.port_first <= inner.port_first
        and inner.port_last <= outer.port_last
    )


def minus(box: Box, part: Box) -> Iterator[Box]:
    """Yield the rest of a box without `part`, a box inside it, as boxes that do not overlap."""
    if box.protocol_first < part.protocol_first:
        yield box._replace(protocol_last=part.protocol_first - 1)
    if part.protocol_last < box.protocol_last:
        yield box._replace(protocol_first=part.protocol_last + 1)
    left = box._replace(protocol_first=part.protocol_first, protocol_last=part.protocol_last)
    fixed = box.wildcard & ~part.wildcard
    if fixed & FRAGMENT_BIT:
        left = yield from _flipped(left, part, FRAGMENT_BIT)
        fixed ^= FRAGMENT_BIT
    if left.port_first < part.port_first:
        yield left._replace(port_last=part.port_first - 1)
    if part.port_last < left.port_last:
        yield left._replace(port_first=part.port_last + 1)
    if left.source_first < part.source_first:
        yield left._replace(
            port_first=part.port_first, port_last=part.port_last, source_last=part.source_first - 1
        )
    if part.source_last < left.source_last:
        yield left._replace(
            port_first=part.port_first, port_last=part.port_last, source_first=part.source_last + 1
        )
    left = Box(left.family, left.value, left.wildcard, *part.spans)
    while fixed:
        bit = 1 << (fixed.bit_length() - 1)
        left = yield from _flipped(left, part, bit)
        fixed ^= bit


def _flipped(left: Box, part: Box, bit: int) -> Generator[Box, None, Box]:
    """Yield the half of `left` that differs from `part` in one bit, and return the other half."""
    family, value, wildcard, *spans = left
    wildcard ^= bit
    agreeing = value | (part.value & bit)
    yield Box(family, agreeing ^ bit, wildcard, *spans)
    return Box(family, agreeing, wildcard, *spans)


def packet_box(packet: Packet) -> Box:
    """Return the box of a single packet, with the packets that no list can distinguish from it."""
    bits = packet.family.bits
    value = (packet.source << bits | packet.destination) << LOW_BITS | packet.dscp << DSCP_SHIFT
    value |= (packet.flags or 0) | (FRAGMENT_BIT if packet.fragment else 0)
    wildcard = 0 if packet.flags is not None else FLAG_BITS
    source_ports = (
        ALL_PORTS if packet.source_port is None else (packet.source_port, packet.source_port)
    )
    ports = (
        ALL_PORTS
        if packet.destination_port is None
        else (packet.destination_port, packet.destination_port)
    )
    if packet.icmp_type is not None:
        message = packet.icmp_type << 8 | (packet.icmp_code or 0)
        ports = (message, message)
    return Box(
        packet.family, value, wildcard, packet.protocol, packet.protocol, *source_ports, *ports
    )
