"""What is in the picture of a network, before anything has its place: the bands that devices are
in, the bars between them, and the texts, lists and machines of each device.

1. Devices are in bands, by how many subnets they are away from an outside.

2. What joins several devices, and an outside, is a quay: a long bar between two bands. A cable
between two switches' ports is a thin line there.

3. Everything else of a device is a row of its own below it: its subnets, and its ports with a list
or machines. In a large network they are only counted.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable, Iterator, Sequence
from functools import cached_property
from itertools import pairwise

from crossgate.core.model.network import Device, Direction, Host, Interface, Point, PointKind
from crossgate.core.model.plan import Plan
from crossgate.draw.columns import ColumnRow, DeviceColumn, MachineLine, Placed, Slot

MOST_HOSTS = 40
"""With more machines than these only their number is told."""
MOST_DEVICES = 60
"""With more devices than these, subnets of one device are only counted."""
_A_LINE = 3
"""At most so many addresses or prefixes stand beside each other."""
_A_ROW = 5
"""At most so many machines by name on one bar, then their number."""


class Contents:
    """What is drawn of a plan's network: of one list's gates only, or of one device with what it
    joins.

    `on` are the interfaces on each subnet, `quays` and `cables` the bars between bands, `lonely`
    the subnets that no device has an interface on, `bands` the devices of each band from the left,
    and `columns` what belongs to each device.
    """

    def __init__(self, plan: Plan, only_list: str | None = None, around: str | None = None) -> None:
        self.plan, self._only = plan, only_list
        self.devices = {
            name: each
            for name, each in plan.devices.items()
            if around is None or name in _near(plan, around)
        }
        self._many_hosts = len(plan.hosts) > MOST_HOSTS
        self._fold = len(self.devices) > MOST_DEVICES
        self.on: dict[str, list[Interface]] = {}
        for device in self.devices.values():
            for interface in device.interfaces.values():
                self.on.setdefault(interface.on, []).append(interface)
        self.quays = [
            name
            for name, own in self.on.items()
            if len({each.device for each in own}) > 1 or plan.segments[name].outside
        ]
        self.lonely = (
            [name for name in plan.segments if name not in self.on] if around is None else []
        )
        self.cables = [*_cables(self.devices)]
        self._band = self._banded()
        self.bands = self._ordered()
        self.columns = {name: self._column(device) for name, device in self.devices.items()}

    @property
    def folded(self) -> str:
        """What is only counted, as a sentence; empty where everything is drawn."""
        told = []
        if self._fold:
            told.append(
                f"{len(self.devices)} devices: subnets of one device, and lists there, are only "
                "counted"
            )
        if self._many_hosts:
            told.append(f"{len(self.plan.hosts)} machines are only counted")
        return "; ".join(told)

    def machines(self, segment: str) -> tuple[MachineLine, ...]:
        """Return the lines of text at a subnet: about itself, and its machines that are plugged
        into no port that is drawn.
        """
        hosts = [
            each
            for each in self.plan.hosts.values()
            if each.on == segment and (each.at is None or each.at.owner not in self.devices)
        ]
        return (*self._about(segment), *self._named(hosts))

    def _neighbours(self, device: str) -> Iterator[tuple[str, str]]:
        """Yield each bar of a device with the other device on it."""
        for name in self.quays:
            owners = {each.device for each in self.on[name]}
            if device in owners:
                yield from ((name, other) for other in sorted(owners - {device}))
        for cable, (one, other) in self.cables:
            if device in (one.owner, other.owner):
                yield cable, other.owner if device == one.owner else one.owner

    def _banded(self) -> dict[str, int]:
        """Return the band of each device: how many bars it is away from an outside."""
        plan, found = self.plan, dict[str, int]()
        starts = list(
            dict.fromkeys(
                each.device
                for name in self.quays
                if plan.segments[name].outside
                for each in self.on[name]
            )
        )
        left = sorted(self.devices, key=lambda name: -len(self.devices[name].interfaces))
        while len(found) < len(self.devices):
            waiting = deque(starts or [next(each for each in left if each not in found)])
            starts = []
            found |= dict.fromkeys(waiting, 0)
            while waiting:
                own = waiting.popleft()
                for _, other in self._neighbours(own):
                    if other not in found:
                        found[other] = found[own] + 1
                        waiting.append(other)
        return found

    def _ordered(self) -> list[list[str]]:
        """Return the devices band by band, each near the devices of the band above that it is
        joined with.
        """
        found: list[list[str]] = [[] for _ in range(max(self._band.values(), default=-1) + 1)]
        for name, band in self._band.items():
            found[band].append(name)
        for upper, lower in pairwise(found):
            place = {name: index for index, name in enumerate(upper)}

            def middle(name: str, place: dict[str, int] = place) -> float:
                own = [place[other] for _, other in self._neighbours(name) if other in place]
                return sum(own) / len(own) if own else 0

            lower.sort(key=middle)
        return found

    def gutter(self, bar: str) -> int:
        """Return the number of the gap between bands that a bar is in: 0 is above the first."""
        if bar in self.plan.segments and self.plan.segments[bar].outside:
            return 0
        joined = self.on.get(bar, [])
        owners = {each.device for each in joined} or {each.owner for each in dict(self.cables)[bar]}
        return min(self._band[each] for each in owners) + 1

    @cached_property
    def _gates(self) -> dict[Point, list[Placed]]:
        """The lists that are drawn, by their places."""
        found: dict[Point, list[Placed]] = {}
        own = [(*at, each.name) for at, each in self.plan.placed.items()] + [
            (*at, None, each.name) for at, each in self.plan.framed.items()
        ]
        for point, direction, family, name in own:
            if self._only in (None, name):
                found.setdefault(point, []).append(Placed(name, family, direction, point))
        return found

    def _placed(self, point: Point, within: bool = False) -> tuple[Placed, ...]:
        """Return the lists that packets pass into a place and out of it, or those within it."""
        found = (
            each
            for each in self._gates.get(point, ())
            if within == (each.direction is Direction.WITHIN)
        )
        return tuple(sorted(found, key=lambda each: (each.direction, each.family or 0)))

    def _column(self, device: Device) -> DeviceColumn:
        column = DeviceColumn(device, own=self._placed(device.itself))
        band = self._band[device.name]
        hidden: list[ColumnRow] = []
        for interface in device.interfaces.values():
            more = "" if interface.cost is None else f"  cost {interface.cost}"
            more += "  translates" * any(
                each.interface == interface.name for each in device.translations
            )
            texts: tuple[str, ...] = (interface.name,)
            if not self._fold:
                first, *others = (str(each.address) for each in interface.addresses)
                texts = (interface.name, f"{first}{more}", *_few(others))
            gates = self._placed(interface.point)
            if interface.on in self.quays:
                slot = Slot(
                    interface.on,
                    interface.point,
                    texts,
                    (*self._placed(Point(PointKind.SUBNET, interface.on)), *gates),
                )
                (column.up if self.gutter(interface.on) <= band else column.down).append(slot)
            else:
                row = self._subnet_row(interface, texts, gates)
                (hidden if self._folds(row) else column.rows).append(row)
        for cable, ends in self.cables:
            for own, other in (ends, ends[::-1]):
                if own.owner == device.name:
                    slot = Slot(cable, own, (f"port {own.part}",), self._placed(own))
                    (
                        column.up
                        if self.gutter(cable) <= band or self._band[other.owner] < band
                        else column.down
                    ).append(slot)
        cabled = {each for _, ends in self.cables for each in ends}
        for port in device.ports.values():
            hosts = [each for each in self.plan.hosts.values() if each.at == port.point]
            if port.point not in cabled and (hosts or self._placed(port.point)):
                row = ColumnRow(
                    f"port {port.point}",
                    "",
                    port.point,
                    (f"port {port.name}{' isolated' * port.isolated}",),
                    self._placed(port.point),
                    self._named(hosts),
                    True,
                )
                (hidden if self._folds(row) else column.rows).append(row)
        subnets, lists = sum(not row.port for row in hidden), sum(row.has_gates for row in hidden)
        told = [f"{subnets} subnet{'s' * (subnets != 1)}"] if subnets else []
        told += (
            [
                f"lists at {lists} of them"
                if subnets
                else f"lists at {lists} port{'s' * (lists != 1)}"
            ]
            if lists
            else []
        )
        column.counted = ", ".join(told)
        return column

    def _folds(self, row: ColumnRow) -> bool:
        """Whether a row is only counted: in a large network, unless the list that is asked for is
        there.
        """
        return self._fold and not (self._only is not None and row.has_gates)

    def _subnet_row(
        self, interface: Interface, texts: tuple[str, ...], gates: tuple[Placed, ...]
    ) -> ColumnRow:
        at_subnet = self._placed(Point(PointKind.SUBNET, interface.on))
        return ColumnRow(
            interface.on,
            self.title(interface.on),
            interface.point,
            texts,
            (*gates, *at_subnet),
            self.machines(interface.on),
        )

    def title(self, name: str) -> str:
        """Return the title of a subnet: its name with its first prefix."""
        prefixes = self.plan.segments[name].prefixes
        return f"{name}  {prefixes[0]}" if prefixes else name

    def _named(self, hosts: Sequence[Host]) -> tuple[MachineLine, ...]:
        """Return the lines of text about machines: the first of them, and every one with lists of
        its own.
        """
        most = 0 if self._many_hosts else _A_ROW
        gates = [self._placed(each.point) for each in hosts]
        shown = tuple(
            MachineLine(each.name, "  ".join([each.name, *_few(map(str, each.addresses))]), own)
            for number, (each, own) in enumerate(zip(hosts, gates, strict=True))
            if number < most or own
        )
        left = len(hosts) - len(shown)
        if not left:
            return shown
        return (
            *shown,
            MachineLine("", f"and {left} more" if shown else f"{left} machine{'s' * (left != 1)}"),
        )

    def _about(self, segment: str) -> Iterator[MachineLine]:
        """Yield the lines about a segment itself: its other prefixes, the gateways that its devices
        share, and the traffic between two of its machines.
        """
        further = self.plan.segments[segment].prefixes[1:]
        for start in range(0, 0 if self._fold else len(further), _A_LINE):
            yield MachineLine("", "  ".join(map(str, further[start : start + _A_LINE])))
        for each in self.plan.gateways:
            if each.on == segment:
                yield MachineLine(
                    "",
                    (
                        f"{each.addresses[0]} is shared by "
                        f"{', '.join(point.owner for point in each.by)}"
                    ),
                )
        if self.plan.segments[segment].isolated:
            yield MachineLine("", "isolated")
        within = self._placed(Point(PointKind.SUBNET, segment), within=True)
        if within:
            yield MachineLine("", "within it", within)


def _few(addresses: Iterable[str]) -> tuple[str, ...]:
    """Return the first of some addresses, and the number of the others."""
    every = tuple(addresses)
    more = len(every) - _A_LINE
    return every if more <= 0 else (*every[:_A_LINE], f"and {more} more")


def _near(plan: Plan, device: str) -> set[str]:
    """Return a device and those that share a subnet or a cable with it."""
    on = {each.on for each in plan.devices[device].interfaces.values()}
    found = {
        each.name
        for each in plan.devices.values()
        if on & {one.on for one in each.interfaces.values()}
    } | {device}
    for _, (one, other) in _cables(plan.devices):
        found |= {one.owner, other.owner} if device in (one.owner, other.owner) else set()
    return found


def _cables(devices: dict[str, Device]) -> Iterator[tuple[str, tuple[Point, Point]]]:
    """Yield each cable between two switches' ports once, with a name."""
    seen = set()
    for device in devices.values():
        for port in device.ports.values():
            if port.to is not None and port.to.owner in devices:
                ends = tuple(sorted([port.point, port.to], key=str))
                if ends not in seen:
                    seen.add(ends)
                    yield f"cable {ends[0]} to {ends[1]}", (ends[0], ends[1])
