"""Where everything of a network is in its picture, before anything is drawn; units are pixels, y
goes down.

1. Devices are in bands, by how many subnets they are away from an outside; the outsides are above
the first band.

2. What joins several devices, and an outside, is a quay: a long bar between two bands, with its
name and machines at the right end, where no column is. A cable between two switches' ports is a
thin line there. Stubs go up or down from a block to a bar, each in a slot of its own as wide as the
text beside it.

3. A subnet of one device is in a row below it, on a trunk; so is a port with a list or machines.

4. Each place with a list is a gate on its stub, in the order in which packets from the bar to the
device meet them, with the list's name beside it; a gate of the device itself is in its block.

Every text has a box, and no two boxes overlap: each is in a slot, row or end that is made as large
as it needs.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable, Iterator, Sequence
from functools import cached_property
from itertools import pairwise

from crossgate.core.model.network import Device, Direction, Host, Interface, Point, PointKind
from crossgate.core.model.plan import Plan
from crossgate.draw.columns import (
    GATE,
    LINE,
    Column,
    Machine,
    Placed,
    Row,
    Slot,
    kind_of,
    machine_step,
)
from crossgate.draw.picture import Bar, Block, Gate, Label, Picture, Spot, Stub
from crossgate.draw.style import SMALL, TEXT, text_width

_MARGIN, _GAP = 24.0, 26.0
_BLOCK, _QUAY = 38.0, 7.0
_INSET = 22.0
"""Left of a block's name, and below it, is where conversations go through the block."""
MOST_HOSTS = 40
"""With more machines than these only their number is told."""
MOST_DEVICES = 60
"""With more devices than these, subnets of one device are only counted."""
_MOST_AT_END = 12
"""With more bars than these between two bands each has its name at its own end, and several are at
one height.
"""
_A_LINE = 3
"""At most so many addresses or prefixes stand beside each other."""
_A_ROW = 5
"""At most so many machines by name on one bar, then their number."""


def laid_out(plan: Plan, only_list: str | None = None, around: str | None = None) -> Picture:
    """Return the picture of a plan's network; of one list's gates only, or of one device with what
    it joins.
    """
    return _Layout(plan, only_list, around).picture


