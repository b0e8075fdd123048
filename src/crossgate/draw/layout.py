"""Where everything of a network is in its picture, before anything is drawn; units are pixels, y
goes down.

1. The bands of devices are one below the other; a device is a block. The outsides are above the
first band.

2. A quay has its name and machines at the right end, where no column is. Stubs go up or down from a
block to a bar, each in a slot of its own as wide as the text beside it.

3. A device's rows are below it, on a trunk.

4. Each place with a list is a gate on its stub, in the order in which packets from the bar to the
device meet them, with the list's name beside it; a gate of the device itself is in its block.

Every text has a box, and no two boxes overlap: each is in a slot, row or end that is made as large
as it needs.
"""

from __future__ import annotations

from collections.abc import Sequence

from crossgate.core.model.network import Direction, PointKind
from crossgate.core.model.plan import Plan
from crossgate.draw.columns import GATE, LINE, DeviceColumn, MachineLine, kind_of, machine_step
from crossgate.draw.contents import Contents
from crossgate.draw.picture import DeviceBlock, Gate, Label, NetworkBar, Picture, Spot, Stub
from crossgate.draw.style import SMALL, TEXT, text_width

_MARGIN, _GAP = 24.0, 26.0
_BLOCK = 38.0
_INSET = 22.0
"""Left of a block's name, and below it, is where conversations go through the block."""
_MOST_AT_END = 12
"""With more bars than these between two bands each has its name at its own end, and several are at
one height.
"""


def laid_out(plan: Plan, only_list: str | None = None, around: str | None = None) -> Picture:
    """Return the picture of a plan's network; of one list's gates only, or of one device with what
    it joins.
    """
    return _Layout(Contents(plan, only_list, around)).picture


class _Layout:
    def __init__(self, contents: Contents) -> None:
        self._contents = contents
        self._columns = contents.columns
        self.picture = Picture(folded=contents.folded)
        self._place()

    def _place(self) -> None:
        picture, columns = self.picture, self._columns
        right = _MARGIN
        for band in self._contents.bands:
            x = _MARGIN
            for name in band:
                columns[name].x = x
                x += columns[name].width + _GAP
            right = max(right, x)
        y = _MARGIN
        self._tops: dict[str, float] = {}
        heights: dict[str, float] = {}
        for number in range(len(self._contents.bands) + 1):
            y = self._place_bars(number, y, right, heights)
            if number < len(self._contents.bands):
                y = self._place_band(self._contents.bands[number], y)
        for name in self._contents.lonely:
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
            for name in (*self._contents.quays, *(cable for cable, _ in self._contents.cables))
            if self._contents.gutter(name) == number and name in spans
        ]
        quays = [name for name in own if name in self._contents.on]
        if len(quays) > _MOST_AT_END:
            return self._packed(own, spans, y, heights)
        for name in own:
            heights[name] = y + LINE
            y += (
                22
                if name not in self._contents.on
                else self._with_its_end(name, spans[name], y, right)
            )
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
            title = name if name in self._contents.on else ""
            end = high + 16 + text_width(title, SMALL)
            track = next((number for number, last in enumerate(ends) if last < low - 16), len(ends))
            ends[track : track + 1] = [end]
            heights[name] = y + LINE + track * 20
            if title:
                self.picture.bars[name] = NetworkBar(
                    name,
                    "outside" if self._contents.plan.segments[name].outside else "subnet",
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
        lines = self._contents.machines(name)
        picture.labels.append(
            Label(self._contents.title(name), right + 8, y + LINE - 6, TEXT, "strong")
        )
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
                    text_width(self._contents.title(name), TEXT, strong=True),
                    *(line.width + 8 for line in lines),
                ]
            )
        )
        outside = self._contents.plan.segments[name].outside
        start, leader = (_MARGIN, None) if outside else (span[0] - 8, span[1] + 26)
        picture.bars[name] = NetworkBar(
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

    def _place_block(self, column: DeviceColumn, top: float) -> None:
        device, picture = column.device, self.picture
        picture.blocks[device.name] = DeviceBlock(
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

    def _place_rows(self, column: DeviceColumn, y: float) -> float:
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
                picture.bars[row.name] = NetworkBar(
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
        for cable, _ in self._contents.cables:
            own = spans.get(cable, [])
            if own:
                picture.bars[cable] = NetworkBar(cable, "cable", min(own), max(own), heights[cable])

    def _write_machine(
        self, machine: MachineLine, bar: str, x: float, y: float, hangs: Spot
    ) -> None:
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
