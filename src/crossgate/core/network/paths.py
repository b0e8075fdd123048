"""The values of routing: the ends of a conversation, what a packet crosses, its hops and its whole
path.
"""

from __future__ import annotations

from typing import NamedTuple

from crossgate.core.model.address import Address
from crossgate.core.model.ethernet import Ruling
from crossgate.core.model.network import Direction, Point, PointKind, stands_at
from crossgate.core.network.failure import Failure
from crossgate.core.network.view import NOT_TRANSLATED, View


class Crossing(NamedTuple):
    """A packet, or the frame that carries it, passing a place in one direction.

    For a frame at a place with an ethernet list, `rulings` are the lines of that list which may
    decide it; None for a packet. The `view` is what translations have made of the packet there.
    """

    point: Point
    direction: Direction
    rulings: tuple[Ruling, ...] | None = None
    view: View = NOT_TRANSLATED

    @property
    def remembered_by(self) -> str | None:
        """The device or host that, where it is stateful, lets packets of known connections pass
        here without asking a list; None for a frame.
        """
        if self.rulings is not None:
            return None
        return self.point.owner if self.point.kind is PointKind.HOST else self.point.device

    @property
    def place(self) -> tuple[Point, Direction]:
        """The point and the direction, whatever passes there."""
        return self.point, self.direction

    @property
    def where(self) -> str:
        """The point and the direction, as the language writes them."""
        return stands_at(self.direction, self.point)


class Endpoint(NamedTuple):
    """Where a conversation starts or ends: a host, a device, or an address without a name.

    `segment` is the subnet or outside it is on, `at` its switch port, `gateways` its configured
    gateways. For a device, `device` is its name and `segment` that of the interface with the
    address; `others` are the devices that answer for a shared gateway's address as well. `follows`
    is the host's own place, at which lists of the host stand; `mac` its hardware address, where the
    plan has ethernet lists.
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

    def __repr__(self) -> str:
        return f"<Endpoint {self.name} {self.address}>"

    @property
    def sender(self) -> tuple[object, ...]:
        """The part of it that decides where its packets go and what they meet."""
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
    """The path of a packet: what it crosses, and whether it arrives; `failure` says why it does
    not.

    `devices` are those that route it, a sending device included; `entered` those that it comes
    into. `forks` says that another next device was equally good somewhere on the path. `on_link`
    says that nothing is routed to its destination, so that nobody answers the packet.
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
        """Whether the packet arrives when no list denies it."""
        return self.failure is None

    @property
    def reason(self) -> str:
        """Why it does not arrive, in words; "" where it does."""
        return "" if self.failure is None else self.failure.text


class Hop(NamedTuple):
    """A step of a packet: what it crosses, and the device that it comes into, None where it is
    handed to a machine. Where it `ends`, the packet has arrived unless there is a `failure`.
    """

    crossings: tuple[Crossing, ...]
    device: str | None
    ends: bool
    failure: Failure | None = None
