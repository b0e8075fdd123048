"""Findings about ethernet lists: what they deny that a link needs, and entries for machines that
are elsewhere.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from crossgate.core.audit.context import Case
from crossgate.core.audit.registry import finds
from crossgate.core.model.condition import State
from crossgate.core.model.entry import Action
from crossgate.core.model.ethernet import (
    BROADCAST,
    ETHERTYPES,
    EthernetEntry,
    EthernetList,
    Frame,
    Stations,
)
from crossgate.core.model.finding import Fault, Finding
from crossgate.core.model.network import (
    EACH_WAY,
    Direction,
    Host,
    Interface,
    Placement,
    Point,
    stands_at,
)
from crossgate.core.model.plan import Plan


class _Station(NamedTuple):
    """A machine of the plan on a link: its name, its subnet, and its hardware address where that is
    known.
    """

    name: str
    on: str
    mac: int | None


def _stations_at(plan: Plan, point: Point) -> list[_Station]:
    """Return the machines at a switch port, or the host whose own list it is."""
    own = [each for each in plan.hosts.values() if point in (each.at, each.point)]
    interfaces = [
        each
        for device in plan.devices.values()
        for each in device.interfaces.values()
        if each.at == point
    ]
    return [*map(_station, own), *map(_station, interfaces)]


def _station(machine: Host | Interface) -> _Station:
    name = machine.name if isinstance(machine, Host) else str(machine.point)
    return _Station(name, machine.on, machine.mac)


@finds("arp-blocked")
def arp_blocked(case: Case) -> Iterator[Finding]:
    """Yield the ethernet lists that permit IPv4 and deny the ARP without which machines cannot find
    each other (RFC 826).
    """
    for placement in case.plan.frame_placements:
        own = case.plan.frame_lists[placement.access_list]
        if not case.scope.looks_at(own):
            continue
        found = next(
            filter(
                None,
                (
                    _stopped(case, own, placement, point)
                    for point in case.plan.points_of(placement.point, None)
                ),
            ),
            None,
        )
        if found is not None:
            entry, what = found
            where = "its otherwise line" if entry is None else str(entry.number)
            fault = Fault(
                (
                    f"{placement.where} IPv4 passes, and {where} stops "
                    f"{what}: without ARP no machine finds another (RFC 826)"
                ),
                "permit arp any to any",
            )
            place = placement.place if entry is None else entry.place
            yield Finding(
                "arp-blocked", place, own.name, None if entry is None else entry.number, fault
            )


def _stopped(
    case: Case, own: EthernetList, placement: Placement, point: Point
) -> tuple[EthernetEntry | None, str] | None:
    """Return the line that denies ARP for a machine whose IPv4 packets pass, with the kind of
    message; None where none does.
    """
    plan, inward = case.plan, placement.direction is Direction.INBOUND
    for station in _stations_at(plan, point) or [_Station("", "", None)]:
        links = [
            each
            for device in plan.devices.values()
            for each in device.interfaces.values()
            if each.on == station.on
        ]
        peers = [None, *dict.fromkeys(each.mac for each in links if each.mac is not None)]
        talk = [Frame(station.mac, peer) if inward else Frame(peer, station.mac) for peer in peers]
        asking = (
            [Frame(station.mac, BROADCAST)]
            if inward
            else [Frame(peer, BROADCAST) for peer in peers]
        )
        for opened in case.states(own):
            if not any(_decides(own, frame, ETHERTYPES["ipv4"], opened)[1] for frame in talk):
                continue
            for frames, what in (
                (asking, "the ARP that asks for an address"),
                (talk, "the ARP that answers"),
            ):
                decided = [_decides(own, frame, ETHERTYPES["arp"], opened) for frame in frames]
                if not any(permits for _, permits in decided):
                    return decided[0][0], what
    return None


def _decides(
    own: EthernetList, frame: Frame, ethertype: int, opened: State
) -> tuple[EthernetEntry | None, bool]:
    ruling = next(
        each
        for each in own.rulings(frame, ethertype)
        if each.window is None or each.window in opened
    )
    return (
        None if ruling.entry is None else own.entry(ruling.entry)
    ), ruling.action is Action.PERMIT


def misplaced(case: Case) -> Iterator[Finding]:
    """Yield the entries for machines of the plan whose frames never pass a place of their list that
    way.
    """
    plan = case.plan
    machines = [_station(each) for each in plan.hosts.values()]
    machines += [
        _station(each) for device in plan.devices.values() for each in device.interfaces.values()
    ]
    known = {each.mac: each.name for each in machines if each.mac is not None}
    for own in plan.frame_lists.values():
        places = plan.places_of(own)
        for entry in case.scope.entries(own):
            faults = [_why(plan, entry, place, known) for place in places]
            if faults and all(faults):
                fault = faults[0]
                assert fault is not None
                yield Finding("wrong-side", entry.place, own.name, entry.number, fault)


def _why(
    plan: Plan, entry: EthernetEntry, place: tuple[Point, Direction], known: dict[int, str]
) -> Fault | None:
    """Return the reason why no frame that passes a place can match an entry; None where one can."""
    point, direction = place
    if point in plan.cabled:
        return None  # to another switch: whoever is there
    here = {each.mac: each.name for each in _stations_at(plan, point) if each.mac is not None}
    near, far = (
        (entry.source, entry.destination)
        if direction is Direction.INBOUND
        else (entry.destination, entry.source)
    )
    other = next(each for each in EACH_WAY if each is not direction)
    named = _named(far, known)
    if named and set(named) <= set(here):
        side = "sends" if direction is Direction.OUTBOUND else "gets"
        return Fault(
            (
                f"nothing that passes {stands_at(direction, point)} can match it: what {here[named[0]]} "
                f"{side} passes there {other}"
            ),
            f"place the list {other}",
        )
    named = _named(near, known)
    if named and here and entry.action is Action.PERMIT and not set(named) & set(here):
        return Fault(
            (
                f"nothing that passes {stands_at(direction, point)} can match it: {known[named[0]]} is "
                f"elsewhere, and {', '.join(here.values())} is there"
            ),
            "name the machine that is there, or place the list where the other is",
        )
    return None


def _named(stations: Stations, known: dict[int, str]) -> list[int]:
    """Return the addresses of a set that consists of single machines of the plan; nothing where it
    contains others.
    """
    own = [value for value, wildcard in stations.patterns if not wildcard]
    return own if len(own) == len(stations.patterns) and all(each in known for each in own) else []
