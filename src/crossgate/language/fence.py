"""A fence around a subnet, in the plan's own words: lists, their places, and the expectations that
prove them.

1. What leaves the subnet is checked at its gateways' interfaces, inbound, so that traffic to the
gateways themselves is checked too. Traffic to another subnet, and to any address of a gateway, is
denied; open are the services allowed there, at the gateway's own addresses in the subnet only, and
the named exceptions.

2. What comes from another subnet is denied where it enters. The outside stays open.

3. One way: others may come in. Then only replies go out: TCP by its flags, UDP by the ports that
clients choose from, and echo replies.

4. In IPv6, neighbour discovery and the error messages of RFC 4890 pass, and a gateway's link-local
addresses count as its own.

5. Where a list is already placed where one of these would be, the fence's lines go to the top of
that list, each with a comment; what they do not decide, that list does.

6. Everything else is written between two comment lines. These and the comments are used to find the
fence when it is removed.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from crossgate.core.lists.insertion import free_numbers
from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.address import Family
from crossgate.core.model.entry import Action, Kind
from crossgate.core.model.errors import PlanError, unknown
from crossgate.core.model.network import Direction, Interface, Point, PointKind, Segment, stands_at
from crossgate.core.model.packet import MOST_PORT
from crossgate.core.model.plan import Plan
from crossgate.core.model.service import Ports, ServiceError, format_ports, join_ports
from crossgate.core.sets.boxes import ALL_PORTS
from crossgate.core.sets.meaning import WordKind, meaning_of
from crossgate.language.fence_text import (
    Claimed,
    Fence,
    FenceAsked,
    FenceHead,
    FenceList,
    first_line,
    last_line,
)
from crossgate.language.lines import file_lines

_DHCP = {Family.IPV4: "dhcp", Family.IPV6: "dhcpv6-server"}
_DHCP_TO_ALL = {Family.IPV4: "255.255.255.255", Family.IPV6: "ff02::1:2"}
"""Where a machine without an address asks for one (RFC 2131 section 4.1, RFC 8415 section 7.1)."""
_NEEDED = (
    "neighbor-solicitation",
    "neighbor-advertisement",
    "destination-unreachable",
    "packet-too-big",
    "time-exceeded",
    "parameter-problem",
)
"""ICMPv6 that must pass (RFC 4890 sections 4.3.1 and 4.4.1)."""
_LINK_LOCAL = "fe80::/10"
_EXCEPTIONS = (WordKind.HOST, WordKind.SUBNET, WordKind.OUTSIDE, WordKind.GROUP, WordKind.DEVICE)


def without_fence(text: str, subnet: str) -> str | None:
    """Return a plan's text as it was before a fence was written into it; None where it has none."""
    lines = list(file_lines("", text))
    bare = [line.text for line in lines]
    if first_line(subnet) not in bare or last_line(subnet) not in bare:
        return None
    start, end = bare.index(first_line(subnet)), bare.index(last_line(subnet))
    before, after = lines[:start], lines[end + 1 :]
    if before and not before[-1].text.strip():
        before.pop()
    if before and not after and not lines[end].ending:
        before[-1] = before[-1]._replace(ending="")
    return "".join(line.text + line.ending for line in (*before, *after))


