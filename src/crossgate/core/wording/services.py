"""Sets of services in everyday form: by the plan's own names where they fit exactly, and as "all
but" where that is shorter.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from enum import Enum
from functools import cache

from crossgate.core.model import iana
from crossgate.core.model.address import Family
from crossgate.core.model.packet import ECHO, PORT_PROTOCOLS, SYN, icmp_of
from crossgate.core.model.plan import Plan
from crossgate.core.model.service import (
    ESTABLISHED,
    FlagTest,
    Ports,
    ServiceError,
    format_ports,
    protocol_word,
)
from crossgate.core.sets import spans as line
from crossgate.core.sets.frame import PacketSet
from crossgate.core.sets.region import (
    ALL_DSCP,
    ALL_FLAGS,
    ALL_PORTS,
    ALL_WHAT,
    FRAGMENTS,
    PROTOCOL_SHIFT,
    WHOLE,
    Services,
    every_packet,
    flag_set,
    protocol_line,
    term_line,
)
from crossgate.core.sets.services import cubes, protocol_runs
from crossgate.core.sets.spans import Spans
from crossgate.core.traffic.courses import courses

_WELL_KNOWN = 1024
"""Services on ports below this are told by their IANA names (RFC 6335 section 6: the system ports).
"""

_Told = dict[tuple[Spans, int, int], Spans]
"""What is carried, by source ports, flags and DSCP."""


class Sort(Enum):
    """Which packets a set is about: all, those that open conversations, or those that open none;
    and those that open conversations on one link, where more messages do.
    """

    PACKET = 1
    OPENING = 2
    STRAY = 3
    OPENING_ON_LINK = 4


_OPENINGS = (Sort.OPENING, Sort.OPENING_ON_LINK)


class ServiceWords:
    """Writes services with the names of one plan."""

    def __init__(self, plan: Plan) -> None:
        self._plan = plan
        self._names: dict[tuple[Family, Sort], list[tuple[_Told, str]]] = {}

    def write(self, services: Iterable[Services], family: Family, sort: Sort) -> str:
        """Return a set of services in words. `sort` says whether they are of all packets, of
        opening packets or of strays: the same words then stand for different ports.
        """
        told = _told(services, family, sort)
        for named, name in self._named(family, sort):
            if named == told:
                return name
        words = _words(told, family, sort)
        if sort is Sort.STRAY:
            return ", ".join(words)
        every = every_packet(family)
        universe = PacketSet.of(every._replace(what=_universe(family, sort)))
        left = universe - PacketSet.of(
            *(
                every._replace(what=what, source_ports=key[0], flags=key[1], dscp=key[2])
                for key, what in told.items()
            )
        )
        others = _words(
            _told((each.services for each in left.regions()), family, sort), family, sort
        )
        if not others:
            return "ip"
        return f"ip but {' and '.join(others)}" if len(others) < len(words) else ", ".join(words)

    def _named(self, family: Family, sort: Sort) -> Sequence[tuple[_Told, str]]:
        """Return the services of the plan and of IANA as packets of a sort, with their names."""
        if (family, sort) not in self._names:
            found = []
            for name in self._plan.services:
                try:
                    what = term_line(self._plan.service(name, family).terms)
                except ServiceError:
                    continue
                found.append((_of_all(what, family, sort), name))
            self._names[family, sort] = [*found, *_well_known(family, sort)]
        return self._names[family, sort]


@cache
def _well_known(family: Family, sort: Sort) -> tuple[tuple[_Told, str], ...]:
    """Return the well-known services of IANA as packets of a sort, with their names."""
    found = []
    for name, ((first, last), transports) in iana.services().items():
        if last < _WELL_KNOWN:
            bases = (iana.protocols()[transport] << PROTOCOL_SHIFT for transport in transports)
            what = line.joined((base + first, base + last + 1) for base in bases)
            found.append((_of_all(what, family, sort), name))
    return tuple(found)


def _of_all(what: Spans, family: Family, sort: Sort) -> _Told:
    """Return all packets that carry something, as they are to be written."""
    return _told((every_packet(family)._replace(what=what).services,), family, sort)


@cache
def _universe(family: Family, sort: Sort) -> Spans:
    """Return everything that packets of a sort can carry."""
    if sort is Sort.PACKET:
        return ALL_WHAT
    found = (
        each
        for each in courses(family)
        if each.stray is (sort is Sort.STRAY)
        and (each.on_link is None or (each.on_link and sort is Sort.OPENING_ON_LINK))
    )
    return line.joined(span for each in found for span in each.openings.what)


def _told(services: Iterable[Services], family: Family, sort: Sort) -> _Told:
    """Return services as they are to be written: without what all packets of the sort have in
    common. Where a protocol is complete for its sort, it is written as the whole protocol.
    """
    ports: dict[tuple[Spans, int, int], list[tuple[int, int]]] = {}
    for what, source_ports, flags, dscp in services:
        if sort is Sort.STRAY and flags != ALL_FLAGS:
            flags = ALL_FLAGS if flags | 1 << SYN == ALL_FLAGS else flags & ~(1 << SYN)
        ports.setdefault((what, ALL_FLAGS if sort in _OPENINGS else flags, dscp), []).extend(
            source_ports
        )
    carried: dict[tuple[Spans, int, int], list[tuple[int, int]]] = {}
    for (what, flags, dscp), clients in ports.items():
        carried.setdefault((line.joined(clients), flags, dscp), []).extend(what)
    return {key: _filled(line.joined(what), family, sort) for key, what in carried.items()}


def _filled(what: Spans, family: Family, sort: Sort) -> Spans:
    if sort is Sort.PACKET:
        return what
    universe = (
        line.common(_universe(family, sort), WHOLE)
        if sort is Sort.STRAY
        else _universe(family, sort)
    )
    missing = {
        each >> PROTOCOL_SHIFT
        for first, end in line.less(universe, what)
        for each in (first, end - 1)
    }
    some = {
        number >> PROTOCOL_SHIFT
        for first, end in line.common(universe, what)
        for number in range(first, end, 1 << PROTOCOL_SHIFT)
    }
    some |= {end - 1 >> PROTOCOL_SHIFT for _, end in line.common(universe, what)}
    whole = [span for each in some - missing for span in protocol_line(each)]
    if sort is Sort.STRAY:
        whole = list(line.less(line.joined(whole), FRAGMENTS))
    return line.joined((*what, *whole))


def _words(told: _Told, family: Family, sort: Sort) -> list[str]:
    found = []
    for (source_ports, flags, dscp), what in told.items():
        # Of strays the fragments are told apart, so that the others need not say that they are
        # none.
        parts = (
            [what]
            if sort is not Sort.STRAY
            else [line.common(what, WHOLE), line.common(what, FRAGMENTS)]
        )
        for first, last, ports, fragments in (run for part in parts for run in protocol_runs(part)):
            # A SYN opens a conversation and is no stray, so it may be among them or not.
            for mark in _tests(flags, 1 << SYN if sort is Sort.STRAY else 0):
                plain = sort is Sort.PACKET and not mark and source_ports == ALL_PORTS
                for word in _run(first, last, ports, fragments, family, plain):
                    words = [word]
                    if source_ports != ALL_PORTS:
                        words.append(
                            "source port "
                            f"{format_ports(tuple((low, end - 1) for low, end in source_ports))}"
                        )
                    words += [each for each in (mark, *_dscp(dscp)) if each]
                    found.append(((first, last, source_ports, ports), " ".join(words)))
    return list(dict.fromkeys(words for _, words in sorted(found)))


def _run(
    first: int, last: int, ports: Ports, fragments: bool, family: Family, plain: bool
) -> list[str]:
    """Return in words what neighbouring protocols carry; with `plain`, that they are no fragments
    is said too.
    """
    every = ports == _EVERY_PORT
    if (first, last) == (0, 255):
        words = "ip"
    elif first == last:
        words = protocol_word(first, family)
    else:
        several = [protocol_word(number, family) for number in range(first, last + 1)]
        words = ", ".join(several) if last - first < 2 else f"protocols {first}-{last}"
    found = []
    if every:
        found.append(words if fragments or not plain else f"{words} not fragments")
    elif ports and first == icmp_of(family):
        found.append(", ".join(_message(span, family) for span in ports))
    elif ports:
        found.append(f"{words}/{format_ports(ports)}" if first in PORT_PROTOCOLS else words)
    if fragments and not every:
        found.append(f"{words} fragments")
    return found


_EVERY_PORT: Ports = ((0, ALL_PORTS[0][1] - 1),)


@cache
def _tests(flags: int, either: int) -> tuple[str, ...]:
    """Return TCP flags in words, as few flag tests; they may overlap, and may also take flags in
    `either`.
    """
    if flags == ALL_FLAGS:
        return ("",)
    if flags | either == flag_set(ESTABLISHED) | either:
        return ("established",)
    found: list[FlagTest] = []
    for test in cubes(flags, 8):
        for bit in iana.FLAGS.values():
            wider = FlagTest(test.value & ~bit, test.care & ~bit)
            if not flag_set((wider,)) & ~(flags | either):
                test = wider
        if test not in found:
            found.append(test)
    for test in list(found):
        others = flag_set(tuple(each for each in found if each != test))
        if not flag_set((test,)) & flags & ~others:
            found.remove(test)
    return tuple(
        "flags "
        + ",".join(
            ("" if test.value & bit else "!") + name
            for name, bit in iana.FLAGS.items()
            if test.care & bit
        )
        for test in found
    )


def _dscp(dscp: int) -> list[str]:
    if dscp == ALL_DSCP:
        return []
    names = {value: name for name, value in iana.dscp_names().items()}
    values = [each for each in range(64) if dscp >> each & 1]
    if len(values) <= 32:
        return [f"dscp {','.join(names.get(each, str(each)) for each in values)}"]
    return [
        (
            "dscp but "
            f"{','.join(names.get(each, str(each)) for each in range(64) if each not in values)}"
        )
    ]


def _message(span: tuple[int, int], family: Family) -> str:
    """Write a span of ICMP messages, `type * 256 + code`."""
    first, last = span
    kind, code = first >> 8, first & 255
    if first == last:
        return "ping" if first == ECHO[family] << 8 else f"icmp/{kind}/{code}"
    if code == 0 and last & 255 == 255:
        return f"icmp/{kind}" if kind == last >> 8 else f"icmp types {kind}-{last >> 8}"
    return f"icmp/{kind}/{code} to icmp/{last >> 8}/{last & 255}"
