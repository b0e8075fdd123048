"""Conversations between sets of addresses, exactly: every opening packet with what becomes of it, as boxes.

1. Between two spots all conversations go the same way there and back, so the lists asked on each leg are known.
2. An opening packet falls into a *course* by its protocol: which legs follow, and what of it they repeat. TCP's SYN has
   three legs; an ICMP request has its answer; other protocols have a reply; what is no opening (fragments, other TCP
   segments, messages that nobody answers) is one leg by itself.
3. A leg's packets are the opening's, with ends and ports swapped on the way back. Each list asked splits them
   (`regions.split`); what it permits goes on to the next, mapped back to opening packets. This is `trace` for sets: the
   same order, the same verdicts.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from functools import cache
from itertools import islice
from typing import NamedTuple

from crossgate.core.model import iana
from crossgate.core.model.accesslist import AccessList, Action, Entry
from crossgate.core.model.address import Address, Family, Pattern, single
from crossgate.core.model.packet import ACK, SYN, TCP, Leg, Packet, icmp_of
from crossgate.core.model.plan import Plan
from crossgate.core.model.service import Service
from crossgate.core.network.address_classes import But, Spot, device_addresses, first_outside, unrouted
from crossgate.core.network.routing import Crossing, End, Forwarding, Path
from crossgate.core.sets.effort import spend
from crossgate.core.sets.regions import (
    ALL_PORTS,
    DSCP_SHIFT,
    FLAG_BITS,
    FRAGMENT_BIT,
    LOW_BITS,
    Box,
    ListRegions,
    address_box,
    between,
    list_regions,
    minus,
    overlap,
    service_boxes,
    whole,
    witness,
)
from crossgate.core.traffic.trace import Verdict, path_devices


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


class Flow(NamedTuple):
    """All that one spot sends to another. `boxes` hold the packets there, less those of `but`, which are other spots'."""

    source: End
    destination: End
    there: Path
    back: Path
    boxes: tuple[Box, ...]
    but: But

    @property
    def asked(self) -> str:
        """What a question about it is about, in words."""
        return f"what is sent as from {self.source.address} to {self.destination.address}"

    @property
    def on_link(self) -> bool:
        """Whether both ends are on one link."""
        return self.source.segment == self.destination.segment


class Stop(NamedTuple):
    """Which list stopped a leg, where, by which entry; None for its otherwise line."""

    crossing: Crossing
    access_list: AccessList
    entry: Entry | None

    @property
    def action(self) -> Action:
        """What the line that decided does."""
        return self.access_list.otherwise.action if self.entry is None else self.entry.action

    @property
    def text(self) -> str:
        """The list's name and the entry's number, or `otherwise`, as people say them."""
        return f"{self.access_list.name} {'otherwise' if self.entry is None else self.entry.number}"

    @property
    def key(self) -> tuple[str, int | None]:
        """The list's name and the entry's number, None for the otherwise line."""
        return self.access_list.name, None if self.entry is None else self.entry.number


class Answer(NamedTuple):
    """What becomes of the conversations that the packets of a box open.

    `stop` is the list that ended them on the leg `leg`; `passed` are the lists that let them by before, in order.
    """

    box: Box
    verdict: Verdict
    leg: Leg
    stop: Stop | None
    passed: tuple[Stop, ...]

    @property
    def decisions(self) -> tuple[Stop, ...]:
        """Every list asked, with the entry that decided."""
        return self.passed if self.stop is None else (*self.passed, self.stop)


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
        box = box._replace(source_first=0, source_last=65535, port_first=course.answer << 8, port_last=course.answer << 8)
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