def fence(plan: Plan, asked: FenceAsked) -> Fence:
    """Return the fence around a subnet in the families that it has.

    Where a list is placed already, the lines go to the top of that. Raises `PlanError` when the
    subnet or an exception does not exist, when such a list cannot take the lines, or when there is
    nothing to fence it from.
    """
    segment = plan.segments.get(asked.subnet)
    subnets = [each.name for each in plan.segments.values() if not each.outside]
    if segment is None or segment.outside:
        raise PlanError(unknown("subnet", asked.subnet, subnets))
    for each in asked.exceptions:
        meaning = meaning_of(plan, each)
        if meaning is None or meaning.kind not in _EXCEPTIONS:
            raise PlanError(
                unknown(
                    "host, subnet, group or device",
                    each,
                    [*plan.hosts, *plan.segments, *plan.groups, *plan.devices],
                )
            )
    if asked.subnet in asked.exceptions:
        raise PlanError(
            f"{asked.subnet} is the subnet to be fenced off; --except names what is left open for "
            "it"
        )
    closed = [each for each in subnets if each != asked.subnet and each not in asked.exceptions]
    if not closed:
        raise PlanError(f"there is no other subnet in the plan to keep {asked.subnet} from")
    made = Fence([], [], [], [])
    families = [
        family for family in Family if any(block.family is family for block in segment.prefixes)
    ]
    if not any(_gateways(plan, segment, family) for family in families):
        raise PlanError(
            f"no device has an interface on {asked.subnet}, so nothing leaves it and there is "
            "nothing to fence"
        )
    beyond = closed[0]
    if len(closed) > 1 and any(len(_in_family(plan, closed, family)) for family in families):
        beyond = f"beyond-{asked.subnet}"
        if beyond in plan.names():
            raise PlanError(
                f"there is a {beyond} in the plan already; is {asked.subnet} fenced off?"
            )
        made.groups.append(f"group {beyond} {', '.join(closed)}")
    for family in families:
        work = _OneFamily(
            made, plan, segment, family, asked, beyond, _in_family(plan, closed, family)
        )
        if work.gateways:
            work.write()
    return made


def _in_family(plan: Plan, names: Iterable[str], family: Family) -> list[str]:
    return [name for name in names if _has(plan, name, family)]


def _gateways(plan: Plan, segment: Segment, family: Family) -> list[Interface]:
    """Return the interfaces of the family on a subnet."""
    return [
        interface
        for device in plan.devices.values()
        for interface in device.interfaces.values()
        if interface.on == segment.name and interface.in_family(family)
    ]


def _has(plan: Plan, name: str, family: Family) -> bool:
    meaning = meaning_of(plan, name)
    return meaning is not None and bool(meaning.in_family(family))


