"""Sets of packets as a person would write them: services, sources, destinations.

Lines (`sets.minimise`) are written with the plan's own names where they fit exactly, and as "all but" where that is shorter.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from enum import Enum
from functools import cache
from typing import NamedTuple

from crossgate.core.model import iana
from crossgate.core.model.address import Family, Pattern, everything, single
from crossgate.core.model.packet import ECHO, MOST_PORT, PORT_PROTOCOLS, SYN, TCP, icmp_of
from crossgate.core.model.plan import Plan
from crossgate.core.model.service import ServiceError, format_ports, protocol_word
from crossgate.core.sets.boxes import ALL_PORTS, ALL_PROTOCOLS, FLAG_BITS, FRAGMENT_BIT, Box, covers, first_left, whole, without
from crossgate.core.sets.minimise import MOST_COMPARED, SetLine, grouped, joined_services, within
from crossgate.core.sets.patterns import Patterns, joined, less
from crossgate.core.sets.services import service_boxes
from crossgate.core.traffic.courses import courses

_WELL_KNOWN = 1024
"""Services on ports below this are told by their IANA names (RFC 6335 section 6: the system ports)."""


class Sort(Enum):
    """What sort of packets a set is of: any, those that open conversations, or those that open none."""

    PACKET = 1
    OPENING = 2
    STRAY = 3


class _Written(NamedTuple):
    """A line whose services are in words already."""

    services: str
    source: Patterns
    destination: Patterns

    def says_all_of(self, other: _Written) -> bool:
        """Whether it says the same of more addresses; the words for services leave out what only one link tells apart."""
        same = self is not other and self.services == other.services
        return same and within(other.source, self.source) and within(other.destination, self.destination)


class _NamedSet(NamedTuple):
    """What a name of the plan stands for."""

    name: str
    patterns: Patterns


class Wording:
    """Writes sets with the names of one plan."""

    def __init__(self, plan: Plan) -> None:
        self.plan = plan
        self._sets = {family: _named_sets(plan, family) for family in Family}
        self._services: dict[Family, dict[frozenset[Box], str]] = {}
        self._written: dict[tuple[Patterns, bool], str] = {}
        own = [single(address) for device in plan.devices.values() for address in device.addresses()]
        self._own = {family: joined(each for each in own if each.family is family) for family in Family}

    def rows(self, lines: Iterable[SetLine], sort: Sort, machines: bool = False) -> list[tuple[str, str, str]]:
        """Return lines in words: services, source, destination; those with the same ends as one. `machines` as in `addresses`."""
        ends = grouped(((line.source, line.destination), line.services) for line in lines)
        written = [_Written(self.services(services, sort), *both) for both, services in ends]
        kept = written
        for row in written if len(written) <= MOST_COMPARED else ():
            if any(other.says_all_of(row) for other in kept):
                kept = [other for other in kept if other is not row]
        words = grouped(
            ((self.addresses(source, machines), self.addresses(destination, machines)), frozenset((service,)))
            for service, source, destination in kept
        )
        return sorted((", ".join(sorted(services)), source, destination) for (source, destination), services in words)

    def addresses(self, patterns: Patterns, machines: bool = False) -> str:
        """Write a set of addresses; where only `machines` are meant, devices' own addresses may be in it or not."""
        key = (patterns, machines)
        if key not in self._written:
            family = next(iter(patterns)).family
            meant = self._filled(patterns, family) if machines else patterns
            self._written[key] = ", ".join(self._terms(set(meant), family, 0))
        return self._written[key]

    def _filled(self, patterns: Patterns, family: Family) -> Patterns:
        """Return a set with the devices' own addresses that alone keep it from having all of something with a name."""
        for _, named in self._sets[family]:
            missing = less(named, patterns) if len(named) == 1 and not named <= patterns else frozenset()
            if missing and missing != named and all(any(own.covers(each) for own in self._own[family]) for each in missing):
                patterns = joined({*patterns, *missing})
        return patterns

    def _terms(self, left: set[Pattern], family: Family, depth: int) -> list[str]:
        """Return the terms of a set: names that fit, or a name less a few first, whichever is shorter; then what is left over."""
        named_first, rest = [], left
        for name, named in self._sets[family]:
            if named <= rest:
                named_first.append(name)
                rest = rest - named
        ways = [named_first + (self._less_first(rest, family, depth) or [str(each) for each in _in_order(rest)])]
        if len(ways[0]) > 1:
            ways.append(self._less_first(left, family, depth) or ways[0])
        return min(ways, key=lambda terms: sum(map(len, terms)))

    def _less_first(self, left: set[Pattern], family: Family, depth: int) -> list[str]:
        """Return the terms of a set that begin with a name less a few, or nothing where none helps."""
        if len(left) < 3 or depth == 2:
            return []
        saved, name, hole, inside = max(self._less_a_few(name, named, left) for name, named in self._sets[family] if len(named) == 1)
        if saved <= 0:
            return []
        term = f"{name} but {' and '.join(self._terms(set(hole), family, depth + 1))}"
        term = f"({term})" if depth else term
        rest = left - inside
        return [term, *(self._terms(rest, family, depth) if rest else [])]

    def _less_a_few(self, name: str, named: Patterns, left: set[Pattern]) -> tuple[int, str, tuple[Pattern, ...], frozenset[Pattern]]:
        """Return how many terms are saved by writing what lies in a named prefix as that prefix less the hole in it."""
        (around,) = named
        inside = frozenset(each for each in left if around.covers(each))
        if len(inside) < 3:
            return 0, name, (), inside
        hole = tuple(sorted(joined(less([around], inside))))
        return len(inside) - 1 - len(hole), name, hole, inside

    def services(self, boxes: frozenset[Box], sort: Sort = Sort.OPENING) -> str:
        """Write a set of services."""
        family = next(iter(boxes)).family
        boxes = _told(boxes, sort)
        for named, name in self._named_services(family).items():
            if named == boxes:
                return name
        tokens = _tokens(boxes, family)
        if sort is Sort.STRAY:
            return ", ".join(tokens)
        universe = _universe(family, sort)
        others = _tokens(_told(without(sorted(universe), sorted(boxes)), sort), family)
        if not others:
            return "ip"
        return f"ip but {' and '.join(others)}" if len(others) < len(tokens) else ", ".join(tokens)

    def _named_services(self, family: Family) -> dict[frozenset[Box], str]:
        if family not in self._services:
            every = whole(family)
            found: dict[frozenset[Box], str] = {}
            for name in self.plan.services:
                try:
                    service = self.plan.service(name, family)
                except ServiceError:
                    continue
                parts = service_boxes(service, every.source, every.destination)
                for told in (_unflagged(parts), parts):
                    found.setdefault(joined_services(told), name)
            for name, ((first, last), transports) in iana.services().items():
                if last < _WELL_KNOWN:
                    spans = [(iana.protocols()[transport], first, last) for transport in transports]
                    parts = [
                        every._replace(protocol_first=each, protocol_last=each, port_first=low, port_last=high) for each, low, high in spans
                    ]
                    whole_packets = [each._replace(wildcard=each.wildcard & ~FRAGMENT_BIT) for each in parts]
                    for told in (parts, whole_packets):
                        found.setdefault(joined_services(told), name)
            self._services[family] = found
        return self._services[family]


