"""All paths between two ends across translations: the lists that packets meet, each with the
addresses it sees there (its *view*).

Theory of operation. `way_graphs` works out where packets go by their addresses alone, as if no
device translated, with a token at every border, and `translated_ways` what a packet then meets from
a node on.

Packets that arrive in different states get different answers. So packets of one sort between two
ends have several *crossed* ways, each with its own ways back; taken together, the ways there are
all the equal paths there.

Everything that a pair of ends meets is one number again (`CrossedGraphs.node`), so that pairs that
are treated alike have equal numbers.
"""

from __future__ import annotations

from functools import cached_property
from typing import NamedTuple

from crossgate.core.model.address import Address
from crossgate.core.model.network import Direction, Point
from crossgate.core.network.endpoints import at_address
from crossgate.core.network.nodes import Sequence
from crossgate.core.network.paths import Crossing, Endpoint
from crossgate.core.network.translated_hop import chosen_from
from crossgate.core.network.translated_state import TranslatedState
from crossgate.core.network.translated_ways import TranslatedWays
from crossgate.core.network.trip import Trip
from crossgate.core.network.view import NOT_TRANSLATED, View
from crossgate.core.network.way_graph import Border, Marker, WayGraph
from crossgate.core.sets.spans import Spans, joined


class Crossed(NamedTuple):
    """Some of the ways of packets of one sort: the node of the ways there, that of the ways back,
    and the state in which packets arrive, which is None where they are lost.
    """

    there: int
    back: int
    arrived: TranslatedState | None


class TrafficSort(NamedTuple):
    """One sort of traffic, the spans of what is carried (as in `sets.region`), and its ways, those
    of the first path first.
    """

    what: Spans
    sort: int
    ways: tuple[Crossed, ...]


_OF = "of"
"""How the marker begins that says for which traffic a pair takes some ways."""
NO_SORT = -1
"""The sort in the state of packets that have arrived."""


