"""Findings about connections in the network: switches, separate parts, and subnets without a
gateway.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from crossgate.core.audit.context import Case
from crossgate.core.audit.registry import finds
from crossgate.core.model.address import Pattern
from crossgate.core.model.errors import Place
from crossgate.core.model.finding import Fault, Finding
from crossgate.core.model.network import Device, Interface, Segment
from crossgate.core.model.plan import Plan
from crossgate.core.sets.meaning import PRIVATE_BLOCKS, without
from crossgate.core.sets.patterns import less
from crossgate.core.wording.sentences import first_of


@finds("unjoined")
def unjoined(case: Case) -> Iterator[Finding]:
    """Yield the subnets with machines at switches that no cable joins, once for each switch that is
    separate from the earlier ones.
    """
    wire = case.network.wire
    machines: dict[str, list[tuple[str, str | None, Place]]] = {}
    for interface in (
        each for device in case.plan.devices.values() for each in device.interfaces.values()
    ):
        machines.setdefault(interface.on, []).append(
            (str(interface.point), wire.switch_of(interface), interface.place)
        )
    for host in case.plan.hosts.values():
        machines.setdefault(host.on, []).append((host.name, wire.switch_of(host.at), host.place))
    for segment in case.plan.segments.values():
        islands: list[tuple[str, str]] = []
        for name, switch, place in machines.get(segment.name, ()):
            if switch is None or any(wire.way(switch, other) is not None for _, other in islands):
                continue
            if islands:
                near, other = islands[0]
                fault = Fault(
                    f"{near} (at {other}) and {name} (at {switch}) are both on {segment.name}, "
                    f"and no cable joins {other} and {switch}, so no frame "
                    f"passes between them",
                    "write at one of them: port NAME to SWITCH.PORT",
                )
                yield Finding("unjoined", place, None, None, fault)
            islands.append((name, switch))


class _Part(NamedTuple):
    """Devices and subnets between which packets can pass, leaving lists aside; an outside belongs
    to every part with an interface on it.
    """

    devices: tuple[Device, ...]
    segments: tuple[Segment, ...]


@finds("parts-apart")
def parts_apart(case: Case) -> Iterator[Finding]:
    """Yield the parts of the network that have no connection to the largest part."""
    plan = case.plan
    parts = list(_parts(plan))
    if not plan.devices or not parts:
        return
    rest = max(parts, key=lambda each: (len(each.devices), len(each.segments)))
    for part in parts:
        if part is rest:
            continue
        names = _names(part)
        if part.devices:
            what = f"no device joins {names} with the rest of the network ({_names(rest)})"
            fault = Fault(
                f"{what}, so no packet passes between them",
                "give a device interfaces in both; an outside joins no devices",
            )
        else:
            mend = f"write at a device: interface NAME ADDRESS/LENGTH on {names}"
            fault = Fault(f"no device has an interface on {names}, so nothing gets in or out", mend)
        yield Finding("parts-apart", part.segments[0].place, None, None, fault)


def _parts(plan: Plan) -> Iterator[_Part]:
    """Yield the connected parts of the network, those with subnets first, in the order of the
    plan.
    """
    on: dict[str, dict[str, Device]] = {}
    for device in plan.devices.values():
        for interface in device.interfaces.values():
            on.setdefault(interface.on, {})[device.name] = device
    met: set[str] = set()
    for start in sorted(plan.segments.values(), key=lambda each: each.outside):
        if start.name in met:
            continue
        devices: dict[str, Device] = {}
        segments, left = {start.name: start}, [start]
        while left:
            for device in on.get(left.pop().name, {}).values():
                devices[device.name] = device
                for interface in device.interfaces.values():
                    beside = plan.segments[interface.on]
                    if beside.name not in segments and not beside.outside:
                        left.append(beside)
                    segments[beside.name] = beside
        met |= segments.keys()
        yield _Part(
            tuple(devices.values()),
            tuple(each for name, each in plan.segments.items() if name in segments),
        )


@finds("no-gateway")
def no_gateway(case: Case) -> Iterator[Finding]:
    """Yield the prefixes of subnets in which no device has an address, although a device has an
    interface on the subnet.
    """
    plan = case.plan
    on: dict[str, list[Interface]] = {}
    for device in plan.devices.values():
        for each in device.interfaces.values():
            on.setdefault(each.on, []).append(each)
    for segment in plan.segments.values():
        interfaces = on.get(segment.name, [])
        if segment.outside or not interfaces:
            continue
        own = [each.address for interface in interfaces for each in interface.addresses]
        own += [
            address
            for gateway in plan.gateways
            if gateway.on == segment.name
            for address in gateway.addresses
        ]
        for block in segment.prefixes:
            if not any(
                address.family is block.family and block.contains(address.value) for address in own
            ):
                what = (
                    f"no device has an address in {block} of {segment.name}, so nothing leaves "
                    f"it or gets there by {block.family.label}"
                )
                mend = f"give {interfaces[0].point} one, or drop the prefix"
                yield Finding("no-gateway", segment.place, None, None, Fault(what, mend))


@finds("route-unused")
def route_unused(case: Case) -> Iterator[Finding]:
    """Yield the static routes that no packet takes, since longer or better routes of the device
    cover them.
    """
    for device in case.plan.devices.values():
        for route in device.routes:
            others = case.network.instead_of(device, route)
            if not others or any(less((route.destination,), [block for block, _ in others])):
                continue
            sorts = " and ".join(dict.fromkeys(sort for _, sort in others))
            told = first_of(list(dict.fromkeys(str(block) for block, _ in others)))
            fault = Fault(
                (
                    f"no packet takes this route of {device.name}: {sorts} routes lead to all of "
                    f"{route.destination} ({told})"
                ),
                "drop it",
            )
            yield Finding("route-unused", route.place, None, None, fault)


@finds("private-outside")
def private_outside(case: Case) -> Iterator[Finding]:
    """Yield the outside without prefixes where it includes private addresses that an entry of a
    placed list names.
    """
    rest = case.plan.rest
    if rest is None:
        return
    known = [
        block
        for segment in case.plan.segments.values()
        for block in (*segment.prefixes, *segment.left_out)
    ]
    held = without(PRIVATE_BLOCKS, known)
    asked: set[tuple[Pattern, ...]] = set()  # many entries name the same addresses
    for access_list in case.placed() if held else ():
        for entry in access_list.entries:
            ends = () if entry.off else (entry.source.patterns, entry.destination.patterns)
            new = [each for each in ends if each not in asked]
            asked.update(new)
            if any(_names_private(each, held) for patterns in new for each in patterns):
                what = (
                    f"{rest.name} has every address that no subnet has, private ones too, and "
                    "lists speak of some"
                )
                yield Finding(
                    "private-outside",
                    rest.place,
                    None,
                    None,
                    Fault(what, f"write: outside {rest.name} but private"),
                )
                return


def _names_private(pattern: Pattern, held: Sequence[Pattern]) -> bool:
    """Whether a pattern is within the private blocks, and has addresses of some blocks."""
    return any(
        block.family is pattern.family and block.covers(pattern) for block in PRIVATE_BLOCKS
    ) and any(block.family is pattern.family and block.overlaps(pattern) for block in held)


def _names(part: _Part) -> str:
    """Return the names of a part's subnets, shortened where there are many; for a part without
    subnets, of its outsides.
    """
    return first_of(
        [each.name for each in part.segments if not each.outside]
        or [each.name for each in part.segments]
    )