class _Layout:
    def __init__(self, plan: Plan, only_list: str | None, around: str | None) -> None:
        self._plan, self._only = plan, only_list
        self.picture = Picture()
        self._devices = {
            name: each
            for name, each in plan.devices.items()
            if around is None or name in _near(plan, around)
        }
        self._many_hosts = len(plan.hosts) > MOST_HOSTS
        self._fold = len(self._devices) > MOST_DEVICES
        self._on: dict[str, list[Interface]] = {}
        for device in self._devices.values():
            for interface in device.interfaces.values():
                self._on.setdefault(interface.on, []).append(interface)
        self._quays = [
            name
            for name, own in self._on.items()
            if len({each.device for each in own}) > 1 or plan.segments[name].outside
        ]
        self._lonely = (
            [name for name in plan.segments if name not in self._on] if around is None else []
        )
        """Subnets that no device has an interface on."""
        self._cables = [*_cables(self._devices)]
        self._bands = self._ordered(self._banded())
        self._columns = {name: self._column(device) for name, device in self._devices.items()}
        self._place()
        told = []
        if self._fold:
            told.append(
                f"{len(self._devices)} devices: subnets of one device, and lists there, are only "
                "counted"
            )
        if self._many_hosts:
            told.append(f"{len(plan.hosts)} machines are only counted")
        self.picture.folded = "; ".join(told)

    # Bands

    def _neighbours(self, device: str) -> Iterator[tuple[str, str]]:
        """Yield each bar of a device with the other device on it."""
        for name in self._quays:
            owners = {each.device for each in self._on[name]}
            if device in owners:
                yield from ((name, other) for other in sorted(owners - {device}))
        for cable, (one, other) in self._cables:
            if device in (one.owner, other.owner):
                yield cable, other.owner if device == one.owner else one.owner

    def _banded(self) -> dict[str, int]:
        """Return the band of each device: how many bars it is away from an outside."""
        plan, found = self._plan, dict[str, int]()
        starts = list(
            dict.fromkeys(
                each.device
                for name in self._quays
                if plan.segments[name].outside
                for each in self._on[name]
            )
        )
        left = sorted(self._devices, key=lambda name: -len(self._devices[name].interfaces))
        while len(found) < len(self._devices):
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

    def _ordered(self, bands: dict[str, int]) -> list[list[str]]:
        """Return the devices band by band, each near the devices of the band above that it is
        joined with.
        """
        found: list[list[str]] = [[] for _ in range(max(bands.values(), default=-1) + 1)]
        for name, band in bands.items():
            found[band].append(name)
        self._band = bands
        for upper, lower in pairwise(found):
            place = {name: index for index, name in enumerate(upper)}

            def middle(name: str, place: dict[str, int] = place) -> float:
                own = [place[other] for _, other in self._neighbours(name) if other in place]
                return sum(own) / len(own) if own else 0

            lower.sort(key=middle)
        return found

    def _gutter(self, bar: str) -> int:
        """Return the number of the gap between bands that a bar is in: 0 is above the first."""
        if bar in self._plan.segments and self._plan.segments[bar].outside:
            return 0
        joined = self._on.get(bar, [])
        owners = {each.device for each in joined} or {
            each.owner for each in dict(self._cables)[bar]
        }
        return min(self._band[each] for each in owners) + 1

    # What is written

    @cached_property
    def _gates(self) -> dict[Point, list[Placed]]:
        """The lists that are drawn, by their places."""
        found: dict[Point, list[Placed]] = {}
        own = [(*at, each.name) for at, each in self._plan.placed.items()] + [
            (*at, None, each.name) for at, each in self._plan.framed.items()
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

    def _column(self, device: Device) -> Column:
        column = Column(device, own=self._placed(device.itself))
        band = self._band[device.name]
        hidden: list[Row] = []
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
            if interface.on in self._quays:
                slot = Slot(
                    interface.on,
                    interface.point,
                    texts,
                    (*self._placed(Point(PointKind.SUBNET, interface.on)), *gates),
                )
                (column.up if self._gutter(interface.on) <= band else column.down).append(slot)
            else:
                row = self._subnet_row(interface, texts, gates)
                (hidden if self._folds(row) else column.rows).append(row)
        for cable, ends in self._cables:
            for own, other in (ends, ends[::-1]):
                if own.owner == device.name:
                    slot = Slot(cable, own, (f"port {own.part}",), self._placed(own))
                    (
                        column.up
                        if self._gutter(cable) <= band or self._band[other.owner] < band
                        else column.down
                    ).append(slot)
        cabled = {each for _, ends in self._cables for each in ends}
        for port in device.ports.values():
            hosts = [each for each in self._plan.hosts.values() if each.at == port.point]
            if port.point not in cabled and (hosts or self._placed(port.point)):
                row = Row(
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

    def _folds(self, row: Row) -> bool:
        """Whether a row is only counted: in a large network, unless the list that is asked for is
        there.
        """
        return self._fold and not (self._only is not None and row.has_gates)

    def _subnet_row(
        self, interface: Interface, texts: tuple[str, ...], gates: tuple[Placed, ...]
    ) -> Row:
        hosts = [
            each
            for each in self._plan.hosts.values()
            if each.on == interface.on and (each.at is None or each.at.owner not in self._devices)
        ]
        at_subnet = self._placed(Point(PointKind.SUBNET, interface.on))
        return Row(
            interface.on,
            self._title(interface.on),
            interface.point,
            texts,
            (*gates, *at_subnet),
            (*self._about(interface.on), *self._named(hosts)),
        )

    def _title(self, name: str) -> str:
        prefixes = self._plan.segments[name].prefixes
        return f"{name}  {prefixes[0]}" if prefixes else name

    def _named(self, hosts: Sequence[Host]) -> tuple[Machine, ...]:
        """Return the lines of text about machines: the first of them, and every one with lists of
        its own.
        """
        most = 0 if self._many_hosts else _A_ROW
        gates = [self._placed(each.point) for each in hosts]
        shown = tuple(
            Machine(each.name, "  ".join([each.name, *_few(map(str, each.addresses))]), own)
            for number, (each, own) in enumerate(zip(hosts, gates, strict=True))
            if number < most or own
        )
        left = len(hosts) - len(shown)
        if not left:
            return shown
        return (
            *shown,
            Machine("", f"and {left} more" if shown else f"{left} machine{'s' * (left != 1)}"),
        )

    def _about(self, segment: str) -> Iterator[Machine]:
        """Yield the lines about a segment itself: its other prefixes, the gateways that its devices
        share, and the traffic between two of its machines.
        """
        further = self._plan.segments[segment].prefixes[1:]
        for start in range(0, 0 if self._fold else len(further), _A_LINE):
            yield Machine("", "  ".join(map(str, further[start : start + _A_LINE])))
        for each in self._plan.gateways:
            if each.on == segment:
                yield Machine(
                    "",
                    (
                        f"{each.addresses[0]} is shared by "
                        f"{', '.join(point.owner for point in each.by)}"
                    ),
                )
        if self._plan.segments[segment].isolated:
            yield Machine("", "isolated")
        within = self._placed(Point(PointKind.SUBNET, segment), within=True)
        if within:
            yield Machine("", "within it", within)

    def _write_machine(self, machine: Machine, bar: str, x: float, y: float, hangs: Spot) -> None:
        """Write a machine's line with its own lists; `hangs` is where it is joined to its bar or
        port.
        """
        picture = self.picture
        picture.labels.append(Label(machine.text, x, y, SMALL, "quiet"))
        if machine.name:
            picture.hosts[machine.name], picture.hangs[machine.name] = hangs, bar
        x += text_width(machine.text, SMALL) + 16
        for each in machine.gates:
            # The bar that it hangs on is at the left.
            way = -1 if each.direction is Direction.INBOUND else 1
            picture.gates.append(
                Gate(each.list, each.family, each.point, each.direction, Spot(x, y - 4), (way, 0))
            )
            picture.labels.append(Label(each.list, x + 9, y, SMALL))
            x += 24 + text_width(each.list, SMALL)

    # Where it stands

    def _place(self) -> None:
        picture, columns = self.picture, self._columns
        right = _MARGIN
        for band in self._bands:
            x = _MARGIN
            for name in band:
                columns[name].x = x
                x += columns[name].width + _GAP
            right = max(right, x)
        y = _MARGIN
        self._tops: dict[str, float] = {}
        heights: dict[str, float] = {}
        for number in range(len(self._bands) + 1):
            y = self._place_bars(number, y, right, heights)
            if number < len(self._bands):
                y = self._place_band(self._bands[number], y)
        for name in self._lonely:
            y += self._with_its_end(name, (_MARGIN + 8, _MARGIN + 60), y, right)
        self._join(heights)
        ends = [
            *(label.box[2] for label in picture.labels),
            *(bar.end for bar in picture.bars.values()),
            right,
        ]
        picture.width, picture.height = max(ends) + _MARGIN, y + 4

    def _spans(self) -> dict[str, tuple[float, float]]:
        """Return the stretch in which stubs reach each long bar and cable."""
        found: dict[str, tuple[float, float]] = {}
        for column in self._columns.values():
            for slots in (column.up, column.down):
                x = column.x + 12
                for slot in slots:
                    low, high = found.get(slot.bar, (x, x))
                    found[slot.bar] = min(low, x), max(high, x)
                    x += slot.width
        return found

    def _place_bars(self, number: int, y: float, right: float, heights: dict[str, float]) -> float:
        """Place the bars above a band, and return the y below them."""
        spans = self._spans()
        own = [
            name
            for name in (*self._quays, *(cable for cable, _ in self._cables))
            if self._gutter(name) == number and name in spans
        ]
        quays = [name for name in own if name in self._on]
        if len(quays) > _MOST_AT_END:
            return self._packed(own, spans, y, heights)
        for name in own:
            heights[name] = y + LINE
            y += 22 if name not in self._on else self._with_its_end(name, spans[name], y, right)
        return y

    def _packed(
        self,
        bars: Sequence[str],
        spans: dict[str, tuple[float, float]],
        y: float,
        heights: dict[str, float],
    ) -> float:
        """Place many bars on as few heights as they need, with the name at the end of each bar."""
        ends: list[float] = []
        for name in sorted(bars, key=lambda each: spans[each]):
            low, high = spans[name]
            title = name if name in self._on else ""
            end = high + 16 + text_width(title, SMALL)
            track = next((number for number, last in enumerate(ends) if last < low - 16), len(ends))
            ends[track : track + 1] = [end]
            heights[name] = y + LINE + track * 20
            if title:
                self.picture.bars[name] = Bar(
                    name,
                    "outside" if self._plan.segments[name].outside else "subnet",
                    low - 8,
                    high + 8,
                    heights[name],
                )
                self.picture.labels.append(
                    Label(title, high + 12, heights[name] + 3, SMALL, "strong")
                )
        return y + LINE + len(ends) * 20 + 8

    def _with_its_end(self, name: str, span: tuple[float, float], y: float, right: float) -> float:
        """Place a long bar with its name and machines at the right; return its height."""
        picture = self.picture
        hosts = [
            each
            for each in self._plan.hosts.values()
            if each.on == name and (each.at is None or each.at.owner not in self._devices)
        ]
        lines = (*self._about(name), *self._named(hosts))
        picture.labels.append(Label(self._title(name), right + 8, y + LINE - 6, TEXT, "strong"))
        for index, line in enumerate(lines):
            self._write_machine(
                line,
                name,
                right + 16,
                y + LINE + 16 + index * machine_step(lines),
                Spot(right + 12, y + LINE),
            )
        end = (
            right
            + 16
            + max(
                [
                    text_width(self._title(name), TEXT, strong=True),
                    *(line.width + 8 for line in lines),
                ]
            )
        )
        outside = self._plan.segments[name].outside
        start, leader = (_MARGIN, None) if outside else (span[0] - 8, span[1] + 26)
        picture.bars[name] = Bar(
            name, "outside" if outside else "subnet", start, end, y + LINE, leader
        )
        return LINE + 16 + machine_step(lines) * len(lines) + 8

    def _place_band(self, band: Sequence[str], y: float) -> float:
        columns = [self._columns[name] for name in band]
        top = y + max((slot.height for each in columns for slot in each.up), default=4) + 4
        bottom = top + _BLOCK
        for each in columns:
            self._place_block(each, top)
            bottom = max(bottom, self._place_rows(each, top + _BLOCK))
        down = max((slot.height for each in columns for slot in each.down), default=0)
        return max(bottom, top + _BLOCK + down) + 18

    def _place_block(self, column: Column, top: float) -> None:
        device, picture = column.device, self.picture
        picture.blocks[device.name] = Block(
            device.name, device.switch, column.x, top, column.block, _BLOCK
        )
        x = column.x + _INSET
        picture.labels.append(Label(device.name, x, top + 19, TEXT, "strong"))
        x += text_width(device.name, TEXT, strong=True) + 8
        picture.labels.append(Label(kind_of(device), x, top + 19, SMALL, "quiet"))
        x += text_width(kind_of(device), SMALL) + 14
        for each in column.own:
            way = 1 if each.direction is Direction.INBOUND else -1
            picture.gates.append(
                Gate(
                    each.list, each.family, each.point, each.direction, Spot(x, top + 15), (0, way)
                )
            )
            picture.labels.append(Label(each.list, x + 11, top + 19, SMALL))
            x += 32 + text_width(each.list, SMALL)
        self._tops[device.name] = top

    def _place_rows(self, column: Column, y: float) -> float:
        """Place a device's rows on its trunk; return the y below them."""
        picture, trunk = self.picture, column.x + column.below
        if column.counted:
            picture.labels.append(Label(column.counted, trunk + 6, y + 16, SMALL, "quiet"))
            y += 24
        stub = max((each.stub for each in column.rows), default=0)
        for row in column.rows:
            y += 24
            picture.stubs.append(
                Stub(
                    row.point,
                    (
                        Spot(trunk, self._tops[column.device.name] + _BLOCK),
                        Spot(trunk, y),
                        Spot(trunk + stub, y),
                    ),
                )
            )
            x = trunk + 10
            for each in row.gates:
                if each.point.kind is PointKind.SUBNET:  # on the subnet's side of the stub
                    x = max(
                        x,
                        trunk
                        + stub
                        - 8
                        - sum(
                            14 + text_width(one.list, SMALL) + 8
                            for one in row.gates[row.gates.index(each) :]
                        ),
                    )
                inward = each.direction is (
                    Direction.INBOUND
                    if each.point.kind is not PointKind.SUBNET
                    else Direction.OUTBOUND
                )
                picture.gates.append(
                    Gate(
                        each.list,
                        each.family,
                        each.point,
                        each.direction,
                        Spot(x, y),
                        (-1 if inward else 1, 0),
                    )
                )
                picture.labels.append(Label(each.list, x + 7, y - 6, SMALL))
                x += 14 + text_width(each.list, SMALL) + 8
            for index, text in enumerate(row.texts):
                picture.labels.append(
                    Label(text, trunk + 6, y + 18 + index * LINE, SMALL, "quiet" if index else "")
                )
            if not row.port:
                picture.bars[row.name] = Bar(
                    row.name, "subnet", trunk + stub, trunk + stub + row.bar, y
                )
                picture.labels.append(Label(row.title, trunk + stub + 2, y - 8, TEXT, "strong"))
            for index, line in enumerate(row.machines):
                at = y + index * machine_step(row.machines)
                hangs = Spot(trunk + stub + 4, at + (0 if row.port else 13))
                self._write_machine(
                    line, row.name, trunk + stub + 10, at + (4 if row.port else 17), hangs
                )
            y += row.height - 24
        return y

    def _join(self, heights: dict[str, float]) -> None:
        """Draw the stubs between blocks and long bars, with their gates, and the cables."""
        picture = self.picture
        spans: dict[str, list[float]] = {}
        for column in self._columns.values():
            block = picture.blocks[column.device.name]
            for slots, up in ((column.up, True), (column.down, False)):
                x = column.x + 12
                for slot in slots:
                    edge = block.y if up else block.y + block.height
                    picture.stubs.append(
                        Stub(slot.point, (Spot(x, edge), Spot(x, heights[slot.bar])))
                    )
                    spans.setdefault(slot.bar, []).append(x)
                    y = edge - slot.height + 12 if up else edge + 12
                    written = [
                        *((text, None) for text in slot.texts),
                        *((each.list, each) for each in slot.gates),
                    ]
                    # From the bar to the block: gates of the subnet, then of the interface, then its name.
                    if up:
                        written = [
                            *((each.list, each) for each in slot.gates),
                            *((text, None) for text in slot.texts),
                        ]
                    else:
                        written = [
                            *((text, None) for text in slot.texts),
                            *((each.list, each) for each in reversed(slot.gates)),
                        ]
                    for text, gate in written:
                        if gate is None:
                            picture.labels.append(
                                Label(
                                    text,
                                    x + 6,
                                    y + 3,
                                    SMALL,
                                    "" if text == slot.texts[0] else "quiet",
                                )
                            )
                            y += LINE
                            continue
                        inward = gate.direction is (
                            Direction.INBOUND
                            if gate.point.kind is not PointKind.SUBNET
                            else Direction.OUTBOUND
                        )
                        down = inward is up
                        picture.gates.append(
                            Gate(
                                gate.list,
                                gate.family,
                                gate.point,
                                gate.direction,
                                Spot(x, y),
                                (0, 1 if down else -1),
                            )
                        )
                        picture.labels.append(Label(text, x + 9, y + 3, SMALL))
                        y += GATE
                    x += slot.width
        for cable, _ in self._cables:
            own = spans.get(cable, [])
            if own:
                picture.bars[cable] = Bar(cable, "cable", min(own), max(own), heights[cable])


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
