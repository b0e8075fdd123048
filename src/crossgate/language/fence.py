"""A fence around a subnet, in the plan's own words: lists, their places, and the expectations that prove them.

What leaves the subnet for another subnet of the plan is denied, and what comes from one; the outside stays open, and so
do services of the subnet's own gateways and what is named as an exception. One way, others may still come in: then only
replies go out to them, TCP by its flags, UDP by the ports that clients choose from, echo replies as such.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from crossgate.core.address import Family
from crossgate.core.errors import PlanError, unknown
from crossgate.core.network import Direction, Point, PointKind, Segment
from crossgate.core.plan import Plan
from crossgate.core.service import ServiceError, ServiceTerm, format_ports, protocol_name

_DHCP = {Family.IPV4: "dhcp", Family.IPV6: "dhcpv6-server"}


class Fence(NamedTuple):
    """The lines to be written: a group of the other subnets, lists, placements, expectations.

    An expectation is to be tried before it is kept; beside it stand those, subnet by subnet, that may hold where it does not.
    """

    groups: list[str]
    lists: list[list[str]]
    placements: list[str]
    expectations: list[tuple[str, list[str]]]


def fence(plan: Plan, name: str, allow: Sequence[str], exceptions: Sequence[str], one_way: bool) -> Fence:
    """Return the fence around a subnet in the families that it has.

    Raises `PlanError` when the subnet or an exception is not there, a list stands at the subnet already, or there is
    nothing to keep it from.
    """
    segment = plan.segments.get(name)
    subnets = [each.name for each in plan.segments.values() if not each.outside]
    if segment is None or segment.outside:
        raise PlanError(unknown("subnet", name, subnets))
    closed = [each for each in subnets if each != name and each not in exceptions]
    if not closed:
        raise PlanError(f"there is no other subnet in the plan to keep {name} from")
    beyond = closed[0] if len(closed) == 1 else f"beyond-{name}"
    made = Fence([], [], [], [])
    if len(closed) > 1:
        if beyond in plan.names():
            raise PlanError(f"there is a {beyond} in the plan already; is {name} fenced off?")
        made.groups.append(f"group {beyond} {', '.join(closed)}")
    for family in Family:
        if any(block.family is family for block in segment.prefixes):
            _check(plan, segment, family, exceptions, one_way)
            if _in_family(plan, closed, family):
                _one_family(made, plan, segment, family, beyond, closed, allow, exceptions, one_way)
    if not made.lists:
        raise PlanError(f"there is no other subnet of {name}'s families in the plan to keep it from")
    return made


def _in_family(plan: Plan, names: list[str], family: Family) -> list[str]:
    return [name for name in names if _has(plan, name, family)]


def _check(plan: Plan, segment: Segment, family: Family, exceptions: Sequence[str], one_way: bool) -> None:
    for each in exceptions:
        if each not in plan.hosts and each not in plan.segments and each not in plan.groups and each not in plan.devices:
            raise PlanError(unknown("host, subnet, group or device", each, [*plan.hosts, *plan.segments, *plan.groups, *plan.devices]))
    point = Point(PointKind.SUBNET, segment.name)
    for direction in (Direction.OUTBOUND,) if one_way else Direction:
        standing = plan.placed.get((point, direction, family))
        if standing is not None:
            raise PlanError(
                f"{standing.name} stands {direction} on {point} already, and a place takes one {family.word} list each way; "
                f"first: crossgate lift {standing.name} {direction} {point}"
            )


def _one_family(
    made: Fence, plan: Plan, segment: Segment, family: Family, beyond: str, closed: list[str], allow: Sequence[str],
    exceptions: Sequence[str], one_way: bool,
) -> None:  # fmt: skip
    name, tail = segment.name, "" if family is Family.IPV4 else "6"
    gateways = _gateways(plan, segment, family)
    excepted = [each for each in exceptions if _has(plan, each, family)]
    out = [f"permit {service} {name} to {gateway}" for gateway in gateways for service in _services(plan, allow, family)]
    out += [f"permit icmp any to {gateway}" for gateway in gateways]
    out += [f"permit ip {name} to {each}" for each in excepted]
    if one_way:
        out += list(_replies(plan, name, beyond))
    out.append(f"deny ip any to {beyond}")
    made.lists.append(_list(plan, f"fence-{name}-out{tail}", family, f"What leaves {name}: nothing for the other subnets", out))
    made.placements.append(f"place fence-{name}-out{tail} outbound on subnet {name}")
    if not one_way:
        come = [line for gateway in gateways for line in _answers(plan, allow, family, gateway, name)]
        come += [f"permit icmp {gateway} to any" for gateway in gateways]
        come += [f"permit ip {each} to {name}" for each in excepted]
        come.append(f"deny ip {beyond} to any")
        made.lists.append(_list(plan, f"fence-{name}-in{tail}", family, f"What enters {name}: nothing from the other subnets", come))
        made.placements.append(f"place fence-{name}-in{tail} inbound on subnet {name}")
    services = ("tcp", f"udp/-{plan.client_ports[0] - 1}", "ping") if one_way else ("ip",)

    def claims(other: str) -> list[str]:
        ways = [(name, other)] if one_way else [(name, other), (other, name)]
        return [f"expect deny {service} {one} to {two} over {family.word}" for service in services for one, two in ways]

    parts = [claims(each) for each in _in_family(plan, closed, family)]
    made.expectations.extend(zip(claims(beyond), map(list, zip(*parts, strict=True)), strict=True))


def _list(plan: Plan, name: str, family: Family, note: str, entries: list[str]) -> list[str]:
    if name in plan.lists:
        raise PlanError(f"there is a list {name} already (line {plan.lists[name].place.line}); lift and drop it first")
    numbered = [f"    {number} {text}" for number, text in zip(range(10, 10 * len(entries) + 10, 10), entries, strict=True)]
    return [f"list {name} extended {family.word}", f'    note "{note}"', *numbered, "    otherwise permit"]


def _gateways(plan: Plan, segment: Segment, family: Family) -> list[str]:
    """Return the devices that have an interface of the family on the subnet."""
    return [
        device.name
        for device in plan.devices.values()
        if any(interface.on == segment.name and interface.in_family(family) for interface in device.interfaces.values())
    ]


def _has(plan: Plan, name: str, family: Family) -> bool:
    if name in plan.hosts:
        return plan.hosts[name].in_family(family) is not None
    if name in plan.devices:
        return any(address.family is family for address in plan.devices[name].addresses())
    if name in plan.groups:
        return family in plan.groups[name].members
    return any(block.family is family for block in plan.segments[name].prefixes)


def _services(plan: Plan, allow: Sequence[str], family: Family) -> list[str]:
    """Return the allowed services as tokens of a family; DHCP has another name in IPv6."""
    tokens = [_DHCP[family] if token == "dhcp" else token for token in allow]
    for token in tokens:
        try:
            plan.service(token, family)
        except ServiceError as error:
            raise PlanError(f"--allow {token}: {error}") from None
    return tokens


def _answers(plan: Plan, allow: Sequence[str], family: Family, gateway: str, name: str) -> Iterator[str]:
    """Yield entries for the answers of a gateway's services."""
    for token in _services(plan, allow, family):
        for term in plan.service(token, family).terms:
            yield f"permit {_answer(term, family, gateway, name)}"


def _answer(term: ServiceTerm, family: Family, gateway: str, name: str) -> str:
    if term.protocol is None or term.ports is None:
        return f"{term.text(family)} {gateway} to {name}"
    return f"{protocol_name(term.protocol)} {gateway} to {name} source port {format_ports(term.ports)}"


def _replies(plan: Plan, name: str, other: str) -> Iterator[str]:
    first, last = plan.client_ports
    clients = f"{first}-" if last == 65535 else f"{first}-{last}"
    yield f"permit tcp {name} to {other} established"
    if first > 0:
        yield f"permit udp/{clients} {name} to {other} source port -{first - 1}"
    yield f"permit icmp/echo-reply {name} to {other}"
