"""What the walk goes over: the places of a network that packets meet, and the ways of conversations
between two ends.
"""

from __future__ import annotations

from graphlib import CycleError, TopologicalSorter
from typing import NamedTuple

from crossgate.core.conversation.rules import Decided, Script
from crossgate.core.model.accesslist import AccessList, Decider
from crossgate.core.model.address import Family
from crossgate.core.network.nodes import SequenceEnd
from crossgate.core.network.paths import Crossing
from crossgate.core.network.view import View
from crossgate.core.network.way_graph import WayGraph
from crossgate.core.network.ways import Network, Ways

Asked = tuple[AccessList, View]
"""A list, and the view in which it sees packets."""


class WalkPlace(NamedTuple):
    """What a token stands for in the walk: the stateful `device` that is passed, or the list of a
    family at a crossing.

    `remembers` is the device of the list where it is stateful. A list that is not `flagged` does
    not ask for TCP flags, so it treats every later leg of a direction like the leading one. `asked`
    is the list together with the view in which it sees packets.
    """

    device: str | None
    number: int
    access_list: AccessList | None
    remembers: str | None
    flagged: bool
    asked: Asked | None = None


class Places:
    """The places of one family of a network, by token."""

    def __init__(self, network: Network, family: Family) -> None:
        self._network, self._family = network, family
        self._graphs = network.graphs(family)
        self.nodes = self._graphs.nodes
        self._places: list[WalkPlace] = []
        self._judging: dict[Ways, tuple[int, ...]] = {}
        self._straight: dict[WayGraph, tuple[list[WalkPlace], SequenceEnd]] = {}

    def every(self) -> list[WalkPlace]:
        """Return all places that are known so far."""
        for number in range(len(self._places), len(self._graphs.tokens.of)):
            self._places.append(self._place(number))
        return self._places

    def straight(self, graph: WayGraph) -> tuple[list[WalkPlace], SequenceEnd]:
        """Return the places that are met on the first way, and its outcome."""
        found = self._straight.get(graph)
        if found is None:
            every, sequence = self.every(), graph.first_sequence
            found = self._straight[graph] = (
                [every[token] for token in sequence.tokens],
                SequenceEnd(sequence.end),
            )
        return found

    def judging(self, ways: Ways) -> tuple[int, ...]:
        """Return the places on some ways there whose lists may judge the TLS version, in an order
        that all ways keep; () where there is none.
        """
        if ways not in self._judging:
            self._judging[ways] = self._in_order(ways)
        return self._judging[ways]

    def _in_order(self, ways: Ways) -> tuple[int, ...]:
        every = (self.every()[token] for token in ways.there.met)
        asking = {
            each.number
            for each in every
            if each.access_list and each.access_list.tls and each.remembers in ways.back.devices
        }
        behind: dict[int, set[int]] = {}
        before: dict[int, set[int]] = {token: set() for token in asking}
        for number, step in reversed(list(enumerate(ways.there.steps))):
            behind[number] = set()
            for token, following in step.moves:
                behind[number] |= behind[following] | ({token} & asking)
                for later in behind[following] - {token} if token in asking else ():
                    before[later].add(token)
        try:
            return tuple(TopologicalSorter(before).static_order())
        except CycleError:
            return ()

    def decided(self, token: int, decider: Decider) -> Decided:
        """Return a line together with the crossing at which it stands."""
        crossing = self._graphs.tokens.of[token]
        assert isinstance(crossing, Crossing)  # nothing else decides
        return Decided(crossing, decider)

    def _place(self, number: int) -> WalkPlace:
        met = self._graphs.tokens.of[number]
        if isinstance(met, str):
            return WalkPlace(met, number, None, None, False)
        if not isinstance(met, Crossing):
            return WalkPlace(None, number, None, None, False)
        device, own = met.remembered_by, self._network.list_at(met, self._family)
        remembers = device if device in self._network.stateful else None
        flagged = own is not None and own.asks_for_flags
        asked = None if own is None else (own, met.view)
        return WalkPlace(None, number, own, remembers, flagged, asked)


class Walk(NamedTuple):
    """All ways between two ends, and the script of the conversations that take them."""

    places: Places
    ways: Ways
    script: Script

    def graph(self, way: int) -> WayGraph:
        """Return the ways there (0) or back (1)."""
        return self.ways.back if way else self.ways.there
