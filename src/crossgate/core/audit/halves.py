"""Denials of one half of something whose other half passes: the same service over TCP and UDP, QUIC
beside HTTPS, ping beside ports.
"""

from __future__ import annotations

from collections.abc import Iterator

from crossgate.core.audit.context import Case
from crossgate.core.audit.registry import finds
from crossgate.core.model import iana
from crossgate.core.model.accesslist import AccessList, Action, Decider, Entry, line_name
from crossgate.core.model.address import Family
from crossgate.core.model.finding import Fault, Finding
from crossgate.core.model.packet import ECHO, TCP, UDP, icmp_of
from crossgate.core.model.service import format_ports, protocol_name
from crossgate.core.sets import spans as line
from crossgate.core.sets.effort import answered
from crossgate.core.sets.frame import PacketSet
from crossgate.core.sets.region import ALL_FLAGS, ALL_PORTS, PROTOCOL_SHIFT, Region, entry_region
from crossgate.core.sets.spans import Spans
from crossgate.core.traffic.examples import example
from crossgate.core.wording.sentences import DOES

_HTTPS = 443
"""HTTP/3 is spoken over QUIC, at the same port of UDP (RFC 9114 section 3.1)."""
_MOST_PORTS = 1 << 10
"""Who denies more ports than these means no service."""
_MESSAGES = {icmp_of(family) for family in Family}


@finds("other-half")
def other_half(case: Case) -> Iterator[Finding]:
    """Yield the denials of ports of which the same list permits the other half between the same
    ends; of ping one a list.
    """
    for access_list in case.placed():
        ping_told = False
        for entry in case.entries(access_list):
            region = (
                None if entry.action is Action.PERMIT else entry_region(entry, access_list.family)
            )
            if region is None:
                continue
            for denied, other in ((TCP, UDP), (UDP, TCP)):
                ports = _ports(region, denied)
                shared = (
                    line.common(ports, _spoken_over_both())
                    if 0 < line.size(ports) <= _MOST_PORTS
                    else ()
                )
                if shared:
                    half = line.joined(
                        ((other << PROTOCOL_SHIFT) + first, (other << PROTOCOL_SHIFT) + end)
                        for first, end in shared
                    )
                    found = _permitted(case, access_list, entry, region, half)
                    if found is not None:
                        fault = _half(denied, other, shared, found[1])
                        yield _told(case, access_list, entry, fault, *found)
            if (
                not ping_told
                and 0
                < line.size(_ports(region, TCP)) + line.size(_ports(region, UDP))
                <= _MOST_PORTS
            ):
                request = (icmp_of(access_list.family) << PROTOCOL_SHIFT) + (
                    ECHO[access_list.family] << 8
                )
                found = _permitted(case, access_list, entry, region, ((request, request + 1),))
                if found is not None and not _is_known(found[1]):
                    ping_told = True
                    packets, decider = found
                    what = (
                        f"ports are closed and ping is open: {_does(decider)}, so a ping that "
                        "arrives tells nothing of them"
                    )
                    yield _told(
                        case,
                        access_list,
                        entry,
                        Fault(what, "deny ping too, or accept it"),
                        packets,
                        decider,
                    )


def _ports(region: Region, protocol: int) -> Spans:
    """Return the ports of a protocol that a region has."""
    base = protocol << PROTOCOL_SHIFT
    return line.joined(
        (first - base, end - base)
        for first, end in line.common(region.what, ((base, base + (1 << 16)),))
    )


def _spoken_over_both() -> Spans:
    """Return the ports of services that are spoken over both TCP and UDP (IANA Service Name and
    Transport Protocol Port Number Registry).
    """
    both = (
        ports for ports, transports in iana.services().values() if {"tcp", "udp"} <= {*transports}
    )
    return line.joined([(_HTTPS, _HTTPS + 1), *((first, last + 1) for first, last in both)])


def _permitted(
    case: Case, access_list: AccessList, entry: Entry, region: Region, what: Spans
) -> tuple[PacketSet, Decider] | None:
    """Return packets between the ends of an entry that carry something else and that its list
    permits while the entry is in force.
    """
    wanted = region._replace(what=what, flags=ALL_FLAGS, source_ports=ALL_PORTS)
    with answered(
        f"whether the other half of {line_name(access_list.name, entry.number)} passes", case.missed
    ):
        for opened in case.states(access_list):
            if entry.in_force(opened):
                for packets, decider in case.session.regions.of(access_list, opened).split(wanted):
                    if decider.permits:
                        return packets, decider
    return None


def _is_known(decider: Decider) -> bool:
    """Whether a line is about ICMP alone, or about all that no entry is for: who wrote it knows of
    ping.
    """
    return decider.entry is None or (
        isinstance(decider.entry, Entry)
        and all(each.protocol in _MESSAGES for each in decider.entry.service.terms)
    )


def _does(decider: Decider) -> str:
    return (
        f"{'the otherwise line' if decider.number is None else decider.number} "
        f"{DOES[decider.action]} it"
    )


def _half(denied: int, other: int, shared: Spans, decider: Decider) -> Fault:
    """Say that ports of one protocol are denied, and a line lets those of another one by."""
    ports = format_ports(tuple((first, end - 1) for first, end in shared))
    quic = " (QUIC)" if other == UDP and line.contains(shared, _HTTPS) else ""
    what = (
        f"what it denies of {protocol_name(denied)}/{ports} passes over "
        f"{protocol_name(other).upper()}{quic}: {_does(decider)}"
    )
    return Fault(what, f"deny {protocol_name(other)}/{ports} too, or accept it")


def _told(
    case: Case,
    access_list: AccessList,
    entry: Entry,
    fault: Fault,
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
    )
