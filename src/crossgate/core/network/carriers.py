"""What the paths of a packet depend on: the devices, interfaces and ports that carry it."""

from __future__ import annotations

from crossgate.core.model.address import Address
from crossgate.core.model.network import Point
from crossgate.core.network.costs import FAR, begins
from crossgate.core.network.forwarding import Forwarding
from crossgate.core.network.paths import Endpoint


def carriers_of(network: Forwarding, origin: Endpoint, destination: Address) -> set[Point]:
    """Return the devices (as `DEVICE itself`), interfaces and ports that a packet's paths
    depend on.

    These are the ones on any of the equally good paths, whether it arrives or not, and those on
    the least-cost paths by which gateways and next hops are chosen, even where a static route
    leads elsewhere further on.
    """
    found: set[Point] = set()
    seen: set[str] = set()
    starts = network.starts(origin, destination)
    front = [move for _, moves in starts for move in moves]
    for address in (destination, origin.address):
        if address in network.plan.interface_of:
            found.add(network.plan.interface_of[address].point)
        elif address in network.plan.gateway_at:
            found.update(network.plan.gateway_at[address].by)
    found.update(crossing.point for start, _ in starts for crossing in start.crossings)
    for name in (each for each in (origin.device, *origin.others) if each is not None):
        seen.add(name)
        front += network.hops(
            name, destination
        )  # with the interface that it leaves by, of which no list is asked
    while front:
        move = front.pop()
        found.update(
            crossing.point for crossing in move.crossings if crossing.point.device is not None
        )
        if move.device is not None and not move.ends and move.device not in seen:
            seen.add(move.device)
            front += network.hops(move.device, destination)
    found |= _toward(network, sorted(seen), destination) | _dear_exits(network, destination)
    return found | {
        network.plan.devices[point.owner].itself for point in found if point.device is not None
    }


def _toward(network: Forwarding, names: list[str], destination: Address) -> set[Point]:
    """Return the interfaces on the least-cost paths from some devices to a destination, leaving
    static routes aside.
    """
    found: set[Point] = set()
    costs, target = network.costs_to(destination), network.plan.segment_of(destination)
    front, seen = [name for name in names if name in costs], set(names)
    while front:
        name = front.pop()
        found.update(
            each.point
            for each in network.up(network.plan.devices[name])
            if target is not None and each.on == target.name
        )
        for interface, neighbour, cost in network.costs.links(name, destination.family):
            if begins(costs[name], costs.get(neighbour.device, FAR), cost):
                found |= {interface.point, neighbour.point}
                if neighbour.device not in seen:
                    seen.add(neighbour.device)
                    front.append(neighbour.device)
    return found


def _dear_exits(network: Forwarding, destination: Address) -> set[Point]:
    """Return the interfaces that make paths to an address cost more than they need: those of
    devices that hand packets out themselves although a neighbour's path is cheaper.
    """
    family, exits, costs = (
        destination.family,
        network.exits(destination),
        network.costs_to(destination),
    )
    dear = [
        name for name in exits.last if network.costs.onward(name, family, costs)[0] < costs[name]
    ]
    return {each.point for name in dear for each in network.ends_at(destination)[name]}
