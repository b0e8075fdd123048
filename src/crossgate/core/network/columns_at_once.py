"""The columns of many destinations that are reached by the least cost, worked out together: what
`Costs.to` and `Cheapest` say of one, for all of them in NumPy.

1. Costs: all edges are gone through until no cost falls any more.

2. Nodes: devices are settled in order of rising cost, those of one cost at once. Paths go by the
edges whose costs add up. Much the same follows for most devices and destinations, so only different
pairs of tokens and node, and different sets of nodes, are put together one by one.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from crossgate.core.network.costs import FAR
from crossgate.core.network.destinations import Near
from crossgate.core.network.nodes import SequenceEnd
from crossgate.core.network.way_graphs import WayGraphs

Numbers = NDArray[np.int64]

_MOST_CELLS = 1 << 21
"""So many costs, an edge for each destination, are looked at together."""


class ColumnsAtOnce(NamedTuple):
    """A row for each device, a column for each destination: the nodes of what follows for a packet
    that has come into the device, and what its paths cost.
    """

    numbers: Numbers
    costs: Numbers


class _Edges(NamedTuple):
    """All edges between devices, by the device that feeds another, which is `onward`; `tokens` is
    the place of an edge's tokens among those that differ.
    """

    feeder: Numbers
    onward: Numbers
    cost: Numbers
    lost: NDArray[np.bool_]
    tokens: Numbers


def cheapest_columns(graphs: WayGraphs, several: Sequence[Near]) -> ColumnsAtOnce:
    """Return the columns of some classes of destinations, by where the paths to them end."""
    into = graphs.destinations.edges().into
    every = sorted(
        ((edge, device) for device, edges in enumerate(into) for edge in edges),
        key=lambda each: each[0].device,
    )
    different: dict[tuple[int, ...], int] = {}
    edges = _Edges(
        np.array([edge.device for edge, _ in every], np.int64),
        np.array([device for _, device in every], np.int64),
        np.array([edge.cost for edge, _ in every], np.int64),
        np.array([edge.lost for edge, _ in every], np.bool_),
        np.array(
            [different.setdefault(edge.tokens, len(different)) for edge, _ in every], np.int64
        ),
    )
    most = max(_MOST_CELLS // max(len(every), len(graphs.destinations.names)), 1)
    parts = [
        _Part(graphs, edges, list(different), several[start : start + most]).columns()
        for start in range(0, len(several), most)
    ]
    return ColumnsAtOnce(
        np.concatenate([part.numbers for part in parts], axis=1),
        np.concatenate([part.costs for part in parts], axis=1),
    )


class _Part:
    """Some of the destinations."""

    def __init__(
        self,
        graphs: WayGraphs,
        edges: _Edges,
        tokens: Sequence[tuple[int, ...]],
        several: Sequence[Near],
    ) -> None:
        self._nodes = graphs.nodes
        self._edges = edges
        self._tokens = tokens
        self._endings = np.array(
            [self._nodes.ending(name) for name in graphs.destinations.names], np.int64
        )
        self._lost = self._nodes.ending(SequenceEnd.LOST)
        number, shape = (
            graphs.destinations.edges().number,
            (len(graphs.destinations.names), len(several)),
        )
        self._costs = np.full(shape, FAR, np.int64)
        self._is_last, self._is_able = np.zeros(shape, np.bool_), np.zeros(shape, np.bool_)
        for column, (exits, by_interfaces) in enumerate(several):
            for name, cost in exits.costs:
                self._costs[number[name], column] = cost
            self._is_last[[number[name] for name in exits.last], column] = True
            self._is_able[[number[name] for name, _ in by_interfaces], column] = True
            if exits.owner is not None:
                device = number[exits.owner]
                self._costs[device, column] = 0
                self._is_last[device, column] = self._is_able[device, column] = True
        self._own = self._costs.copy()

    def columns(self) -> ColumnsAtOnce:
        """Return the columns."""
        self._relax()
        numbers = np.repeat(self._endings[:, None], self._costs.shape[1], axis=1)
        # A device hands out only where no way by a neighbour costs less.
        ending = self._is_able & (self._costs == self._own)
        self._settle(numbers, ending)
        return ColumnsAtOnce(numbers, self._costs)

    def _relax(self) -> None:
        """Lower the costs of all devices to the least."""
        feeder, onward, cost = self._edges[:3]
        if not feeder.size:
            return
        feeders, starts = np.unique(feeder, return_index=True)
        free = ~self._is_last[feeders]
        while True:
            by_others = np.minimum.reduceat(self._costs[onward] + cost[:, None], starts, axis=0)
            before = self._costs[feeders]
            after = np.where(free, np.minimum(before, by_others), before)
            if (after == before).all():
                return
            self._costs[feeders] = after

    def _settle(self, numbers: Numbers, ending: NDArray[np.bool_]) -> None:
        """Write the nodes of all devices with a path into `numbers`; at those marked in `ending`
        paths end.
        """
        feeder, onward, cost = self._edges[:3]
        costs, width = self._costs, self._costs.shape[1]
        taken = costs[onward] + cost[:, None] == costs[feeder]
        taken &= ~self._is_last[feeder]
        edge, column = np.nonzero(taken)
        device, at = np.nonzero(ending)
        for nth, here in _by_cost(costs[feeder[edge], column], costs[device, at]):
            taking, columns = edge[nth], column[nth]
            following = np.where(
                self._edges.lost[taking], self._lost, numbers[onward[taking], columns]
            )
            cells = np.concatenate(
                (feeder[taking] * width + columns, device[here] * width + at[here])
            )
            found = np.concatenate(
                (
                    self._prepended(self._edges.tokens[taking], following),
                    self._endings[device[here]],
                )
            )
            self._unite(numbers, cells, found)

    def _prepended(self, tokens: Numbers, following: Numbers) -> Numbers:
        """Return nodes with tokens put before each."""
        count = len(self._nodes.of)
        different, inverse = np.unique(tokens * count + following, return_inverse=True)
        found = [
            self._nodes.prepend(self._tokens[each // count], each % count)
            for each in different.tolist()
        ]
        prepended: Numbers = np.array(found, np.int64)[inverse.reshape(-1)]
        return prepended

    def _unite(self, numbers: Numbers, cells: Numbers, found: Numbers) -> None:
        """Write the union of all nodes `found` for a cell into `numbers`."""
        count, flat = len(self._nodes.of), numbers.reshape(-1)
        flat[cells] = found
        differ = np.zeros(flat.shape, np.bool_)
        differ[cells[flat[cells] != found]] = True
        left = differ[cells]
        cells, found = cells[left], found[left]
        pairs = np.unique(cells * count + found)
        cells, found = pairs // count, pairs % count
        different, starts, sizes = np.unique(cells, return_index=True, return_counts=True)
        for size in np.unique(sizes).tolist():
            several = np.flatnonzero(sizes == size)
            rows = found[starts[several, None] + np.arange(size)]
            sets, inverse = np.unique(rows, axis=0, return_inverse=True)
            united = [self._nodes.union(frozenset(each)) for each in sets.tolist()]
            flat[different[several]] = np.array(united, np.int64)[inverse.reshape(-1)]


def _by_cost(edges: Numbers, ends: Numbers) -> Iterator[tuple[Numbers, Numbers]]:
    """Yield which of some edges and of some ends have each cost, the lowest cost first."""
    orders = [np.argsort(each, kind="stable") for each in (edges, ends)]
    in_order = [each[order] for each, order in zip((edges, ends), orders, strict=True)]
    for cost in np.unique(np.concatenate(in_order)).tolist():
        first, last = (
            order[np.searchsorted(each, cost) : np.searchsorted(each, cost, side="right")]
            for each, order in zip(in_order, orders, strict=True)
        )
        yield first, last
