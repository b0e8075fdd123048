"""What a network is made of: subnets, outsides, devices with interfaces and ports, hosts, and the
points lists stand at.
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
    """Which way a packet crosses a point, as seen from the device: into it or out of it.

    Of a subnet it may also be from one of its machines to another, `WITHIN` it.
    """

    INBOUND = "inbound"
    OUTBOUND = "outbound"
    WITHIN = "within"


EACH_WAY = (Direction.INBOUND, Direction.OUTBOUND)
"""Into a place, and out of it."""


class PointKind(StrEnum):
    """What sort of place a list stands at."""

    INTERFACE = "interface"
    PORT = "port"
    SUBNET = "subnet"
    ITSELF = "itself"
    HOST = "host"
    GROUP = "group"


_NAMED = frozenset((PointKind.SUBNET, PointKind.HOST, PointKind.GROUP))


class Point(NamedTuple):
    """A place that packets cross: DEVICE.INTERFACE, SWITCH.PORT, a subnet as a whole, a device
    itself, or a host.

    A list at a host follows the machine: it is asked wherever that is plugged in (RFC 4849). A
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
    """Say where a list stands, or what a packet passes, as the language writes it."""
    return f"{direction} {point}" if direction is Direction.WITHIN else f"{direction} on {point}"


class InterfaceAddress(NamedTuple):
    """An address that an interface has, with the length of the connected prefix."""

    address: Address
    length: int

    @property
    def connected(self) -> Pattern:
        """The prefix that is reached directly through the interface."""
        return prefix(self.address, self.length)


@placeless
class Segment(NamedTuple):
    """What interfaces and hosts hang on: a subnet with its prefixes, or an outside.

    An outside with prefixes has their addresses, one without has all the rest; neither has those of
    a subnet of the plan, nor those that are `left_out` of it. Of an `isolated` subnet no machine
    gets a frame of another.
    """

    name: str
    prefixes: tuple[Pattern, ...]
    place: Place
    vlan: int | None = None
    outside: bool = False
    left_out: tuple[Pattern, ...] = ()
    isolated: bool = False

    def holds(self, address: Address) -> bool:
        """Whether one of its prefixes has this address, and it is not left out; subnets come before
        outsides (see `Plan.segment_of`).
        """
        own = any(
            block.family is address.family and block.contains(address.value)
            for block in self.prefixes
        )
        return own and not self.leaves_out(address)

    def leaves_out(self, address: Address) -> bool:
        """Whether it is an outside that an address is left out of."""
        return any(
            block.family is address.family and block.contains(address.value)
            for block in self.left_out
        )


@placeless
class Interface(NamedTuple):
    """An addressed interface of a device. `at` is the switch port its cable goes to, `mac` its
    hardware address, where the plan says so.

    `cost` is what computed routes count for leaving by it, None where the plan does not say; no
    device is a neighbour over one that is `passive`.
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
    """A layer-2 port of a switch. `to` is the port of another switch at the far end of its cable.

    A machine at an `isolated` one gets no frame of another such machine.
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
    """A static route: packets for `destination` go to the neighbour `via`, or end there where that
    is None.
    """

    destination: Pattern
    via: Address | None
    place: Place


class TranslationKind(StrEnum):
    """Which addresses a rule translates, of packets that go which way through its interface."""

    LEAVING = "leaving"
    BOTH_WAYS = "both ways"
    ENTERING = "entering"


@placeless
class Translation(NamedTuple):
    """A rule of a device at one of its interfaces, for one family.

    - LEAVING (RFC 2663 section 4.1.2): what leaves from an `inside` address gets one of the
      `public` ones and a port of the device's choice; with no `public` ones it goes as it is.
    - BOTH_WAYS (RFC 2663 section 4.1.1, RFC 6296): the n-th `inside` address is the n-th `public`
      one outside. Both are prefixes, pair by pair of one length.
    - ENTERING: what comes in for the `public` address goes to the one `inside`, and to the `port`
      where one is given.

    It takes packets of its `services` alone, by the protocol, port or message that open a
    conversation; None is every packet.
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
        """Whether it makes an address stand for others outside."""
        return address.family is self.family and any(
            each.contains(address.value) for each in self.public
        )

    def pairs(self) -> Iterator[tuple[Pattern, Pattern]]:
        """Yield the prefixes that are one to one, inside and outside; none where a pool hides who
        sends.
        """
        if self.kind is not TranslationKind.LEAVING:
            yield from zip(self.inside, self.public, strict=True)


class Management(NamedTuple):
    """How a device is managed: by a protocol, at an address, or that of a machine of the plan by
    its name, and a port; as a user, "" for whoever runs the program.

    Without an address (None) it is one of the device's own.
    """

    protocol: str
    at: Address | str | None
    port: int
    user: str
    place: Place


@dataclass(frozen=True, slots=True)
class Device:
    """A router or a switch. A stateful one lets the later packets of a conversation by unasked.

    One that is `closed` denies what comes in at an interface where no list of its family stands
    inbound. Its `translations` stand in the order of their lines. How it is managed,
    one way at most, changes nothing of what becomes of packets.
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
        """The place where lists for traffic to the device stand."""
        return Point(PointKind.ITSELF, self.name)

    def addresses(self) -> tuple[Address, ...]:
        """Return every address of every interface."""
        return tuple(
            own.address for interface in self.interfaces.values() for own in interface.addresses
        )


@placeless
class Host(NamedTuple):
    """A test machine on a subnet or an outside; `mac` is its hardware address, where the plan says
    it.

    A stateful one lets the later packets of a conversation by its own lists unasked.
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
        """The place where the lists stand that follow it."""
        return Point(PointKind.HOST, self.name)

    def in_family(self, family: Family) -> Address | None:
        """Return its first address of a family, or None."""
        return next((address for address in self.addresses if address.family is family), None)


@placeless
class SharedGateway(NamedTuple):
    """Addresses of a subnet that any of several devices answers for, and hands on what is sent by
    them (VRRP, RFC 9568).

    `by` are their interfaces on the subnet, the first as written first; `vrid` is the virtual
    router's number, None where the plan does not say it.
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
    """Addresses of a subnet, of one family, that machines there get for a time (RFC 2131, RFC
    8415): from a device on it, or from a host, to which the devices of its subnet hand requests on
    where it is elsewhere (RFC 1542 section 4).

    `names` and `time` are the hosts, devices or addresses that a lease tells its machine to ask for
    names and for the time (RFC 2132 sections 3.8 and 8.3, RFC 3646, RFC 5908).
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
        """The name for all addresses that are leased on its subnet."""
        return f"{LEASES_OF}{self.on}"

    def has(self, address: Address) -> bool:
        """Whether a machine may get an address by it."""
        return address.family is self.family and any(
            each.contains(address.value) for each in self.addresses
        )

    def first_but(self, taken: Container[Address]) -> Address | None:
        """Return its first address that is not among others, None where it has no other."""
        every = (
            Address(self.family, value)
            for each in self.addresses
            for value in range(each.value, (each.value | each.wildcard) + 1)
        )
        return next((each for each in every if each not in taken), None)


@placeless
class Placement(NamedTuple):
    """A list asked at a point in one direction."""

    access_list: str
    direction: Direction
    point: Point
    place: Place

    @property
    def where(self) -> str:
        """Where and which way, as the language writes it."""
        return stands_at(self.direction, self.point)