class Flows:
    """The conversations of one plan while just `open_windows` are open; it keeps what it has worked out."""

    def __init__(self, network: Forwarding, open_windows: frozenset[str] = frozenset()) -> None:
        self.network = network
        self.open_windows = open_windows
        self._asked: dict[tuple[int, int, Leg], list[tuple[Crossing, AccessList]]] = {}

    def regions(self, access_list: AccessList) -> ListRegions:
        """Return a list's regions."""
        return list_regions(access_list, self.open_windows)

    def answers(self, flow: Flow, begun: Iterable[Opening]) -> Iterator[Answer]:
        """Yield what becomes of the conversations of a flow that these packets open."""
        for course, opening in begun:
            if course.on_link not in (None, flow.on_link):
                continue
            for box in flow.boxes:
                part = overlap(box, opening)
                if part is not None:
                    yield from self._leg(flow, course, 0, part, ())

    def _leg(self, flow: Flow, course: Course, index: int, opening: Box, passed: tuple[Stop, ...]) -> Iterator[Answer]:
        if index == len(course.legs) or (index and flow.there.on_link):
            yield Answer(opening, Verdict.PERMITTED, course.legs[-1], None, passed)
            return
        asked = self.asked(flow, course.legs[index])
        yield from self._crossing(flow, course, index, asked, 0, opening, passed)

    def _crossing(
        self, flow: Flow, course: Course, index: int, asked: Sequence[tuple[Crossing, AccessList]], place: int, opening: Box,
        passed: tuple[Stop, ...],
    ) -> Iterator[Answer]:  # fmt: skip
        leg = course.legs[index]
        if place == len(asked):
            arrived = flow.back.arrived if leg.returns else flow.there.arrived
            if arrived:
                yield from self._leg(flow, course, index + 1, opening, passed)
            else:
                yield Answer(opening, Verdict.UNROUTABLE, leg, None, passed)
            return
        crossing, access_list = asked[place]
        for piece, entry in self.regions(access_list).split(leg_box(opening, course, leg)):
            decided = Stop(crossing, access_list, entry)
            part = opening_box(opening, course, leg, piece)
            if decided.action is Action.PERMIT:
                yield from self._crossing(flow, course, index, asked, place + 1, part, (*passed, decided))
            else:
                yield Answer(part, Verdict.HALF_OPEN if index else Verdict.DENIED, leg, decided, passed)

    def asked(self, flow: Flow, leg: Leg) -> list[tuple[Crossing, AccessList]]:
        """Return the lists that are asked on a leg; a stateful device that let an earlier leg by is not."""
        key = (id(flow.there), id(flow.back), leg)  # the network keeps its paths
        if key not in self._asked:
            self._asked[key] = self._lists_asked(flow, leg)
        return self._asked[key]

    def _lists_asked(self, flow: Flow, leg: Leg) -> list[tuple[Crossing, AccessList]]:
        devices = self.network.plan.devices
        passed: set[str] = set()
        if leg not in (Leg.SYN, Leg.REQUEST):
            passed = path_devices(flow.there)
        family = flow.source.address.family
        return [
            (crossing, access_list)
            for crossing, access_list in placed_on(self.network, flow.back if leg.returns else flow.there, family)
            if not (crossing.point.device in passed and devices[crossing.point.device or ""].stateful)
        ]


def placed_on(network: Forwarding, path: Path, family: Family) -> list[tuple[Crossing, AccessList]]:
    """Return the crossings of a path at which a list of the family stands, with the list."""
    placed = network.plan.placed
    return [
        (crossing, found) for crossing in path.crossings if (found := placed.get((crossing.point, crossing.direction, family))) is not None
    ]


def flows(
    network: Forwarding, senders: Sequence[Spot], receivers: Sequence[Spot], source: Sequence[Pattern], destination: Sequence[Pattern]
) -> list[Flow]:
    """Return what is sent from `source` addresses of some spots to `destination` addresses of others, as flows.

    A spot inside another that is treated like it, as far as these flows go, is taken with it.
    """
    here = [spot for spot in senders if spot.within(source) and not spot.scoped]
    far = [spot for spot in receivers if spot.within(destination)]
    found = []
    for one, other, but in alike(here, far, lambda start, end: likeness(network, start.end, end.end)):
        boxes = tuple(address_box(start, end) for start in one.within(source) for end in other.within(destination))
        found.append(flow_between(network, one.end, other.end, boxes, but))
    return found


def flow_between(network: Forwarding, source: End, destination: End, boxes: tuple[Box, ...], but: But) -> Flow:
    """Return the flow from one end to another with just these packets."""
    there, back = network.path(source, destination.address), network.path(destination, source.address)
    return Flow(source, destination, there, back, boxes, but)


def alike(here: Sequence[Spot], far: Sequence[Spot], like: Callable[[Spot, Spot], object]) -> Iterator[tuple[Spot, Spot, But]]:
    """Yield pairs of spots, one sending to the other, with the addresses that are other pairs'.

    `like` tells what decides about the conversations of a pair; spots inside others that it never tells apart are left out.
    """
    if not (here and far):
        return
    table = [[like(one, other) for other in far] for one in here]
    senders = _merged(here, table)
    receivers = _merged(far, list(zip(*table, strict=True)))
    for one, sources in senders.items():
        for other, destinations in receivers.items():
            yield here[one], far[other], But(sources, destinations)


