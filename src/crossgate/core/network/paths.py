"""The values of routing: where a conversation starts and ends, what a packet crosses, its steps and
its whole way.
"""

from __future__ import annotations

from typing import NamedTuple

from crossgate.core.model.address import Address
from crossgate.core.model.ethernet import Ruling
from crossgate.core.model.network import Direction, Point, PointKind, stands_at
from crossgate.core.network.failure import Failure
from crossgate.core.network.view import NOT_TRANSLATED, View


class Crossing(NamedTuple):
    """A packet passing a place in one direction, or the frame that carries it.

    For a frame at a place with an ethernet list, `rulings` are the lines of that which may decide
    it; None for the packet. The `view` is what translations have made of the packet there.
    """

    point: Point
    direction: Direction
    rulings: tuple[Ruling, ...] | None = None
    view: View = NOT_TRANSLATED

    @property
    def remembered_by(self) -> str | None:
        """The device or host that, where it is stateful, asks no list here about what it has let
        by; None for a frame.
        """
        if self.rulings is not None:
            return None
        return self.point.owner if self.point.kind is PointKind.HOST else self.point.device

    @property
    def place(self) -> tuple[Point, Direction]:
        """Where and which way, whatever passes."""
        return self.point, self.direction

    @property
    def where(self) -> str:
        """Where and which way, as the language writes it."""
        return stands_at(self.direction, self.point)


class Endpoint(NamedTuple):
    """Where a conversation starts or ends: a host, a device, or an address that nobody has been
    given.

    `segment` is the subnet or outside it is on, `at` its switch port, `gateways` the gateways it is
    told to use. For a device, `device` is its name and `segment` that of the interface with the
    address; `others` are those that answer for a shared gateway's address as well. `follows` is the
    host's own place, where lists follow it; `mac` its hardware address, where the plan has ethernet
    lists.
    """

    name: str
    address: Address
    segment: str
    at: Point | None = None
    gateways: tuple[Address, ...] = ()
    device: str | None = None
    follows: Point | None = None
    others: tuple[str, ...] = ()
    mac: int | None = None

    @property
    def sender(self) -> tuple[object, ...]:
        """All of it that says which way its packets go, and what they meet."""
        return (
            self.device,
            self.segment,
            self.at,
            self.gateways,
            self.follows,
            self.others,
            self.mac,
        )


class Path(NamedTuple):
    """The way of a packet: what it crosses, and whether it arrives; the `failure` is why it does
    not.

    `devices` are those that route it, the sender too; `entered` those that it comes into. `forks`
    tells that somewhere on the way another next device was as good. `on_link` tells that the packet
    is for an address to which nothing is routed, so that nobody answers it.
    """

    crossings: tuple[Crossing, ...] = ()
    devices: tuple[str, ...] = ()
    entered: tuple[str, ...] = ()
    failure: Failure | None = None
    forks: bool = False
    on_link: bool = False
    ended: bool = False

    @property
    def arrived(self) -> bool:
        """Whether the packet arrives, if no list stops it."""
        return self.failure is None

    @property
    def reason(self) -> str:
        """Why it does not arrive, in words; "" where it does."""
        return "" if self.failure is None else self.failure.text


class Hop(NamedTuple):
    """A step of a packet: what it crosses, and the device that it comes into then, None for the
    machine that it is handed to.

    Where it `ends` the packet has arrived, unless there is a `failure`.
    """

    crossings: tuple[Crossing, ...]
    device: str | None
    ends: bool
    failure: Failure | None = None
