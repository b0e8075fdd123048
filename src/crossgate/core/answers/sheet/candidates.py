"""Candidates for tests of a line: conversations between machines of the plan whose packets or
answers the line takes, and close neighbours of these that it must not take.

An entry names machines and services; where it says `any`, machines near the list's place are taken
first. Only a few of each are tried. Where the lines above take all of them, the packets that are
left for the entry are computed exactly, and machines are chosen from those.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from functools import cached_property
from itertools import islice, zip_longest
from typing import NamedTuple

from crossgate.core.answers.sheet.machines import MOST_MACHINES, MOST_SPREAD, SheetMachines
from crossgate.core.answers.sheet.tests import DNS, can_try
from crossgate.core.conversation.opening import Conversation
from crossgate.core.lists.split import Regions, region_hull, split
from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.address import Address, Addresses, Family, Pattern
from crossgate.core.model.condition import State
from crossgate.core.model.entry import Action, Entry
from crossgate.core.model.network import Direction, Host, Point, PointKind
from crossgate.core.model.packet import (
    CLIENT_PORT,
    ECHO,
    SYN,
    TCP,
    UDP,
    Packet,
    icmp_of,
)
from crossgate.core.model.service import Qualifiers, ServiceTerm, within
from crossgate.core.network.paths import Endpoint
from crossgate.core.sets.frame import PacketSet
from crossgate.core.sets.region import entry_region

_USUAL = ((TCP, 443), (TCP, 22), (UDP, DNS), (TCP, 80), (TCP, 8080))
"""What is tried where a line takes every service, beside a ping."""

_MOST_OWN = 6
"""So many ports that the plan's own entries permit are tried beside the usual ones."""

What = tuple[int, int | None, int | None]
"""A protocol, its destination port, and its source port where that is not a client's choice."""


class Candidate(NamedTuple):
    """A conversation that may serve as a test; with `answer`, a line may take its answer."""

    conversation: Conversation
    answer: bool


