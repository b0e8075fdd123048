"""Devices from other formats, written into a plan with the subnets that their interfaces are on.

1. Interfaces whose prefixes overlap are on one subnet: the plan's subnet with the prefix, or else a
new one.

2. A new subnet gets the name that most of its interfaces give, or else one from its prefix. Where a
default route leads to a neighbour that no document has, the subnet is an outside.

3. A device that the plan has already is replaced only where that is wanted; what documents cannot
say about it stays.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Sequence

from crossgate.core.model.address import Pattern
from crossgate.core.model.errors import Place, PlanError
from crossgate.core.model.ethernet import format_mac
from crossgate.core.model.network import Device, Interface
from crossgate.core.model.plan import Plan
from crossgate.language.coming_network import ComingDevice, ComingInterface, ComingSegment
from crossgate.language.draft import Draft
from crossgate.language.managing import management_text
from crossgate.language.plain_names import device_name, part_name
from crossgate.language.set_names import SetNames

_NAME = re.compile(r"[A-Za-z][A-Za-z0-9_-]*")


def take_in_network(
    draft: Draft, devices: Sequence[ComingDevice], segments: Sequence[ComingSegment], replace: bool
) -> tuple[str, SetNames]:
    """Write devices and the subnets that they need, and say so; return the names for sets, those of
    the new subnets included. Raises `PlanError` where the plan has one of them already, unless it
    is to be replaced.
    """
    plan = draft.plan
    devices = _merged(devices)
    there = [device_name(each.name) for each in devices if device_name(each.name) in plan.devices]
    if there and not replace:
        raise PlanError(
            f"the plan has {', '.join(there)} already; --replace puts what comes in in the place "
            "of it"
        )
    names = Counter(device_name(each.name) for each in devices)
    twice = [name for name, number in names.items() if number > 1]
    if twice:
        raise PlanError(
            f"device {twice[0]} comes in twice; give the second its own name with --on, one file "
            "at a time"
        )
    chosen = _Subnets(plan, devices, segments, draft.remarks)
    new_segments = chosen.lines()
    names_of_sets = SetNames(plan, chosen.subnets)
    blocks: list[str] = []
    cabled: set[str] = set()
    for device in devices:
        old = plan.devices.get(device_name(device.name))
        lines = [*_block(device, old, chosen, cabled, draft.remarks)]
        if device.translations is not None:
            lines += [f"    {each.text(names_of_sets)}" for each in device.translations]
        elif old is not None:
            places = dict.fromkeys(each.place for each in old.translations)
            lines += [draft.line(each).text for each in places]
        if old is None:
            blocks += ["", *lines]
        else:
            draft.merge_block(old.place, last_line(old), lines)
    _add(draft, new_segments, blocks)
    told = [f"{', '.join(device_name(each.name) for each in devices)}"] if devices else []
    return "; ".join(
        [*told, *([f"new: {', '.join(chosen.new)}"] if chosen.new else [])]
    ), names_of_sets


def _merged(devices: Sequence[ComingDevice]) -> list[ComingDevice]:
    """Return the devices; for a device with a document of its own, a picture adds only the far ends
    of its cables.
    """
    own = [each for each in devices if not each.pictured]
    known = {each.name: each for each in own}
    for each in devices:
        if each.pictured and each.name in known:
            names = {one.name for one in known[each.name].interfaces if not one.addresses}
            known[each.name].ports |= {
                name: far for name, far in each.ports.items() if name in names
            }
    return [*own, *(each for each in devices if each.pictured and each.name not in known)]


def _add(draft: Draft, segments: Sequence[str], blocks: Sequence[str]) -> None:
    """Write new subnets after those in the plan's own file, and new devices after its devices."""
    plan, own = draft.plan, draft.plan.files[0]
    known = [each for each in plan.segments.values() if each.place.file == own]
    subnets = [each.place for each in known if not each.outside] or [each.place for each in known]
    last_segment = max(subnets, key=lambda place: place.line, default=None)
    last_device = max(
        (last_line(each) for each in plan.devices.values() if each.place.file == own),
        key=lambda place: place.line,
        default=None,
    )
    if segments and last_segment is not None:
        draft.after(last_segment, *segments)
    elif segments and last_device is not None:
        draft.before(
            min(
                (each.place for each in plan.devices.values() if each.place.file == own),
                key=lambda place: place.line,
            ),
            *segments,
            "",
        )
    elif segments:
        draft.append("", *segments)
    if blocks and last_device is not None:
        draft.after(last_device, *blocks)
    elif blocks and last_segment is not None:
        draft.after(last_segment, *blocks)
    elif blocks:
        draft.append(*blocks)


