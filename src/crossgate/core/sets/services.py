"""Services as parts of boxes: all that a region says besides its addresses, as spans of protocols
and ports, and as bits.
"""

from __future__ import annotations

from functools import cache, lru_cache
from typing import NamedTuple

from crossgate.core.model.service import FlagTest
from crossgate.core.sets import spans as line
from crossgate.core.sets.addresses import AddressSet
from crossgate.core.sets.boxes import ALL_PORTS, DSCP_SHIFT, FRAGMENT_BIT, LOW_FREE, Box
from crossgate.core.sets.region import FRAGMENT, PROTOCOL_SHIFT, Region
from crossgate.core.sets.spans import Span, Spans


class ServicePart(NamedTuple):
    """The part of a box without the addresses: flags, fragment and DSCP as bits, and the three
    spans.
    """

    value: int
    wildcard: int
    spans: tuple[int, int, int, int, int, int]


def service_parts(region: Region) -> tuple[ServicePart, ...]:
    """Return all that a region says besides its addresses, in parts that do not overlap."""
    return _parts(*region[2:])


def service_hull(region: Region) -> ServicePart:
    """Return the smallest part that contains all that a region says besides its addresses."""
    return _hull(*region[2:])


@lru_cache(1 << 14)
def _hull(what: Spans, source_ports: Spans, flags: int, dscp: int) -> ServicePart:
    (value, wildcard, spans), *others = _parts(what, source_ports, flags, dscp)
    for part in others:
        wildcard |= part.wildcard | (value ^ part.value)
        first, last, source, source_end, port, port_end = (
            (min, max)[index % 2](ends)
            for index, ends in enumerate(zip(spans, part.spans, strict=True))
        )
        spans = first, last, source, source_end, port, port_end
    return ServicePart(value & ~wildcard, wildcard, spans)


@lru_cache(1 << 14)
def _parts(what: Spans, source_ports: Spans, flags: int, dscp: int) -> tuple[ServicePart, ...]:
    marks = [
        (test.value | mark.value << DSCP_SHIFT, ~(test.care | mark.care << DSCP_SHIFT) & LOW_FREE)
        for test in cubes(flags, 8)
        for mark in cubes(dscp, 6)
    ]
    clients = [(first, end - 1) for first, end in source_ports]
    found = []
    for first, last, ports, fragments in protocol_runs(what):
        kinds = (
            [(0, FRAGMENT_BIT, ALL_PORTS)]
            if fragments and ports == (ALL_PORTS,)
            else [(0, 0, each) for each in ports]
        )
        if fragments and ports != (ALL_PORTS,):
            kinds.append((FRAGMENT_BIT, 0, ALL_PORTS))
        found += [
            ServicePart(
                value | bits, wildcard & ~FRAGMENT_BIT | free, (first, last, *client, *span)
            )
            for bits, free, span in kinds
            for client in clients
            for value, wildcard in marks
        ]
    return tuple(found)


def protocol_runs(what: Spans) -> list[tuple[int, int, tuple[tuple[int, int], ...], bool]]:
    """Return runs of neighbouring protocols that carry the same: the first, the last, the ports or
    messages, and whether fragments are included.
    """
    held: dict[int, list[Span]] = {}
    for first, end in what:
        while first < end:
            protocol = first >> PROTOCOL_SHIFT
            stop = min(end, protocol + 1 << PROTOCOL_SHIFT)
            base = protocol << PROTOCOL_SHIFT
            held.setdefault(protocol, []).append((first - base, stop - base))
            first = stop
    found: list[tuple[int, int, tuple[tuple[int, int], ...], bool]] = []
    for protocol, spans in held.items():
        ports = tuple(
            (first, end - 1) for first, end in line.common(tuple(spans), ((0, FRAGMENT),))
        )
        fragments = spans[-1][1] > FRAGMENT
        if found and found[-1][1] == protocol - 1 and found[-1][2:] == (ports, fragments):
            found[-1] = (found[-1][0], protocol, ports, fragments)
        else:
            found.append((protocol, protocol, ports, fragments))
    return found


@cache
def cubes(members: int, bits: int) -> tuple[FlagTest, ...]:
    """Return a set of numbers of `bits` bits, given as a bit set, as bit tests that no number
    passes twice.
    """
    if not members:
        return ()
    if members == (1 << (1 << bits)) - 1:
        return (FlagTest(0, 0),)
    half = 1 << bits - 1
    low, high = cubes(members & (1 << half) - 1, bits - 1), cubes(members >> half, bits - 1)
    both = [each for each in low if each in high]
    zero = [FlagTest(each.value, each.care | half) for each in low if each not in both]
    one = [FlagTest(each.value | half, each.care | half) for each in high if each not in both]
    return (*both, *zero, *one)


def box_region(box: Box) -> Region:
    """Return a box as a region."""
    source, destination = (
        AddressSet.of(box.family, (each,)) for each in (box.source, box.destination)
    )
    numbers = {False: (box.port_first, box.port_last + 1), True: (FRAGMENT, 2 * FRAGMENT)}
    spans = [
        ((protocol << PROTOCOL_SHIFT) + first, (protocol << PROTOCOL_SHIFT) + end)
        for protocol in range(box.protocol_first, box.protocol_last + 1)
        for fragment, (first, end) in numbers.items()
        if box.fragment in (None, fragment)
    ]
    ports = ((box.source_first, box.source_last + 1),)
    return Region(
        source,
        destination,
        line.joined(spans),
        ports,
        _members(box.flags, 8),
        _members(box.dscp, 6),
    )


@cache
def _members(test: FlagTest, bits: int) -> int:
    return sum(1 << number for number in range(1 << bits) if test.holds(number))