@cache
def _universe(family: Family, sort: Sort) -> frozenset[Box]:
    """Return all services that packets of a sort can have."""
    if sort is Sort.PACKET:
        return frozenset((whole(family),))
    stray = sort is Sort.STRAY
    boxes = [course.openings for course in courses(family) if course.stray is stray and course.on_link is None]
    return frozenset(boxes) if stray else joined_services(_unflagged(boxes))


def _unflagged(boxes: Iterable[Box]) -> Iterator[Box]:
    said = FLAG_BITS | FRAGMENT_BIT
    return (each._replace(value=each.value & ~said, wildcard=each.wildcard | said) for each in boxes)


def _told(boxes: Iterable[Box], sort: Sort) -> frozenset[Box]:
    """Return service boxes as they are to be written: without what all packets of the sort have in common.

    Where they have all of a TCP port or of ICMP that packets of their sort can have, they are written as all of it.
    """
    if sort is Sort.PACKET:
        return joined_services(boxes)
    found = set(_unflagged(boxes) if sort is Sort.OPENING else joined_services(boxes))
    if not found:
        return frozenset()
    universe = _universe(next(iter(found)).family, sort)
    if sort is Sort.STRAY:
        found = {_fewest_flags(each, found) for each in found}
        # Fragments are boxes of their own here, so that the others need not say that they are none.
        found = {each if each.fragment else each._replace(wildcard=each.wildcard | FRAGMENT_BIT) for each in found}
    protocol = icmp_of(next(iter(found)).family)
    own = [each._replace(protocol_first=protocol, protocol_last=protocol) for each in universe
           if each.protocol_first <= protocol <= each.protocol_last and each.fragment is not True]  # fmt: skip
    if first_left(own, sorted(found)) is None:
        wildcard = own[0].wildcard | (FRAGMENT_BIT if sort is Sort.STRAY else 0)
        found.add(own[0]._replace(wildcard=wildcard, port_first=0, port_last=MOST_PORT))
    found = {each for each in found if not any(other != each and covers(other, each) for other in found)}
    return joined_services(found)


