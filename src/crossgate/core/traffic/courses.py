"""Sets of opening packets by the legs that follow them: the courses that conversations take, and
what the packets of each leg say of the opening.

The protocol of an opening packet decides its *course*: which legs follow, and what these repeat of
it. A TCP SYN has three legs; an ICMP request has its answer; other protocols have a reply; a packet
that opens nothing (a fragment, another TCP segment, a message that nobody answers) is one leg by
itself.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from functools import cache, lru_cache
from typing import NamedTuple

from crossgate.core.conversation.rules import ALONE, ANSWERED, HANDSHAKE, OPENING, SHAPES, Leg
from crossgate.core.model import iana
from crossgate.core.model.address import Family
from crossgate.core.model.packet import MOST_PORT, PORT_PROTOCOLS, SYN, TCP, icmp_of
from crossgate.core.model.service import FlagTest, Service
from crossgate.core.sets import spans as line
from crossgate.core.sets.frame import PacketSet
from crossgate.core.sets.region import (
    ALL_FLAGS,
    ALL_PORTS,
    FRAGMENTS,
    PROTOCOL_SHIFT,
    WHOLE,
    WITH_PORTS,
    Region,
    every_packet,
    flag_set,
    protocol_line,
    term_line,
    whole_packets,
)
from crossgate.core.sets.spans import Spans


@dataclass(frozen=True, slots=True, eq=False)
class Course:
    """The opening packets after which the same legs follow.

    `answer` is the ICMP type of the reply, None for other protocols. A `stray` opens nothing: a
    fragment, a TCP segment other than a SYN, an ICMP message that nobody answers. `on_link` is True
    for a course only between machines of one link, False for one only between different links, None
    for both.
    """

    openings: Region
    legs: tuple[Leg, ...]
    answer: int | None = None
    stray: bool = False
    on_link: bool | None = None


@cache
def courses(family: Family) -> tuple[Course, ...]:
    """Return the courses of a family. For machines of one link, and for those of different links,
    the openings of all courses do not overlap and together are all packets.
    """
    every, protocol = every_packet(family), icmp_of(family)
    tcp = every._replace(what=whole_packets(TCP))
    found = [
        Course(tcp._replace(flags=1 << SYN), HANDSHAKE),
        Course(tcp._replace(flags=ALL_FLAGS & ~(1 << SYN)), ALONE, stray=True),
    ]
    answered, near = iana.ANSWERED[protocol], iana.ANSWERED_ON_LINK[protocol]
    base, message, strays = protocol << PROTOCOL_SHIFT, 0, list(FRAGMENTS)

    for kind in (*sorted({*answered, *near}), 256):
        if message < kind << 8:
            strays.append((base + message, base + (kind << 8)))
        own = every._replace(what=((base + (kind << 8), base + (kind + 1 << 8)),))
        if kind in answered:
            found.append(Course(own, ANSWERED, answered[kind]))
        elif kind in near:
            found.append(Course(own, ANSWERED, near[kind], on_link=True))
            found.append(Course(own, ALONE, stray=True, on_link=False))
        message = kind + 1 << 8
    apart = line.joined((*protocol_line(TCP), *protocol_line(protocol)))
    others = line.less(WHOLE, apart)
    found.append(Course(every._replace(what=line.joined(strays)), ALONE, stray=True))
    return (*found, Course(every._replace(what=others), ANSWERED))


@cache
def opening_packets(family: Family) -> PacketSet:
    """Return the packets of a family that open a conversation on one link and between links
    alike.
    """
    return PacketSet.of(
        *(each.openings for each in courses(family) if not each.stray and each.on_link is None)
    )


def course_on(course: Course, on_link: bool) -> Course:
    """Return the course that the same openings take between machines of one link, or of different
    ones.
    """
    if course.on_link in (None, on_link):
        return course
    every = courses(course.openings.family)
    return next(
        each for each in every if each.openings == course.openings and each.on_link is on_link
    )


class Opening(NamedTuple):
    """Some opening packets of one course."""

    course: Course
    region: Region


def openings(
    service: Service, family: Family, clients: tuple[int, int] = (0, MOST_PORT)
) -> list[Opening]:
    """Return the packets that open conversations of a service from the given client ports: with
    DSCP 0, not fragmented, a SYN in TCP.

    ICMP messages that nobody answers are included only where the service names their type.
    """
    found = []
    for term in service.terms:
        for course in courses(family):
            what = line.common(term_line((term,)), course.openings.what)
            if course.stray and term.icmp_type is None:
                continue
            begun = course.openings._replace(what=what, dscp=1)
            found += [Opening(course, each) for each in from_ports(begun, clients)]
    return found


def segments(
    service: Service, family: Family, flags: FlagTest, clients: tuple[int, int]
) -> list[Opening]:
    """Return the TCP segments of a service with some flags that open nothing, from the given client
    ports: with DSCP 0, one leg each.
    """
    (course,) = (
        each for each in courses(family) if each.stray and each.openings.what == whole_packets(TCP)
    )
    tested = course.openings.flags & flag_set((flags,))
    found = []
    for term in service.terms:
        what = line.common(term_line((term,)), course.openings.what)
        if tested:
            found += [
                Opening(course, each)
                for each in from_ports(
                    course.openings._replace(what=what, flags=tested, dscp=1), clients
                )
            ]
    return found


def from_ports(region: Region, clients: tuple[int, int]) -> list[Region]:
    """Return the packets of a region that come from a range of source ports, and those that have no
    ports.
    """
    ports = line.common(region.source_ports, ((clients[0], clients[1] + 1),))
    parts = (
        (line.common(region.what, WITH_PORTS), ports),
        (line.less(region.what, WITH_PORTS), region.source_ports),
    )
    return [
        region._replace(what=what, source_ports=asked) for what, asked in parts if what and asked
    ]


def by_course(regions: Iterable[Region]) -> list[Opening]:
    """Return the openings in some regions, course by course."""
    return [
        Opening(course, region._replace(what=what, flags=flags))
        for region in regions
        for course, what, flags in _by_course(region.family, region.what, region.flags)
    ]


@lru_cache(1 << 12)
def _by_course(family: Family, what: Spans, flags: int) -> list[tuple[Course, Spans, int]]:
    """Return the courses of packets with these contents and flags, each with the part of both that
    takes it.
    """
    found = (
        (each, line.common(what, each.openings.what), flags & each.openings.flags)
        for each in courses(family)
    )
    return [(course, own, marks) for course, own, marks in found if own and marks]


def leg_regions(opening: Region, course: Course, leg: Leg) -> list[Region]:
    """Return the packets of a leg, for opening packets of a course, as regions that do not
    overlap.
    """
    if leg in OPENING:
        return [opening]
    turned, flags = SHAPES[leg]
    found = [opening] if not turned else _turned(opening, opening.what)
    if turned and course.answer is not None:
        found = [_messages(opening, course.answer)]
    return found if flags is None else [each._replace(flags=1 << flags) for each in found]


def opening_regions(region: Region, course: Course, leg: Leg) -> list[Region]:
    """Return the openings of a course whose packets on a leg are in a region: the inverse of
    `leg_regions`.

    Sides of the opening of which the leg's packets tell nothing are left open.
    """
    if leg in OPENING:
        return [region]
    turned, flags = SHAPES[leg]
    if flags is not None and not region.flags >> flags & 1:
        return []
    if not turned:
        return [region._replace(flags=ALL_FLAGS)]
    if course.answer is not None:
        message = _message(region, course.answer)
        return (
            [Region(region.destination, region.source, dscp=region.dscp)]
            if line.contains(region.what, message)
            else []
        )
    return _turned(region, course.openings.what)


def _message(region: Region, kind: int) -> int:
    """Return what an ICMP message of a type with code 0 carries."""
    return (icmp_of(region.family) << PROTOCOL_SHIFT) + (kind << 8)


def _messages(opening: Region, kind: int) -> Region:
    """Return what the ICMP messages of a type carry that answer some packets."""
    message = _message(opening, kind)
    return opening.between(opening.destination, opening.source)._replace(
        what=((message, message + 1),)
    )


def _turned(region: Region, within: Spans) -> list[Region]:
    """Return the packets of a region that are `within`, with source and destination exchanged,
    ports included.
    """
    turned = Region(region.destination, region.source, dscp=region.dscp)
    return [
        turned._replace(what=what, source_ports=ports)
        for what, ports in _turned_services(region.what, region.source_ports, within)
    ]


@lru_cache(1 << 12)
def _turned_services(what: Spans, source_ports: Spans, within: Spans) -> list[tuple[Spans, Spans]]:
    """Return what is carried `within`, and from which ports, in the other direction: in parts,
    since each protocol has its own ports.
    """
    what = line.common(what, within)
    plain, found = line.less(what, WITH_PORTS), []
    for protocol in PORT_PROTOCOLS:
        own = line.common(what, whole_packets(protocol))
        if not own:
            continue
        if source_ports == ALL_PORTS and own == whole_packets(protocol):
            plain = line.joined((*plain, *own))
            continue
        base = protocol << PROTOCOL_SHIFT
        back = tuple((base + first, base + end) for first, end in source_ports)
        found.append((back, tuple((first - base, end - base) for first, end in own)))
    return [(plain, ALL_PORTS), *found] if plain else found
