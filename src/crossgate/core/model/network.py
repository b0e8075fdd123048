"""The parts of a network: subnets, outsides, devices with interfaces and ports, hosts, and the
points where lists are placed.
"""

from __future__ import annotations

from collections.abc import Container, Iterator
from dataclasses import dataclass, field
from enum import StrEnum
from typing import NamedTuple

from crossgate.core.model.address import Address, Family, Pattern, prefix
from crossgate.core.model.errors import Place, placeless
from crossgate.core.model.service import ServiceTerm


class Direction(StrEnum):
    """Which way a packet crosses a point, as seen from the device: into it or out of it. At a
    subnet also `WITHIN` it: from one of its machines to another.
    """

    INBOUND = "inbound"
    OUTBOUND = "outbound"
    WITHIN = "within"


EACH_WAY = (Direction.INBOUND, Direction.OUTBOUND)
"""Into a place, and out of it."""


class PointKind(StrEnum):
    """The kind of place where a list stands."""

    INTERFACE = "interface"
    PORT = "port"
    SUBNET = "subnet"
    ITSELF = "itself"
    HOST = "host"
    GROUP = "group"


_NAMED = frozenset((PointKind.SUBNET, PointKind.HOST, PointKind.GROUP))


class Point(NamedTuple):
    """A place that packets cross: DEVICE.INTERFACE, SWITCH.PORT, a whole subnet, a device itself,
    or a host.

    A list at a host moves with the machine: it is asked wherever that is plugged in (RFC 4849). A
    group is a place only in a `place` line, and stands for its hosts (`Plan.points_of`).
    """

    kind: PointKind
    owner: str
    part: str = ""

    def __str__(self) -> str:
        if self.kind in _NAMED:
            return f"{self.kind} {self.owner}"
        if self.kind is PointKind.ITSELF:
            return f"{self.owner} itself"
        return f"{self.owner}.{self.part}"

    @property
    def device(self) -> str | None:
        """The device it belongs to; None for a subnet, a host and a group."""
        return None if self.kind in _NAMED else self.owner


def stands_at(direction: Direction, point: Point) -> str:
    """Say in the words of the language where a list stands, or what a packet passes."""
    return f"{direction} {point}" if direction is Direction.WITHIN else f"{direction} on {point}"


class InterfaceAddress(NamedTuple):
    """An address of an interface, with the length of the connected prefix."""

    address: Address
    length: int

    @property
    def connected(self) -> Pattern:
        """The prefix that is reached directly through the interface."""
        return prefix(self.address, self.length)


@placeless
class Segment(NamedTuple):
    """What interfaces and hosts are attached to: a subnet with its prefixes, or an outside.

    An outside with prefixes has their addresses, one without has all others; neither has addresses
    of a subnet of the plan, nor those that are `left_out` of it. In an `isolated` subnet no machine
    gets frames from another.
    """

    name: str
    prefixes: tuple[Pattern, ...]
    place: Place
    vlan: int | None = None
    outside: bool = False
    left_out: tuple[Pattern, ...] = ()
    isolated: bool = False

    def holds(self, address: Address) -> bool:
        """Whether one of its prefixes contains an address and it is not left out; subnets come
        before outsides (see `Plan.segment_of`).
        """
        own = any(
            block.family is address.family and block.contains(address.value)
            for block in self.prefixes
        )
        return own and not self.leaves_out(address)

    def leaves_out(self, address: Address) -> bool:
        """Whether it is an outside from which an address is left out."""
        return any(
            block.family is address.family and block.contains(address.value)
            for block in self.left_out
        )


@placeless
class Interface(NamedTuple):
    """An interface of a device with addresses.

    `at` is the switch port at the other end of its cable, `mac` its hardware address, where the
    plan gives them. `cost` is what computed routes count for leaving by it, None where the plan
    does not say; over a `passive` interface no device is a neighbour.
    """

    device: str
    name: str
    addresses: tuple[InterfaceAddress, ...]
    on: str
    at: Point | None
    place: Place
    mac: int | None = None
    cost: int | None = None
    passive: bool = False

    @property
    def point(self) -> Point:
        """The place where lists stand on it."""
        return Point(PointKind.INTERFACE, self.device, self.name)

    def in_family(self, family: Family) -> tuple[InterfaceAddress, ...]:
        """Return its addresses of one family."""
        return tuple(own for own in self.addresses if own.address.family is family)


@placeless
class Port(NamedTuple):
    """A layer-2 port of a switch. `to` is the port of another switch at the other end of its cable.
    A machine at an `isolated` port gets no frames from other such machines.
    """

    switch: str
    name: str
    to: Point | None
    place: Place
    isolated: bool = False

    @property
    def point(self) -> Point:
        """The place where lists stand on it."""
        return Point(PointKind.PORT, self.switch, self.name)


@placeless
class Route(NamedTuple):
    """A static route: packets for `destination` go to the neighbour `via`, or are dropped where
    that is None.
    """

    destination: Pattern
    via: Address | None
    place: Place


class TranslationKind(StrEnum):
    """Which addresses a rule translates, and for packets in which direction through its
    interface.
    """

    LEAVING = "leaving"
    BOTH_WAYS = "both ways"
    ENTERING = "entering"