def last_line(device: Device) -> Place:
    """Return the place of the last line of a device's block."""
    parts = (
        device.interfaces.values(),
        device.ports.values(),
        device.routes,
        device.translations,
        device.management,
    )
    places = [each.place for part in parts for each in part]
    return max([device.place, *places], key=lambda place: place.line)


def _block(
    device: ComingDevice, old: Device | None, chosen: _Subnets, cabled: set[str], remarks: list[str]
) -> Iterator[str]:
    """Yield the lines of a device; what documents cannot say about it stays as it was. A cable is
    written at one end only: `cabled` are the other ends.
    """
    name = device_name(device.name)
    if name != device.name:
        remarks.append(f"the device named {device.name} becomes {name}")
    bare = [each for each in device.interfaces if not each.addresses]
    switch = device.switch if old is None else old.switch
    ports: dict[str, tuple[str, str] | None] = dict(device.ports)
    if switch:
        ports |= {each.name: None for each in bare if each.name not in ports}
    elif bare:
        remarks.append(
            f"{name}: interfaces without an address are left out: "
            f"{', '.join(each.name for each in bare)}"
        )
    words = ["switch" if switch else "router", name]
    stateful = old is not None and old.stateful
    if device.translations and not stateful:
        remarks.append(f"{name} translates, so it is taken to be stateful")
        stateful = True
    words += ["stateful"] * stateful + ["closed"] * (old is not None and old.closed)
    yield " ".join(words)
    for each in device.interfaces:
        if each.addresses:
            known = old.interfaces.get(part_name(each.name)) if old is not None else None
            rest = "" if known is None else _unsaid(known)
            addresses = " ".join(f"{address}/{length}" for address, length in each.addresses)
            yield f"    interface {part_name(each.name)} {addresses} on {chosen.of(each)}{rest}"
    for port, far in ports.items():
        to = (
            None
            if old is None or part_name(port) not in old.ports
            else old.ports[part_name(port)].to
        )
        end = (
            f"{device_name(far[0])}.{part_name(far[1])}"
            if far is not None
            else str(to)
            if to is not None
            else ""
        )
        told = f"{name}.{part_name(port)}" in cabled
        cabled.add(end)
        kept = (
            " isolated"
            if not end
            and old is not None
            and part_name(port) in old.ports
            and old.ports[part_name(port)].isolated
            else ""
        )
        yield f"    port {part_name(port)}" + (f" to {end}" if end and not told else kept)
    for management in () if old is None else old.management:
        yield f"    {management_text(management)}"
    for destination, via in device.routes:
        default = destination.wildcard == destination.family.mask and via is not None
        yield (
            f"    route {'default' if default else destination} "
            f"{'discard' if via is None else f'via {via}'}"
        )


def _unsaid(known: Interface) -> str:
    """Return what the plan says about an interface that no document can."""
    at = "" if known.at is None else f" at {known.at}"
    mac = "" if known.mac is None else f" mac {format_mac(known.mac)}"
    cost = "" if known.cost is None else f" cost {known.cost}"
    return f"{at}{mac}{cost}{' passive' if known.passive else ''}"


