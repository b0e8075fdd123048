"""Single faults by which a network may differ from its plan, each as the plan that the network
would then follow.

A fault can explain an unexpected observation only if it touches what that conversation meets. So
faults are looked for in the lists, devices and machines on its ways: a list that is not applied, or
applied in the other direction, or at another place of its device; a line that is missing, or in
another place of its list; a list as it was in an older version; windows as at another time; a
device that is stateful, or is not; a missing route; something that is down; a machine's gateway or
address; and a service that nobody listens to.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import replace

from crossgate.core.answers.cause.fault import NotListening, PossibleFault, Silence, Size
from crossgate.core.answers.cause.observed import Observation
from crossgate.core.conversation.opening import Conversation, service_label
from crossgate.core.conversation.rules import legs_of, packet_on
from crossgate.core.model.accesslist import AccessList, called, line_name
from crossgate.core.model.address import Address, Pattern
from crossgate.core.model.conditions import When
from crossgate.core.model.entry import Entry
from crossgate.core.model.network import EACH_WAY, Placement, Point, PointKind, stands_at
from crossgate.core.model.packet import TCP, UDP
from crossgate.core.model.plan import Plan
from crossgate.core.model.window import every_kind_of_moment, open_at
from crossgate.core.network.ways import Network


def faults(
    network: Network, when: When, wrong: Sequence[Observation], older: Mapping[str, AccessList]
) -> Iterator[PossibleFault]:
    """Yield the faults that can affect some conversations; `older` are earlier versions of
    lists.
    """
    plan = network.plan
    devices, met = _touched(network, when, wrong)
    conversations = [each.conversation for each in wrong]
    yield from _placements(plan, when, devices, conversations)
    for name in met:
        own = plan.lists.get(name)
        if own is not None:
            yield from _lines(plan, when, own, conversations)
    for name, was in older.items():
        if name in met or any(each.access_list == name for each in plan.placements):
            text = f"{called(name)} runs as it was in the older version"
            yield PossibleFault(text, Size.SMALL, _with_list(plan, was), when.at)
    yield from _times(plan, when)
    yield from _down(plan, when, devices, conversations)
    yield from _memory(plan, when, devices)
    yield from _routes(plan, when, devices)
    yield from _machines(plan, when, conversations)


def _touched(
    network: Network, when: When, wrong: Iterable[Observation]
) -> tuple[dict[str, None], dict[str, None]]:
    """Return the devices on the ways of conversations, there and back, and the lists that they
    meet, as far as the packets get.
    """
    devices: dict[str, None] = {}
    met: dict[str, None] = {}
    for each in wrong:
        told = each.conversation
        there = network.path(told.source, told.destination.address)
        back = network.path(told.destination, told.source.address)
        for path in (there, back):
            devices.update(dict.fromkeys(path.devices))
            for crossing in path.crossings:
                if crossing.point.device is not None:
                    devices[crossing.point.device] = None
                own = network.list_at(crossing, told.first.family)
                if own is not None:
                    met[own.name] = None
    return devices, met


# ---- Lists that stand otherwise ----


def _placements(
    plan: Plan, when: When, devices: Iterable[str], conversations: Iterable[Conversation]
) -> Iterator[PossibleFault]:
    near = set(devices)
    ends = {end.name for told in conversations for end in (told.source, told.destination)}
    segments = {each.on for name in near for each in plan.devices[name].interfaces.values()}
    for number, placement in enumerate(plan.placements):
        point = placement.point
        touches = (
            point.device in near
            or point.owner in ends
            or (point.kind is PointKind.SUBNET and point.owner in segments)
            or point.kind is PointKind.GROUP
        )
        if not touches:
            continue
        where = stands_at(placement.direction, point)
        name = called(placement.access_list)
        yield PossibleFault(
            f"{name} is not applied {where}", Size.SMALL, _placed(plan, number, None), when.at
        )
        if placement.direction in EACH_WAY:
            (other,) = (each for each in EACH_WAY if each is not placement.direction)
            turned = placement._replace(direction=other)
            if not _taken(plan, turned):
                yield PossibleFault(
                    f"{name} is applied {stands_at(other, point)} and not {where}",
                    Size.SMALL,
                    _placed(plan, number, turned),
                    when.at,
                )
        if point.kind is PointKind.INTERFACE:
            for part in plan.devices[point.owner].interfaces:
                moved = placement._replace(point=Point(PointKind.INTERFACE, point.owner, part))
                if part != point.part and not _taken(plan, moved):
                    yield PossibleFault(
                        f"{name} is applied {stands_at(placement.direction, moved.point)} and not "
                        f"{where}",
                        Size.SOME,
                        _placed(plan, number, moved),
                        when.at,
                    )


def _taken(plan: Plan, placement: Placement) -> bool:
    """Whether another list of the family already stands at a placement."""
    family = plan.lists[placement.access_list].family
    return (placement.point, placement.direction, family) in plan.placed


def _placed(plan: Plan, number: int, instead: Placement | None) -> Plan:
    others = [*plan.placements]
    others[number : number + 1] = [] if instead is None else [instead]
    return replace(plan, placements=others)


# ---- Lines ----


def _lines(
    plan: Plan, when: When, own: AccessList, conversations: Sequence[Conversation]
) -> Iterator[PossibleFault]:
    """Yield the possible faults in the lines of a list that match some of the packets."""
    state = plan.state_at(when)
    packets = [
        packet_on(each.first, leg, answer)
        for each in conversations
        if each.first.family is own.family
        for legs, answer in (legs_of(each.first, each.on_link),)
        for leg in legs
    ]
    matching = [
        entry
        for entry in own.entries
        if any((now := entry.in_state(state)) is not None and now.matches(p) for p in packets)
    ]
    off = [each for each in own.entries if each.off and any(each.matches(p) for p in packets)]
    for entry in matching:
        yield PossibleFault(
            f"{line_name(own.name, entry.number)} is missing or off: {entry.text}",
            Size.SMALL,
            _with_entries(plan, own, (each for each in own.entries if each is not entry)),
            when.at,
        )
    for entry in off:
        on = replace(entry, off=False)
        yield PossibleFault(
            f"{line_name(own.name, entry.number)} is not off: {entry.text}",
            Size.SMALL,
            _with_entries(plan, own, (on if e is entry else e for e in own.entries)),
            when.at,
        )
    for place, later in enumerate(matching):
        for earlier in matching[:place]:
            if earlier.action is not later.action:
                yield PossibleFault(
                    f"{line_name(own.name, later.number)} stands above {earlier.number}",
                    Size.SOME,
                    _with_entries(plan, own, _moved(own, later, earlier)),
                    when.at,
                )


def _moved(own: AccessList, entry: Entry, before: Entry) -> Iterator[Entry]:
    for each in own.entries:
        if each is before:
            yield entry
        if each is not entry:
            yield each


def _with_entries(plan: Plan, own: AccessList, entries: Iterable[Entry]) -> Plan:
    return _with_list(plan, replace(own, entries=tuple(entries)))


def _with_list(plan: Plan, own: AccessList) -> Plan:
    return replace(plan, lists={**plan.lists, own.name: own})


# ---- Time, memory, ways ----


def _times(plan: Plan, when: When) -> Iterator[PossibleFault]:
    """Yield the faults that windows are judged at another time, one for each set of windows that is
    open together.
    """
    names = {name for each in plan.placements for name in plan.lists[each.access_list].windows}
    windows = [each for name, each in plan.every_window.items() if name in names]
    known = {open_at(windows, when.at)}
    for moment in every_kind_of_moment(windows, when.at):
        opened = open_at(windows, moment)
        if opened not in known:
            known.add(opened)
            told = f"{moment:%a %Y-%m-%d %H:%M}"
            text = f"windows are judged as at {told}: another clock, or another time zone"
            yield PossibleFault(text, Size.SMALL, plan, moment)


def _memory(plan: Plan, when: When, devices: Iterable[str]) -> Iterator[PossibleFault]:
    for name in devices:
        device = plan.devices[name]
        turned = replace(device, stateful=not device.stateful)
        does = "does not remember conversations" if device.stateful else "remembers conversations"
        if not device.stateful or not device.translations:
            yield PossibleFault(
                f"{name} {does}",
                Size.SOME,
                replace(plan, devices={**plan.devices, name: turned}),
                when.at,
            )


def _routes(plan: Plan, when: When, devices: Iterable[str]) -> Iterator[PossibleFault]:
    for name in devices:
        device = plan.devices[name]
        for route in device.routes:
            left = [each for each in device.routes if each is not route]
            yield PossibleFault(
                f"{name} has no route {route.destination} via {route.via or 'nobody'}",
                Size.SOME,
                replace(plan, devices={**plan.devices, name: replace(device, routes=left)}),
                when.at,
            )


def _down(
    plan: Plan, when: When, devices: Iterable[str], conversations: Iterable[Conversation]
) -> Iterator[PossibleFault]:
    for name in devices:
        device = plan.devices[name]
        yield PossibleFault(f"{name} is down", Size.SMALL, plan.without([device.itself]), when.at)
        for interface in device.interfaces.values():
            yield PossibleFault(
                f"{interface.point} is down, or its way is not taken",
                Size.SOME,
                plan.without([interface.point]),
                when.at,
            )
    ports = {
        end.at: None
        for told in conversations
        for end in (told.source, told.destination)
        if end.at is not None
    }
    for port in ports:
        yield PossibleFault(f"{port} is down", Size.SOME, plan.without([port]), when.at)


# ---- Machines ----


def _machines(
    plan: Plan, when: When, conversations: Sequence[Conversation]
) -> Iterator[PossibleFault]:
    listening = {}
    hosts: dict[str, None] = {}
    for told in conversations:
        key = told.destination.name, told.first.protocol, told.first.destination_port
        listening[key] = told
        for end in (told.source, told.destination):
            if end.name in plan.hosts:
                hosts[end.name] = None
    for (name, protocol, port), told in listening.items():
        if protocol in (TCP, UDP):
            text = f"nobody listens at {name} {service_label(told.first)}"
            ends = NotListening(name, protocol, port)
            yield PossibleFault(text, Size.SMALL, plan, when.at, ends)
    for name in hosts:
        yield PossibleFault(
            f"{name} is down", Size.SMALL, plan, when.at, Silence(name, stays=False)
        )
        text = f"{name} has a wrong gateway or mask: nothing of it leaves its subnet"
        yield PossibleFault(text, Size.SOME, plan, when.at, Silence(name, stays=True))
        yield from _gateways(plan, when, name)
    yield from _addresses(plan, when, hosts)


def _gateways(plan: Plan, when: When, name: str) -> Iterator[PossibleFault]:
    """Yield the faults that a machine uses another gateway on its subnet."""
    host = plan.hosts[name]
    on_subnet = [
        (interface, own.address)
        for device in plan.devices.values()
        for interface in device.interfaces.values()
        if interface.on == host.on
        for own in interface.addresses
    ]
    families = {each.family for each in host.addresses}
    if len({interface.device for interface, _ in on_subnet}) < 2:
        return
    for interface, address in on_subnet:
        if address in host.gateways or address.family not in families:
            continue
        others = tuple(each for each in host.gateways if each.family is not address.family)
        told = host._replace(gateways=(*others, address))
        yield PossibleFault(
            f"{name} uses the gateway {interface.point} ({address})",
            Size.SOME,
            replace(plan, hosts={**plan.hosts, name: told}),
            when.at,
        )


def _addresses(plan: Plan, when: When, hosts: Iterable[str]) -> Iterator[PossibleFault]:
    """Yield the faults that a machine has another address of its subnet than the plan says, a free
    one.
    """
    for name in hosts:
        host = plan.hosts[name]
        segment = plan.segments[host.on]
        changed = tuple(_another(plan, segment.prefixes, each) for each in host.addresses)
        if segment.outside or changed == host.addresses:
            continue
        told = host._replace(addresses=changed)
        yield PossibleFault(
            f"{name} has another address than {', '.join(map(str, host.addresses))}",
            Size.LARGE,
            replace(plan, hosts={**plan.hosts, name: told}),
            when.at,
        )


def _another(plan: Plan, prefixes: Iterable[Pattern], address: Address) -> Address:
    """Return a free address of the same subnet, the last one found; the address itself where none
    of those looked at is free.
    """
    for block in prefixes:
        if block.family is address.family and block.contains(address.value):
            for value in range(block.last - 1, max(block.first, block.last - 64), -1):
                other = Address(address.family, value)
                if not plan.is_given(other):
                    return other
    return address