def likeness(network: Forwarding, source: End, destination: End) -> object:
    """Return what decides about conversations between two ends, to be compared: lists on the ways, and what is remembered.

    Devices' own addresses are like no machine's.
    """
    there, back = network.path(source, destination.address), network.path(destination, source.address)
    family = source.address.family
    asked_back = placed_on(network, back, family)
    passed = path_devices(there) if asked_back else set()
    known = tuple(
        crossing.point.device in passed and network.plan.devices[crossing.point.device or ""].stateful for crossing, _ in asked_back
    )
    lists = tuple((crossing, access_list.name) for crossing, access_list in placed_on(network, there, family))
    ends = source.segment == destination.segment, source.device is None, destination.device is None
    return ends, there.arrived, there.on_link, back.arrived, lists, tuple((crossing, each.name) for crossing, each in asked_back), known


def _merged(group: Sequence[Spot], likenesses: Sequence[object]) -> dict[int, tuple[Pattern, ...]]:
    """Return the spots that stay, by index, with the patterns that are not theirs; a spot like the one around it goes."""
    place = {spot.pattern: index for index, spot in enumerate(group)}
    gone: set[int] = set()
    for index, spot in enumerate(group):
        for inner in spot.but:
            if inner in place and likenesses[place[inner]] == likenesses[index]:
                gone.add(place[inner])

    def others(index: int) -> Iterator[Pattern]:
        for inner in group[index].but:
            if place.get(inner) in gone:
                yield from others(place[inner])
            else:
                yield inner

    return {index: tuple(others(index)) for index in range(len(group)) if index not in gone}


_PIECES_A_PACKET = 5
"""To look for a packet in a set costs about as much as so many pieces."""


def left(box: Box, but: But) -> Packet | None:
    """Return a packet of a box that is not left out and that nobody sends to himself, or None when there is none."""
    spend(_PIECES_A_PACKET)
    source, destination = first_outside(box.source, but.sources), first_outside(box.destination, but.destinations)
    if source is None or destination is None:
        return None
    packet = witness(between(box, source, destination))
    if packet.source != packet.destination:
        return packet
    itself = single(Address(packet.family, packet.source))
    for end in (
        (source, first_outside(box.destination, (*but.destinations, itself))),
        (first_outside(box.source, (*but.sources, itself)), destination),
    ):
        if end[0] is not None and end[1] is not None:
            found = witness(between(box, end[0], end[1]))
            if found.source != found.destination:
                return found
    return None


_MOST_TRIED = 50
"""In so many pieces of a set a packet between two machines of the plan is looked for."""


def example(plan: Plan, pieces: Sequence[tuple[Box, But]]) -> Packet:
    """Return a packet of a set that is not empty: between machines of the plan where there are some in it, else from its middle."""
    best: tuple[int, Packet] | None = None
    for box, but in pieces[:_MOST_TRIED]:
        sources = _host_in(plan, box.source, but.sources)
        destinations = _host_in(plan, box.destination, but.destinations)
        pairs = ((one, other) for one in sources or (box.source,) for other in destinations or (box.destination,))
        found = next((packet for pair in pairs if (packet := left(between(box, *pair), but)) is not None), None)
        known = bool(sources) + bool(destinations)
        if found is not None and (best is None or known > best[0]):
            best = known, found
            if known == 2:
                break
    if best is None:
        return next(packet for box, but in pieces if (packet := left(box, but)) is not None)
    return best[1]


def _host_in(plan: Plan, addresses: Pattern, but: tuple[Pattern, ...]) -> list[Pattern]:
    """Return the first two addresses of hosts in a set: two, so that two ends of one set can be two machines."""
    found = (
        single(address)
        for host in plan.hosts.values()
        for address in host.addresses
        if address.family is addresses.family
        and addresses.contains(address.value)
        and not any(each.contains(address.value) for each in but)
    )
    return list(islice(found, 2))


def as_told(but: But, unsaid: Collection[Pattern]) -> But:
    """Return what is left out of a flow less what goes without saying, as devices' own addresses where only machines are meant."""
    return But(*(tuple(each for each in side if each not in unsaid) for side in but))


def unsaid(network: Forwarding, devices: bool) -> set[Pattern]:
    """Return what goes without saying when sets are written: addresses that nothing is routed to, and those of devices but for `devices`."""
    scoped = {each for family in Family for each in unrouted(network, family)}
    return scoped if devices else scoped | device_addresses(network)