class CrossedGraphs(TranslatedWays):
    """The ways of one family in a network that translates addresses."""

    def node(self, origin: Endpoint, destination: Address) -> int:
        """Return a number for all that packets from one end to another meet, and their answers;
        pairs with equal numbers are treated alike.
        """
        return self.number(origin, at_address(self.network, destination))

    def number(
        self, origin: Endpoint, destination: Endpoint, plain: tuple[int, int] | None = None
    ) -> int:
        """Return the number of a pair, as `node` does; `plain` are the nodes there and back without
        translation, where they are known.
        """
        there, back = plain or (
            self.plain(origin, destination.address),
            self.plain(destination, origin.address),
        )
        source, end = origin.address, destination.address
        if not self.touches(source, end, (there, back)):
            return self.unbordered(there)
        # What becomes of answers depends on where the devices that take them back hand them on to.
        onward = self._handed_on(source)
        like = self.translations.like(source, 0), self.translations.like(end, 1)
        # A device that does not know what is answered takes the answer for something new.
        as_new = self.translations.fitting(end)
        answers = tuple(
            self.plain(destination, each) for each in self.translations.instead_of(source)
        )
        key = there, back, *like, onward, as_new, answers
        if key not in self._numbers:
            numbers = set()
            for part in self.by_sort(origin, destination, (there, back)):
                for each in part.ways:
                    answered = self._marked(("answers", each.back), each.there)
                    numbers.add(self._marked((_OF, *part.what), answered))
            self._numbers[key] = self.nodes.union(frozenset(numbers))
        return self._numbers[key]

    @cached_property
    def _numbers(self) -> dict[tuple[object, ...], int]:
        return {}

    def _handed_on(self, source: Address) -> tuple[tuple[str, int], ...]:
        """Return the devices that may take back a translation of a source, each with what follows
        where it hands an answer on to it.
        """
        if source not in self._onward_from:
            devices = {each.owner for each in self.translations.leaving(source)}
            self._onward_from[source] = tuple(
                (each, self._onward(each, source)) for each in sorted(devices)
            )
        return self._onward_from[source]

    @cached_property
    def _onward_from(self) -> dict[Address, tuple[tuple[str, int], ...]]:
        return {}

    def is_translated(self, number: int) -> bool:
        """Whether packets of a pair with this number, or their answers, may be translated."""
        first = (self.tokens.of[token] for token, _ in self.nodes.of[number].children)
        return any(isinstance(each, Marker) and each.what[0] == _OF for each in first)

    def _marked(self, what: tuple[object, ...], number: int) -> int:
        return self.nodes.prepend((self.tokens.number(Marker(what)),), number)

    def leaving(self, source: Address) -> int:
        """Return the borders at which some rule may translate a source, as a bit mask."""
        key = self.translations.like(source, 0)
        if key not in self._leaving:
            points = self.translations.leaving(source)
            borders = (Border(each, Direction.OUTBOUND) for each in points)
            self._leaving[key] = sum(1 << self.tokens.number(each) for each in borders)
        return self._leaving[key]

    @cached_property
    def _leaving(self) -> dict[Address, int]:
        return {}

    def touches(self, source: Address, destination: Address, plain: tuple[int, int]) -> bool:
        """Whether packets between two ends, or their answers, may be translated, or are lost
        because no rule translates their destination; `plain` are the nodes there and back without
        translation.
        """
        there, back = plain
        return bool(
            self.translations.is_public(destination)
            or self.translations.is_public(source)
            or self.met(there) & self.leaving(source)
            or self.met(back) & self.leaving(destination)
        )

    # The ways of a pair

    def by_sort(
        self, origin: Endpoint, destination: Endpoint, plain: tuple[int, int] | None = None
    ) -> list[TrafficSort]:
        """Return the ways of a pair, for each sort of traffic that the rules treat alike."""
        found: dict[tuple[Crossed, ...], list[int]] = {}
        for sort in range(len(self.translations.sorts.spans)):
            # Of what sort it is matters only to what is asked on the way.
            ways = tuple(
                each._replace(arrived=each.arrived and each.arrived._replace(sort=NO_SORT))
                for each in self.crossed(self.trip(origin, destination, sort), plain)
            )
            found.setdefault(ways, []).append(sort)
        every = self.translations.sorts.spans
        return [
            TrafficSort(joined(span for each in sorts for span in every[each]), sorts[0], ways)
            for ways, sorts in found.items()
        ]

    def crossed(self, trip: Trip, plain: tuple[int, int] | None = None) -> list[Crossed]:
        """Return the ways of packets of one sort, those of the first path first; `plain` are the
        pair's nodes without translation where they are known.
        """
        source, end, destination = trip.source, trip.destination.address, trip.destination
        there = self.plain(trip.origin, end) if plain is None else plain[0]
        like = [self.translations.like(each, side) for side, each in enumerate((source, end))]
        start = TranslatedState(NOT_TRANSLATED, (like[0],), like[1], trip.sort)
        found = []
        for state, number in self.there((there, start)).items():
            if state is None:
                found.append(Crossed(number, self._lost, None))
                continue
            led = any(each.side for each in state.view)
            state = state._replace(
                sources=(source, *state.sources[1:]),
                destination=state.destination if led else end,
            )
            found.append(Crossed(number, self._returning(state, destination, plain), state))
        if len(found) > 1:
            walked = trip.first_there
            first = walked.state if walked.path.arrived else None
            found.sort(key=lambda each: each.arrived != first)
        return found

    def _returning(
        self, arrived: TranslatedState, destination: Endpoint, plain: tuple[int, int] | None
    ) -> int:
        """Return the ways of the answers to packets that arrived in a state."""
        receiver = self.receiver(arrived, destination)
        answer, numbers = self.translations.answered_by(arrived, receiver.device), set()
        last = arrived.sources[-1]
        if not arrived.view and plain is not None and receiver is destination:
            return self.back((plain[1], answer))
        made = next((each for each in reversed(arrived.view) if not each.side), None)
        for value in chosen_from(made.pool if made else (), last.value):
            chosen = last._replace(value=value)
            state = answer._replace(destination=chosen, sources=(*answer.sources[:-1], chosen))
            numbers.add(self.back((self.plain(receiver, chosen), state)))
        return self.nodes.union(frozenset(numbers))

    def among(self, number: int, first: Sequence | None) -> WayGraph:
        """Return the ways of a node; where the `first` sequence is not given, any of them counts as
        the first.
        """
        if self.nodes.count(number) == 1:
            first = None
        elif first is None:
            tokens, node = list[int](), self.nodes.of[number]
            while not node.ends:
                token, child = node.children[0]
                tokens.append(token)
                node = self.nodes.of[child]
            first = Sequence(tuple(tokens), min(node.ends, key=str))
        if (number, first) not in self._graph_of:
            self._graph_of[number, first] = WayGraph(self.nodes, self.tokens.of, number, first)
        return self._graph_of[number, first]

    # Paths

    def trip(
        self, origin: Endpoint, destination: Endpoint, sort: int, claimed: Address | None = None
    ) -> Trip:
        """Return the paths of packets of one sort between two ends; the sender may claim a source
        address that is not its own.
        """
        key = origin, destination, sort, claimed or origin.address
        if key not in self._trips:
            self._trips[key] = Trip(self, *key)
        return self._trips[key]

    @cached_property
    def _trips(self) -> dict[tuple[Endpoint, Endpoint, int, Address], Trip]:
        return {}

    def graph(self, origin: Endpoint, destination: Address, number: int | None = None) -> WayGraph:
        """Return what packets of a pair meet when no device translates; `number` is their node
        where that is known.
        """
        number = self.unbordered(self.plain(origin, destination) if number is None else number)
        first = None
        if self.nodes.count(number) > 1:
            met, borders = self.first(origin, destination), self._borders()
            tokens = (each for each in met.tokens if each not in borders)
            first = Sequence(tuple(tokens), met.end)
        return self.among(number, first)

    def _borders(self) -> set[int]:
        """Return the tokens of all borders that have been numbered so far."""
        known, found = self._known_borders
        for number in range(known, len(self.tokens.of)):
            if isinstance(self.tokens.of[number], Border):
                found.add(number)
        self._known_borders = len(self.tokens.of), found
        return found

    @cached_property
    def _known_borders(self) -> tuple[int, set[int]]:
        return 0, set()

    def unbordered(self, number: int) -> int:
        """Return the ways of a node with the tokens of borders left out."""
        if number not in self._without:
            borders = frozenset(self._borders())
            self._without[number] = (
                self.nodes.without(number, borders) if self.matters(number) else number
            )
        return self._without[number]

    @cached_property
    def _without(self) -> dict[int, int]:
        return {}

    def _bits(self, token: int) -> int:
        """Return the bits of a token for `met`. A token of a place with a view also has the bit of
        the place itself, and one more where the place sees packets as they were sent.
        """
        place = self.tokens.of[token]
        if not isinstance(place, Crossing):
            return 1 << token
        if place.view:
            return 1 << token | 1 << self.tokens.number(place._replace(view=NOT_TRANSLATED))
        return 1 << token | 1 << self.tokens.number(Marker(("as sent", place)))

    def sent_bit(self, place: tuple[Point, Direction]) -> int:
        """Return the bit, for `met`, that says that a place sees packets as they were sent."""
        return 1 << self.tokens.number(Marker(("as sent", Crossing(*place))))

    def views(self, place: Crossing) -> dict[View, int]:
        """Return the views in which a place sees translated packets, on all paths that were asked
        for, each with its bit for `met`.
        """
        found = dict[View, int]()
        for token, each in enumerate(self.tokens.of):
            if isinstance(each, Crossing) and each.view and each.place == place.place:
                found[each.view] = 1 << token
        return found

    def crossings(self, origin: Endpoint, destination: Address) -> dict[Crossing, None]:
        """Return the places that packets from one end to an address cross on any of their paths,
        however they are translated; those of the first path stand first.
        """
        end, found = at_address(self.network, destination), dict[Crossing, None]()
        for sort in range(len(self.translations.sorts.spans)):
            trip = self.trip(origin, end, sort)
            path = trip.first_there.path
            if path.arrived:
                found |= dict.fromkeys(
                    each._replace(view=NOT_TRANSLATED) for each in path.crossings
                )
            for each in self.crossed(trip):
                for turned in () if each.arrived is None else (each.arrived,):
                    last = next((one for one in reversed(turned.view) if one.side), None)
                    if last is not None:
                        found |= self.behind(last.device, turned.destination)
        return {**found, **super().crossings(origin, destination)}

    def behind(self, device: str, destination: Address) -> dict[Crossing, None]:
        """Return all places that a packet to a destination crosses after it has come into a
        device.
        """
        found: dict[Crossing, None] = {}
        seen, front = {device}, list(self.network.hops(device, destination))
        while front:
            hop = front.pop()
            found |= dict.fromkeys(() if hop.failure else hop.crossings)
            if not hop.ends and hop.device is not None and hop.device not in seen:
                seen.add(hop.device)
                front += self.network.hops(hop.device, destination)
        return found
