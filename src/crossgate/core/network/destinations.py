"""Destinations and their columns: which destinations all devices treat alike, and what packets to
them meet, device by device.

What becomes of a packet that has come into a device depends on the device and the destination
alone. Destinations with equal next hops everywhere share a column.
"""

from __future__ import annotations

from typing import NamedTuple

from crossgate.core.model.address import Address, Family, Pattern
from crossgate.core.network.columns import Cheapest, ChosenHops, Column, Edge, Onward
from crossgate.core.network.costs import FAR, Exits
from crossgate.core.network.forwarding import Forwarding
from crossgate.core.network.nodes import Nodes
from crossgate.core.network.tokens import Tokens


class Near(NamedTuple):
    """Where paths to a destination can end: the devices, each with the number of interfaces by
    which it hands packets out.
    """

    exits: Exits
    numbers: frozenset[tuple[str, int]]


class Edges(NamedTuple):
    """The hops between devices: the number of each device, the edges of its own packets, and the
    edges that lead into it.
    """

    number: dict[str, int]
    own: list[list[Edge]]
    into: list[list[Edge]]


class Destinations:
    """The columns of one family in one network; results are kept. `names` are the devices, in the
    order of their numbers.
    """

    def __init__(self, network: Forwarding, family: Family, tokens: Tokens, nodes: Nodes) -> None:
        self.network = network
        self.family = family
        self.tokens = tokens
        self.nodes = nodes
        devices = network.plan.devices
        self.names = list(devices)
        self._between: Edges | None = None
        self._columns: dict[tuple[object, ...], Column] = {}
        self._settled: dict[object, Column] = {}
        self._keys: dict[Address, tuple[object, ...]] = {}
        self._routes = [
            (device.name, route.destination)
            for device in devices.values()
            for route in device.routes
            if route.destination.family is family
        ]
        interfaces = [
            each
            for device in devices.values()
            for each in device.interfaces.values()
            if network.plan.segments[each.on].outside
        ]
        self._outward = [own for each in interfaces for own in each.in_family(family)]

    def _key(self, destination: Address) -> tuple[object, ...]:
        """Return all that routing looks at in a destination: destinations with equal keys have the
        same next hops everywhere.
        """
        if destination not in self._keys:
            self._keys[destination] = self._looked_at(destination)
        return self._keys[destination]

    def _looked_at(self, destination: Address) -> tuple[object, ...]:
        network, value = self.network, destination.value
        target, owner = network.plan.segment_of(destination), network.owner(destination)
        routes = tuple(
            index for index, route in enumerate(self._routes) if self._counts(route, destination)
        )
        outward = tuple(
            index for index, own in enumerate(self._outward) if own.connected.contains(value)
        )
        told = routes or network.plan.static_routing
        if target is not None and not told and (target.outside or not outward):
            # The way depends on nothing but where the segment is, and on which of its devices has
            # the address.
            ends = network.ends_at(destination)
            numbers = {name: len(near) for name, near in ends.items()}
            if destination in network.plan.gateway_at:
                numbers = {
                    name: sum(hop.ends for hop in network.hops(name, destination)) for name in ends
                }
            return Near(network.exits(destination), frozenset(numbers.items()))
        blocks = (
            ()
            if target is None
            else tuple(
                each
                for each in target.prefixes
                if each.family is self.family and each.contains(value)
            )
        )
        name = None if target is None else target.name
        shared = (
            destination if destination in network.plan.gateway_at else None
        )  # it has an end for each device that answers
        return (
            name,
            blocks,
            owner.point if owner else shared,
            network.scope(destination),
            routes,
            outward,
        )

    def by_cost(self, destination: Address) -> bool:
        """Whether least cost alone decides the paths to a destination, as far as a device on its
        segment: no static route has a say.
        """
        target, value = self.network.plan.segment_of(destination), destination.value
        if (
            target is None
            or self.network.plan.static_routing
            or any(self._counts(route, destination) for route in self._routes)
        ):
            return False
        return target.outside or not any(own.connected.contains(value) for own in self._outward)

    def _counts(self, route: tuple[str, Pattern], destination: Address) -> bool:
        """Whether a static route affects where its device sends packets to a destination; it does
        not where a computed route is better.
        """
        device, block = route
        if not block.contains(destination.value):
            return False
        longer = self.network.computed_length(destination)
        return block.prefix_length >= longer or device not in self.network.costs_to(destination)

    def edges(self) -> Edges:
        """Return all hops between neighbouring devices."""
        if self._between is None:
            number = {name: device for device, name in enumerate(self.names)}
            own: list[list[Edge]] = [[] for _ in self.names]
            into: list[list[Edge]] = [[] for _ in self.names]
            for device, name in enumerate(self.names):
                for link in self.network.costs.links(name, self.family):
                    neighbour = number[link.neighbour.device]
                    hop = self.network.across(link.interface, link.neighbour, self.family)
                    into[neighbour].append(Edge(self.tokens.met(hop), device, hop.ends, link.cost))
                    # What a device sends itself is not asked at the interface that it leaves by.
                    own[device].append(
                        Edge(
                            self.tokens.met(hop._replace(crossings=hop.crossings[1:])),
                            neighbour,
                            hop.ends,
                            link.cost,
                        )
                    )
            self._between = Edges(number, own, into)
        return self._between

    def column(self, destination: Address) -> Column:
        """Return, for each device that a packet may come into, the node of what follows; its
        sequences end at the last device.
        """
        key = self._key(destination)
        if key not in self._columns:
            self._columns[key] = (
                self._cheapest(key) if isinstance(key, Near) else self._chosen(destination)
            )
        return self._columns[key]

    def near(self, destination: Address) -> Near | None:
        """Return where the paths to a destination end, where the least cost alone decides them;
        None elsewhere.
        """
        key = self._key(destination)
        return key if isinstance(key, Near) else None

    def _cheapest(self, near: Near) -> Column:
        """Return the column of destinations that are reached by the least cost alone; `near` tells
        at which devices.
        """
        number, _, into = self.edges()
        costs = [FAR] * len(self.names)
        for name, cost in self.network.costs.to(near.exits, self.family).items():
            costs[number[name]] = cost
        # A device that is not last hands out only where no way by a neighbour costs less.
        own, (_, last, owner) = dict(near.exits.costs), near.exits
        exits = {
            name: count
            for name, count in near.numbers
            if name in last or costs[number[name]] == own[name]
        }
        if owner is not None:
            exits[owner], last = 1, last | {owner}
        numbered = {number[name]: count for name, count in exits.items()}
        return Cheapest(
            self.nodes, self.names, into, costs, numbered, frozenset(number[name] for name in last)
        )

    def _chosen(self, destination: Address) -> Column:
        """Return the column of a destination for which every device chooses its next hops by
        itself, by static routes too.
        """
        owner, number = self.network.owner(destination), self.edges().number
        found = Onward([], [])
        for name in self.names:
            edges: list[Edge] = []
            hops = (
                []
                if owner is not None and name == owner.device
                else self.network.hops(name, destination)
            )
            for hop in hops:
                if hop.device is not None and not hop.ends:
                    edges.append(Edge(self.tokens.met(hop), number[hop.device]))
                elif owner is not None and hop.device == owner.device and not hop.failure:
                    edges.append(
                        Edge(
                            self.tokens.met(hop._replace(crossings=hop.crossings[:-1])),
                            number[owner.device],
                        )
                    )
            found.edges.append(edges)
            found.exits.append(len(hops) - len(edges) if hops else 1)
        same = (tuple(map(tuple, found.edges)), tuple(found.exits))
        if same not in self._settled:
            self._settled[same] = ChosenHops(self.nodes, self.names, found)
        return self._settled[same]
