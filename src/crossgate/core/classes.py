"""Every packet that can open a conversation between two machines, as few that stand for all.

Along fixed paths lists can tell packets apart only by what their entries name. So the numbers of a field (protocols,
ports, ICMP types and codes) fall into classes whose members every entry treats alike, and one member of each class
stands for it. Trying the combinations of these is exact, not a sample.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from itertools import product
from typing import NamedTuple

from crossgate.core.accesslist import AccessList, Entry
from crossgate.core.forwarding import End
from crossgate.core.iana import ANSWERED
from crossgate.core.packet import ICMP, ICMPV6, PORT_PROTOCOLS, SYN, TCP, Packet
from crossgate.core.service import Ports, ServiceTerm

_ALL = (0, 65535)


class Asked(NamedTuple):
    """The lists on the way there and on the way back."""

    there: tuple[AccessList, ...]
    back: tuple[AccessList, ...]


def openings(term: ServiceTerm, source: End, destination: End, client_ports: tuple[int, int], lists: Asked) -> Iterator[Packet]:
    """Yield one first packet for each class of packets of `term` between two machines.

    `client_ports` bounds the source ports of protocols that have ports (first, last).
    """
    family, start, end = source.address.family, source.address.value, destination.address.value
    entries_there, entries_back = list(_entries(lists.there)), list(_entries(lists.back))
    for protocol in _protocols(term, [*entries_there, *entries_back]):
        if protocol in PORT_PROTOCOLS:
            flags = SYN if protocol == TCP else None
            wanted = term.ports or (_ALL,)
            ports = _cuts(wanted, [*_ports(entries_there, protocol), *_source_ports(entries_back)])
            clients = _cuts((client_ports,), [*_source_ports(entries_there), *_ports(entries_back, protocol)])
            for port, client in product(ports, clients):
                yield Packet(family, start, end, protocol, client, port, flags=flags)
        elif protocol in (ICMP, ICMPV6):
            for kind, code in _messages(term, entries_there, protocol):
                yield Packet(family, start, end, protocol, icmp_type=kind, icmp_code=code)
        else:
            yield Packet(family, start, end, protocol)


def _entries(lists: Iterable[AccessList]) -> Iterator[Entry]:
    return (entry for access_list in lists for entry in access_list.entries if not entry.off)


def _protocols(term: ServiceTerm, entries: list[Entry]) -> list[int]:
    """Return the protocols to try: the term's own, else those that entries name, the common ones, and one that none names."""
    if term.protocol is not None:
        return [term.protocol]
    named = {each.protocol for entry in entries for each in entry.service.terms if each.protocol is not None}
    named |= PORT_PROTOCOLS | {ICMP, ICMPV6}
    return [*sorted(named), next(number for number in range(255, -1, -1) if number not in named)]


def _ports(entries: list[Entry], protocol: int) -> Iterator[Ports]:
    return (term.ports for entry in entries for term in entry.service.terms if term.ports is not None and term.protocol == protocol)


def _source_ports(entries: list[Entry]) -> Iterator[Ports]:
    return (entry.qualifiers.source_ports for entry in entries if entry.qualifiers.source_ports is not None)


def _cuts(wanted: Ports, named: Iterable[Ports]) -> list[int]:
    """Return the first port of every class within `wanted`: each place where it or a named interval starts or has ended."""
    starts = {first for first, _ in wanted}
    for ports in named:
        for first, last in ports:
            starts |= {first, last + 1}
    return sorted(start for start in starts if any(first <= start <= last for first, last in wanted))


def _messages(term: ServiceTerm, entries: list[Entry], protocol: int) -> Iterator[tuple[int, int]]:
    """Yield (type, code) for every class of ICMP messages."""
    named: dict[int, set[int]] = {}
    for entry in entries:
        for each in entry.service.terms:
            if each.protocol == protocol and each.icmp_type is not None:
                codes = named.setdefault(each.icmp_type, set())
                if each.icmp_code is not None:
                    codes.add(each.icmp_code)
    # The request of each answered pair is a class of its own: what becomes of its answer differs.
    for kind in ANSWERED[protocol]:
        named.setdefault(kind, set())
    kinds = [term.icmp_type] if term.icmp_type is not None else [*sorted(named), next(kind for kind in range(256) if kind not in named)]
    for kind in kinds:
        if term.icmp_code is not None:
            yield kind, term.icmp_code
            continue
        codes = named.get(kind, set())
        yield from ((kind, code) for code in sorted(codes))
        yield kind, next(code for code in range(256) if code not in codes)
