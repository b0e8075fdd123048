"""Denials of one half of a service whose other half is permitted: over TCP and UDP, QUIC beside
HTTPS, ping beside ports.
"""

from __future__ import annotations

from collections.abc import Iterator
from functools import cache

from crossgate.core.audit.beside import MOST_PORTS, does, permitted_beside, ports_of
from crossgate.core.audit.context import Case
from crossgate.core.audit.registry import finds
from crossgate.core.model import iana
from crossgate.core.model.accesslist import AccessList, Decider
from crossgate.core.model.address import Family
from crossgate.core.model.entry import Action, Entry
from crossgate.core.model.finding import Fault, Finding
from crossgate.core.model.packet import ECHO, TCP, UDP, icmp_of
from crossgate.core.model.service import format_ports, protocol_name
from crossgate.core.sets import spans as line
from crossgate.core.sets.frame import PacketSet
from crossgate.core.sets.region import PROTOCOL_SHIFT, entry_region
from crossgate.core.sets.spans import Spans
from crossgate.core.traffic.examples import example

_HTTPS = 443
"""HTTP/3 is spoken over QUIC, at the same port of UDP (RFC 9114 section 3.1)."""
_MESSAGES = {icmp_of(family) for family in Family}


@finds("other-half")
def other_half(case: Case) -> Iterator[Finding]:
    """Yield the denials of ports of which the same list permits the other half between the same
    ends; for ping, one for each list.
    """
    for access_list in case.placed():
        ping_told = False
        for entry in case.scope.whole(access_list):
            region = (
                None if entry.action is Action.PERMIT else entry_region(entry, access_list.family)
            )
            if region is None:
                continue
            for denied, other in ((TCP, UDP), (UDP, TCP)):
                ports = ports_of(region, denied)
                shared = (
                    line.common(ports, _spoken_over_both())
                    if 0 < line.size(ports) <= MOST_PORTS
                    else ()
                )
                if shared:
                    half = line.joined(
                        ((other << PROTOCOL_SHIFT) + first, (other << PROTOCOL_SHIFT) + end)
                        for first, end in shared
                    )
                    found = permitted_beside(case, access_list, entry, region, half)
                    if found is not None:
                        fault, service = _half(denied, other, shared, found[1])
                        yield _told(case, access_list, entry, fault, service, *found)
            if (
                not ping_told
                and 0
                < line.size(ports_of(region, TCP)) + line.size(ports_of(region, UDP))
                <= MOST_PORTS
            ):
                request = (icmp_of(access_list.family) << PROTOCOL_SHIFT) + (
                    ECHO[access_list.family] << 8
                )
                found = permitted_beside(
                    case, access_list, entry, region, ((request, request + 1),)
                )
                if found is not None and not _is_known(found[1]):
                    ping_told = True
                    packets, decider = found
                    what = (
                        f"ports are closed and ping is open: {does(decider)}, so a ping that "
                        "arrives tells nothing of them"
                    )
                    yield _told(
                        case,
                        access_list,
                        entry,
                        Fault(what, "deny ping too, or accept it"),
                        "ping",
                        packets,
                        decider,
                    )


@cache
def _spoken_over_both() -> Spans:
    """Return the ports of services that run over both TCP and UDP (IANA Service Name and Transport
    Protocol Port Number Registry).
    """
    both = (
        ports for ports, transports in iana.services().values() if {"tcp", "udp"} <= {*transports}
    )
    return line.joined([(_HTTPS, _HTTPS + 1), *((first, last + 1) for first, last in both)])


def _is_known(decider: Decider) -> bool:
    """Whether a line is about ICMP alone, or is the otherwise line: whoever wrote it had ping in
    mind.
    """
    return decider.entry is None or (
        isinstance(decider.entry, Entry)
        and all(each.protocol in _MESSAGES for each in decider.entry.service.terms)
    )


def _half(denied: int, other: int, shared: Spans, decider: Decider) -> tuple[Fault, str]:
    """Say that ports of one protocol are denied while a line permits those of the other, and return
    the latter as a service.
    """
    ports = format_ports(tuple((first, end - 1) for first, end in shared))
    quic = " (QUIC)" if other == UDP and line.contains(shared, _HTTPS) else ""
    what = (
        f"what it denies of {protocol_name(denied)}/{ports} passes over "
        f"{protocol_name(other).upper()}{quic}: {does(decider)}"
    )
    service = f"{protocol_name(other)}/{ports}"
    return Fault(what, f"deny {service} too, or accept it"), service


def _told(
    case: Case,
    access_list: AccessList,
    entry: Entry,
    fault: Fault,
    service: str,
    packets: PacketSet,
    decider: Decider,
) -> Finding:
    because = () if decider.number is None else (decider.number,)
    return Finding(
        "other-half",
        entry.place,
        access_list.name,
        entry.number,
        fault,
        because,
        example(case.plan, [packets]),
        beside=service,
    )