@placeless
class Translation(NamedTuple):
    """A translation rule of a device at one of its interfaces, for one family.

    - LEAVING (RFC 2663 section 4.1.2): a packet that leaves from an `inside` address gets one of
    the `public` addresses and a port of the device's choice; without `public` addresses it stays as
    it is.

    - BOTH_WAYS (RFC 2663 section 4.1.1, RFC 6296): the n-th `inside` address is the n-th `public`
    one outside. Both are prefixes, pairs of the same length.

    - ENTERING: a packet that comes in for the `public` address goes to the one `inside`, and to the
    `port` where one is given.

    A rule takes only packets of its `services`, by the protocol, port or message that open a
    conversation; None stands for every packet.
    """

    device: str
    interface: str
    kind: TranslationKind
    family: Family
    inside: tuple[Pattern, ...]
    public: tuple[Pattern, ...]
    services: tuple[ServiceTerm, ...] | None
    port: int | None
    text: str
    place: Place

    @property
    def point(self) -> Point:
        """The interface at which it translates."""
        return Point(PointKind.INTERFACE, self.device, self.interface)

    def is_public(self, address: Address) -> bool:
        """Whether it puts an address in the place of others outside."""
        return address.family is self.family and any(
            each.contains(address.value) for each in self.public
        )

    def pairs(self) -> Iterator[tuple[Pattern, Pattern]]:
        """Yield the pairs of inside and outside prefixes that are translated one to one; none where
        a pool hides the sender.
        """
        if self.kind is not TranslationKind.LEAVING:
            yield from zip(self.inside, self.public, strict=True)


class Management(NamedTuple):
    """How a device is managed: by a protocol, at an address or that of a named machine of the plan,
    and a port; as a user, "" for whoever runs the program.

    Without an address (None) it is one of the device's own.
    """

    protocol: str
    at: Address | str | None
    port: int
    user: str
    place: Place


@dataclass(frozen=True, slots=True)
class Device:
    """A router or a switch.

    A stateful one lets later packets of a known connection pass without asking its lists. A
    `closed` one denies what comes in at an interface without an inbound list of its family. Its
    `translations` are in the order of their lines. How it is managed, in one way at most, has no
    effect on packets.
    """

    name: str
    switch: bool
    stateful: bool
    place: Place = field(compare=False)
    interfaces: dict[str, Interface] = field(default_factory=dict)
    ports: dict[str, Port] = field(default_factory=dict)
    routes: list[Route] = field(default_factory=list)
    closed: bool = False
    translations: list[Translation] = field(default_factory=list)
    management: list[Management] = field(default_factory=list, compare=False)

    @property
    def itself(self) -> Point:
        """The place of lists for traffic to the device itself."""
        return Point(PointKind.ITSELF, self.name)

    def addresses(self) -> tuple[Address, ...]:
        """Return every address of every interface."""
        return tuple(
            own.address for interface in self.interfaces.values() for own in interface.addresses
        )


@placeless
class Host(NamedTuple):
    """A machine of the plan on a subnet or an outside; `mac` is its hardware address, where the
    plan gives it. A stateful one lets later packets of a known connection pass without asking its
    own lists.
    """

    name: str
    addresses: tuple[Address, ...]
    on: str
    at: Point | None
    gateways: tuple[Address, ...]
    place: Place
    mac: int | None = None
    stateful: bool = False

    @property
    def point(self) -> Point:
        """The place of the lists that move with it."""
        return Point(PointKind.HOST, self.name)

    def in_family(self, family: Family) -> Address | None:
        """Return its first address of a family, or None."""
        return next((address for address in self.addresses if address.family is family), None)


@placeless
class SharedGateway(NamedTuple):
    """Addresses of a subnet for which several devices can answer, forwarding what is sent to them
    (VRRP, RFC 9568).

    `by` are their interfaces on the subnet, in the order written; `vrid` is the virtual router's
    number, None where the plan does not give it.
    """

    addresses: tuple[Address, ...]
    on: str
    by: tuple[Point, ...]
    vrid: int | None
    place: Place


LEASES_OF = "leases of "
"""What stands before a subnet's name for the addresses that its machines get for a time."""


@placeless
class Leases(NamedTuple):
    """Addresses of a subnet, of one family, that machines there get for a limited time (RFC 2131,
    RFC 8415): from a device on it, or from a host, to which the devices of the subnet relay
    requests where it is elsewhere (RFC 1542 section 4).

    `names` and `time` are the hosts, devices or addresses that a lease gives its machine as name
    servers and time servers (RFC 2132 sections 3.8 and 8.3, RFC 3646, RFC 5908).
    """

    addresses: tuple[Pattern, ...]
    on: str
    by: str
    names: tuple[str, ...]
    time: tuple[str, ...]
    place: Place

    @property
    def family(self) -> Family:
        """The family of its addresses."""
        return self.addresses[0].family

    @property
    def word(self) -> str:
        """The word for all leased addresses of its subnet."""
        return f"{LEASES_OF}{self.on}"

    def has(self, address: Address) -> bool:
        """Whether an address is among the leased ones."""
        return address.family is self.family and any(
            each.contains(address.value) for each in self.addresses
        )

    def first_but(self, taken: Container[Address]) -> Address | None:
        """Return its first address that is not among the `taken` ones, None where there is none."""
        every = (
            Address(self.family, value)
            for each in self.addresses
            for value in range(each.value, (each.value | each.wildcard) + 1)
        )
        return next((each for each in every if each not in taken), None)


@placeless
class Placement(NamedTuple):
    """A list placed at a point in one direction."""

    access_list: str
    direction: Direction
    point: Point
    place: Place

    @property
    def where(self) -> str:
        """The point and direction, as the language writes them."""
        return stands_at(self.direction, self.point)
