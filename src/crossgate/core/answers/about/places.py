"""The facts about machines, about the places that they are attached to, and about sets of
addresses.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from crossgate.core.answers.about.held import held_by, overlap
from crossgate.core.answers.about.met import MetList, met_by, standing_at
from crossgate.core.answers.about.values import About, Fact, told
from crossgate.core.model.address import (
    Address,
    Family,
    Pattern,
    single,
)
from crossgate.core.model.errors import PlanError, unknown
from crossgate.core.model.ethernet import format_mac
from crossgate.core.model.network import (
    Device,
    Host,
    Interface,
    Leases,
    Point,
    PointKind,
    Segment,
)
from crossgate.core.model.plaintext import numeral
from crossgate.core.model.plan import Plan
from crossgate.core.model.scope import scope_of
from crossgate.core.network.endpoints import candidates
from crossgate.core.network.paths import Endpoint
from crossgate.core.network.ways import Network
from crossgate.core.sets.addresses import AddressSet
from crossgate.core.sets.meaning import Meaning, WordKind, meaning_of, unknown_in
from crossgate.core.sets.patterns import less


def of_host(network: Network, host: Host) -> About:
    """Return the facts about a host."""
    plan = network.plan
    ends = candidates(network, host.name)
    facts = [
        Fact("addresses", _texts(host.addresses)),
        Fact("on", (_on(plan, host.on),)),
        Fact("port", _texts([host.at] if host.at else [])),
        Fact("hardware address", () if host.mac is None else (format_mac(host.mac),)),
        Fact("remembers", ("what it let by: answers are not asked of its lists",) * host.stateful),
        Fact("gateways", _gateways(network, ends)),
        *_known_as(plan, host.addresses),
    ]
    return About(
        "host",
        host.name,
        host.place,
        told(facts),
        tuple(dict.fromkeys(met for end in ends for met in met_by(network, end))),
        held_by(plan, [single(each) for each in host.addresses], host.name),
    )


def of_addresses(network: Network, word: str) -> About:
    """Return the facts about an address, a prefix, a range, a wildcard, or several words for
    addresses. Raises `PlanError` for a word that is none, and for an outside.
    """
    plan = network.plan
    meaning = meaning_of(plan, word)
    if meaning is None:
        raise PlanError(unknown("name", unknown_in(plan, word), plan.names()))
    if meaning.kind is WordKind.OUTSIDE:
        raise PlanError(f"{meaning.outside} is an outside; ask about it by itself")
    patterns = meaning.patterns
    if meaning.kind is not WordKind.ADDRESS or not meaning.named:
        inside = [each for pattern in patterns for each in plan.hosts_in(pattern)]
        interfaces = [
            each.point for address, each in plan.interface_of.items() if meaning.has(address)
        ]
        subnets = [each.name for each in plan.segments.values() if overlap(patterns, each.prefixes)]
        facts = [
            Fact("size", _sizes(meaning)),
            Fact("in subnets", tuple(subnets)),
            Fact("hosts", _hosts_of(plan, inside)),
            Fact("interfaces", _texts(dict.fromkeys(interfaces))),
            Fact("in groups", _groups_with(plan, patterns)),
        ]
        return About("addresses", word, None, told(facts), (), held_by(plan, patterns, word))
    (address,) = meaning.named
    segment, scope = plan.segment_of(address), scope_of(address)
    gateway = plan.gateway_at.get(address)
    owner = plan.host_of.get(address)
    interface = plan.interface_of.get(address)
    translating = plan.translated_at(address)
    whose = (
        [f"host {owner.name}"]
        if owner
        else [f"interface {interface.point}"]
        if interface
        else [f"shared gateway of {', '.join(map(str, gateway.by))}"]
        if gateway
        else [f"nobody's: it stands for others at {translating.point}"]
        if translating
        else ["nobody's in this plan"]
    )
    facts = [
        Fact("whose", tuple(whose)),
        Fact("on", () if segment is None else (_on(plan, segment.name),)),
        Fact("routed", () if scope is None else (f"no: {scope}",)),
        *_known_as(plan, [address]),
    ]
    met: tuple[MetList, ...] = ()
    if segment is not None and not segment.outside and scope is None and not gateway:
        end = next(each for each in candidates(network, str(address)))
        met = tuple(dict.fromkeys(met_by(network, end)))
    return About("address", str(address), None, told(facts), met, held_by(plan, patterns, word))


def _sizes(meaning: Meaning) -> tuple[str, ...]:
    """Say how many addresses there are, of each family where there are some of both."""
    counts = {
        family: sum(each.size for each in own)
        for family in Family
        if (own := meaning.in_family(family))
    }
    return tuple(
        f"{number:,} {f'{family.label} ' * (len(counts) > 1)}"
        f"{'address' if number == 1 else 'addresses'}"
        for family, number in counts.items()
    )


def of_segment(plan: Plan, segment: Segment) -> About:
    """Return the facts about a subnet or an outside."""
    hosts = [host.name for host in plan.hosts.values() if host.on == segment.name]
    interfaces = [
        interface
        for device in plan.devices.values()
        for interface in device.interfaces.values()
        if interface.on == segment.name
    ]
    shared = [f"{address}" for address, each in plan.gateway_at.items() if each.on == segment.name]
    rest = "every address that no subnet has" if segment.outside and not segment.prefixes else ""
    facts = [
        Fact("prefixes", (*_texts(segment.prefixes), *([rest] if rest else []))),
        Fact("without", _texts(segment.left_out)),
        Fact("vlan", () if segment.vlan is None else (str(segment.vlan),)),
        Fact("isolated", ("no machine of it gets a frame of another",) * segment.isolated),
        Fact("interfaces", _texts(each.point for each in interfaces)),
        Fact("shared gateways", tuple(shared)),
        Fact("leases", tuple(_lease(each) for each in plan.leases if each.on == segment.name)),
        Fact("hosts", tuple(hosts)),
        Fact("in groups", _groups_with(plan, segment.prefixes)),
    ]
    point = Point(PointKind.SUBNET, segment.name)
    points = [point, *(each.point for each in interfaces)]
    return About(
        "outside" if segment.outside else "subnet",
        segment.name,
        segment.place,
        told(facts),
        tuple(standing_at(plan, points)),
        held_by(plan, segment.prefixes, segment.name),
    )


def _lease(leases: Leases) -> str:
    """Say which addresses machines lease, from which server, and whom they are told to ask."""
    spans = AddressSet.of(leases.family, leases.addresses).spans or ()
    ends = (
        tuple(str(Address(leases.family, each)) for each in (first, end - 1))
        for first, end in spans
    )
    ranges = " and ".join(one if one == other else f"{one}-{other}" for one, other in ends)
    names = f", names {' and '.join(leases.names)}" if leases.names else ""
    time = f", time {' and '.join(leases.time)}" if leases.time else ""
    return f"{ranges} by {leases.by}{names}{time}"


def of_device(plan: Plan, device: Device) -> About:
    """Return the facts about a router or a switch."""
    marks = [
        word for word, has in (("stateful", device.stateful), ("closed", device.closed)) if has
    ]
    facts = [
        Fact("marks", tuple(marks)),
        Fact("interfaces", tuple(_interface_text(each) for each in device.interfaces.values())),
        Fact("ports", tuple(device.ports)),
        Fact(
            "routes",
            tuple(f"{each.destination} via {each.via or 'nobody'}" for each in device.routes),
        ),
        Fact("translations", tuple(each.text for each in device.translations)),
        Fact("in groups", _groups_with(plan, [single(each) for each in device.addresses()])),
    ]
    points = [
        *(each.point for each in device.ports.values()),
        *(each.point for each in device.interfaces.values()),
        device.itself,
    ]
    return About(
        "switch" if device.switch else "router",
        device.name,
        device.place,
        told(facts),
        tuple(standing_at(plan, points)),
        held_by(plan, [single(each) for each in device.addresses()], device.name),
    )


def of_point(plan: Plan, point: Point) -> About:
    """Return the facts about an interface or a switch port."""
    device = plan.devices[point.owner]
    if point.kind is PointKind.PORT:
        port = device.ports[point.part]
        cables = [
            each.point
            for other in plan.devices.values()
            for each in other.ports.values()
            if each.to == point
        ]
        facts = [
            Fact("switch", (device.name,)),
            Fact("cable to", _texts([port.to] if port.to else cables)),
            Fact("isolated", ("it hands no frame to another isolated port",) * port.isolated),
            Fact("machines", tuple(_plugged_in(plan, point))),
            Fact("in groups", _groups_of_points(plan, point)),
        ]
        own = [host.point for host in plan.hosts.values() if host.at == point]
        return About(
            "switch port",
            str(point),
            port.place,
            told(facts),
            tuple(standing_at(plan, [point, *own])),
        )
    interface = device.interfaces[point.part]
    addresses = [each.address for each in interface.addresses]
    shared = [str(a) for a, each in plan.gateway_at.items() if point in each.by]
    facts = [
        Fact("device", (device.name,)),
        Fact("addresses", tuple(f"{each.address}/{each.length}" for each in interface.addresses)),
        Fact("on", (_on(plan, interface.on),)),
        Fact("port", _texts([interface.at] if interface.at else [])),
        Fact("hardware address", () if interface.mac is None else (format_mac(interface.mac),)),
        Fact("cost", () if interface.cost is None else (str(interface.cost),)),
        Fact("passive", ("no device is a neighbour over it",) * interface.passive),
        Fact("shared gateways", tuple(shared)),
        Fact("translations", tuple(e.text for e in device.translations if e.point == point)),
        Fact("in groups", _groups_of_points(plan, point)),
    ]
    places = [Point(PointKind.SUBNET, interface.on), point, device.itself]
    return About(
        "interface",
        str(point),
        interface.place,
        told(facts),
        tuple(standing_at(plan, places)),
        held_by(plan, [single(each) for each in addresses], str(point)),
    )


def of_group(plan: Plan, name: str) -> About:
    """Return the facts about a group."""
    group = plan.groups[name]
    patterns = [each for own in group.members.values() for each in own.patterns]
    subnets = [
        each.name
        for each in plan.segments.values()
        if each.prefixes and not each.outside and _inside(each.prefixes, patterns)
    ]
    facts = [
        Fact("members", tuple(group.text.split(", "))),
        Fact("addresses", _texts(patterns)),
        Fact("hosts", _hosts_of(plan, (a for each in patterns for a in plan.hosts_in(each)))),
        Fact("whole subnets", tuple(subnets)),
        Fact("points", _texts(group.points)),
        Fact("in groups", tuple(each for each in _groups_with(plan, patterns) if each != name)),
    ]
    points = [*group.points, Point(PointKind.GROUP, name)]
    return About(
        "group",
        name,
        group.place,
        told(facts),
        tuple(standing_at(plan, points)),
        held_by(plan, patterns, name),
    )


def of_vlan(plan: Plan, word: str) -> About:
    """Return which subnets have a VLAN, given as `vlan 80`. Raises `PlanError` for a VLAN that no
    subnet has.
    """
    number = numeral(word.removeprefix("vlan "))
    subnets = [
        each for each in plan.segments.values() if number is not None and each.vlan == number
    ]
    if not subnets:
        known = sorted({each.vlan for each in plan.segments.values() if each.vlan is not None})
        listed = f"; there is {', '.join(map(str, known))}" if known else ""
        raise PlanError(f"no subnet of the plan has {word}{listed}")
    facts = [
        Fact("subnets", tuple(f"{each.name} {' '.join(_texts(each.prefixes))}" for each in subnets))
    ]
    return About("vlan", str(number), subnets[0].place, told(facts))


def _texts(values: Iterable[object]) -> tuple[str, ...]:
    return tuple(map(str, values))


def _on(plan: Plan, name: str) -> str:
    segment = plan.segments[name]
    vlan = "" if segment.vlan is None else f" (vlan {segment.vlan})"
    return f"{'outside' if segment.outside else 'subnet'} {name}{vlan}"


def _interface_text(interface: Interface) -> str:
    addresses = " ".join(f"{each.address}/{each.length}" for each in interface.addresses)
    return f"{interface.name} {addresses} on {interface.on}"


def _plugged_in(plan: Plan, point: Point) -> Iterator[str]:
    yield from (host.name for host in plan.hosts.values() if host.at == point)
    for device in plan.devices.values():
        yield from (str(each.point) for each in device.interfaces.values() if each.at == point)


def _gateways(network: Network, ends: Iterable[Endpoint]) -> tuple[str, ...]:
    """Return the interfaces to which a machine sends its packets."""
    found: dict[str, None] = {}
    for end in ends:
        told = network.told_gateways(end, end.address.family)
        if told is None:
            told = network.on_segment.get((end.segment, end.address.family), [])
        found.update(dict.fromkeys(str(each.point) for each in told))
    return tuple(found)


def _known_as(plan: Plan, addresses: Iterable[Address]) -> list[Fact]:
    """Return the groups that contain some addresses, and the translations that concern them."""
    own = list(addresses)
    rules = [
        f"{rule.point}: {rule.text}"
        for rules in plan.translations.values()
        for rule in rules
        if any(
            each.family is address.family and each.contains(address.value)
            for each in (*rule.inside, *rule.public)
            for address in own
        )
    ]
    groups = [
        group.name
        for group in plan.groups.values()
        if any(
            address.family in group.members
            and group.members[address.family].contains(address.value)
            for address in own
        )
    ]
    return [Fact("in groups", tuple(groups)), Fact("translated", tuple(rules))]


def _groups_with(plan: Plan, patterns: Iterable[Pattern]) -> tuple[str, ...]:
    """Return the groups that contain all addresses of some patterns, of the families they have."""
    own = list(patterns)
    return tuple(
        group.name
        for group in plan.groups.values()
        if own
        and _inside(own, [each for members in group.members.values() for each in members.patterns])
    )


def _groups_of_points(plan: Plan, point: Point) -> tuple[str, ...]:
    return tuple(group.name for group in plan.groups.values() if point in group.points)


def _inside(patterns: Iterable[Pattern], others: Iterable[Pattern]) -> bool:
    """Whether others contain all addresses of some patterns."""
    held = list(others)
    return all(
        not less(
            [e for e in patterns if e.family is family], [e for e in held if e.family is family]
        )
        for family in Family
    )


def _hosts_of(plan: Plan, addresses: Iterable[Address]) -> tuple[str, ...]:
    return tuple(dict.fromkeys(plan.host_of[each].name for each in addresses))