class _OneFamily:
    """Writes the lists of one family, their places and their expectations."""

    def __init__(
        self,
        made: Fence,
        plan: Plan,
        segment: Segment,
        family: Family,
        asked: FenceAsked,
        beyond: str,
        closed: list[str],
    ) -> None:
        self.made, self.plan, self.family, self.asked = made, plan, family, asked
        self.name, self.beyond, self.closed = segment.name, beyond, closed
        self.tail = "" if family is Family.IPV4 else "6"
        self.gateways = _gateways(plan, segment, family)
        closed_at = [
            interface for interface in self.gateways if interface.device not in asked.exceptions
        ]
        self.points = [str(interface.point) for interface in closed_at]
        self.devices = list(dict.fromkeys(interface.device for interface in closed_at))
        shared = (
            address
            for each in plan.gateways
            if each.on == segment.name
            for address in each.addresses
        )
        self.shared = [str(address) for address in shared if address.family is family and closed_at]
        self.outward = [
            str(interface.point)
            for device in plan.devices.values()
            for interface in device.interfaces.values()
            if device.name not in (*self.devices, *asked.exceptions)
            and plan.segments[interface.on].outside
            and interface.in_family(family)
        ]
        """Where other devices are joined with an outside: the one side of theirs that is in no
        subnet.
        """
        self.services = list(self._services())
        self.excepted = _in_family(plan, asked.exceptions, family)

    def write(self) -> None:
        """Write everything. Raises `PlanError` where another list is in the way."""
        out = f"fence-{self.name}-out{self.tail}"
        self._list(
            out,
            "What leaves {}: nothing for the other subnets",
            self._out(),
            [interface.point for interface in self.gateways],
        )
        if self.closed and not self.asked.one_way:
            inward = f"fence-{self.name}-in{self.tail}"
            come = [
                *(f"permit ip {each} to {self.name}" for each in self.excepted),
                f"deny ip {self.beyond} to any",
            ]
            self._list(
                inward,
                "What enters {}: nothing from the other subnets",
                come,
                [Point(PointKind.SUBNET, self.name)],
            )
        self.made.expectations.extend(self._claims())

    def _list(self, name: str, note: str, entries: list[str], points: list[Point]) -> None:
        if name in self.plan.lists:
            raise PlanError(
                f"there is a list {name} already (line {self.plan.line_of(self.plan.lists[name].place)}); lift "
                "and drop it first"
            )
        standing = {
            point: self.plan.placed.get((point, Direction.INBOUND, self.family)) for point in points
        }
        for other in dict.fromkeys(each for each in standing.values() if each is not None):
            self._head(other, entries, points)
        free = [point for point in points if standing[point] is None]
        closed = [
            point for point in free if (point, Direction.INBOUND, self.family) in self.plan.closed
        ]
        # A list at a closed place opens it: it permits what its entries do and nothing else.
        opened = [point for point in free if point not in closed]
        kinds = ("", opened, Action.PERMIT), ("-closed" if opened else "", closed, Action.DENY)
        for tail, own, otherwise in kinds:
            if own:
                placements = tuple(f"place {name}{tail} inbound on {point}" for point in own)
                text = note.format(self.name)
                self.made.lists.append(
                    FenceList(
                        f"{name}{tail}", self.family, text, tuple(entries), placements, otherwise
                    )
                )

    def _head(self, other: AccessList, entries: list[str], points: list[Point]) -> None:
        """Put entries at the top of a list that is at some of the points. Raises `PlanError` where
        they would not have their effect there.
        """
        places = self.plan.places_of(other)
        elsewhere = next(
            (
                stands_at(direction, point)
                for point, direction in places
                if point not in points or direction is not Direction.INBOUND
            ),
            "",
        )
        here = next(str(point) for point, _ in places if point in points)
        if other.kind is Kind.STANDARD or elsewhere:
            why = (
                f"it stands {elsewhere} too" if elsewhere else "a standard list sees no destination"
            )
            raise PlanError(
                f"{other.name} stands inbound on {here} already, and the fence cannot go to its "
                f"head: {why}; first: crossgate lift {other.name} inbound {here}"
            )
        numbers = free_numbers(other, other.entries[0] if other.entries else None, len(entries))
        if not numbers:
            raise PlanError(
                f"{other.name} stands inbound on {here} already, and has no {len(entries)} "
                f"numbers free before {other.entries[0].number}; "
                f"first: crossgate list renumber {other.name} --start {10 * (len(entries) + 1)}"
            )
        self.made.heads.append(FenceHead(other.name, tuple(numbers), tuple(entries)))

    def _services(self) -> Iterator[str]:
        """Yield the allowed services as tokens of the family; DHCP has another name in IPv6."""
        for token in self.asked.allow:
            own = _DHCP[self.family] if token == "dhcp" else token
            try:
                self.plan.service(own, self.family)
            except ServiceError as error:
                raise PlanError(f"--allow {token}: {error}") from None
            yield own

    def _out(self) -> list[str]:
        """Return the entries for what leaves the subnet."""
        six = self.family is Family.IPV6
        own = [*self.points, *self.shared, *[_LINK_LOCAL] * (six and bool(self.devices))]
        found = [f"permit icmp/{message} any to any" for message in _NEEDED if six]
        for service in [*self.services, *["icmp/echo-reply"] * ("ping" in self.services)]:
            found += [f"permit {service} any to {each}" for each in own]
        if self.asked.one_way:
            found += self._replies()
        if _DHCP[self.family] not in self.services:
            found.append(f"deny {_DHCP[self.family]} any to {_DHCP_TO_ALL[self.family]}")
        found += [f"permit ip {self.name} to {each}" for each in self.excepted]
        found += [
            f"deny ip any to {each}"
            for each in (*self.devices, *own[len(self.points) :], *self.outward)
        ]
        return [*found, f"deny ip any to {self.beyond}"] if self.closed else found

    def _replies(self) -> Iterator[str]:
        first, last = self.plan.client_ports
        clients = f"{first}-" if last == MOST_PORT else f"{first}-{last}"
        yield "permit tcp any to any established"
        if first > 0:
            yield f"permit udp/{clients} any to any source port -{first - 1}"
        if "ping" not in self.services:
            yield "permit icmp/echo-reply any to any"
        elif self.closed:
            yield f"permit icmp/echo-reply any to {self.beyond}"

    def _claims(self) -> Iterator[Claimed]:
        """Yield what the fence must hold: towards the other subnets, and at the gateways."""
        limit = self.plan.client_ports[0] - 1
        services = ("tcp", f"udp/-{limit}", "ping") if self.asked.one_way else ("ip",)
        ways = [(self.name, "{}")] if self.asked.one_way else [(self.name, "{}"), ("{}", self.name)]
        for service in services if self.closed else ():
            for one, two in ways:
                text = f"expect deny {service} {one} to {two} over {self.family.word}"
                yield Claimed(
                    text.format(self.beyond), tuple(text.format(each) for each in self.closed)
                )
        own = [
            f"{protocol}/{format_ports(left)}" if left != (ALL_PORTS,) else protocol
            for protocol, left in self._closed_ports()
        ]
        own += [] if "ping" in self.services else ["ping"]
        for point in (*self.points, *self.shared):
            closed = tuple(self._at_gateway(service, point).whole for service in own)
            open_there = " and ".join(self.services) or "nothing"
            yield Claimed(
                f"expect only {open_there} {self.name} to {point} over {self.family.word}", closed
            )
        for device in self.devices:
            others = [
                str(each.point)
                for each in self.plan.devices[device].interfaces.values()
                if each.in_family(self.family) and each.on != self.name
            ]
            end = self._together(device, others)
            yield from (self._at_gateway(service, end) for service in services if end)
        yield from (self._at_gateway(service, end) for end in self.outward for service in services)

    def _at_gateway(self, service: str, end: str) -> Claimed:
        text = f"expect deny {service} {self.name} to {end} over {self.family.word}"
        return Claimed(text, (text,))

    def _together(self, device: str, points: list[str]) -> str:
        """Return a name for a device's other interfaces: that of the only one, or of a group of
        them.
        """
        if len(points) < 2:
            return "".join(points)
        name, members = f"{device}-beyond-{self.name}", ", ".join(points)
        if f"group {name} {members}" in self.made.groups:
            return name
        if any(each.startswith(f"group {name} ") for each in self.made.groups):
            name += self.tail
        if name in self.plan.names():
            raise PlanError(f"there is a {name} in the plan already; is {self.name} fenced off?")
        self.made.groups.append(f"group {name} {members}")
        return name

    def _closed_ports(self) -> Iterator[tuple[str, Ports]]:
        """Yield the ports of TCP and of UDP that are closed at the gateways; in a one-way fence,
        clients' UDP ports are open for replies.
        """
        terms = [
            term
            for service in self.services
            for term in self.plan.service(service, self.family).terms
        ]
        for protocol, number in (("tcp", 6), ("udp", 17)):
            opened = [
                interval
                for term in terms
                if term.protocol in (None, number)
                for interval in term.ports or (ALL_PORTS,)
            ]
            if self.asked.one_way and protocol == "udp":
                opened.append((self.plan.client_ports[0], MOST_PORT))
            left, start = [], 0
            for first, last in (*join_ports(opened), (MOST_PORT + 1, MOST_PORT + 1)):
                if start < first:
                    left.append((start, first - 1))
                start = last + 1
            if left:
                yield protocol, tuple(left)
