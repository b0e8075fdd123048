"""The ways of conversations between two ends, there and back, and the network of a plan that tells
them.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property

from crossgate.core.model.address import Address, Family
from crossgate.core.model.plan import Plan
from crossgate.core.network.forwarding import Forwarding
from crossgate.core.network.nodes import MOST_WAYS, Outcome, too_many_ways
from crossgate.core.network.paths import Endpoint, Path
from crossgate.core.network.way_graph import Passage, WayGraph
from crossgate.core.network.way_graphs import WayGraphs


@dataclass(frozen=True, slots=True, eq=False)
class Way:
    """What packets meet on one of their ways, and the answers on one of theirs; none come where it
    is `unanswered`.
    """

    there: Passage
    back: Passage
    unanswered: bool = False


class Ways:
    """All the ways of conversations between two ends that differ in the lists they meet; the
    `first` is that of the first paths.
    """

    def __init__(self, there: WayGraph, back: WayGraph, unanswered: bool) -> None:
        self.there = there
        self.back = back
        self.unanswered = unanswered
        self.count: int = there.count * back.count
        self.first: Way = Way(there.first, back.first, unanswered)
        self._every: tuple[Way, ...] = (self.first,) if self.count == 1 else ()

    def alike(self, other: Ways, all_devices: bool) -> bool:
        """Whether they are those of another plan, made beside this one, but for places with lists
        that only one of the two has.

        With `all_devices` they pass the same stateful devices, too, whether these have lists in
        both plans or not.
        """
        pairs = (self.there, other.there), (self.back, other.back)
        return self.unanswered is other.unanswered and all(
            one.alike(its, all_devices) for one, its in pairs
        )

    @property
    def ends(self) -> frozenset[Outcome]:
        """How packets there and answers end that nothing stops: some arrive, or some are lost, or
        both.
        """
        return self.there.ends | self.back.ends

    def __iter__(self) -> Iterator[Way]:
        """Yield them one by one, the first one first. Raises `TooManyPieces` where they are more
        than `MOST_WAYS`.
        """
        if not self._every:
            if self.count > MOST_WAYS:
                raise too_many_ways()
            there, back = list(self.there), list(self.back)
            rest = (Way(one, other, self.unanswered) for one in there for other in back)
            next(rest)
            self._every = (self.first, *rest)
        return iter(self._every)


class Network(Forwarding):
    """Where packets go in a plan, with all equal paths at once."""

    def __init__(self, plan: Plan, beside: Network | None = None) -> None:
        """Make it; numbers of nodes are those of the network of another plan `beside`, and so are
        they all where it is like it.
        """
        super().__init__(plan)
        self._beside = beside
        self._graphs: dict[Family, WayGraphs] = {}
        self._asks_for_tls: dict[WayGraph, bool] = {}
        self._between: dict[tuple[WayGraph, WayGraph, bool], Ways] = {}

    @cached_property
    def stateful(self) -> frozenset[str]:
        """The stateful devices and hosts, by their names."""
        return frozenset(
            name
            for known in (self.plan.devices, self.plan.hosts)
            for name, each in known.items()
            if each.stateful
        )

    def like(self, other: Network) -> bool:
        """Whether packets go the same ways and meet the same places with lists as in another plan,
        whatever lists these are.
        """
        own, its = self.plan, other.plan
        same = (
            own.down == its.down
            and own.asked.keys() == its.asked.keys()
            and own.says_of_frames == its.says_of_frames
        )
        return self.same_addresses(other) and same

    def same_addresses(self, other: Network) -> bool:
        """Whether machines, those that lists follow, devices and links are those of another plan,
        whatever else is placed or down.
        """
        own, its = self.plan, other.plan
        return (
            own.segments,
            own.devices,
            own.hosts,
            own.gateways,
            own.static_routing,
            own.followed,
        ) == (its.segments, its.devices, its.hosts, its.gateways, its.static_routing, its.followed)

    def graphs(self, family: Family) -> WayGraphs:
        """Return the ways of a family, all pairs."""
        if family not in self._graphs:
            beside = None if self._beside is None else self._beside.graphs(family)
            alike = self._beside is not None and self.like(self._beside)
            self._graphs[family] = (
                beside if beside is not None and alike else WayGraphs(self, family, beside)
            )
        return self._graphs[family]

    def ways(self, origin: Endpoint, destination: Address) -> list[Path]:
        """Return one path for each different sequence of lists that equally good paths meet, the
        first path first.
        """
        return self.graphs(destination.family).ways(origin, destination)

    def asks_for_tls(self, ways: Ways, family: Family) -> bool:
        """Whether a list on some way there asks what TLS is spoken, so that it matters on each what
        a conversation settles on.
        """
        if not self.plan.asks_for_tls:
            return False
        if ways.there not in self._asks_for_tls:
            lists = (self.list_at(each, family) for each in ways.there.crossings)
            self._asks_for_tls[ways.there] = any(own is not None and own.tls for own in lists)
        return self._asks_for_tls[ways.there]

    def between(
        self,
        source: Endpoint,
        destination: Endpoint,
        numbers: tuple[int | None, int | None] = (None, None),
    ) -> Ways:
        """Return the ways of conversations between two ends; `numbers` are the nodes of the pair,
        there and back, where they are known.
        """
        graphs = self.graphs(source.address.family)
        there = graphs.graph(source, destination.address, numbers[0])
        back = graphs.graph(destination, source.address, numbers[1])
        return self.there_and_back(there, back, self.unanswered(source, destination.address))

    def there_and_back(self, there: WayGraph, back: WayGraph, unanswered: bool) -> Ways:
        """Return the ways that two graphs are together; equal ones are one."""
        key = there, back, unanswered
        if key not in self._between:
            self._between[key] = Ways(*key)
        return self._between[key]
