"""Who can take the address of a machine beside it: within a subnet, only a list at a switch port or
at a host tells machines apart.
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Iterator
from itertools import islice
from typing import NamedTuple

from crossgate.core.audit.claims import Claims
from crossgate.core.audit.context import Case
from crossgate.core.audit.registry import finds
from crossgate.core.audit.traffic import packets_of
from crossgate.core.model.accesslist import AccessList, line_name
from crossgate.core.model.address import Address, Family, Pattern, everything, single
from crossgate.core.model.entry import Action, Entry
from crossgate.core.model.finding import Fault, Finding
from crossgate.core.model.packet import SYN, Packet
from crossgate.core.model.plan import Plan
from crossgate.core.sets.addresses import AddressSet
from crossgate.core.sets.effort import answered


class Beside(NamedTuple):
    """Machines of a subnet that an entry trusts, by their addresses, and by name their neighbours
    that it does not trust.
    """

    segment: str
    trusted: AddressSet
    neighbours: tuple[str, ...]


class Hosts:
    """The hosts of a plan in one family, with the search for those an entry asks for."""

    def __init__(self, plan: Plan, family: Family) -> None:
        self._family = family
        found = [
            (address.value, name, host.on)
            for name, host in plan.hosts.items()
            for address in host.addresses
            if address.family is family and not plan.segments[host.on].outside
        ]
        self._hosts = sorted(found)
        self._values = [value for value, _, _ in self._hosts]
        self._on: dict[str, list[tuple[int, str]]] = {}
        for value, name, segment in self._hosts:
            self._on.setdefault(segment, []).append((value, name))
        self._known: dict[tuple[Pattern, ...], list[Beside]] = {}

    def beside(self, sources: tuple[Pattern, ...]) -> list[Beside]:
        """Return the subnets that have hosts among some sources and hosts beside them, each with
        both.
        """
        if sources not in self._known:
            self._known[sources] = list(self._found(sources))
        return self._known[sources]

    def _found(self, sources: tuple[Pattern, ...]) -> Iterator[Beside]:
        inside = {(name, on): None for each in sources for _, name, on in self._in(each)}
        for segment in dict.fromkeys(on for _, on in inside):
            trusted = [each for each in self._on[segment] if (each[1], segment) in inside]
            own = {name for _, name in trusted}
            others = dict.fromkeys(name for _, name in self._on[segment] if name not in own)
            if others:
                values = [single(Address(self._family, value)) for value, _ in trusted]
                yield Beside(segment, AddressSet.of(self._family, values), tuple(others))

    def _in(self, pattern: Pattern) -> list[tuple[int, str, str]]:
        if not pattern.is_prefix:
            return [each for each in self._hosts if pattern.contains(each[0])]
        first = bisect_left(self._values, pattern.first)
        return self._hosts[first : bisect_right(self._values, pattern.last)]


@finds("neighbour-can-claim")
def neighbour_can_claim(case: Case) -> Iterator[Finding]:
    """Yield the entries that permit some machines of a subnet and not their neighbours, which can
    take the permitted addresses and get through.
    """
    hosts = {family: Hosts(case.plan, family) for family in Family}
    claims = {family: Claims(case, family) for family in Family}
    for access_list, entries in case.traffic(claimed=True):
        family = access_list.family
        for entry in entries:
            if (
                entry.action is Action.PERMIT
                and everything(family) not in entry.source.patterns
                and _lets_begin(entry)
                and case.to_be_looked_at(access_list, entry, packets_of, claimed=True)
            ):
                beside = hosts[family].beside(entry.source.patterns)
                line = line_name(access_list.name, entry.number)
                with answered(f"who beside it can take a source of {line}", case.missed):
                    found = (
                        _told(case, access_list, entry, each, name, packet)
                        for each in beside
                        for name, packet in _taking(case, claims[family], access_list, entry, each)
                    )
                    yield from islice(found, 1)


def _lets_begin(entry: Entry) -> bool:
    """Whether an entry takes a SYN; an entry that does not is about answers."""
    tests = entry.qualifiers.flags
    return not tests or any(test.holds(SYN) for test in tests)


def _taking(
    case: Case, claims: Claims, access_list: AccessList, entry: Entry, beside: Beside
) -> Iterator[tuple[str, Packet]]:
    """Yield the neighbours that get through with an address that an entry trusts, each with a
    packet.
    """
    family = access_list.family
    sent, names = case.sent(access_list, entry, claimed=True), dict[int, str]()
    for name in beside.neighbours if sent else ():
        for address in case.plan.hosts[name].addresses:
            if address.family is family:
                names.setdefault(case.machines.class_of(address), name)
    senders = [each for each in names if each in sent]
    for one, others in case.machines.across(access_list, entry, sent, senders):
        for flow in case.machines.flows_to(family, one, others):
            packet = claims.claimed(access_list, entry, flow, beside.trusted)
            if packet is not None:
                yield names[one], packet


def _told(
    case: Case, access_list: AccessList, entry: Entry, beside: Beside, name: str, packet: Packet
) -> Finding:
    taken = Address(packet.family, packet.source)
    fault = Fault(
        f"{name} on {beside.segment} can take {taken} ({case.plan.host_of[taken].name}) and get "
        f"through to {Address(packet.family, packet.destination)}: no list where it is plugged in "
        "drops it",
        f"at the ports of {beside.segment}, let by only who is there, or accept it",
    )
    return Finding(
        "neighbour-can-claim",
        entry.place,
        access_list.name,
        entry.number,
        fault,
        packet=packet,
        segment=beside.segment,
    )
