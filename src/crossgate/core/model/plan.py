"""A whole plan: the network, its lists, where they are placed and what must hold, all found by
name.
"""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Sized
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import datetime, tzinfo
from functools import cached_property
from typing import Any

from crossgate.core.model.accesslist import AccessList, AnyList, ClosedPlace
from crossgate.core.model.address import Address, Family
from crossgate.core.model.claim import ClaimHours, Moment, Only, Promise
from crossgate.core.model.condition import State
from crossgate.core.model.conditions import Limit, When, exceeded
from crossgate.core.model.entry import Kind
from crossgate.core.model.errors import Place, PlanError
from crossgate.core.model.ethernet import EthernetList
from crossgate.core.model.finding import Acceptance
from crossgate.core.model.named import Group, NamedService, NamedServices, UnknownName
from crossgate.core.model.network import (
    Direction,
    Host,
    Leases,
    Placement,
    Point,
    PointKind,
)
from crossgate.core.model.packet import MOST_PORT
from crossgate.core.model.service import Service, ServiceError
from crossgate.core.model.tls import Hello, Spoken, settled, spoken_sorts
from crossgate.core.model.topology import Topology
from crossgate.core.model.window import Window, is_past, open_at, states, until_window

DEFAULT_NUMBERING = (
    (Kind.STANDARD, 1, 99),
    (Kind.STANDARD, 1300, 1999),
    (Kind.EXTENDED, 100, 199),
    (Kind.EXTENDED, 2000, 2699),
)
DEFAULT_CLIENT_PORTS = (32768, MOST_PORT)


