"""Sets of opening packets by what follows them: the courses that conversations take, and the packets of each leg as boxes.

An opening packet falls into a *course* by its protocol: which legs follow, and what of it they repeat. TCP's SYN has
three legs; an ICMP request has its answer; other protocols have a reply; what is no opening (fragments, other TCP
segments, messages that nobody answers) is one leg by itself.
"""

from __future__ import annotations

from collections.abc import Iterable
from functools import cache
from typing import NamedTuple

from crossgate.core.model import iana
from crossgate.core.model.address import Family
from crossgate.core.model.packet import ACK, MOST_PORT, SYN, TCP, icmp_of
from crossgate.core.model.service import Service
from crossgate.core.sets.boxes import (
    ALL_PORTS,
    DSCP_SHIFT,
    FLAG_BITS,
    FRAGMENT_BIT,
    LOW_BITS,
    Box,
    minus,
    overlap,
    whole,
)
from crossgate.core.sets.services import service_boxes
from crossgate.core.traffic.legs import Leg


class Course(NamedTuple):
    """Opening packets that are followed by the same legs. `answer` is the ICMP type of the reply, None for no ICMP.

    A `stray` opens nothing: a fragment, a TCP segment other than a SYN, an ICMP message that nobody answers. With `on_link`
    it is a course only between machines of one link (True) or of different ones (False).
    """

    openings: Box
    legs: tuple[Leg, ...]
    answer: int | None = None
    stray: bool = False
    on_link: bool | None = None


@cache
def courses(family: Family) -> tuple[Course, ...]:
    """Return the courses of a family; on one link, and off it, their openings are apart and together all packets."""
    every = whole(family)
    fragments = every._replace(value=FRAGMENT_BIT, wildcard=every.wildcard & ~FRAGMENT_BIT)
    whole_packets = every._replace(wildcard=every.wildcard & ~FRAGMENT_BIT)
    found = [Course(fragments, (Leg.REQUEST,), stray=True)]
    tcp = whole_packets._replace(protocol_first=TCP, protocol_last=TCP)
    opening = tcp._replace(value=SYN, wildcard=tcp.wildcard & ~FLAG_BITS)
    found.append(Course(opening, (Leg.SYN, Leg.SYN_ACK, Leg.ACK)))
    found += [Course(box, (Leg.REQUEST,), stray=True) for box in minus(tcp, opening)]
    protocol = icmp_of(family)
    answered, near = iana.ANSWERED[protocol], iana.ANSWERED_ON_LINK[protocol]
    icmp = whole_packets._replace(protocol_first=protocol, protocol_last=protocol)
    message = 0
    for kind in (*sorted({*answered, *near}), 256):
        if message < kind << 8:
            found.append(Course(icmp._replace(port_first=message, port_last=(kind << 8) - 1), (Leg.REQUEST,), stray=True))
        box = icmp._replace(port_first=kind << 8, port_last=kind << 8 | 255)
        if kind in answered:
            found.append(Course(box, (Leg.REQUEST, Leg.REPLY), answered[kind]))
        elif kind in near:
            found.append(Course(box, (Leg.REQUEST, Leg.REPLY), near[kind], on_link=True))
            found.append(Course(box, (Leg.REQUEST,), stray=True, on_link=False))
        message = kind + 1 << 8
    apart = sorted((protocol, TCP))
    for first, last in zip((-1, *apart), (*apart, 256), strict=True):
        if first + 1 < last:
            box = whole_packets._replace(protocol_first=first + 1, protocol_last=last - 1)
            found.append(Course(box, (Leg.REQUEST, Leg.REPLY)))
    return tuple(found)


def course_on(course: Course, on_link: bool) -> Course:
    """Return the course of the same openings between machines of one link, or of different ones."""
    if course.on_link in (None, on_link):
        return course
    return next(each for each in courses(course.openings.family) if each.openings == course.openings and each.on_link is on_link)


class Opening(NamedTuple):
    """Opening packets of one course, to and from any address."""

    course: Course
    box: Box


def openings(service: Service, family: Family, clients: tuple[int, int] = ALL_PORTS) -> list[Opening]:
    """Return the packets that open conversations of a service from the client ports given: unmarked, whole, a SYN in TCP.

    ICMP messages that nobody answers are among them only where the service names their type.
    """
    every = whole(family)
    fixed = FLAG_BITS | FRAGMENT_BIT | 63 << DSCP_SHIFT
    first = every._replace(value=SYN, wildcard=every.wildcard & ~fixed, source_first=clients[0], source_last=clients[1])
    found = []
    for term in service.terms:
        boxes = service_boxes(Service(service.text, (term,)), every.source, every.destination)
        begun = by_course(part for box in boxes if (part := overlap(box, first)) is not None)
        found += [each for each in begun if not each.course.stray or term.icmp_type is not None]
    return found


def by_course(boxes: Iterable[Box]) -> list[Opening]:
    """Return the openings that some boxes hold, course by course."""
    return [Opening(course, part) for box in boxes for course in courses(box.family) if (part := overlap(box, course.openings)) is not None]


def leg_box(opening: Box, course: Course, leg: Leg) -> Box:
    """Return the packets of a leg, for opening packets of a course."""
    if leg in (Leg.SYN, Leg.REQUEST):
        return opening
    box = opening
    if leg.returns:
        box = swapped(opening)
    if course.answer is not None:
        box = box._replace(source_first=0, source_last=MOST_PORT, port_first=course.answer << 8, port_last=course.answer << 8)
    flags = {Leg.SYN_ACK: SYN | ACK, Leg.ACK: ACK}.get(leg)
    return box if flags is None else box._replace(value=box.value & ~FLAG_BITS | flags)


def opening_box(opening: Box, course: Course, leg: Leg, part: Box) -> Box:
    """Return the opening packets, of `opening`, that a part of their leg belongs to: `leg_box` the other way."""
    if leg in (Leg.SYN, Leg.REQUEST):
        return part
    back = swapped(part) if leg.returns else part
    value = back.value & ~FLAG_BITS | opening.value & FLAG_BITS
    wildcard = back.wildcard & ~FLAG_BITS | opening.wildcard & FLAG_BITS
    ports = opening[5:] if course.answer is not None else back[5:]
    return Box(opening.family, value, wildcard, back.protocol_first, back.protocol_last, *ports)


def swapped(box: Box) -> Box:
    """Return a box with its ends changed: addresses and ports."""
    bits, mask = box.family.bits, box.family.mask

    def turned(number: int) -> int:
        low, high = number & ((1 << LOW_BITS) - 1), number >> LOW_BITS
        return ((high & mask) << bits | high >> bits) << LOW_BITS | low

    return Box(
        box.family, turned(box.value), turned(box.wildcard), box.protocol_first, box.protocol_last,
        box.port_first, box.port_last, box.source_first, box.source_last,
    )  # fmt: skip
