"""What can be checked only when the whole network is read: duplicate addresses, the ends of cables,
overlaps.

Every function looks at the whole plan and reports the errors it finds, each at the line that has to
be mended.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator

from crossgate.core.model.address import Address
from crossgate.core.model.errors import Place, PlanError, unknown
from crossgate.core.model.ethernet import format_mac
from crossgate.core.model.network import Point, Port, Segment
from crossgate.core.model.plan import Plan

Complain = Callable[[Place, str, str], PlanError]
"""Makes an error from the line it stands in, the word at fault and what is wrong with it."""


def check(plan: Plan, complain: Complain) -> Iterator[PlanError]:
    """Yield every error of the network as a whole."""
    yield from _overlapping_subnets(plan, complain)
    yield from _outsides(plan, complain)
    yield from _shared_addresses(plan, complain)
    yield from _shared_macs(plan, complain)
    yield from _lonely_outsides(plan, complain)
    yield from _loose_ends(plan, complain)
    yield from _isolated(plan, complain)
    yield from _routes(plan, complain)
    yield from _gateways(plan, complain)
    yield from _rings(plan, complain)


def _overlapping_subnets(plan: Plan, complain: Complain) -> Iterator[PlanError]:
    yield from _overlapping(
        [segment for segment in plan.segments.values() if not segment.outside], plan, complain
    )


def _outsides(plan: Plan, complain: Complain) -> Iterator[PlanError]:
    """Yield an error for outsides that share addresses, or have none."""
    outsides = [segment for segment in plan.segments.values() if segment.outside]
    rest = [segment for segment in outsides if not segment.prefixes]
    for later in rest[1:]:
        message = (
            f"{later.name} and {rest[0].name} (line {plan.line_of(rest[0].place)}) have no prefixes, and "
            "only one outside can be all the rest; "
            f"write what {later.name} has: outside {later.name} PREFIX..."
        )
        yield complain(later.place, later.name, message)
    yield from _overlapping(outsides, plan, complain)
    yield from _left_out(plan, complain)
    subnets = [
        block
        for segment in plan.segments.values()
        if not segment.outside
        for block in segment.prefixes
    ]
    for segment in outsides:
        for block in segment.prefixes:
            around = next(
                (each for each in subnets if each.family is block.family and each.covers(block)),
                None,
            )
            if around is not None:
                yield complain(
                    segment.place,
                    str(block),
                    (
                        f"{block} has no address outside: the subnet {around} has all of it; "
                        "leave it "
                        "out"
                    ),
                )


def _left_out(plan: Plan, complain: Complain) -> Iterator[PlanError]:
    """Yield an error for machines on an outside with an address that is excluded from it."""
    interfaces = [each for device in plan.devices.values() for each in device.interfaces.values()]
    own = [
        (each.on, address.address, each.place) for each in interfaces for address in each.addresses
    ]
    own += [
        (host.on, address, host.place) for host in plan.hosts.values() for address in host.addresses
    ]
    for on, address, place in own:
        if plan.segments[on].leaves_out(address):
            message = (
                f"{address} is left out of {on} (line {plan.line_of(plan.segments[on].place)}); "
                "write a subnet for it, or leave less out"
            )
            yield complain(place, str(address), message)


def _overlapping(segments: list[Segment], plan: Plan, complain: Complain) -> Iterator[PlanError]:
    seen: list[tuple[str, int, int, int]] = []
    blocks = [(block, segment) for segment in segments for block in segment.prefixes]
    for block, segment in sorted(
        blocks, key=lambda pair: (pair[0].family, pair[0].value, -pair[0].wildcard)
    ):
        while seen and (seen[-1][1] != block.family or seen[-1][3] < block.value):
            seen.pop()
        if seen:
            other = plan.segments[seen[-1][0]]
            later = max(segment, other, key=lambda each: each.place)
            earlier = other if later is segment else segment
            own = (
                "every outside has its own addresses"
                if later.outside
                else "a broadcast domain has its own prefix"
            )
            message = (
                f"{later.name} and {earlier.name} (line {plan.line_of(earlier.place)}) both have "
                f"{block}; {own}"
            )
            yield complain(later.place, later.name, message)
        seen.append((segment.name, block.family, block.value, block.last))


def _shared_addresses(plan: Plan, complain: Complain) -> Iterator[PlanError]:
    holders: dict[Address, tuple[str, Place]] = {}
    owners = [
        (own.address, str(interface.point), interface.place)
        for device in plan.devices.values()
        for interface in device.interfaces.values()
        for own in interface.addresses
    ]
    owners += [
        (address, host.name, host.place)
        for host in plan.hosts.values()
        for address in host.addresses
    ]
    owners += [
        (address, f"the gateway of {each.on}", each.place)
        for each in plan.gateways
        for address in each.addresses
    ]
    for address, name, place in sorted(owners, key=lambda owner: owner[2]):
        if address in holders:
            other, where = holders[address]
            yield complain(
                place, str(address), f"{name} and {other} (line {where.line}) both have {address}"
            )
        else:
            holders[address] = (name, place)


def _shared_macs(plan: Plan, complain: Complain) -> Iterator[PlanError]:
    """Yield an error for machines of one subnet with the same hardware address: a switch could not
    tell them apart.
    """
    holders: dict[tuple[str, int], tuple[str, Place]] = {}
    owners = [(host.on, host.mac, host.name, host.place) for host in plan.hosts.values()]
    interfaces = [each for device in plan.devices.values() for each in device.interfaces.values()]
    owners += [(each.on, each.mac, str(each.point), each.place) for each in interfaces]
    for on, mac, name, place in sorted(owners, key=lambda owner: owner[3]):
        if mac is None:
            continue
        other, where = holders.setdefault((on, mac), (name, place))
        if other != name:
            yield complain(
                place,
                "mac",
                f"{other} and {name} (line {where.line}) both have {format_mac(mac)} on {on}",
            )


def _lonely_outsides(plan: Plan, complain: Complain) -> Iterator[PlanError]:
    used = {
        interface.on for device in plan.devices.values() for interface in device.interfaces.values()
    }
    for segment in plan.segments.values():
        if segment.outside and segment.name not in used:
            yield complain(
                segment.place,
                segment.name,
                f"no device has an interface on {segment.name}, so nothing can get there",
            )


def _loose_ends(plan: Plan, complain: Complain) -> Iterator[PlanError]:
    """Yield an error for cables to a port that does not exist, or to one that is joined to another
    switch.
    """
    ends: list[tuple[Point, Place, str]] = []
    for device in plan.devices.values():
        ends += [(port.to, port.place, "to") for port in device.ports.values() if port.to]
        ends += [
            (interface.at, interface.place, "at")
            for interface in device.interfaces.values()
            if interface.at
        ]
    ends += [(host.at, host.place, "at") for host in plan.hosts.values() if host.at]
    joined = {point: port.point for port, point in _cables(plan)} | {
        port.point: point for port, point in _cables(plan)
    }
    for point, place, word in ends:
        switch = plan.devices.get(point.owner)
        if switch is None:
            switches = [name for name, device in plan.devices.items() if device.switch]
            yield complain(place, str(point), unknown("switch", point.owner, switches))
        elif point.part not in switch.ports:
            known = [f"{point.owner}.{name}" for name in switch.ports]
            yield complain(place, str(point), unknown("port", str(point), known))
        elif word == "at" and point in joined:
            yield complain(
                place,
                str(point),
                f"{point} is joined to {joined[point]}; a machine needs a port of its own",
            )
    used: dict[Point, Point] = {}
    for port, point in _cables(plan):
        for end, other in ((port.point, point), (point, port.point)):
            if end == other:
                yield complain(port.place, str(point), f"{end} is joined to itself")
            elif used.setdefault(end, other) != other:
                yield complain(
                    port.place,
                    str(point),
                    f"{end} is joined to {used[end]} already; a cable has two ends",
                )


def _isolated(plan: Plan, complain: Complain) -> Iterator[PlanError]:
    """Yield an error for devices' interfaces at isolated ports: traffic through them would get
    round the isolation.
    """
    ends = [
        (end, each.place)
        for device in plan.devices.values()
        for each in device.interfaces.values()
        for end in (each.at,)
        if end
    ]
    ends += [
        (port.to, port.place)
        for device in plan.devices.values()
        for port in device.ports.values()
        if port.to
    ]
    for end, place in ends:
        switch = plan.devices.get(end.owner)
        port = None if switch is None else switch.ports.get(end.part)
        if port is not None and port.isolated:
            message = (
                f"{end} is isolated (line {plan.line_of(port.place)}), and a device is behind it, "
                "which all are to reach; take isolated out there"
            )
            yield complain(place, str(end), message)


def _cables(plan: Plan) -> list[tuple[Port, Point]]:
    return [
        (port, port.to)
        for device in plan.devices.values()
        for port in device.ports.values()
        if port.to
    ]


def _routes(plan: Plan, complain: Complain) -> Iterator[PlanError]:
    for device in plan.devices.values():
        for route in device.routes:
            via = route.via
            if via is None:
                continue
            near = [
                own
                for interface in device.interfaces.values()
                for own in interface.in_family(via.family)
                if own.connected.contains(via.value)
            ]
            if not near:
                message = (
                    f"{device.name} has no interface in the prefix of {via}, so it cannot "
                    "hand packets to it"
                )
                yield complain(route.place, str(via), message)
            elif any(own.address == via for own in near):
                yield complain(
                    route.place,
                    str(via),
                    f"{via} is {device.name}'s own address; name the next device's",
                )


def _gateways(plan: Plan, complain: Complain) -> Iterator[PlanError]:
    for host in plan.hosts.values():
        for gateway in host.gateways:
            own = plan.interface_of.get(gateway) or plan.gateway_at.get(gateway)
            if own is None or own.on != host.on:
                yield complain(
                    host.place,
                    str(gateway),
                    f"no device has {gateway} on {host.on}, so it is nobody's gateway",
                )


def _rings(plan: Plan, complain: Complain) -> Iterator[PlanError]:
    """Yield an error for switches joined in a ring: with two ways between them, frames would
    circulate for ever.
    """
    island: dict[str, str] = {}

    def top(switch: str) -> str:
        while island.get(switch, switch) != switch:
            switch = island[switch]
        return switch

    seen: set[frozenset[Point]] = set()
    for port, point in _cables(plan):
        cable = frozenset((port.point, point))
        if cable in seen or len(cable) == 1 or point.owner not in plan.devices:
            continue
        seen.add(cable)
        if top(port.switch) == top(point.owner):
            message = (
                f"{port.point} to {point} closes a ring of switches; frames would go round "
                "in it, so leave one cable out"
            )
            yield complain(port.place, str(point), message)
        island[top(port.switch)] = top(point.owner)