@dataclass(kw_only=True)
class Plan(Topology):
    """Everything that one plan says.

    `files` are the files it was read from, the plan's own first.
    """

    files: tuple[str, ...] = ()
    tables: tuple[str, ...] = ()
    """The tables that groups are read from."""
    title: str = ""
    zone: str = ""
    """The IANA time zone of the devices' clocks, "" for the system's."""
    numbering: tuple[tuple[Kind, int, int], ...] = DEFAULT_NUMBERING
    client_ports: tuple[int, int] = DEFAULT_CLIENT_PORTS
    leases: list[Leases] = field(default_factory=list)
    groups: dict[str, Group] = field(default_factory=dict)
    services: dict[str, NamedService] = field(default_factory=dict)
    windows: dict[str, Window] = field(default_factory=dict)
    lists: dict[str, AccessList] = field(default_factory=dict)
    frame_lists: dict[str, EthernetList] = field(default_factory=dict)
    placements: list[Placement] = field(default_factory=list)
    frame_placements: list[Placement] = field(default_factory=list)
    """Where ethernet lists stand."""
    expectations: list[Promise] = field(default_factory=list)
    acceptances: list[Acceptance] = field(default_factory=list)

    def __repr__(self) -> str:
        counts: dict[str, Sized] = {
            "lists": self.every_list,
            "devices": self.devices,
            "hosts": self.hosts,
            "claims": self.expectations,
        }
        told = " ".join(f"{word}={len(found)}" for word, found in counts.items())
        return f"<Plan {self.files[0] if self.files else ''} {told}>"

    @cached_property
    def placed(self) -> dict[tuple[Point, Direction, Family], AccessList]:
        """The list at each point, direction and family; one placed on a group is at each of its
        hosts.
        """
        return {
            (point, placement.direction, access_list.family): access_list
            for placement in self.placements
            for access_list in (self.lists[placement.access_list],)
            for point in self.points_of(placement.point, access_list.family)
        }

    @cached_property
    def closed(self) -> dict[tuple[Point, Direction, Family], ClosedPlace]:
        """What closed devices do at their interfaces without an inbound list of a family."""
        return {
            (interface.point, Direction.INBOUND, family): ClosedPlace.at(
                interface.point, family, device.place
            )
            for device in self.devices.values()
            if device.closed
            for interface in device.interfaces.values()
            for family in Family
            if interface.in_family(family)
            and (interface.point, Direction.INBOUND, family) not in self.placed
        }

    @cached_property
    def asked(self) -> dict[tuple[Point, Direction, Family], AccessList]:
        """What is asked about packets of a family at a point in a direction: the list placed there,
        or what a closed device does.
        """
        return {**self.placed, **self.closed} if self.closed else self.placed

    def points_of(self, point: Point, family: Family | None) -> tuple[Point, ...]:
        """Return the places that a list of a family has by being placed on a point: the point
        itself, or the points or hosts of a group.

        A host counts as one of a group's where all its addresses of the family (None for both: an
        ethernet list) are in the group, and it has some.
        """
        if point.kind is not PointKind.GROUP:
            return (point,)
        if self.groups[point.owner].points:
            return self.groups[point.owner].points
        members = self.groups[point.owner].members

        def inside(address: Address) -> bool:
            own = members.get(address.family)
            return own is not None and own.contains(address.value)

        found = (
            (host.point, [each for each in host.addresses if family in (None, each.family)])
            for host in self.hosts.values()
        )
        return tuple(at for at, addresses in found if addresses and all(map(inside, addresses)))

    def hosts_at(self, placement: Placement) -> tuple[Point, ...]:
        """Return the places of the hosts that a list placed on a host or a group follows, and those
        of a group of points.
        """
        own = self.lists.get(placement.access_list)
        points = self.points_of(placement.point, None if own is None else own.family)
        return tuple(
            each
            for each in points
            if each.kind is PointKind.HOST or placement.point.kind is PointKind.GROUP
        )

    def places_of(self, access_list: AnyList[Any]) -> dict[tuple[Point, Direction], None]:
        """Return the places of a list, in the order of the plan; for a group, its hosts."""
        family = access_list.family if isinstance(access_list, AccessList) else None
        return {
            (point, each.direction): None
            for each in self._placements_of[family is None].get(access_list.name, ())
            for point in self.points_of(each.point, family)
        }

    @cached_property
    def _placements_of(self) -> tuple[dict[str, list[Placement]], dict[str, list[Placement]]]:
        """The placements of each list, of those for packets and of those for frames."""
        found: tuple[dict[str, list[Placement]], dict[str, list[Placement]]] = {}, {}
        for own, every in zip(found, (self.placements, self.frame_placements), strict=True):
            for each in every:
                own.setdefault(each.access_list, []).append(each)
        return found

    @cached_property
    def every_window(self) -> dict[str, Window]:
        """The windows that are declared, and those that `until DATE` makes, alone or from one of
        them.
        """
        names = {name for each in self.every_list.values() for name in each.windows}
        names |= {each.hours.window for each in self.expectations if each.hours is not None}
        dated = sorted(names - self.windows.keys())
        return {**self.windows, **{each: until_window(each, self.windows) for each in dated}}

    def is_over(self, window: str | None, now: datetime) -> bool:
        """Whether a window, given by its name, has closed for good."""
        closes = None if window is None else self.every_window[window].closes
        return closes is not None and closes <= now

    @property
    def sources(self) -> tuple[str, ...]:
        """All files that it was read from, tables included."""
        return (*self.files, *self.tables)

    def line_of(self, place: Place) -> str:
        """Return the name of a line: its number, for an included file with the file's name as seen
        from the plan's folder, as in `want.gate:3`.
        """
        if not self.files or place.file == self.files[0]:
            return str(place.line)
        name = os.path.relpath(place.file, os.path.dirname(self.files[0]) or ".")
        return f"{name}:{place.line}"

    @property
    def every_list(self) -> dict[str, AnyList[Any]]:
        """The lists for packets, then the ethernet lists."""
        return {**self.lists, **self.frame_lists}

    @property
    def every_placement(self) -> list[Placement]:
        """The placements of lists of either kind, in the order of the plan's files and lines."""
        return sorted(
            (*self.placements, *self.frame_placements),
            key=lambda each: (self.files.index(each.place.file), each.place.line),
        )

    @cached_property
    def framed(self) -> dict[tuple[Point, Direction], EthernetList]:
        """The ethernet list at each point and direction; one placed on a group is at each of its
        hosts.
        """
        return {
            (point, each.direction): self.frame_lists[each.access_list]
            for each in self.frame_placements
            for point in self.points_of(each.point, None)
        }

    @cached_property
    def says_of_frames(self) -> dict[tuple[Point, Direction], object]:
        """What the ethernet list at each place does, as a value to compare: with equal values,
        every frame is treated alike.
        """
        return {place: own.says for place, own in self.framed.items()}

    @cached_property
    def followed(self) -> frozenset[str]:
        """The names of the hosts that have lists of their own."""
        points = {*(point for point, _, _ in self.placed), *(point for point, _ in self.framed)}
        return frozenset(point.owner for point in points if point.kind is PointKind.HOST)

    @cached_property
    def hosts_apart(self) -> dict[str, Host]:
        """The hosts, by name, whose packets may be treated otherwise than those of other addresses
        of their subnet: they have a port, a gateway or a list of their own, or a hardware address
        that matters.
        """
        return {
            name: host
            for name, host in self.hosts.items()
            if host.at is not None
            or host.gateways
            or name in self.followed
            or (host.mac is not None and self.framed)
            or not all(self.is_on(each, host.on) for each in host.addresses)
        }

    def now(self) -> datetime:
        """Return the present time, on the wall clock of the plan's time zone, or on the system's
        where it names none.
        """
        return datetime.now(self.time_zone).replace(tzinfo=None)

    @property
    def time_zone(self) -> tzinfo | None:
        """The time zone of the devices' clocks, None for the system's."""
        from zoneinfo import ZoneInfo

        return ZoneInfo(self.zone) if self.zone else None

    def state_at(self, when: When) -> State:
        """Return the state of all conditions for a question."""
        opened: State = open_at(self.every_window.values(), when.at)
        return settled(opened | self.limits if when.flooding else opened, when.hello)

    @cached_property
    def asks_for_tls(self) -> bool:
        """Whether some list asks for the TLS version of conversations."""
        return any(each.tls for each in self.lists.values())

    @cached_property
    def spoken_sorts(self) -> tuple[Hello | None, ...]:
        """One hello for each sort of conversations that the plan's lists treat differently by their
        TLS, None for no TLS; empty where no list asks.
        """
        return spoken_sorts(test for each in self.lists.values() for test in each.tls)

    @cached_property
    def asks_for_suites(self) -> bool:
        """Whether some list asks for cipher suites."""
        return any(test.suites is not None for each in self.lists.values() for test in each.tls)

    @cached_property
    def limits(self) -> frozenset[Limit]:
        """The rate limits of the plan's entries."""
        return frozenset(limit for each in self.lists.values() for limit in each.limits)

    def states(
        self,
        lists: Iterable[AnyList[Any]],
        at: Moment | ClaimHours | None = None,
        flooding: bool | None = None,
        spoken: Spoken | None = None,
    ) -> dict[State, datetime | None]:
        """Return every state that the conditions of some lists can be in, each with a moment at
        which it holds; None where no window matters.

        With `at`, only that time or those hours count. With `flooding`, every limit is exceeded;
        where it is False, none is; for None see `exceeded`. With `spoken`, only conversations that
        settle on that TLS count; without, all do.
        """
        every = list(lists)
        limits = {limit: None for each in every for limit in each.limits}
        hours = at if isinstance(at, ClaimHours) else None
        moment = at if isinstance(at, Moment) else None
        names = {name for each in every for name in each.windows} | (
            {hours.window} if hours else set()
        )
        windows = [self.every_window[name] for name in sorted(names)]
        opened: dict[State, datetime | None] = {frozenset(): None}
        if windows and moment is not None and moment.date is not None:
            opened = {open_at(windows, moment.date): moment.date}
        elif windows:
            opened = dict(
                sorted(
                    states(windows, moment.minute if moment else None).items(),
                    key=lambda state: len(state[0]),
                )
            )
        if hours is not None:
            opened = {
                state: when
                for state, when in opened.items()
                if (hours.window in state) is hours.inside
            }
        beyond = (
            exceeded(limits)
            if flooding is None
            else [frozenset(limits)]
            if flooding
            else [frozenset()]
        )
        hellos = spoken_sorts((test for each in every for test in each.tls), spoken)
        return {
            settled(state | each, hello) if hellos else state | each: when
            for hello in hellos or (None,)
            for each in beyond
            for state, when in opened.items()
        }

    def names(self) -> list[str]:
        """Return every name that can stand for addresses, and every point, as a person may write
        them.
        """
        points = [
            str(interface.point)
            for device in self.devices.values()
            for interface in device.interfaces.values()
        ]
        leases = dict.fromkeys(each.word for each in self.leases)
        return [*self.hosts, *self.devices, *self.segments, *self.groups, *points, *leases]

    def wanted(self, now: datetime) -> list[Promise]:
        """Return the expectations except those whose last day is over."""
        return [each for each in self.expectations if not is_past(each.until, now)]

    @property
    def only_lines(self) -> list[Only]:
        """The `only` lines among the expectations."""
        return [each for each in self.expectations if isinstance(each, Only)]

    def lists_on(self, word: str) -> list[AnyList[Any]]:
        """Return the lists at a device (anywhere on it), a point, a subnet, a host or a group.
        Raises `UnknownName`.
        """
        if not (
            word in self.devices
            or word in self.segments
            or word in self.hosts
            or word in self.groups
            or " " in word
        ):
            self.point(word)
        stands = {
            place: None
            for placement in self.every_placement
            for place in self._at(placement)
            if word in (str(place[0]), place[0].owner)
        }
        return [self.every_list[name] for _, name in stands]

    def _at(self, placement: Placement) -> Iterator[tuple[Point, str]]:
        return (
            (point, placement.access_list)
            for point in dict.fromkeys((placement.point, *self.hosts_at(placement)))
        )

    def access_list(self, name: str) -> AccessList:
        """Find a list for packets by its number or name. Raises `UnknownName`, and `PlanError` for
        an ethernet list.
        """
        found = self.any_list(name)
        if not isinstance(found, AccessList):
            raise PlanError(f"{name} is an ethernet list, and this is about lists for packets")
        return found

    def any_list(self, name: str) -> AnyList[Any]:
        """Find a list by its number or name. Raises `UnknownName`."""
        if name in self.lists:
            return self.lists[name]
        if name in self.frame_lists:
            return self.frame_lists[name]
        raise UnknownName("list", name, list(self.every_list))

    @cached_property
    def _named_services(self) -> NamedServices:
        return NamedServices(self.services)

    def service(self, text: str, family: Family) -> Service:
        """Read a service token as lists of `family` would. Raises `ServiceError`."""
        return self._named_services.read(text, family)

    def is_service(self, word: str) -> bool:
        """Whether a word is a service in some family, and not a name that the plan defines."""
        if word in self.names():
            return False
        for family in Family:
            with suppress(ServiceError):
                self.service(word, family)
                return True
        return False
