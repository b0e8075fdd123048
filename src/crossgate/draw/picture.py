"""What a network's picture consists of, before anything is drawn; units are pixels, y goes down."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import NamedTuple

from crossgate.core.model.address import Family
from crossgate.core.model.network import Direction, Point
from crossgate.draw.style import TEXT, text_width


class Spot(NamedTuple):
    """A position in the picture."""

    x: float
    y: float


class Label(NamedTuple):
    """A text with the start of its baseline, and its style: `quiet`, `strong` or plain."""

    text: str
    x: float
    y: float
    size: float = TEXT
    tone: str = ""

    @property
    def box(self) -> tuple[float, float, float, float]:
        """Left, top, right and bottom."""
        return (
            self.x,
            self.y - self.size * 0.8,
            self.x + text_width(self.text, self.size, self.tone == "strong"),
            self.y + self.size * 0.22,
        )


class Gate(NamedTuple):
    """A list at its place: its middle, the direction in which packets pass it (a unit step right or
    down), and its family, None for an ethernet list.
    """

    list: str
    family: Family | None
    point: Point
    direction: Direction
    at: Spot
    way: tuple[int, int]


class DeviceBlock(NamedTuple):
    """A device: its body's left, top, width and height."""

    device: str
    switch: bool
    x: float
    y: float
    width: float
    height: float


class NetworkBar(NamedTuple):
    """A subnet, an outside or a cable, from left to right at one height; from `leader` on, only a
    thin line leads to its name.
    """

    name: str
    kind: str
    x: float
    end: float
    y: float
    leader: float | None = None


class Stub(NamedTuple):
    """A line from a device to a bar, corner by corner, and the place that it stands for."""

    point: Point
    corners: tuple[Spot, ...]


@dataclass
class Picture:
    """A network as it is drawn."""

    width: float = 0
    height: float = 0
    blocks: dict[str, DeviceBlock] = field(default_factory=dict)
    bars: dict[str, NetworkBar] = field(default_factory=dict)
    stubs: list[Stub] = field(default_factory=list)
    gates: list[Gate] = field(default_factory=list)
    labels: list[Label] = field(default_factory=list)
    hosts: dict[str, Spot] = field(default_factory=dict)
    """Where the line of each machine that is drawn begins."""
    hangs: dict[str, str] = field(default_factory=dict)
    """The bar that each machine hangs on, or `port` and the place."""
    folded: str = ""
    """What is not drawn one by one, in a sentence."""