class Candidates:
    """The candidates for tests of a plan's lists, in one state of its conditions."""

    def __init__(self, machines: SheetMachines, state: State) -> None:
        self._machines, self._state = machines, state
        self._regions = Regions(machines.plan.lists)
        self._members: dict[tuple[Family, str], list[Endpoint]] = {}
        self._near: dict[str, tuple[list[Endpoint], list[Endpoint]]] = {}
        self._places: dict[str, frozenset[tuple[Point, Direction]]] = {}

    @cached_property
    def _usual(self) -> tuple[tuple[int, int], ...]:
        """The services to try where a line takes every service: the common ones, and those that the
        plan's own entries permit most often.
        """
        ports = Counter(
            (term.protocol, first)
            for access_list in self._machines.plan.lists.values()
            for entry in access_list.entries
            if entry.action is Action.PERMIT
            for term in entry.service.terms
            if term.protocol == TCP
            for first, _ in (term.ports or ())[:1]
        )
        own = [each for each, _ in ports.most_common(_MOST_OWN) if each[1]]
        return tuple(dict.fromkeys([*_USUAL[:3], *own, *_USUAL[3:]]))

    def of_entry(self, access_list: AccessList, entry: Entry) -> Iterator[Candidate]:
        """Yield conversations whose first packet an entry in force takes, then those whose answers
        it may take; lines above it may take them first.
        """
        family = access_list.family
        sources, destinations = self._ends(access_list, entry)
        what = list(_tried_of(entry, family, self._usual))
        answers = list(_answers_of(entry, family, self._usual))
        for own, answer in ((what, False), (answers, True)):
            for start, end in _mixed(sources, destinations) if own else ():
                if self.comes_by(access_list, start, end):
                    yield from self._candidates(start, end, own, answer)

    def left(self, access_list: AccessList, entry: Entry) -> list[PacketSet]:
        """Return a few sets of packets that the lines above leave for an entry; none where nothing
        is left.
        """
        region = entry_region(entry, access_list.family)
        if region is None:
            return []
        every = self._regions.of(access_list, self._state)
        above = [e for e in every.near(region_hull(region)) if e.entry.number < entry.number]
        if any(e.region is not None and e.region.holds(region) for e in above):
            return []
        pieces = split(region, [e.region for e in above])
        return list(islice((piece for piece, index in pieces if index is None), MOST_MACHINES))

    def among(
        self, access_list: AccessList, entry: Entry, pieces: Iterable[PacketSet]
    ) -> Iterator[Candidate]:
        """Yield conversations from the packets that are left for an entry."""
        plan = self._machines.plan
        for piece in pieces:
            for own in piece.regions():
                hosts = [
                    [
                        plan.host_of[each]
                        for each in islice(plan.hosts_in(side.hull), 16 * MOST_MACHINES)
                        if side.contains(each.value)
                    ]
                    for side in (own.source, own.destination)
                ]
                what = list(_tried_of(entry, own.family, self._usual))
                ends = [
                    [
                        e
                        for h in several[:MOST_MACHINES]
                        if (e := self._machines.end(h.name, own.family))
                    ]
                    for several in hosts
                ]
                for start, end in _mixed(ends[0], ends[1]) if what else ():
                    if self.comes_by(access_list, start, end):
                        yield from self._candidates(start, end, what, False)

    def of_rest(self, access_list: AccessList) -> Iterator[Candidate]:
        """Yield conversations that may come to the otherwise line of a list."""
        family = access_list.family
        near, devices = self._at_hand(access_list)
        far = self._as_ends(self._machines.spread[:MOST_SPREAD], family)
        every: list[What] = [_ping(family), *((p, n, None) for p, n in self._usual)]
        away = _mixed(near or far, [*devices, *far])
        toward = _mixed(far, near)
        for start, end in (e for both in zip_longest(away, toward) for e in both if e):
            if self.comes_by(access_list, start, end):
                yield from self._candidates(start, end, every, False)
                yield from self._candidates(start, end, every, True)

    def beside(
        self, access_list: AccessList, entry: Entry, shown: Conversation
    ) -> Iterator[Conversation]:
        """Yield conversations that differ from a given one in a single thing (a neighbouring
        machine, the other transport or the next port) and that the entry does not take.
        """
        first = shown.first
        named = [(n.protocol, n.destination_port, None) for n in _neighbours(first)]
        start, end = shown.source, shown.destination
        for what in named:
            yield from self._not_taken(entry, self._conversation(start, end, what))
        own: What = (first.protocol, first.destination_port, None)
        for host in self._machines.by_segment.get(start.segment, ()):
            sibling = self._machines.end(host.name, access_list.family)
            if sibling is not None and sibling.address not in (start.address, end.address):
                yield from self._not_taken(entry, self._conversation(sibling, end, own))

    def _not_taken(self, entry: Entry, found: Iterable[Conversation]) -> Iterator[Conversation]:
        return (each for each in found if not entry.matches(each.first))

    def _ends(self, access_list: AccessList, entry: Entry) -> tuple[list[Endpoint], list[Endpoint]]:
        """Return machines for both ends of an entry, those near the list's place first."""
        near, devices = self._at_hand(access_list)
        sources = self._in(entry.source, access_list.family, near)
        destinations = self._in(entry.destination, access_list.family, [*devices, *near])
        return sources, destinations

    def _at_hand(self, access_list: AccessList) -> tuple[list[Endpoint], list[Endpoint]]:
        """Return the machines near the places of a list, and the addresses of the devices that it
        stands at for their own packets.
        """
        if access_list.name not in self._near:
            places, family = self._machines.plan.places_of(access_list), access_list.family
            near = self._as_ends(self._machines.near(places), family)
            self._near[access_list.name] = near, self._devices(places, family)
        return self._near[access_list.name]

    def _devices(self, places: Iterable[tuple[Point, Direction]], family: Family) -> list[Endpoint]:
        """Return the addresses of the devices at which lists stand for the devices' own packets."""
        owners = [p.owner for p, _ in places if p.kind is PointKind.ITSELF]
        return [
            self._machines.at(address)
            for owner in owners
            for address in self._machines.plan.devices[owner].addresses()
            if address.family is family
        ]

    def _in(self, addresses: Addresses, family: Family, near: Sequence[Endpoint]) -> list[Endpoint]:
        """Return a few machines in a set of addresses: first those that are near, then others."""
        far = self._of(addresses, family)
        close = [each for each in near if addresses.contains(each.address.value)]
        mixed = list(dict.fromkeys([*close[:MOST_MACHINES], *far]))
        most = MOST_SPREAD if addresses.text == "any" else 2 * MOST_MACHINES
        return mixed[:most]

    def _of(self, addresses: Addresses, family: Family) -> list[Endpoint]:
        key = family, addresses.text
        if key not in self._members:
            plan = self._machines.plan
            if addresses.text == "any":
                self._members[key] = self._as_ends(self._machines.spread[:MOST_SPREAD], family)
            else:
                hosts = (
                    each
                    for pattern in addresses.patterns
                    for each in islice(plan.hosts_in(pattern), 2 * MOST_MACHINES)
                )
                own = [self._machines.at(each) for each in islice(hosts, 4 * MOST_MACHINES)]
                own += [
                    self._machines.at(a)
                    for a in _single(addresses.patterns)
                    if a not in plan.host_of and plan.segment_of(a)
                ]
                self._members[key] = own
        return self._members[key]

    def _as_ends(self, hosts: Iterable[Host], family: Family) -> list[Endpoint]:
        found = (self._machines.end(host.name, family) for host in hosts)
        return [each for each in found if each is not None]

    def comes_by(self, access_list: AccessList, start: Endpoint, end: Endpoint) -> bool:
        """Whether the first path from one machine to another passes a place of the list; across
        translations it always may.
        """
        if self._machines.plan.translations[access_list.family]:
            return True
        places = self._places.get(access_list.name)
        if places is None:
            places = frozenset(self._machines.plan.places_of(access_list))
            self._places[access_list.name] = places
        return not places.isdisjoint(self._machines.passed(start, end.address))

    def _candidates(
        self, start: Endpoint, end: Endpoint, what: Sequence[What], answer: bool
    ) -> Iterator[Candidate]:
        """Yield tests in which packets go from one machine to another: as what the first one sends,
        or as answers to what the second one sends.
        """
        near, far = (end, start) if answer else (start, end)
        for each in what:
            for conversation in self._conversation(near, far, each):
                yield Candidate(conversation, answer)

    def _conversation(self, start: Endpoint, end: Endpoint, what: What) -> Iterator[Conversation]:
        """Yield the conversation from a host to another machine, where tests may start at that
        host.
        """
        if not self._machines.may_send(start.name) or end.name == start.name:
            return
        packet = _packet(start.address, end.address, what)
        if can_try(packet) is not None:
            yield Conversation(start, end, packet)


