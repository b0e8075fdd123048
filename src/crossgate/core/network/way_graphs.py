"""All equally good paths at once: the ways between two ends, as graphs of the lists that packets
meet.

1. A *token* is a place at which a list of the family stands, or a stateful device with such a list
(that a packet passed it matters for its answer). Whatever else a packet crosses makes no difference
to any verdict.

2. The token sequences that the equal paths of a pair meet are kept as the smallest deterministic
automaton: a node has the outcomes of sequences that end there, and a child for each token. Nodes
are numbered so that equal sets have equal numbers, and children have smaller numbers than their
parents.

3. Destinations that no device treats differently share a *column*: a node for each device, whose
sequences end at the device that hands the packet out. The graph of a pair is put together
from its first hops, a column, and the last hops of its own destination.

4. A device that is reached again closes a loop; the lists of one whole turn are met, and the packet
is lost.

Two paths that meet the same tokens in the same order are one way, of which one path is walked as an
example. So 2^40 paths through a ladder of routers cost only as much as the lists on them make a
difference.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

from crossgate.core.model.address import Address, Family
from crossgate.core.model.network import Direction, Point
from crossgate.core.network.columns import Column, ColumnCell
from crossgate.core.network.costs import begins
from crossgate.core.network.destinations import Destinations
from crossgate.core.network.forwarding import Forwarding
from crossgate.core.network.nodes import End, Nodes, Sequence, SequenceEnd
from crossgate.core.network.paths import Crossing, Endpoint, Hop, Path
from crossgate.core.network.tokens import Tokens
from crossgate.core.network.way_graph import WayGraph


class WayGraphs:
    """The ways of one family in one network; results are kept."""

    def __init__(
        self,
        network: Forwarding,
        family: Family,
        beside: WayGraphs | None = None,
        places: Iterable[tuple[Point, Direction]] | None = None,
    ) -> None:
        """Make the graphs; where those of another plan are given as `beside`, both share their
        numbers. With `places`, lists are taken to stand at just these places.
        """
        self.network = network
        self.family = family
        self.tokens: Tokens = Tokens(
            network.plan, family, None if beside is None else beside.tokens, places
        )
        self.nodes: Nodes = Nodes() if beside is None else beside.nodes
        self.destinations = Destinations(network, family, self.tokens, self.nodes)
        self._sent: dict[tuple[int, Column], ColumnCell] = {}
        self._graph_of: dict[tuple[int, Sequence | None], WayGraph] = {}
        self._pairs: dict[tuple[object, ...], ColumnCell] = {}
        self._arriving: dict[int, bool] = {}
        self._remembering: dict[int, int] = {}
        self._first_hops: dict[tuple[str, Address], tuple[Hop, tuple[int, ...]]] = {}
        self._met: tuple[dict[int, int], dict[int, int]] = {}, {}
        self._placed_ends: dict[Address, dict[int, int]] = {}

    # Pairs

    def _cell(self, origin: Endpoint, destination: Address) -> ColumnCell:
        key = (origin.sender, destination)
        cell = self._pairs.get(key)
        if cell is None:
            cell = self._pairs[key] = self._departed(origin, destination) or self._started(
                origin, destination
            )
        return cell

    def _started(self, origin: Endpoint, destination: Address) -> ColumnCell:
        cells = [
            self._joined(self.begun_tokens(start), hops, destination)
            for start, hops in self.network.starts(origin, destination)
        ]
        if len(cells) == 1:
            return cells[0]
        return ColumnCell(
            self.nodes.union(frozenset(each.number for each in cells)),
            sum(each.paths for each in cells),
        )

    def _departed(self, origin: Endpoint, destination: Address) -> ColumnCell | None:
        """Return the node of packets that a device itself sends where costs decide; None where they
        do not, or where the device is at the destination.
        """
        if origin.device is None or origin.others or self.network.sends_nothing(origin):
            return None
        reached = self.destinations.near(destination)
        if reached is None or self.network.scope(destination) is not None:
            return None
        if origin.device in reached.exits.last or origin.device == reached.exits.owner:
            return None  # it hands out itself, whatever the column says
        column, edges = self.destinations.column(destination), self.destinations.edges()
        device = edges.number[origin.device]
        if device in column.ends:
            return None
        key = (device, column)
        if key not in self._sent:
            near = [
                edge
                for edge in edges.own[device]
                if begins(column.costs[device], column.costs[edge.device], edge.cost)
            ]
            if not near:
                return None
            lead, lost = self.begun(origin), self.nodes.ending(SequenceEnd.LOST)
            numbers = {
                self.nodes.prepend(
                    lead + each.tokens, lost if each.lost else column.numbers[each.device]
                )
                for each in near
            }
            count = sum(1 if each.lost else column.paths[each.device] for each in near)
            self._sent[key] = ColumnCell(self.nodes.union(frozenset(numbers)), count)
        return self._sent[key]._replace(number=self.placed_out(self._sent[key].number, destination))

    def begun(self, origin: Endpoint) -> tuple[int, ...]:
        """Return the tokens that a sender's packets meet before their first hop."""
        return (
            ()
            if origin.device is None
            else self.begun_tokens(self.network.sent_by(origin.device, self.family))
        )

    def begun_tokens(self, start: Path) -> tuple[int, ...]:
        """Return the tokens of the start of a path, before its first hop."""
        return self.tokens.met(
            Hop(start.crossings, start.devices[0] if start.devices else None, False)
        )

    def _joined(self, lead: tuple[int, ...], hops: list[Hop], destination: Address) -> ColumnCell:
        """Return the node of a packet that has met the tokens `lead` and goes on by any of some
        hops.
        """
        numbers, count = set(), 0
        for hop in hops:
            tokens = (*lead, *self.tokens.met(hop))
            if hop.ends or hop.device is None:
                numbers.add(
                    self.nodes.prepend(
                        tokens,
                        self.nodes.ending(SequenceEnd.LOST if hop.failure else SequenceEnd.ARRIVED),
                    )
                )
                count += 1
                continue
            cell = self.destinations.column(destination).cell(
                self.destinations.edges().number[hop.device]
            )
            numbers.add(self.nodes.prepend(tokens, self.placed_out(cell.number, destination)))
            count += cell.paths
        return ColumnCell(self.nodes.union(frozenset(numbers)), count)

    def placed_out(self, number: int, destination: Address) -> int:
        """Return a node of a column in which each end is replaced by the last hops to one
        destination.
        """
        known = self._placed_ends.setdefault(destination, {})
        if number not in known:
            for each in self.nodes.below(number):
                if each not in known:
                    node = self.nodes.of[each]
                    numbers = {
                        self.nodes.prepend((token,), known[child]) for token, child in node.children
                    }
                    for end in node.ends:
                        numbers |= (
                            {self.nodes.ending(end)}
                            if isinstance(end, SequenceEnd)
                            else self._handed_out(end, destination)
                        )
                    known[each] = self.nodes.union(frozenset(numbers))
        return known[number]

    def _onward(self, device: str, destination: Address) -> int:
        """Return the node of what follows for a packet that has come into a device."""
        return self.placed_out(
            self.destinations.column(destination).numbers[self.destinations.edges().number[device]],
            destination,
        )

    def _handed_out(self, device: str, destination: Address) -> set[int]:
        """Return what a packet meets after the last device of its path: nothing where it is for the
        device itself, or the last hop to the machine.
        """
        owner = self.network.owner(destination)
        if owner is not None and owner.device == device:
            itself = Crossing(self.network.plan.devices[device].itself, Direction.INBOUND)
            return {
                self.nodes.prepend(
                    (self.tokens.number(itself),) * (itself in self.tokens.placed),
                    self.nodes.ending(SequenceEnd.ARRIVED),
                )
            }
        return {
            self.nodes.prepend(
                self.tokens.met(hop),
                self.nodes.ending(SequenceEnd.LOST if hop.failure else SequenceEnd.ARRIVED),
            )
            for hop in self.network.hops(device, destination)
            if hop.ends
        }

    # Answers

    def node(self, origin: Endpoint, destination: Address) -> int:
        """Return the number of a pair's ways; pairs with equal numbers have equal ways."""
        return self.plain(origin, destination)

    def plain(self, origin: Endpoint, destination: Address) -> int:
        """Return the node of a pair's ways by addresses alone, without translation."""
        return self._cell(origin, destination).number

    def paths(self, origin: Endpoint, destination: Address) -> int:
        """Return how many equally good paths a pair has, whether they meet different lists or
        not.
        """
        return self._cell(origin, destination).paths

    def is_translated(self, number: int) -> bool:
        """Whether packets of a pair with this number, or their answers, may be translated."""
        return False

    def bit(self, place: tuple[Point, Direction]) -> int:
        """Return the bit of a place with a list, as used by `met`."""
        return 1 << self.tokens.number(Crossing(*place))

    def sent_bit(self, place: tuple[Point, Direction]) -> int:
        """Return the bit, as used by `met`, of a place that sees packets as they were sent."""
        return self.bit(place)

    def ways(self, origin: Endpoint, destination: Address) -> list[Path]:
        """Return one path for each different sequence of a pair, the first path first. Raises
        `TooManyPieces` when there are too many.
        """
        wanted = self.nodes.sequences(self.node(origin, destination))
        if len(wanted) == 1:
            return [self.network.path(origin, destination)]
        first = self._walk(origin, destination)
        return [
            first.path,
            *(self.path(origin, destination, each) for each in wanted if each != first.sequence),
        ]

    def path(self, origin: Endpoint, destination: Address, sequence: Sequence) -> Path:
        """Return the first path of a pair that meets one of its sequences."""
        return self._walk(origin, destination, sequence).path

    def graph(self, origin: Endpoint, destination: Address, number: int | None = None) -> WayGraph:
        """Return what packets of a pair meet on their different ways; `number` is the pair's node
        where it is known.
        """
        if number is None:
            number = self.plain(origin, destination)
        first = None if self.nodes.count(number) == 1 else self.first(origin, destination)
        if (number, first) not in self._graph_of:
            self._graph_of[number, first] = WayGraph(self.nodes, self.tokens.of, number, first)
        return self._graph_of[number, first]

    def first(self, origin: Endpoint, destination: Address) -> Sequence:
        """Return the sequence of the first path of a pair."""
        (start, hops), *_ = self.network.starts(origin, destination)
        hop, tokens = hops[0], (*self.begun_tokens(start), *self.tokens.met(hops[0]))
        entered: set[str] = set()
        while not hop.ends and hop.device is not None:
            if hop.device in entered:
                return self._walk(origin, destination).sequence  # it goes round in a circle
            entered.add(hop.device)
            key = hop.device, destination
            if key not in self._first_hops:
                following = self.network.hops(*key)[0]
                self._first_hops[key] = following, self.tokens.met(following)
            hop, met = self._first_hops[key]
            tokens += met
        return Sequence(tokens, SequenceEnd.LOST if hop.failure else SequenceEnd.ARRIVED)

    def alone(self, sequence: Sequence) -> WayGraph:
        """Return the graph of a single sequence."""
        return WayGraph(
            self.nodes,
            self.tokens.of,
            self.nodes.prepend(sequence.tokens, self.nodes.ending(sequence.end)),
            sequence,
        )

    def crossings(self, origin: Endpoint, destination: Address) -> dict[Crossing, None]:
        """Return all places that a packet crosses on any equally good path that arrives, in order,
        those of the first path first.
        """
        first = self.network.path(origin, destination)
        found = dict.fromkeys(first.crossings if first.arrived else ())
        if not first.forks:
            return found
        starts = self.network.starts(origin, destination)
        seen: set[str] = set()
        front = [hop for _, hops in reversed(starts) for hop in reversed(hops)]
        arrived: dict[Crossing, None] = {}
        while front:
            hop = front.pop()
            if hop.ends or hop.device is None:
                arrived.update(dict.fromkeys(() if hop.failure else hop.crossings))
            elif self.arrives(self._onward(hop.device, destination)):
                arrived.update(dict.fromkeys(hop.crossings))
                if hop.device not in seen:
                    seen.add(hop.device)
                    front += reversed(self.network.hops(hop.device, destination))
        begun = [crossing for start, _ in starts for crossing in start.crossings]
        return {**found, **dict.fromkeys(begun if arrived else ()), **arrived}

    def arrives(self, number: int) -> bool:
        """Whether some sequence of a node ends with the packet's arrival."""
        if number not in self._arriving:
            for each in self.nodes.below(number):
                node = self.nodes.of[each]
                self._arriving[each] = SequenceEnd.ARRIVED in node.ends or any(
                    self._arriving[child] for _, child in node.children
                )
        return self._arriving[number]

    def remembering(self, number: int) -> int:
        """Return the node with its places taken out: what stays is the stateful devices, which are
        all that the treatment of answers depends on.
        """
        if number not in self._remembering:
            met = (
                token for each in self.nodes.below(number) for token, _ in self.nodes.of[each][1]
            )
            places = frozenset(each for each in met if isinstance(self.tokens.of[each], Crossing))
            self._remembering[number] = self.nodes.without(number, places)
        return self._remembering[number]

    def met(self, number: int, arriving: bool = False) -> int:
        """Return a bit mask of the tokens that some sequence of a node meets; with `arriving`, only
        of sequences that end with the packet's arrival.
        """
        known = self._met[arriving]
        if number not in known:
            for each in self.nodes.below(number):
                if each not in known:
                    tokens = 0
                    for token, child in self.nodes.of[each].children:
                        if not arriving or self.arrives(child):
                            tokens |= self._bits(token) | known[child]
                    known[each] = tokens
        return known[number]

    def _bits(self, token: int) -> int:
        """Return the bits of a token, as used by `met`."""
        return 1 << token

    def _walk(
        self, origin: Endpoint, destination: Address, wanted: Sequence | None = None
    ) -> _Walked:
        """Return the first path that meets a sequence; without one, the first path of all."""
        starts = self.network.starts(origin, destination)
        stack = [
            (start, self.begun_tokens(start), iter(hops), len(hops) > 1 or len(starts) > 1)
            for start, hops in reversed(starts)
        ]
        while True:
            path, tokens, left, forks = stack[-1]
            hop = next(left, None)
            if hop is None:
                stack.pop()
                continue
            met = (*tokens, *self.tokens.met(hop))
            if wanted is not None and wanted.tokens[: len(met)] != met:
                continue
            after = self.network.along(path, hop, forks)
            if after.ended:
                walked = _Walked(
                    after, Sequence(met, SequenceEnd.ARRIVED if after.arrived else SequenceEnd.LOST)
                )
                if wanted in (None, walked.sequence):
                    return walked
            elif wanted is None or self._leads_to(
                after.devices[-1], destination, wanted.tokens[len(met) :], wanted.end
            ):
                following = self.network.hops(after.devices[-1], destination)
                stack.append((after, met, iter(following), len(following) > 1))

    def _leads_to(
        self, device: str, destination: Address, tokens: tuple[int, ...], end: End
    ) -> bool:
        """Whether a packet at a device can still meet exactly these tokens; on a loop the answer
        may be true where it cannot.
        """
        if (
            self.destinations.edges().number[device]
            in self.destinations.column(destination).turning
        ):
            return True
        number = self._onward(device, destination)
        for token in tokens:
            following = dict(self.nodes.of[number].children).get(token)
            if following is None:
                return False
            number = following
        return end in self.nodes.of[number].ends


class _Walked(NamedTuple):
    """A path, and the sequence that it meets."""

    path: Path
    sequence: Sequence
