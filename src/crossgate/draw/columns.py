"""A device with what is joined to it, as one column of a network's picture: how much room its slots
and rows need for their text.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

from crossgate.core.model.address import Family
from crossgate.core.model.network import Device, Direction, Point
from crossgate.draw.style import SMALL, TEXT, text_width

LINE = 14.0
"""Height of a line of text."""
GATE = 17.0
"""Room of a gate along its stub."""


class Placed(NamedTuple):
    """A list at a place; an ethernet list has no family."""

    list: str
    family: Family | None
    direction: Direction
    point: Point


class Slot(NamedTuple):
    """A stub that goes up or down from a device's block: what it joins, and the text beside it."""

    bar: str
    point: Point
    texts: tuple[str, ...]
    gates: tuple[Placed, ...]

    @property
    def width(self) -> float:
        """How wide the slot is."""
        names = max((text_width(each.list, SMALL) for each in self.gates), default=0)
        return 22 + max([names, *(text_width(each, SMALL) for each in self.texts)])

    @property
    def height(self) -> float:
        """How high the stub must be for the text beside it."""
        return 10 + LINE * len(self.texts) + GATE * len(self.gates)


class MachineLine(NamedTuple):
    """A line about a machine, and the lists that it has of its own; without a name it tells how
    many machines there are.
    """

    name: str
    text: str
    gates: tuple[Placed, ...] = ()

    @property
    def width(self) -> float:
        """How wide the line is."""
        return text_width(self.text, SMALL) + sum(
            28 + text_width(each.list, SMALL) for each in self.gates
        )


def machine_step(machines: Sequence[MachineLine]) -> float:
    """Return the distance between the lines of some machines: gates need more room than text."""
    return GATE if any(each.gates for each in machines) else LINE


class ColumnRow(NamedTuple):
    """A subnet of one device, or a port of it with what is attached there."""

    name: str
    title: str
    point: Point
    texts: tuple[str, ...]
    gates: tuple[Placed, ...]
    machines: tuple[MachineLine, ...]
    port: bool = False

    @property
    def has_gates(self) -> bool:
        """Whether a list is placed there."""
        return bool(self.gates) or any(each.gates for each in self.machines)

    @property
    def stub(self) -> float:
        """The length of the line from the trunk to the bar."""
        names = sum(14 + text_width(each.list, SMALL) + 8 for each in self.gates)
        return 24 + max([names, *(text_width(each, SMALL) for each in self.texts)])

    @property
    def bar(self) -> float:
        """The length of the bar."""
        return max(
            [
                60.0,
                text_width(self.title, TEXT, strong=True) + 8,
                *(each.width + 12 for each in self.machines),
            ]
        )

    @property
    def height(self) -> float:
        """How high the row is."""
        return (
            24
            + max(LINE * len(self.texts) + 4, machine_step(self.machines) * len(self.machines))
            + 12
        )


@dataclass
class DeviceColumn:
    """A device with its slots and rows."""

    device: Device
    up: list[Slot] = field(default_factory=list)
    down: list[Slot] = field(default_factory=list)
    rows: list[ColumnRow] = field(default_factory=list)
    own: tuple[Placed, ...] = ()
    counted: str = ""
    x: float = 0

    @property
    def block(self) -> float:
        """The width of the block."""
        own = sum(32 + text_width(each.list, SMALL) for each in self.own)
        name = (
            text_width(self.device.name, TEXT, strong=True)
            + text_width(kind_of(self.device), SMALL)
            + 38
            + own
        )
        return max(
            name,
            12 + sum(each.width for each in self.up),
            12 + sum(each.width for each in self.down),
            90.0,
        )

    @property
    def below(self) -> float:
        """How much room the slots that go down take to the left of the trunk."""
        return 12 + sum(each.width for each in self.down) if self.down else 14.0

    @property
    def width(self) -> float:
        """How wide all of it is."""
        stub, bar = (
            max((each.stub for each in self.rows), default=0),
            max((each.bar for each in self.rows), default=0),
        )
        counted = text_width(self.counted, SMALL) + 16 if self.counted else 0
        return max(
            self.block,
            self.below + stub + bar if self.rows else 0,
            self.below + counted if counted else 0,
        )


def kind_of(device: Device) -> str:
    """Return the words for the kind of a device."""
    words = ["stateful"] * device.stateful + ["closed"] * device.closed
    return " ".join([*words, "switch" if device.switch else "router"])
