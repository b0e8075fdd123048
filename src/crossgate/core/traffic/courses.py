"""Sets of opening packets by what follows them: the courses that conversations take, and what of
them each leg's packets tell.

An opening packet falls into a *course* by its protocol: which legs follow, and what of it they
repeat. TCP's SYN has three legs; an ICMP request has its answer; other protocols have a reply; what
is no opening (fragments, other TCP segments, messages that nobody answers) is one leg by itself.
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
    """Opening packets that are followed by the same legs. `answer` is the ICMP type of the reply,
    None for no ICMP.

    A `stray` opens nothing: a fragment, a TCP segment other than a SYN, an ICMP message that nobody
    answers. With `on_link` it is a course only between machines of one link (True) or of different
    ones (False).
    """

    openings: Region
    legs: tuple[Leg, ...]
    answer: int | None = None
    stray: bool = False
    on_link: bool | None = None


@cache
def courses(family: Family) -> tuple[Course, ...]:
    """Return the courses of a family; on one link, and off it, their openings are apart and
    together all packets.
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
    """Return the packets of a family that open conversations wherever they are sent."""
    return PacketSet.of(
        *(each.openings for each in courses(family) if not each.stray and each.on_link is None)
    )


def course_on(course: Course, on_link: bool) -> Course:
    """Return the course of the same openings between machines of one link, or of different ones."""
    if course.on_link in (None, on_link):
        return course
    every = courses(course.openings.family)
    return next(
        each for each in every if each.openings == course.openings and each.on_link is on_link
    )


class Opening(NamedTuple):
    """Opening packets of one course."""

    course: Course
    region: Region


def openings(
    service: Service, family: Family, clients: tuple[int, int] = (0, MOST_PORT)
) -> list[Opening]:
    """Return the packets that open conversations of a service from the client ports given:
    unmarked, whole, a SYN in TCP.

    ICMP messages that nobody answers are among them only where the service names their type.
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
    """Return the TCP segments of a service with some flags that open nothing, from the client ports
    given: unmarked, and one leg each.
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
    """Return the packets of a region from source ports in a range, and those that have no ports."""
    ports = line.common(region.source_ports, ((clients[0], clients[1] + 1),))
    parts = (
        (line.common(region.what, WITH_PORTS), ports),
        (line.less(region.what, WITH_PORTS), region.source_ports),
    )
    return [
        region._replace(what=what, source_ports=asked) for what, asked in parts if what and asked
    ]


def by_course(regions: Iterable[Region]) -> list[Opening]:
    """Return the openings that some regions hold, course by course."""
    return [
        Opening(course, region._replace(what=what, flags=flags))
        for region in regions
        for course, what, flags in _by_course(region.family, region.what, region.flags)
    ]


@lru_cache(1 << 12)
def _by_course(family: Family, what: Spans, flags: int) -> list[tuple[Course, Spans, int]]:
    """Return the courses that packets take which carry this and have these flags, with what and
    which of them takes each.
    """
    found = (
        (each, line.common(what, each.openings.what), flags & each.openings.flags)
        for each in courses(family)
    )
    return [(course, own, marks) for course, own, marks in found if own and marks]


def leg_regions(opening: Region, course: Course, leg: Leg) -> list[Region]:
    """Return the packets of a leg, for opening packets of a course, in regions that are apart."""
    if leg in OPENING:
        return [opening]
    turned, flags = SHAPES[leg]
    found = [opening] if not turned else _turned(opening, opening.what)
    if turned and course.answer is not None:
        found = [_messages(opening, course.answer)]
    return found if flags is None else [each._replace(flags=1 << flags) for each in found]


def opening_regions(region: Region, course: Course, leg: Leg) -> list[Region]:
    """Return the openings of a course whose packets on a leg are in a region: `leg_regions` the
    other way.

    What they say of the openings is only what the leg's packets tell; other sides are left open.
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
    """Return what an ICMP message of a type carries, with the code 0."""
    return (icmp_of(region.family) << PROTOCOL_SHIFT) + (kind << 8)


def _messages(opening: Region, kind: int) -> Region:
    """Return the ICMP messages of a type that answer some packets."""
    message = _message(opening, kind)
    return opening.between(opening.destination, opening.source)._replace(
        what=((message, message + 1),)
    )


def _turned(region: Region, within: Spans) -> list[Region]:
    """Return the packets of a region that are within, with their ends changed: addresses and
    ports.
    """
    turned = Region(region.destination, region.source, dscp=region.dscp)
    return [
        turned._replace(what=what, source_ports=ports)
        for what, ports in _turned_services(region.what, region.source_ports, within)
    ]


@lru_cache(1 << 12)
def _turned_services(what: Spans, source_ports: Spans, within: Spans) -> list[tuple[Spans, Spans]]:
    """Return what is carried within and from which ports, the other way round: in parts, as the
    ports of each protocol are its own.
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