def _fewest_flags(box: Box, found: set[Box]) -> Box:
    """Return a box of stray TCP segments with no flag fixed that need not be, as all of the set's boxes together allow.

    The SYN alone opens a conversation and is no stray, so it may be in the box or not.
    """
    if not box.protocol_first == box.protocol_last == TCP:
        return box
    opening = box._replace(value=box.value & ~FLAG_BITS | SYN, wildcard=box.wildcard & ~FLAG_BITS)
    known = [*sorted(found), opening]
    for bit in iana.FLAGS.values():
        free = box._replace(value=box.value & ~bit, wildcard=box.wildcard | bit)
        if free != box and first_left([free], known) is None:
            box = free
    return box


def _named_sets(plan: Plan, family: Family) -> list[_NamedSet]:
    """Return what the plan's names stand for, the largest first; `any` before all."""
    named = [(name, group.members[family].patterns) for name, group in plan.groups.items() if family in group.members]
    inside = [block for segment in plan.segments.values() if not segment.outside for block in segment.prefixes if block.family is family]
    for name, segment in plan.segments.items():
        own = [block for block in segment.prefixes if block.family is family]
        if segment.outside:
            others = (
                []
                if own
                else [block for each in plan.segments.values() if each.outside for block in each.prefixes if block.family is family]
            )
            own = list(less(own or [everything(family)], [*inside, *others])) if own or not segment.prefixes else []
        named.append((name, tuple(own)))
    for name, host in plan.hosts.items():
        named.append((name, tuple(single(address) for address in host.addresses if address.family is family)))
    for device in plan.devices.values():
        for interface in device.interfaces.values():
            named.append((str(interface.point), tuple(single(own.address) for own in interface.in_family(family))))
    sets = [_NamedSet("any", frozenset((everything(family),)))]
    sets += [_NamedSet(name, joined(patterns)) for name, patterns in named if patterns]
    return sorted(sets, key=lambda each: -sum(pattern.size for pattern in each.patterns))


def _in_order(patterns: Iterable[Pattern]) -> list[Pattern]:
    return sorted(patterns, key=lambda each: each.value)


def _tokens(boxes: Iterable[Box], family: Family) -> list[str]:
    """Return service boxes as tokens, the ports of one protocol together."""
    ports: dict[Box, list[tuple[int, int]]] = {}
    for box in sorted(boxes, key=lambda each: each.spans):
        ports.setdefault(box._replace(port_first=0, port_last=0), []).append((box.port_first, box.port_last))
    return [_token(box, spans, family) for box, spans in ports.items()]


def _token(box: Box, ports: list[tuple[int, int]], family: Family) -> str:
    first, last = box.protocol_first, box.protocol_last
    some = ports != [ALL_PORTS]
    if (first, last) == ALL_PROTOCOLS:
        words = ["ip"]
    elif first != last:
        several = (protocol_word(number, family) for number in range(first, last + 1))
        words = [", ".join(several) if last - first < 2 else f"protocols {first}-{last}"]
    elif some and first == icmp_of(family):
        words = [", ".join(_message(span, family) for span in ports)]
    elif some and first in PORT_PROTOCOLS:
        words = [f"{protocol_word(first, family)}/{format_ports(tuple(ports))}"]
    else:
        words = [protocol_word(first, family)]
    if (box.source_first, box.source_last) != ALL_PORTS:
        words.append(f"source port {format_ports(((box.source_first, box.source_last),))}")
    flags = box.flags
    if flags.care and (first, last) == (TCP, TCP):
        words.append("flags " + ",".join(("" if flags.value & bit else "!") + name for name, bit in iana.FLAGS.items() if flags.care & bit))
    if box.fragment:
        words.append("fragments")
    elif box.fragment is False and not (some or flags.care or (box.source_first, box.source_last) != ALL_PORTS):
        words.append("not fragments")
    dscp = box.dscp
    if dscp.care == 63:
        words.append(f"dscp {next((name for name, value in iana.dscp_names().items() if value == dscp.value), dscp.value)}")
    elif dscp.care:
        words.append(f"dscp with {dscp.value:06b} in the bits {dscp.care:06b}")
    return " ".join(words)


def _message(span: tuple[int, int], family: Family) -> str:
    """Write a span of ICMP messages, `type * 256 + code`."""
    first, last = span
    kind, code = first >> 8, first & 255
    if first == last:
        return "ping" if first == ECHO[family] << 8 else f"icmp/{kind}/{code}"
    if code == 0 and last & 255 == 255:
        return f"icmp/{kind}" if kind == last >> 8 else f"icmp types {kind}-{last >> 8}"
    return f"icmp/{kind}/{code} to icmp/{last >> 8}/{last & 255}"