class _Subnets:
    """The subnet of each imported interface: one of the plan's, or a new one for all whose prefixes
    overlap.
    """

    def __init__(
        self,
        plan: Plan,
        devices: Sequence[ComingDevice],
        segments: Sequence[ComingSegment],
        remarks: list[str],
    ) -> None:
        self._plan = plan
        self.new: list[str] = []
        self.subnets: dict[str, list[Pattern]] = {}
        self._of: dict[ComingInterface, str] = {}
        self._lines: list[str] = []
        self._taken = {
            *plan.segments,
            *plan.hosts,
            *plan.groups,
            *plan.devices,
            *(device_name(each.name) for each in devices),
        }
        own = [each for device in devices for each in device.interfaces if each.addresses]
        for group in _joined(own):
            name = self._known(group) or self._made(group, devices, segments, remarks)
            self._of |= dict.fromkeys(group, name)
        for each in segments:
            if device_name(each.name) not in self._taken and not any(
                each.name == one.on for one in own
            ):
                self._write(device_name(each.name), each.prefixes, each.outside)

    def of(self, interface: ComingInterface) -> str:
        """Return the name of an interface's subnet."""
        return self._of[interface]

    def lines(self) -> list[str]:
        """Return the statements of new subnets."""
        return self._lines

    def _known(self, group: Sequence[ComingInterface]) -> str | None:
        """Return the plan's subnet that has a prefix of the group of interfaces, or else its
        outside that the group names.
        """
        wanted = {one for each in group for one in each.prefixes()}
        for name, segment in self._plan.segments.items():
            if not segment.outside and wanted & {*segment.prefixes}:
                return name
        said = {each.on for each in group}
        return next(
            (
                name
                for name, segment in self._plan.segments.items()
                if segment.outside and name in said
            ),
            None,
        )

    def _made(
        self,
        group: Sequence[ComingInterface],
        devices: Sequence[ComingDevice],
        segments: Sequence[ComingSegment],
        remarks: list[str],
    ) -> str:
        prefixes = sorted({one for each in group for one in each.prefixes()})
        said = Counter(
            each.on for each in group if _NAME.fullmatch(each.on) and each.on not in self._taken
        )
        name = (
            said.most_common(1)[0][0]
            if said
            else f"net-{re.sub(r'[^0-9a-f]+', '-', str(prefixes[0]))}"
        )
        while name in self._taken:
            name += "-2"
        told = next((each for each in segments if any(each.name == one.on for one in group)), None)
        if told is not None:
            self._write(name, told.prefixes or ([] if told.outside else prefixes), told.outside)
            return name
        outside = not any(
            segment.outside and not segment.prefixes for segment in self._plan.segments.values()
        ) and self._leaves(group, devices)
        if outside:
            remarks.append(
                f"{name} is taken to be the outside, since a default route leaves there by a "
                "neighbour that no document has"
            )
        self._write(name, [] if outside else prefixes, outside)
        return name

    def _leaves(self, group: Sequence[ComingInterface], devices: Sequence[ComingDevice]) -> bool:
        """Whether a device's default route leads by these interfaces to a neighbour that is none of
        the devices.
        """
        if any("outside" in line.split()[:1] and len(line.split()) == 2 for line in self._lines):
            return False
        known = {
            address
            for device in devices
            for each in device.interfaces
            for address, _ in each.addresses
        } | {*self._plan.interface_of}
        blocks = [one for each in group for one in each.prefixes()]
        return any(
            destination.wildcard == destination.family.mask
            and via is not None
            and via not in known
            and any(block.family is via.family and block.contains(via.value) for block in blocks)
            for device in devices
            for destination, via in device.routes
        )

    def _write(self, name: str, prefixes: Sequence[Pattern], outside: bool) -> None:
        self._taken.add(name)
        self.new.append(f"{'outside' if outside else 'subnet'} {name}")
        if not outside:
            self.subnets[name] = [*prefixes]
        self._lines.append(
            " ".join(
                [
                    self.new[-1],
                    *(
                        str(each) if "/" in str(each) else f"{each}/{each.family.bits}"
                        for each in prefixes
                    ),
                ]
            )
        )


def _joined(interfaces: Sequence[ComingInterface]) -> list[list[ComingInterface]]:
    """Return interfaces in groups: any two that share a prefix are on one subnet."""
    groups: list[tuple[set[Pattern], list[ComingInterface]]] = []
    for each in interfaces:
        own = {*each.prefixes()}
        met = [group for group in groups if group[0] & own]
        joined = (
            set().union(own, *(group[0] for group in met)),
            [*(one for group in met for one in group[1]), each],
        )
        groups = [group for group in groups if group not in met] + [joined]
    return [group for _, group in groups]