def _single(patterns: Iterable[Pattern]) -> Iterator[Address]:
    return (Address(p.family, p.value) for p in patterns if not p.wildcard)


def _mixed(
    sources: Sequence[Endpoint], destinations: Sequence[Endpoint]
) -> Iterator[tuple[Endpoint, Endpoint]]:
    """Yield all pairs, in an order in which each of the ends comes early."""
    for shift in range(len(destinations)):
        for number, start in enumerate(sources):
            yield start, destinations[(number + shift) % len(destinations)]


def _packet(source: Address, destination: Address, what: What) -> Packet:
    protocol, port, own_port = what
    family = source.family
    if protocol in (TCP, UDP):
        chosen = CLIENT_PORT if own_port is None else own_port
        flags = SYN if protocol == TCP else None
        return Packet(family, source.value, destination.value, protocol, chosen, port, flags=flags)
    return Packet(
        family, source.value, destination.value, protocol, icmp_type=ECHO[family], icmp_code=0
    )


def _ping(family: Family) -> What:
    return icmp_of(family), None, None


Usual = Sequence[tuple[int, int]]


def _tried_of(entry: Entry, family: Family, usual: Usual) -> Iterator[What]:
    """Yield the services to try for an entry."""
    own_port = _client(entry.qualifiers)
    # Who asks a name server asks over UDP, where the entry takes both.
    for term in sorted(entry.service.terms, key=lambda each: each.protocol != UDP):
        for protocol, port, _ in _term(term, family, usual):
            yield protocol, port, own_port if protocol == TCP else None


def _term(term: ServiceTerm, family: Family, usual: Usual) -> Iterator[What]:
    if term.protocol is None:
        yield from (_ping(family), *((p, n, None) for p, n in usual))
    elif term.protocol == icmp_of(family):
        if term.icmp_type in (None, ECHO[family]) and not term.icmp_code:
            yield _ping(family)
    elif term.protocol == TCP:
        known = [n for p, n in usual if p == TCP and (term.ports is None or within(n, term.ports))]
        firsts = [first or 1 for first, _ in term.ports or ()]
        yield from ((TCP, port, None) for port in dict.fromkeys([*known, *firsts]))
    elif term.protocol == UDP and (term.ports is None or within(DNS, term.ports)):
        yield UDP, DNS, None


def _client(asked: Qualifiers) -> int | None:
    """Return the source port to send from, where an entry asks for one outside the clients'
    range.
    """
    if asked.source_ports is None or within(CLIENT_PORT, asked.source_ports):
        return None
    return asked.source_ports[0][0] or 1


def _answers_of(entry: Entry, family: Family, usual: Usual) -> Iterator[What]:
    """Yield the services whose answers are what an entry asks for: from a port to any port,
    established segments, echo replies.
    """
    asked = entry.qualifiers
    reply = 0 if family is Family.IPV4 else 129
    for term in entry.service.terms:
        if term.protocol in (None, TCP) and (term.ports is None or within(CLIENT_PORT, term.ports)):
            ports = [first for first, _ in asked.source_ports or ()][:2]
            known = [n for p, n in usual if p == TCP]
            yield from ((TCP, port, None) for port in (ports or known))
        to_client = term.ports is None or within(CLIENT_PORT, term.ports)
        from_dns = asked.source_ports is None or within(DNS, asked.source_ports)
        if term.protocol in (None, UDP) and to_client and from_dns:
            yield UDP, DNS, None
        if term.protocol in (None, icmp_of(family)) and term.icmp_type in (None, reply):
            yield _ping(family)


def _neighbours(first: Packet) -> Iterator[Packet]:
    """Yield packets that are close to a given one: with the other transport, and with the next
    port.
    """
    port = first.destination_port
    if port is None:
        yield first._replace(protocol=TCP, destination_port=443)
        return
    if port == DNS:
        yield first._replace(protocol=UDP if first.protocol == TCP else TCP)
    if first.protocol == TCP:
        yield first._replace(destination_port=port + 1 if port < 65535 else port - 1)
