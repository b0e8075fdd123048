"""Findings about the messages between machines of one link without which no other traffic works."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from crossgate.core.audit.context import Case
from crossgate.core.audit.registry import finds
from crossgate.core.model import iana
from crossgate.core.model.accesslist import AccessList, ClosedPlace, Decider
from crossgate.core.model.address import (
    Address,
    Family,
    Pattern,
    parse_address,
    parse_block,
    single,
)
from crossgate.core.model.condition import State
from crossgate.core.model.entry import Kind
from crossgate.core.model.finding import Fault, Finding
from crossgate.core.model.network import Direction, Placement, Point, PointKind, SharedGateway
from crossgate.core.model.packet import ICMPV6, Packet
from crossgate.core.network.paths import Endpoint
from crossgate.core.sets.addresses import AddressSet
from crossgate.core.sets.effort import answered
from crossgate.core.sets.frame import PacketSet
from crossgate.core.sets.region import PROTOCOL_SHIFT, Region

ROUTER_SOLICITATION, ROUTER_ADVERTISEMENT, NEIGHBOUR_SOLICITATION, NEIGHBOUR_ADVERTISEMENT = (
    133,
    134,
    135,
    136,
)
"""ICMPv6 types (RFC 4861 section 4)."""
_FROM_HOSTS = (ROUTER_SOLICITATION, NEIGHBOUR_SOLICITATION, NEIGHBOUR_ADVERTISEMENT)
_FROM_ROUTERS = (ROUTER_ADVERTISEMENT, NEIGHBOUR_SOLICITATION, NEIGHBOUR_ADVERTISEMENT)
_SOME_MACHINE = AddressSet.of(Family.IPV6, (parse_block("fe80::1"),))
VRRP = 112
"""The protocol number of VRRP (RFC 9568 section 5.1.1.4)."""
_ALL_VRRP = {Family.IPV4: parse_address("224.0.0.18"), Family.IPV6: parse_address("ff02::12")}
"""Where VRRP routers send their advertisements (RFC 9568 sections 5.1.1.2 and 5.1.2.2)."""
_LINK_LOCAL, _NOBODY_YET = parse_block("fe80::/10"), parse_block("::")
_ALL_NODES, _ALL_ROUTERS, _SOLICITED = (
    parse_block("ff02::1"),
    parse_block("ff02::2"),
    parse_block("ff02::1:ff00:0/104"),
)
"""Well-known destinations (RFC 4291 section 2.7.1)."""


class _Link(NamedTuple):
    """What has to pass a list of a link: message types, their source addresses, and their
    destination addresses.
    """

    types: tuple[int, ...]
    sources: tuple[Pattern, ...]
    own: tuple[Pattern, ...]


@finds("neighbour-blocked")
def neighbour_blocked(case: Case) -> Iterator[Finding]:
    """Yield the IPv6 lists at interfaces, ports and hosts that deny neighbour discovery on their
    own link (RFC 4861, RFC 4890 section 4.4.1).
    """
    for placement in case.plan.placements:
        access_list = case.plan.lists[placement.access_list]
        if access_list.family is Family.IPV6 and case.scope.looks_at(access_list):
            points = (
                case.plan.groups[placement.point.owner].points
                if placement.point.kind is PointKind.GROUP
                else ()
            )
            every = (
                _stops_neighbours(case, placement._replace(point=each), access_list)
                for each in points or (placement.point,)
            )
            yield from filter(None, [next(filter(None, every), None)])


def _stops_neighbours(case: Case, placement: Placement, access_list: AccessList) -> Finding | None:
    """Return the finding that a list denies neighbour discovery where it stands; None where it does
    not.
    """
    link = _link(case, placement)
    for opened in case.states(access_list) if link is not None else ():
        assert link is not None
        stopped = {}
        with answered(f"whether {access_list.name} stops neighbour discovery", case.missed):
            stopped = {
                kind: found
                for kind in link.types
                if (found := _stopped(case, access_list, opened, link, kind)) is not None
            }
        if stopped:
            return _told(placement, access_list, stopped)
    return None


@finds("vrrp-blocked")
def vrrp_blocked(case: Case) -> Iterator[Finding]:
    """Yield the lists that deny the messages between the devices of a shared gateway (RFC 9568
    sections 5.1 and 7).
    """
    told: set[tuple[str, Point, Direction]] = set()
    for gateway in case.plan.gateways:
        for family in dict.fromkeys(address.family for address in gateway.addresses):
            for placement, decider, packet in _unheard(case, gateway, family):
                key = (placement.access_list, placement.point, placement.direction)
                if key in told:
                    continue
                told.add(key)
                closed = isinstance(decider.access_list, ClosedPlace)
                where = (
                    " is closed, which"
                    if closed
                    else ", its otherwise line"
                    if decider.entry is None
                    else f", {decider.number}"
                )
                source, group = Address(family, packet.source), Address(family, packet.destination)
                sent_by = "fe80::/10" if family is Family.IPV6 else str(source)
                fault = Fault(
                    f"{placement.where}{where} stops VRRP among the "
                    f"devices that share {gateway.addresses[0]} on {gateway.on}: "
                    "each will take the others for gone and answer itself (RFC 9568)",
                    f"permit first: {sent_by}"
                    if decider.access_list.kind is Kind.STANDARD
                    else f"permit first: vrrp {sent_by} to {group}",
                )
                place = placement.place if decider.entry is None else decider.place
                yield Finding(
                    "vrrp-blocked",
                    place,
                    None if closed else placement.access_list,
                    decider.number,
                    fault,
                    packet=packet,
                )


def _unheard(
    case: Case, gateway: SharedGateway, family: Family
) -> Iterator[tuple[Placement, Decider, Packet]]:
    """Yield the line that denies an advertisement, and the advertisement, for each way between two
    devices that share a gateway.
    """
    plan, network = case.plan, case.network
    group = _ALL_VRRP[family]
    others = {point.owner for point in gateway.by}
    stands = {
        (point, each.direction, each.access_list): each
        for each in plan.placements
        for point in plan.points_of(each.point, plan.lists[each.access_list].family)
    }
    for point in gateway.by:
        own = plan.devices[point.owner].interfaces[point.part]
        address = own.in_family(family)[0].address
        sender = Endpoint(str(point), address, own.on, own.at, device=point.owner)
        source = _LINK_LOCAL.value | 1 if family is Family.IPV6 else address.value
        packet = Packet(family, source, group.value, VRRP)
        for start, moves in network.starts(sender, group):
            for move in (each for each in moves if each.device in others):
                for crossing in (*start.crossings, *move.crossings):
                    access_list = (
                        None if crossing.rulings is not None else network.list_at(crossing, family)
                    )
                    if access_list is None or not case.scope.looks_at(access_list):
                        continue
                    for opened in case.states(access_list):
                        decider = case.index(access_list, opened).decide(packet)
                        if not decider.permits:
                            at = crossing.point, crossing.direction, access_list.name
                            yield (
                                stands.get(at) or Placement(at[2], at[1], at[0], access_list.place),
                                decider,
                                packet,
                            )
                            break


def _link(case: Case, placement: Placement) -> _Link | None:
    """Return what has to pass at a place; None where neighbour discovery does not pass it."""
    plan, point, inward = case.plan, placement.point, placement.direction is Direction.INBOUND
    if point.kind is PointKind.INTERFACE:
        # What a device itself sends is not asked at its own interfaces, and nothing else of the
        # link goes out there.
        interface = plan.devices[point.owner].interfaces[point.part]
        own = interface.in_family(Family.IPV6)
        segment = plan.segments[interface.on]
        blocks = (
            tuple(each.connected for each in own)
            if segment.outside
            else tuple(b for b in segment.prefixes if b.family is Family.IPV6)
        )
        if not inward or not own:
            return None
        return _Link(
            _FROM_HOSTS,
            (_LINK_LOCAL, _NOBODY_YET, *blocks),
            tuple(single(each.address) for each in own),
        )
    if point.kind in (PointKind.HOST, PointKind.GROUP):
        return _Link(_FROM_HOSTS if inward else _FROM_ROUTERS, (_LINK_LOCAL, _NOBODY_YET), ())
    if point.kind is not PointKind.PORT:
        return None
    interfaces = [
        each
        for device in plan.devices.values()
        for each in device.interfaces.values()
        if each.at == point
    ]
    if point in plan.cabled:
        return _Link((ROUTER_SOLICITATION, *_FROM_ROUTERS), (_LINK_LOCAL, _NOBODY_YET), ())
    return _Link(
        _FROM_ROUTERS if inward is bool(interfaces) else _FROM_HOSTS, (_LINK_LOCAL, _NOBODY_YET), ()
    )


def _stopped(
    case: Case, access_list: AccessList, opened: State, link: _Link, kind: int
) -> tuple[Decider, Packet] | None:
    """Return the line that denies a message, leaving out denials of single machines, and the
    message.
    """
    solicited = tuple(
        Pattern(Family.IPV6, _SOLICITED.value | own.value & _SOLICITED.wildcard, 0)
        for own in link.own
    ) or (_SOLICITED,)
    destinations = {
        ROUTER_SOLICITATION: (_ALL_ROUTERS,),
        ROUTER_ADVERTISEMENT: (_ALL_NODES,),
        NEIGHBOUR_SOLICITATION: (*solicited, *link.own),
        NEIGHBOUR_ADVERTISEMENT: link.own or (_LINK_LOCAL,),
    }[kind]
    regions = case.session.regions.of(access_list, opened)
    for source in link.sources:
        if source is _NOBODY_YET and kind in (ROUTER_ADVERTISEMENT, NEIGHBOUR_ADVERTISEMENT):
            continue
        for destination in destinations:
            message = (ICMPV6 << PROTOCOL_SHIFT) + (kind << 8)
            start, end = (AddressSet.of(Family.IPV6, (each,)) for each in (source, destination))
            asked = Region(start, end, ((message, message + 1),))
            for piece, decider in regions.split(asked, permitted=False):
                for part in piece.regions():
                    if part.source.single is None or source is _NOBODY_YET:
                        usual = part.source & _SOME_MACHINE
                        return decider, PacketSet.of(
                            part.between(usual or part.source, part.destination)
                        ).witness()
    return None


def _told(
    placement: Placement, access_list: AccessList, stopped: dict[int, tuple[Decider, Packet]]
) -> Finding:
    names = {number: name for name, number in iana.icmp_types(ICMPV6).items()}
    decider, packet = next(iter(stopped.values()))
    where = "its otherwise line" if decider.entry is None else str(decider.number)
    words = [names[kind] for kind in stopped]
    fault = Fault(
        f"{placement.where}, {where} stops {', '.join(words)} of the link "
        "itself, without which IPv6 finds no neighbour there "
        f"(RFC 4861; RFC 4890 section 4.4.1)",
        f"permit first: {', '.join(f'icmp/{word}' for word in words)}, each any to any",
    )
    place = placement.place if decider.entry is None else decider.place
    return Finding(
        "neighbour-blocked", place, access_list.name, decider.number, fault, packet=packet
    )
