"""The ends of conversations in columns: the class of each address, and the lanes between two."""

from __future__ import annotations

from functools import cached_property

import numpy as np

from crossgate.core.model.address import Address, Family
from crossgate.core.model.packets import Indices, Marks, Packets, whole_address
from crossgate.core.model.scope import scope_of
from crossgate.core.network.address_classes import AddressClasses, address_classes
from crossgate.core.network.class_of import NOWHERE, ClassFinder
from crossgate.core.network.crossed import CrossedGraphs
from crossgate.core.network.endpoints import NO_SEGMENT, at_address
from crossgate.core.network.entrance import Entrance
from crossgate.core.network.matrix import Matrix
from crossgate.core.network.paths import Endpoint
from crossgate.core.network.ways import Network, Ways
from crossgate.core.traffic.kinds import KindFinder
from crossgate.core.traffic.lane_table import LaneTable, Pair
from crossgate.core.traffic.sent import CrossedPair, is_led_in

_MANY = 1_000
"""For more pairs of ends it is faster to work out the graphs between all."""
_NO_PAIR = Pair((), False)


class EndsInColumns:
    """The address classes of one family, and the lanes between each pair of classes that occurred;
    with `entered`, every conversation comes in there.
    """

    def __init__(
        self, network: Network, entered: Entrance | None, lanes: LaneTable, family: Family
    ) -> None:
        self._network, self._entered, self._lanes, self._family = network, entered, lanes, family
        self.classes: AddressClasses = address_classes(network, family)
        self._finder = ClassFinder(family, self.classes)
        self._matrix: Matrix | None = None
        self._pairs: dict[int, Pair] = {}

    @cached_property
    def kinds(self) -> KindFinder:
        """The finder of kinds of conversations for this family."""
        plan = self._network.plan
        return KindFinder(
            self._family, plan.lists.values(), self.classes, plan.translations[self._family]
        )

    def found(self, packets: Packets) -> tuple[Indices, Indices]:
        """Return the classes of the sources and destinations of packets. A source address that
        machines of any link can have does not tell where the sender is; where the packets came in
        does.
        """
        source = self._finder.find(packets.source)
        if self._entered is None:
            source = np.where(self._on_any_link[source], NOWHERE, source)
        return source, self._finder.find(packets.destination)

    @cached_property
    def _on_any_link(self) -> Marks:
        """Return which classes have addresses that machines of any link can have; the last element
        is for `NOWHERE` and is False.
        """
        told = [
            each.end.segment == NO_SEGMENT and scope_of(each.end.address) is not None
            for each in self.classes
        ]
        return np.array([*told, False], np.bool_)

    def pairs(self, packets: Packets) -> tuple[list[Pair], Indices]:
        """Return the pairs of ends that some packets have, and which of them each packet has; a
        pair without lanes has no place in the plan.
        """
        source, destination = self.found(packets)
        itself = (packets.source == packets.destination).all(axis=0)
        key = (source * len(self.classes) + destination) * 2 + itself
        key[(source == NOWHERE) | (destination == NOWHERE)] = NOWHERE
        unique, first, of_row = np.unique(key, return_index=True, return_inverse=True)
        new = [
            (pair, row)
            for pair, row in zip(unique.tolist(), first.tolist(), strict=True)
            if pair != NOWHERE and pair not in self._pairs
        ]
        if len(new) > _MANY and self._matrix is None and self._entered is None:
            self._matrix = Matrix(
                self._network.graphs(self._family), [each.end for each in self.classes]
            )
            self._matrix.work_out()
        for pair, row in new:
            one, other = divmod(pair >> 1, len(self.classes))
            if self._matrix is not None and one != other:
                self._pairs[pair] = self._between_classes(one, other, self._matrix)
            else:  # two machines of a class stand in one place, and its example is only one of them
                ends = [
                    Address(self._family, whole_address(each[:, row]))
                    for each in (packets.source, packets.destination)
                ]
                self._pairs[pair] = self._between(*ends)
        return [self._pairs.get(pair, _NO_PAIR) for pair in unique.tolist()], of_row

    def _between_classes(self, one: int, other: int, matrix: Matrix) -> Pair:
        start, end = self.classes[one].end, self.classes[other].end
        if self._is_crossed(start, end, start.address):
            crossed = CrossedPair(start, end, start.segment == end.segment)
            return Pair((), crossed.on_link, crossed=crossed)
        ways = self._network.between(start, end, matrix.between(one, other))
        return self._lanes.pair(ways, self._family, start.segment == end.segment)

    def _between(self, source: Address, destination: Address) -> Pair:
        network, entered = self._network, self._entered
        start, end = at_address(network, source), at_address(network, destination)
        strays = False
        if entered is not None and not entered.passed(network, start, destination):
            if entered.sender.segment == start.segment and start.device is None:
                start = start._replace(gateways=entered.sender.gateways, at=entered.sender.at)
            else:
                start, strays = entered.sender._replace(address=source), True
        on_link = start.segment == end.segment
        if self._is_crossed(start, end, source) or (
            entered is not None and not strays and is_led_in(network, destination)
        ):
            return Pair((), on_link, crossed=CrossedPair(start, end, on_link, strays))
        if strays:
            graphs = network.graphs(self._family)
            unanswered = network.unanswered(start, destination)
            ways = Ways(graphs.graph(start, destination), graphs.graph(end, source), unanswered)
        else:
            ways = network.between(start, end)
        return self._lanes.pair(ways, self._family, on_link, strays)

    def _is_crossed(self, start: Endpoint, end: Endpoint, source: Address) -> bool:
        """Whether what is sent between two ends, or its answers, may be translated."""
        graphs = self._network.graphs(self._family)
        return isinstance(graphs, CrossedGraphs) and graphs.touches(
            source, end.address, (graphs.plain(start, end.address), graphs.plain(end, source))
        )
