"""The rows of a matrix: the numbers of the ways from one class of addresses to each other."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from crossgate.core.model.ethernet import group_mac
from crossgate.core.network.columns import Column, Edge
from crossgate.core.network.columns_at_once import cheapest_columns
from crossgate.core.network.costs import FAR, chosen
from crossgate.core.network.destinations import Near
from crossgate.core.network.nodes import SequenceEnd
from crossgate.core.network.paths import Endpoint, Hop, Path
from crossgate.core.network.way_graphs import WayGraphs

Numbers = NDArray[np.int32]
_MANY = 8
"""From so many classes of destinations on their columns are worked out together."""


class MatrixRows:
    """The rows of senders to a set of destinations, worked out for all of these at once."""

    def __init__(self, graphs: WayGraphs, ends: Sequence[Endpoint]) -> None:
        self.graphs = graphs
        self.ends = ends
        self._network = graphs.network
        self._nodes = graphs.nodes
        self._lost = self._nodes.ending(SequenceEnd.LOST)
        segments = [self._network.plan.segment_of(end.address) for end in ends]
        self._on: dict[str, list[int]] = {}
        for column, segment in enumerate(segments):
            self._on.setdefault(
                "" if segment is None or segment.outside else segment.name, []
            ).append(column)
        self._scoped = [
            column
            for column, end in enumerate(ends)
            if self._network.scope(end.address) is not None
        ]
        self._nowhere = sorted(set(self._scoped) & set(self._on.get("", ())))
        self._inward, self._costs = self._devices()
        self._different: dict[int, tuple[Numbers, NDArray[np.intp]]] = {}
        self._own: dict[str, Numbers] = {}

    def _devices(self) -> tuple[Numbers, Numbers]:
        """Return for each device, by destination, the nodes that follow for a packet that has come
        into it, and what its paths cost.
        """
        graphs, names = self.graphs, self.graphs.destinations.names
        inward = np.full((len(names), len(self.ends)), self._lost, dtype=np.int32)
        costs = np.full((len(names), len(self.ends)), FAR, dtype=np.int32)
        parted: dict[Near | Column, tuple[list[int], NDArray[np.intp]]] = {}
        scoped, number = set(self._scoped), graphs.destinations.edges().number
        near = [graphs.destinations.near(end.address) for end in self.ends]
        different = {each: place for place, each in enumerate(dict.fromkeys(filter(None, near)))}
        together = cheapest_columns(graphs, list(different)) if len(different) >= _MANY else None
        for column, (end, way) in enumerate(zip(self.ends, near, strict=True)):
            following: Near | Column
            if together is not None and way is not None:
                following, place = way, different[way]
                numbers = together.numbers[:, place]
                costs[:, column] = together.costs[:, place]
            else:
                following = graphs.destinations.column(end.address)
                numbers = np.array(following.numbers, dtype=np.int64)
                if following.costs:
                    costs[:, column] = following.costs
                else:
                    for name, cost in self._network.costs_to(end.address).items():
                        costs[number[name], column] = cost
            if column in scoped:
                continue  # whoever gets it hands it on no further
            if following not in parted:
                nodes, inverse = np.unique(numbers, return_inverse=True)
                parted[following] = nodes.tolist(), inverse
            numbered, inverse = parted[following]
            inward[:, column] = np.array(
                [graphs.placed_out(node, end.address) for node in numbered], dtype=np.int32
            )[inverse]
        return inward, costs

    def _prepended(self, tokens: tuple[int, ...], device: int) -> Numbers:
        """Return, by destination, the nodes of a packet that meets `tokens` and then comes into a
        device.
        """
        if not tokens:
            same: Numbers = self._inward[device]
            return same
        if device not in self._different:
            self._different[device] = np.unique(self._inward[device], return_inverse=True)
        different, inverse = self._different[device]
        found: Numbers = np.array(
            [self._nodes.prepend(tokens, node) for node in different.tolist()], dtype=np.int32
        )[inverse]
        return found

    def _united(
        self, lead: tuple[int, ...], choices: Sequence[Edge], taken: NDArray[np.bool_] | None
    ) -> Numbers:
        """Return, by destination, the nodes of a packet that meets `lead` and then takes one of the
        edges that are `taken` there.
        """
        rows = [
            np.full(
                len(self.ends), self._nodes.prepend(lead + each.tokens, self._lost), dtype=np.int32
            )
            if each.lost
            else self._prepended(lead + each.tokens, each.device)
            for each in choices
        ]
        if len(rows) == 1 and taken is None:
            return rows[0]
        stacked = np.stack(rows)
        if taken is not None:
            stacked = np.where(taken, stacked, -1)
        found: Numbers = stacked.max(axis=0)
        several = np.flatnonzero(
            (stacked != found).any(axis=0)
            if taken is None
            else ((stacked != found) & taken).any(axis=0)
        )
        if several.size:
            different, inverse = np.unique(stacked[:, several], axis=1, return_inverse=True)
            united = [self._nodes.union(frozenset(nodes) - {-1}) for nodes in different.T.tolist()]
            found[several] = np.array(united, dtype=np.int32)[inverse.reshape(-1)]
        return found

    def of(self, origin: Endpoint) -> Numbers:
        """Return the row of a sender."""
        if self._network.sends_nothing(origin):
            return np.full(len(self.ends), self._lost, dtype=np.int32)
        if origin.others:
            return self._alone(
                np.empty(len(self.ends), dtype=np.int32), origin, range(len(self.ends))
            )
        if origin.device is None:
            found = self._by_machine(origin)
        else:
            if origin.device not in self._own:
                self._own[origin.device] = self._by_device(origin)
            found = self._own[origin.device].copy()
        return self._unrouted(found, origin)

    def _alone(self, found: Numbers, origin: Endpoint, columns: Collection[int]) -> Numbers:
        """Return a row in which the nodes of some pairs have been worked out one by one."""
        for column in columns:
            found[column] = self.graphs.plain(origin, self.ends[column].address)
        return found

    def _by_machine(self, origin: Endpoint) -> Numbers:
        nobody = np.full(len(self.ends), self._lost, dtype=np.int32)
        if origin.segment not in self._network.plan.segments:
            return nobody
        family = self.graphs.family
        told = self._network.told_gateways(origin, family)
        near = self._network.on_segment.get((origin.segment, family), []) if told is None else told
        if near:
            number, choices = self.graphs.destinations.edges().number, []
            for gateway in near:
                hop = self._network.toward(origin, gateway)
                choices.append(Edge(self.graphs.tokens.met(hop), number[gateway.device], hop.ends))
            taken = (
                None
                if told is not None or len(near) == 1
                else self._nearest([number[each.device] for each in near])
            )
            nobody = self._united((), choices, taken)
        else:
            lead = self.graphs.tokens.met(
                Hop(self._network.unframed(Path(), origin).crossings, None, True)
            )
            nobody[:] = self._nodes.prepend(lead, self._lost)
        return self._on_link(nobody.copy(), origin, [origin.segment])

    def _nearest(self, devices: list[int]) -> NDArray[np.bool_]:
        """Return which of several gateways are the nearest to each destination; the first one where
        none has a path.
        """
        if self._network.plan.static_routing:
            able = np.array([self._able[device] for device in devices])
        else:
            able = chosen(self._costs[devices], [0] * len(devices))
        able[0] |= ~able.any(axis=0)
        return able

    @cached_property
    def _able(self) -> dict[int, list[bool]]:
        """Which destinations each device has a route to, in a plan where all routes are written
        out.
        """
        names = enumerate(self.graphs.destinations.names)
        return {
            device: [self._network.has_route(name, end.address) for end in self.ends]
            for device, name in names
        }

    def _by_device(self, origin: Endpoint) -> Numbers:
        graphs, edges = self.graphs, self.graphs.destinations.edges()
        assert origin.device is not None
        device, lead = edges.number[origin.device], graphs.begun(origin)
        lost = self._nodes.prepend(lead, self._lost)
        found = np.full(len(self.ends), lost, dtype=np.int32)
        own = edges.own[device]
        if own:
            taken = chosen(self._costs[[each.device for each in own]], [each.cost for each in own])
            found = np.where(taken.any(axis=0), self._united(lead, own, taken), lost).astype(
                np.int32
            )
        interfaces = self._network.plan.devices[origin.device].interfaces.values()
        here = list(dict.fromkeys(interface.on for interface in interfaces))
        return self._on_link(self._alone(found, origin, self._routed), origin, here)

    @cached_property
    def _routed(self) -> list[int]:
        """The destinations that some device sends to by other rules than least cost, except those
        that nothing is routed to.
        """
        unrouted = set(self._nowhere)
        return [
            column
            for column, end in enumerate(self.ends)
            if column not in unrouted and not self.graphs.destinations.by_cost(end.address)
        ]

    def _on_link(self, found: Numbers, origin: Endpoint, segments: list[str]) -> Numbers:
        """Return a row with the nodes of what is sent on the sender's own links."""
        near = [column for name in segments for column in self._on.get(name, ())]
        if any(self._network.plan.segments[name].outside for name in segments):
            near += self._on.get("", ())
        return self._alone(found, origin, near)

    def _unrouted(self, found: Numbers, origin: Endpoint) -> Numbers:
        """Return a row with the nodes of what is sent to addresses that nothing is routed to and
        that are in no subnet: all of these are treated alike.
        """
        told: dict[tuple[bool, int | None], int] = {}
        for column in self._nowhere:
            address = self.ends[column].address
            on_link = self._network.unanswered(origin, address)
            key = on_link, group_mac(address) if self._network.plan.framed else None
            if key not in told:
                told[key] = self.graphs.plain(origin, address)
            found[column] = told[key]
        return found
