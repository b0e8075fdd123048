"""Ways round a denial that its list leaves open between the same ends: the same task by another
service; and second connections, which a list does not see coming.

They are told where an entry denies a service by its ports, not where it denies everything; ways
through somebody outside only for traffic to an outside.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import NamedTuple

from crossgate.core.audit.beside import MOST_PORTS, decided, does, permitted_beside, ports_of
from crossgate.core.audit.coming_by import comes_by
from crossgate.core.audit.context import Case
from crossgate.core.audit.registry import finds
from crossgate.core.model.accesslist import AccessList, line_name
from crossgate.core.model.address import Addresses, Family
from crossgate.core.model.entry import Action, Entry
from crossgate.core.model.finding import Fault, Finding
from crossgate.core.model.packet import TCP, UDP, Packet
from crossgate.core.model.plan import Plan
from crossgate.core.model.scope import scoped_blocks
from crossgate.core.network.paths import Crossing
from crossgate.core.sets import spans as line
from crossgate.core.sets.addresses import AddressSet, everywhere
from crossgate.core.sets.effort import answered
from crossgate.core.sets.frame import PacketSet
from crossgate.core.sets.region import (
    ALL_FLAGS,
    ALL_PORTS,
    PROTOCOL_SHIFT,
    Region,
    entry_region,
)
from crossgate.core.sets.spans import Spans
from crossgate.core.traffic.examples import example


class WayRound(NamedTuple):
    """A way round a denial: the denied ports, by protocol; the ports that it uses instead, as an
    entry names them (`service`); what it is, and the source for that. One that needs a helper
    `outside` does not count among machines of the plan.
    """

    finding: str
    denied: tuple[tuple[int, int], ...]
    round: tuple[tuple[int, int], ...]
    service: str
    what: str
    outside: bool


WAYS_ROUND = (
    WayRound(
        "names-round",
        ((UDP, 53), (TCP, 53)),
        ((TCP, 853), (UDP, 853)),
        "domain-s",
        (
            "names are asked over TLS and QUIC too (RFC 7858, RFC 9250; over HTTPS they cannot be "
            "told from other web, RFC 8484)"
        ),
        outside=True,
    ),
    WayRound(
        "proxy-round",
        ((TCP, 443), (TCP, 80)),
        ((TCP, 1080), (TCP, 3128), (TCP, 8080)),
        "tcp/1080,3128,8080",
        "the web is reached through proxies too, at their usual ports (RFC 1928, RFC 9110 section 3.7)",
        outside=True,
    ),
    WayRound(
        "mail-round",
        ((TCP, 25),),
        ((TCP, 465), (TCP, 587)),
        "tcp/465,587",
        "mail is handed in by submission too (RFC 6409, RFC 8314)",
        outside=True,
    ),
    WayRound(
        "management-round",
        ((TCP, 22),),
        ((TCP, 23),),
        "tcp/23",
        "who manages by ssh often can by telnet, which hides nothing (RFC 854)",
        outside=False,
    ),
    WayRound(
        "management-round",
        ((TCP, 443),),
        ((TCP, 80),),
        "tcp/80",
        "what answers at https often answers at http, which hides nothing (RFC 9110 section 4.2)",
        outside=False,
    ),
    WayRound(
        "management-round",
        ((UDP, 161),),
        ((UDP, 162),),
        "udp/162",
        "network management has its notifications at a port of their own (RFC 3417 section 3)",
        outside=False,
    ),
)


class Second(NamedTuple):
    """A service that negotiates second connections: its port, its name, where these connections go,
    and the source for that.
    """

    protocol: int
    port: int
    other: int
    what: str
    mend: str


_SECOND = (
    Second(
        TCP,
        21,
        TCP,
        (
            "file transfer opens a second connection, in passive mode to a port that the server "
            "names (RFC 959 section 3.2, RFC 1579)"
        ),
        "permit the server's range of passive ports, as tcp/50000-50100",
    ),
    *(
        Second(
            protocol,
            5060,
            UDP,
            "telephony sends voice over UDP, to ports that both ends agree on (RFC 3261, RFC 3264)",
            "permit the telephones' range of media ports, as udp/16384-32767",
        )
        for protocol in (UDP, TCP)
    ),
)
_DYNAMIC = 1_024
"""Ports that are negotiated lie from here on."""
_FEW_PORTS = 16


def _rounds(case: Case, name: str) -> Iterator[Finding]:
    """Yield the denials that the ways round of a name get around, each with a packet that does."""
    ways = [each for each in WAYS_ROUND if each.finding == name]
    outer = {family: _outer(case.plan, family) for family in Family}
    for access_list in case.placed():
        left = list(ways)
        for entry in case.scope.whole(access_list):
            asked = [each for each in left if _asks_for(entry, each.denied)]
            if not asked or entry.action is Action.PERMIT:
                continue
            region = entry_region(entry, access_list.family)
            if region is None or not _is_about_ports(region, MOST_PORTS):
                continue
            for way in asked:
                ends = _restricted(region, outer[access_list.family]) if way.outside else region
                found = ends and permitted_beside(case, access_list, entry, ends, _spans(way.round))
                if not found or not _passes(case, access_list, entry, found[0]):
                    continue
                left.remove(way)
                packets, decider = found
                fault = Fault(
                    f"{way.what}, and {does(decider)} between these ends",
                    f"deny {way.service} there too, or accept it",
                )
                yield Finding(
                    name,
                    entry.place,
                    access_list.name,
                    entry.number,
                    fault,
                    () if decider.number is None else (decider.number,),
                    example(case.plan, [packets]),
                    beside=way.service,
                )


def _asks_for(entry: Entry, ports: Sequence[tuple[int, int]]) -> bool:
    """Whether an entry names a protocol with at least one of some ports."""
    return any(
        (term.protocol == protocol and first <= port <= last)
        for term in entry.service.terms
        for first, last in term.ports or ()
        for protocol, port in ports
    )


@finds("names-round")
def names_round(case: Case) -> Iterator[Finding]:
    """Yield the denials of name lookups that DNS over TLS or QUIC gets around."""
    yield from _rounds(case, "names-round")


@finds("proxy-round")
def proxy_round(case: Case) -> Iterator[Finding]:
    """Yield the denials of web traffic that proxies get around."""
    yield from _rounds(case, "proxy-round")


@finds("mail-round")
def mail_round(case: Case) -> Iterator[Finding]:
    """Yield the denials of mail that mail submission gets around."""
    yield from _rounds(case, "mail-round")


@finds("management-round")
def management_round(case: Case) -> Iterator[Finding]:
    """Yield the denials of a protected management protocol, such as SSH, where the same list
    permits an unprotected one, such as Telnet.
    """
    yield from _rounds(case, "management-round")


@finds("second-connection")
def second_connection(case: Case) -> Iterator[Finding]:
    """Yield the permits of a service whose second connections the same list denies."""
    for access_list in case.placed():
        for entry in case.scope.whole(access_list):
            second = next(
                (each for each in _SECOND if _asks_for(entry, [(each.protocol, each.port)])), None
            )
            if second is None or entry.action is not Action.PERMIT:
                continue
            region = entry_region(entry, access_list.family)
            if region is None or not _is_about_ports(region, _FEW_PORTS):
                continue
            found = _stopped(case, access_list, entry, region, second)
            if found is None:
                continue
            what, packet = found
            fault = Fault(
                f"{second.what}; a list sees only the first, and {what}. A stateful device that "
                "follows it would let that by, and that is not modelled here",
                f"{second.mend}, or accept it",
            )
            yield Finding(
                "second-connection",
                entry.place,
                access_list.name,
                entry.number,
                fault,
                packet=packet,
            )


def _stopped(
    case: Case, access_list: AccessList, entry: Entry, region: Region, second: Second
) -> tuple[str, Packet | None] | None:
    """Return the line that denies second connections between the ends of an entry, with a packet;
    None where none does.
    """
    base = second.other << PROTOCOL_SHIFT
    wanted = region._replace(
        what=((base + _DYNAMIC, base + (1 << 16)),), flags=ALL_FLAGS, source_ports=ALL_PORTS
    )
    with answered(
        f"whether second connections of {line_name(access_list.name, entry.number)} pass",
        case.missed,
    ):
        for packets, decider in decided(case, access_list, wanted, entry, permitted=False):
            if _passes(case, access_list, entry, packets):
                return does(decider), example(case.plan, [packets])
    return None


def _passes(case: Case, access_list: AccessList, entry: Entry, packets: PacketSet) -> bool:
    """Whether machines send some packets between the ends of an entry past its list."""
    crossings = [Crossing(*place) for place in case.plan.places_of(access_list)]
    for each in packets.regions():
        source, destination = (
            Addresses("", side.patterns) for side in (each.source, each.destination)
        )
        own = replace(entry, source=source, destination=destination)
        if any(comes_by(case, own, each, crossing) for crossing in crossings):
            return True
    return False


def _is_about_ports(region: Region, most: int) -> bool:
    """Whether a region consists of some ports of TCP and UDP, at most `most` of them."""
    count = line.size(ports_of(region, TCP)) + line.size(ports_of(region, UDP))
    return 0 < count <= most


def _spans(ports: tuple[tuple[int, int], ...]) -> Spans:
    bases = [((protocol << PROTOCOL_SHIFT) + port) for protocol, port in ports]
    return line.joined((each, each + 1) for each in bases)


def _outer(plan: Plan, family: Family) -> AddressSet:
    """Return the addresses that are in no subnet of the plan and on no link of its devices, and
    that packets are routed to.
    """
    blocks = [*plan.inside(family), *scoped_blocks(family)]
    blocks += [
        address.connected
        for device in plan.devices.values()
        for each in device.interfaces.values()
        for address in each.in_family(family)
    ]
    return everywhere(family) - AddressSet.of(family, blocks)


def _restricted(region: Region, outer: AddressSet) -> Region | None:
    """Return the part of a region that goes to some addresses."""
    destination = region.destination & outer
    return region._replace(destination=destination) if destination else None
