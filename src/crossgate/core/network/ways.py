"""The ways of conversations between two ends, there and back, and the network of a plan, which
finds them.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from functools import cached_property

from crossgate.core.model.address import Address, Family
from crossgate.core.model.network import Direction, Point
from crossgate.core.model.packet import Packet
from crossgate.core.model.plan import Plan
from crossgate.core.network.crossed import Crossed, CrossedGraphs
from crossgate.core.network.endpoints import at_address
from crossgate.core.network.forwarding import Forwarding
from crossgate.core.network.nodes import MOST_WAYS, Sequence, SequenceEnd, too_many_ways
from crossgate.core.network.paths import Endpoint, Path
from crossgate.core.network.translated_state import TranslatedState
from crossgate.core.network.trip import Trip, Walked
from crossgate.core.network.view import NOT_TRANSLATED
from crossgate.core.network.way_graph import Passage, WayGraph
from crossgate.core.network.way_graphs import WayGraphs
from crossgate.core.sets.region import ALL_WHAT
from crossgate.core.sets.spans import Spans


@dataclass(frozen=True, slots=True, eq=False)
class Way:
    """What a conversation's packets meet on one of their ways and its answers on one of theirs;
    where it is `unanswered`, there are no answers.
    """

    there: Passage
    back: Passage
    unanswered: bool = False


class Ways:
    """All ways of conversations between two ends that meet different lists; `first` is that of the
    first paths.
    """

    def __init__(self, there: WayGraph, back: WayGraph, unanswered: bool) -> None:
        self.there = there
        self.back = back
        self.unanswered = unanswered
        self.led = False
        """Whether a translation leads to another machine than the one that is asked for."""
        self.count: int = there.count * back.count
        self.first: Way = Way(there.first, back.first, unanswered)
        self._every: tuple[Way, ...] = (self.first,) if self.count == 1 else ()

    def alike(self, other: Ways, all_devices: bool) -> bool:
        """Whether these are the ways of another plan that was made beside this one, leaving out
        places with lists that only one of the two plans has.

        With `all_devices` they must also pass the same stateful devices, whether these have lists
        in both plans or not.
        """
        pairs = (self.there, other.there), (self.back, other.back)
        return self.unanswered is other.unanswered and all(
            one.alike(its, all_devices) for one, its in pairs
        )

    def alone(self, there: WayGraph, back: WayGraph) -> Ways:
        """Return a single one of these ways, given its graphs there and back."""
        return Ways(there, back, self.unanswered)

    @property
    def ends(self) -> frozenset[SequenceEnd]:
        """The outcomes of packets there and of answers that no list denies: arrived, lost, or
        both.
        """
        return self.there.ends | self.back.ends

    def __iter__(self) -> Iterator[Way]:
        """Yield the ways one by one, the first one first. Raises `TooManyPieces` where there are
        more than `MOST_WAYS`.
        """
        if not self._every:
            if self.count > MOST_WAYS:
                raise too_many_ways()
            there, back = list(self.there), list(self.back)
            rest = (Way(one, other, self.unanswered) for one in there for other in back)
            next(rest)
            self._every = (self.first, *rest)
        return iter(self._every)


class CrossedWays(Ways):
    """The ways across translations of packets of one sort that arrive in the same state, `arrived`,
    which is None where they are lost; `trip` has their paths.
    """

    def __init__(
        self,
        there: WayGraph,
        back: WayGraph,
        unanswered: bool,
        trip: Trip,
        arrived: TranslatedState | None,
    ) -> None:
        super().__init__(there, back, unanswered)
        self.trip, self.arrived = trip, arrived
        self.led = arrived is not None and any(each.side for each in arrived.view)

    def alone(self, there: WayGraph, back: WayGraph) -> Ways:
        """Return a single one of these ways, given its graphs there and back."""
        return CrossedWays(there, back, self.unanswered, self.trip, self.arrived)

    def path(self, way: int, sequence: Sequence | None) -> Path:
        """Return the first path there (0) or back (1); with a sequence, the first path that meets
        it.
        """
        if not way:
            return self.trip.there(sequence).path
        if self.arrived is None:
            return Path()
        return self.trip.back(self.arrived._replace(sort=self.trip.sort), sequence).path


def _as_sent(path: Path) -> Path:
    """Return a path without the views of its places."""
    crossings = (each._replace(view=NOT_TRANSLATED) for each in path.crossings)
    return path._replace(crossings=tuple(crossings))


class Network(Forwarding):
    """The network of a plan: where packets go, over all equal paths at once."""

    def __init__(self, plan: Plan, beside: Network | None = None) -> None:
        """Make it. Where the network of another plan is given as `beside`, both share the numbers
        of their nodes; where it is like this one, all that it has worked out is shared.
        """
        super().__init__(plan)
        self._beside = beside
        self._graphs: dict[Family, WayGraphs] = {}
        self._asks_for_tls: dict[WayGraph, bool] = {}
        self._between: dict[tuple[WayGraph, WayGraph, bool], Ways] = {}
        self._equal: dict[tuple[WayGraph, WayGraph, bool, bool], Ways] = {}

    @cached_property
    def stateful(self) -> frozenset[str]:
        """The stateful devices and hosts, by name."""
        return frozenset(
            name
            for known in (self.plan.devices, self.plan.hosts)
            for name, each in known.items()
            if each.stateful
        )

    def like(self, other: Network) -> bool:
        """Whether two plans differ at most in the entries of their lists: every packet takes the
        same paths, and lists stand at the same places.
        """
        return self.same_paths(other) and self.plan.asked.keys() == other.plan.asked.keys()

    def same_paths(self, other: Network) -> bool:
        """Whether every packet takes the same paths in two plans, and ethernet lists decide alike;
        other lists may stand elsewhere.
        """
        own, its = self.plan, other.plan
        return (own.down, own.says_of_frames) == (
            its.down,
            its.says_of_frames,
        ) and self.same_addresses(other)

    def same_addresses(self, other: Network) -> bool:
        """Whether two plans have the same devices, links, and hosts that are treated otherwise than
        their subnets; placements and what is down may differ.
        """
        own, its = self.plan, other.plan
        return (
            own.segments,
            own.devices,
            own.hosts_apart,
            own.machines_between,
            own.gateways,
            own.static_routing,
            own.followed,
        ) == (
            its.segments,
            its.devices,
            its.hosts_apart,
            its.machines_between,
            its.gateways,
            its.static_routing,
            its.followed,
        )

    def graphs(self, family: Family) -> WayGraphs:
        """Return the ways of all pairs of one family."""
        if family not in self._graphs:
            beside = None if self._beside is None else self._beside.graphs(family)
            alike = self._beside is not None and self.like(self._beside)
            kind = CrossedGraphs if self.plan.translations[family] else WayGraphs
            self._graphs[family] = (
                beside if beside is not None and alike else kind(self, family, beside)
            )
        return self._graphs[family]

    def as_if_placed(self, family: Family, places: Iterable[tuple[Point, Direction]]) -> WayGraphs:
        """Return the ways of a family as if lists stood at the given places and nowhere else."""
        kind = CrossedGraphs if self.plan.translations[family] else WayGraphs
        return kind(self, family, places=places)

    def path(self, origin: Endpoint, destination: Address) -> Path:
        """Return the path from `origin` to an address; of equal ones the first by device name, and
        across translations that of the first sort of packets that arrives.
        """
        walked = self._walked(origin, destination)
        return super().path(origin, destination) if walked is None else _as_sent(walked[1].path)

    def answered(self, origin: Endpoint, destination: Endpoint) -> Path:
        """Return the path of the answer to what one end sends to another, by the first path."""
        walked = self._walked(origin, destination.address)
        if walked is None or not walked[1].path.arrived:
            return self.path(destination, origin.address)
        trip, there = walked
        return _as_sent(trip.back(there.state).path)

    def _walked(self, origin: Endpoint, destination: Address) -> tuple[Trip, Walked] | None:
        """Return the first path of the first sort of packets that arrives across translations; None
        where the packets cross no border.
        """
        graphs = self.graphs(destination.family)
        if not isinstance(graphs, CrossedGraphs) or not (
            graphs.translations.is_public(destination)
            or graphs.matters(graphs.plain(origin, destination))
        ):
            return None
        end = at_address(self, destination)
        sorts = range(len(graphs.translations.sorts.spans))
        trips = [graphs.trip(origin, end, sort) for sort in sorts]
        trip = next((each for each in trips if each.first_there.path.arrived), trips[0])
        return trip, trip.first_there

    def ways(self, origin: Endpoint, destination: Address) -> list[Path]:
        """Return one path for each different sequence of lists that equally good paths meet, the
        first path first.
        """
        return self.graphs(destination.family).ways(origin, destination)

    def asks_for_tls(self, ways: Ways, family: Family) -> bool:
        """Whether a list on one of the ways there has entries with `tls`: then each way decides by
        itself which TLS version a conversation settles on.
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

    def by_service(
        self,
        source: Endpoint,
        destination: Endpoint,
        numbers: tuple[int | None, int | None] = (None, None),
    ) -> list[tuple[Spans, tuple[Ways, ...]]]:
        """Return the ways of conversations between two ends, for each sort of traffic that
        translations treat alike (its spans as in `sets.region`).

        `numbers` are the nodes by addresses alone, there and back, where they are known. Where
        equal paths translate differently, a sort has several ways, that of the first path first.
        """
        graphs = self.graphs(source.address.family)
        if not isinstance(graphs, CrossedGraphs):
            return [(ALL_WHAT, (self.between(source, destination, numbers),))]
        there, back = numbers
        plain = (
            graphs.plain(source, destination.address) if there is None else there,
            graphs.plain(destination, source.address) if back is None else back,
        )
        if not graphs.touches(source.address, destination.address, plain):
            return [(ALL_WHAT, (self.between(source, destination, plain),))]
        return [
            (
                part.what,
                self._as_ways(graphs, graphs.trip(source, destination, part.sort), part.ways, True),
            )
            for part in graphs.by_sort(source, destination, plain)
        ]

    def of_packet(
        self,
        source: Endpoint,
        destination: Endpoint,
        first: Packet,
        graphs: WayGraphs | None = None,
    ) -> tuple[Ways, ...]:
        """Return the ways of the conversation that a packet opens, that of the first path first.
        Where other `graphs` than the network's own are given, they are used.
        """
        graphs = graphs or self.graphs(first.family)
        sender = source.address._replace(value=first.source)
        if not isinstance(graphs, CrossedGraphs):
            there = graphs.graph(source, destination.address)
            back = graphs.graph(destination, sender)
            unanswered = self.unanswered(source, destination.address)
            return (self.there_and_back(there, back, unanswered),)
        trip = graphs.trip(source, destination, graphs.translations.sort_of(first), sender)
        return self._as_ways(graphs, trip, tuple(graphs.crossed(trip)))

    def _as_ways(
        self,
        graphs: CrossedGraphs,
        trip: Trip,
        ways: tuple[Crossed, ...],
        shared: bool = False,
    ) -> tuple[Ways, ...]:
        """Return the crossed ways of a trip as values for a caller; where they are `shared`, equal
        ones are one object.
        """
        found = list[Ways]()
        unanswered = self.unanswered(trip.origin, trip.destination.address)
        for number, each in enumerate(ways):
            first = trip.first_there.sequence if len(ways) == 1 or not number else None
            there = graphs.among(each.there, first)
            first = None
            if each.arrived is not None and graphs.nodes.count(each.back) > 1:
                first = trip.back(each.arrived._replace(sort=trip.sort)).sequence
            back = graphs.among(each.back, first)
            led = each.arrived is not None and any(one.side for one in each.arrived.view)
            key = there, back, unanswered, led
            if shared and key in self._equal:
                found.append(self._equal[key])
                continue
            own = CrossedWays(there, back, unanswered, trip, each.arrived)
            found.append(self._equal.setdefault(key, own) if shared else own)
        return tuple(found)

    def there_and_back(self, there: WayGraph, back: WayGraph, unanswered: bool) -> Ways:
        """Return the ways that consist of a graph there and one back; the same two give the same
        object.
        """
        key = there, back, unanswered
        if key not in self._between:
            self._between[key] = Ways(*key)
        return self._between[key]
