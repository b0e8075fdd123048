"""All equally good paths at once: the itineraries between two endpoints, as sets of sequences of lists.

1. A *token* is a place at which a list of the family stands, or a stateful device with such a list ("passed" matters for what it
   is asked later). What else a packet crosses makes no difference to any answer.
2. The sequences of tokens that the equal paths of a pair meet are an *itinerary*, kept as the smallest deterministic
   automaton: a node is its outcomes, for sequences that end there, and a child for each token. Nodes are numbered so that
   equal sets have equal numbers, and children have smaller numbers than their parents.
3. What becomes of a packet that has come into a device depends on the device and on the destination alone. Destinations that
   no device tells apart share a *column*: a node for each device, whose sequences end at the device that hands the packet
   out. A pair's itinerary is put together from its first moves, a column, and the last moves of its own destination.
4. A device that is reached again closes a loop; its lists of one whole turn are met, and the packet is lost.

Two paths that meet the same tokens in the same order are one way, of which one path is walked as an example. So 2^40 paths
through a ladder of routers cost as much as the lists on them make a difference.
"""

from __future__ import annotations

from enum import Enum
from typing import NamedTuple

from crossgate.core.model.address import Address, Family
from crossgate.core.model.network import Direction, Point
from crossgate.core.model.plan import Plan
from crossgate.core.network.routing import Crossing, Endpoint, Forwarding, Move, Path
from crossgate.core.sets.effort import TooManyPieces

MOST_WAYS = 4096
"""Up to so many different ways of one pair are looked at one by one."""


class Outcome(Enum):
    """How a sequence ends: the packet arrives, or it is lost on the way."""

    ARRIVED = "arrived"
    LOST = "lost"


Token = tuple[Point, Direction] | str
"""A place with a list, crossed in a direction; or the name of a stateful device that is passed."""
End = Outcome | str
"""How a sequence ends; in a column, the device at which it does."""


class _Node(NamedTuple):
    """A set of sequences: how those end that end here, and what the others go on with."""

    ends: frozenset[End]
    children: tuple[tuple[int, int], ...]


class Sequence(NamedTuple):
    """One sequence of an itinerary and how it ends."""

    tokens: tuple[int, ...]
    end: End


class Itineraries:
    """The itineraries of one family in one network; what is worked out is kept."""

    def __init__(self, network: Forwarding, family: Family) -> None:
        self.network = network
        self.family = family
        plan = network.plan
        self._tokens: dict[Token, int] = {}
        listed = {point.device for point, _, listed_family in plan.placed if listed_family is family}
        self._stateful = {name for name, device in plan.devices.items() if device.stateful and name in listed}
        self._placed = {(point, direction) for point, direction, listed_family in plan.placed if listed_family is family}
        self._nodes: list[_Node] = []
        self._numbers: dict[_Node, int] = {}
        self._unions: dict[frozenset[int], int] = {}
        self._prepended: dict[tuple[int, int], int] = {}
        self._edges: dict[str, list[_Edge]] = {}
        self._columns: dict[tuple[object, ...], _Column] = {}
        self._settled: dict[object, _Column] = {}
        self._keys: dict[Address, tuple[object, ...]] = {}
        devices = plan.devices.values()
        self._routes = [route.destination for device in devices for route in device.routes if route.destination.family is family]
        interfaces = [each for device in devices for each in device.interfaces.values() if plan.segments[each.on].outside]
        self._outward = [own for each in interfaces for own in each.in_family(family)]
        self._pairs: dict[tuple[object, ...], _Cell] = {}
        self._arriving: dict[int, bool] = {}
        self._placed_ends: dict[Address, dict[int, int]] = {}

    # Nodes

    def _intern(self, ends: frozenset[End], children: tuple[tuple[int, int], ...]) -> int:
        node = _Node(ends, children)
        number = self._numbers.get(node)
        if number is None:
            number = self._numbers[node] = len(self._nodes)
            self._nodes.append(node)
        return number

    def prepend(self, tokens: tuple[int, ...], number: int) -> int:
        """Return the sequences of a node with tokens before each."""
        for token in reversed(tokens):
            key = (token, number)
            found = self._prepended.get(key)
            if found is None:
                found = self._prepended[key] = self._intern(frozenset(), (key,))
            number = found
        return number

    def union(self, numbers: frozenset[int]) -> int:
        """Return the sequences of several nodes as one."""
        if len(numbers) == 1:
            return next(iter(numbers))
        found = self._unions.get(numbers)
        if found is None:
            ends: set[End] = set()
            children: dict[int, set[int]] = {}
            for number in numbers:
                node = self._nodes[number]
                ends |= node.ends
                for token, child in node.children:
                    children.setdefault(token, set()).add(child)
            merged = tuple(sorted((token, self.union(frozenset(several))) for token, several in children.items()))
            found = self._unions[numbers] = self._intern(frozenset(ends), merged)
        return found

    def ending(self, end: End) -> int:
        """Return the node of the one sequence without tokens that ends so."""
        return self._intern(frozenset((end,)), ())

    def block(self, move: Move) -> tuple[int, ...]:
        """Return the tokens of a move: the stateful devices passed, then the places with lists, in order."""
        found = []
        if self._stateful:
            passed = {crossing.point.device for crossing in move.crossings} | {move.device}
            found += [self._token(name) for name in sorted(self._stateful & passed)]
        found += [self._token((each.point, each.direction)) for each in move.crossings if each in self._placed]
        return tuple(found)

    def _token(self, token: Token) -> int:
        return self._tokens.setdefault(token, len(self._tokens))

    # Columns

    def _key(self, destination: Address) -> tuple[object, ...]:
        """Return all of a destination that routing looks at: those with equal keys have the same next hops everywhere."""
        if destination not in self._keys:
            self._keys[destination] = self._looked_at(destination)
        return self._keys[destination]

    def _looked_at(self, destination: Address) -> tuple[object, ...]:
        network, value = self.network, destination.value
        target, owner = network.plan.segment_of(destination), network.plan.interface_of.get(destination)
        routes = tuple(index for index, block in enumerate(self._routes) if block.contains(value))
        outward = tuple(index for index, own in enumerate(self._outward) if own.connected.contains(value))
        told = routes or network.plan.static_routing or network.scope(destination)
        if target is not None and not told and (target.outside or not outward):
            # The way depends on nothing but where the segment is, and on which of its devices has the address.
            exits = self._exits(target.name, value)
            return exits, owner.device if owner and len(exits) > 1 else None
        blocks = () if target is None else tuple(each for each in target.prefixes if each.family is self.family and each.contains(value))
        name = None if target is None else target.name
        return name, blocks, owner.point if owner else None, network.scope(destination), routes, outward

    def _exits(self, segment: str, value: int) -> frozenset[tuple[str, int]]:
        """Return the devices on a segment, each with the number of its interfaces that it hands a packet for an address out by."""
        found: dict[str, list[bool]] = {}
        for interface in self.network.on_segment.get((segment, self.family), []):
            connected = any(own.connected.contains(value) for own in interface.in_family(self.family))
            found.setdefault(interface.device, []).append(connected)
        return frozenset((name, sum(connected) or len(connected)) for name, connected in found.items())

    def edges(self, name: str) -> list[_Edge]:
        """Return the moves from a device to each of its neighbours, whatever they are for; without tokens where no cable leads."""
        if name not in self._edges:
            network, found = self.network, []
            for interface in network.plan.devices[name].interfaces.values():
                if not interface.in_family(self.family) or network.plan.segments[interface.on].outside:
                    continue
                for neighbour in network.on_segment[(interface.on, self.family)]:
                    if neighbour.device != name:
                        move = network.across(interface, neighbour)
                        found.append(_Edge(None if move is None else self.block(move), neighbour.device))
            self._edges[name] = found
        return self._edges[name]

    def _column(self, destination: Address) -> _Column:
        """Return, for each device that a packet may come into, the sequences that follow, each ending at the last device."""
        key = self._key(destination)
        if key not in self._columns:
            exits, owner = key[0], key[1]
            near = isinstance(exits, frozenset) and (owner is None or isinstance(owner, str))
            moves = self._nearest(exits, owner) if near else self._moved(destination)  # type: ignore[arg-type]
            same = (tuple(map(tuple, moves.edges.values())), tuple(moves.exits.values()))
            if same not in self._settled:
                self._settled[same] = _Column(self, *moves)
            self._columns[key] = self._settled[same]
        return self._columns[key]

    def _nearest(self, exits: frozenset[tuple[str, int]], owner: str | None) -> _Moves:
        """Return the edges of the fewest-hop paths to a segment, where its devices stand at the end, the owner of the address before."""
        ends = dict(exits)
        costs = self.network.hops_to(list(ends), self.family, owner)
        found = _Moves({}, {})
        for name in self.network.plan.devices:
            chosen: list[_Edge] = []
            count = ends.get(name, 0)
            if not count:
                edges = [edge for edge in self.edges(name) if edge.device in costs]
                best = min((costs[edge.device] for edge in edges), default=0)
                chosen = [edge for edge in edges if costs[edge.device] == best]
                count = sum(edge.tokens is None for edge in chosen) or (0 if chosen else 1)
            found.edges[name] = [edge for edge in chosen if edge.tokens is not None]
            found.exits[name] = 1 if name == owner else count
        return found

    def _moved(self, destination: Address) -> _Moves:
        """Return the edges to a destination as every device chooses them, static routes included."""
        owner = self.network.plan.interface_of.get(destination)
        found = _Moves({}, {})
        for name in self.network.plan.devices:
            edges: list[_Edge] = []
            moves = [] if owner is not None and name == owner.device else self.network.moves(name, destination)
            for move in moves:
                if move.device is not None and not move.ends:
                    edges.append(_Edge(self.block(move), move.device))
                elif owner is not None and move.device == owner.device and not move.reason:
                    edges.append(_Edge(self.block(move._replace(crossings=move.crossings[:-1])), owner.device))
            found.edges[name] = edges
            found.exits[name] = len(moves) - len(edges) if moves else 1
        return found

    # Pairs

    def _cell(self, origin: Endpoint, destination: Address) -> _Cell:
        key = (origin.device, origin.segment, origin.at, origin.gateways, destination)
        cell = self._pairs.get(key)
        if cell is None:
            start, moves = self.network.starts(origin, destination)
            cell = self._pairs[key] = self._joined(self._begun(start), moves, destination)
        return cell

    def _begun(self, start: Path) -> tuple[int, ...]:
        """Return the tokens of what a sender crosses itself."""
        return self.block(Move(start.crossings, start.devices[0] if start.devices else None, False))

    def _joined(self, lead: tuple[int, ...], moves: list[Move], destination: Address) -> _Cell:
        """Return the itinerary of a packet that has met some tokens and goes on with one of some moves."""
        numbers, count = set(), 0
        for move in moves:
            tokens = (*lead, *self.block(move))
            if move.ends or move.device is None:
                numbers.add(self.prepend(tokens, self.ending(Outcome.LOST if move.reason else Outcome.ARRIVED)))
                count += 1
                continue
            cell = self._column(destination).cells[move.device]
            numbers.add(self.prepend(tokens, self._placed_out(cell.number, destination)))
            count += cell.paths
        return _Cell(self.union(frozenset(numbers)), count)

    def _placed_out(self, number: int, destination: Address) -> int:
        """Return a node of a column with the last moves to one destination in the place of its ends."""
        known = self._placed_ends.setdefault(destination, {})
        if number not in known:
            for each in self._below(number):
                if each not in known:
                    node = self._nodes[each]
                    numbers = {self.prepend((token,), known[child]) for token, child in node.children}
                    for end in node.ends:
                        numbers |= {self.ending(end)} if isinstance(end, Outcome) else self._handed_out(end, destination)
                    known[each] = self.union(frozenset(numbers))
        return known[number]

    def _below(self, number: int) -> list[int]:
        """Return a node and all that can be reached from it, each behind its children."""
        seen, front = {number}, [number]
        while front:
            for _, child in self._nodes[front.pop()].children:
                if child not in seen:
                    seen.add(child)
                    front.append(child)
        return sorted(seen)

    def _handed_out(self, device: str, destination: Address) -> set[int]:
        """Return what a packet meets behind the last device of its way: the device itself, or the way to the machine."""
        owner = self.network.plan.interface_of.get(destination)
        if owner is not None and owner.device == device:
            itself = self.network.plan.devices[device].itself, Direction.INBOUND
            return {self.prepend((self._token(itself),) * (itself in self._placed), self.ending(Outcome.ARRIVED))}
        return {
            self.prepend(self.block(move), self.ending(Outcome.LOST if move.reason else Outcome.ARRIVED))
            for move in self.network.moves(device, destination)
            if move.ends
        }

    # Answers

    def node(self, origin: Endpoint, destination: Address) -> int:
        """Return the number of a pair's itinerary; equal numbers are equal sets of sequences."""
        return self._cell(origin, destination).number

    def paths(self, origin: Endpoint, destination: Address) -> int:
        """Return how many equally good paths there are between a pair, whether they differ in their lists or not."""
        return self._cell(origin, destination).paths

    def token_at(self, number: int) -> Token:
        """Return the token that has a number."""
        return list(self._tokens)[number]

    def sequences(self, number: int) -> list[Sequence]:
        """Return the sequences of a node, each with its end. Raises `TooManyPieces` when they are more than `MOST_WAYS`."""
        found: list[Sequence] = []
        stack: list[tuple[int, tuple[int, ...]]] = [(number, ())]
        while stack:
            current, tokens = stack.pop()
            node = self._nodes[current]
            found += [Sequence(tokens, end) for end in sorted(node.ends, key=str)]
            stack += [(child, (*tokens, token)) for token, child in reversed(node.children)]
            if len(found) > MOST_WAYS:
                raise TooManyPieces(
                    f"the equal paths there meet the lists in more than {MOST_WAYS:,} different ways, which are not looked at"
                )
        return found

    def ways(self, origin: Endpoint, destination: Address) -> list[Path]:
        """Return one path for each different sequence of a pair, the first path of all first.

        Raises `TooManyPieces` when there are too many different ones.
        """
        wanted = self.sequences(self.node(origin, destination))
        if len(wanted) == 1:
            return [self.network.path(origin, destination)]
        first = self._walk(origin, destination)
        return [first.path, *(self._walk(origin, destination, each).path for each in wanted if each != first.sequence)]

    def crossings(self, origin: Endpoint, destination: Address) -> dict[Crossing, None]:
        """Return all places that a packet crosses on any equally good path that arrives, those of the first path first, in order."""
        first = self.network.path(origin, destination)
        found = dict.fromkeys(first.crossings if first.arrived else ())
        if not first.forks:
            return found
        start, moves = self.network.starts(origin, destination)
        seen: set[str] = set()
        front = list(reversed(moves))
        arrived: dict[Crossing, None] = {}
        while front:
            move = front.pop()
            if move.ends or move.device is None:
                arrived.update(dict.fromkeys(() if move.reason else move.crossings))
            elif self._arrives(self._placed_out(self._column(destination).cells[move.device].number, destination)):
                arrived.update(dict.fromkeys(move.crossings))
                if move.device not in seen:
                    seen.add(move.device)
                    front += reversed(self.network.moves(move.device, destination))
        return {**found, **dict.fromkeys(start.crossings if arrived else ()), **arrived}

    def _arrives(self, number: int) -> bool:
        """Whether some sequence of a node ends with the packet's arrival."""
        if number not in self._arriving:
            for each in self._below(number):
                node = self._nodes[each]
                self._arriving[each] = Outcome.ARRIVED in node.ends or any(self._arriving[child] for _, child in node.children)
        return self._arriving[number]

    def _walk(self, origin: Endpoint, destination: Address, wanted: Sequence | None = None) -> _Walked:
        """Return the first path that meets a sequence, or the first one of all."""
        start, moves = self.network.starts(origin, destination)
        stack = [(start, self._begun(start), iter(moves), len(moves) > 1)]
        while True:
            path, tokens, left, forks = stack[-1]
            move = next(left, None)
            if move is None:
                stack.pop()
                continue
            met = (*tokens, *self.block(move))
            if wanted is not None and wanted.tokens[: len(met)] != met:
                continue
            after = self.network.moved(path, move, forks)
            if after.ended:
                walked = _Walked(after, Sequence(met, Outcome.ARRIVED if after.arrived else Outcome.LOST))
                if wanted in (None, walked.sequence):
                    return walked
            elif wanted is None or self._leads_to(after.devices[-1], destination, wanted.tokens[len(met) :], wanted.end):
                following = self.network.moves(after.devices[-1], destination)
                stack.append((after, met, iter(following), len(following) > 1))

    def _leads_to(self, device: str, destination: Address, tokens: tuple[int, ...], end: End) -> bool:
        """Whether from a device on a packet can meet just these tokens; in a loop that is not told apart."""
        column = self._column(destination)
        if device in column.turning:
            return True
        number = self._placed_out(column.cells[device].number, destination)
        for token in tokens:
            following = dict(self._nodes[number].children).get(token)
            if following is None:
                return False
            number = following
        return end in self._nodes[number].ends


class _Cell(NamedTuple):
    """The itinerary of a pair, or from a device on, and how many paths it stands for."""

    number: int
    paths: int


class _Walked(NamedTuple):
    """A path and the sequence that it meets."""

    path: Path
    sequence: Sequence


class _Edge(NamedTuple):
    """A move from one device to another: its tokens, and the device."""

    tokens: tuple[int, ...] | None
    device: str


class _Moves(NamedTuple):
    """Where each device sends packets on to, and in how many ways it ends their way itself."""

    edges: dict[str, list[_Edge]]
    exits: dict[str, int]


class _Column:
    """What follows for a packet to one class of destinations once it has come into each device; `turning` are those in loops.

    Devices are settled once all those are that they send on to; what is left then goes round, and is walked turn by turn.
    """

    def __init__(self, owner: Itineraries, edges: dict[str, list[_Edge]], exits: dict[str, int]) -> None:
        self.owner = owner
        self.cells: dict[str, _Cell] = {}
        self.turning: set[str] = set()
        self._edges, self._exits = edges, exits
        self._steps = 0
        self._settle()

    def _settle(self) -> None:
        waiting = {name: len(edges) for name, edges in self._edges.items()}
        feeding: dict[str, list[str]] = {name: [] for name in self._edges}
        for name, edges in self._edges.items():
            for edge in edges:
                feeding[edge.device].append(name)
        ready = [name for name, count in waiting.items() if not count]
        while len(self.cells) < len(self._edges):
            if not ready:
                ready = self._in_loops()
                self.turning.update(ready)
                turned = {name: self._turn(name, frozenset((name,))) for name in ready}
                self.cells.update(turned)
            following = []
            for name in ready:
                if name not in self.cells:
                    self.cells[name] = self._joined(name, {edge.device: self.cells[edge.device] for edge in self._edges[name]})
                for feeder in feeding[name]:
                    waiting[feeder] -= 1
                    if not waiting[feeder] and feeder not in self.cells:
                        following.append(feeder)
            ready = following

    def _joined(self, name: str, cells: dict[str, _Cell]) -> _Cell:
        """Return what follows at a device, given what follows at those it sends on to."""
        numbers = {self.owner.prepend(edge.tokens or (), cells[edge.device].number) for edge in self._edges[name]}
        if self._exits[name]:
            numbers.add(self.owner.ending(name))
        return _Cell(self.owner.union(frozenset(numbers)), sum(cells[edge.device].paths for edge in self._edges[name]) + self._exits[name])

    def _in_loops(self) -> list[str]:
        """Return the devices that are not settled and from which a packet can come back to them."""
        left = {
            name: [edge.device for edge in edges if edge.device not in self.cells]
            for name, edges in self._edges.items()
            if name not in self.cells
        }

        def comes_back(start: str) -> bool:
            seen, front = set(), list(left[start])
            while front:
                name = front.pop()
                if name == start:
                    return True
                if name not in seen:
                    seen.add(name)
                    front += left[name]
            return False

        return [name for name in left if comes_back(name)]

    def _turn(self, name: str, entered: frozenset[str]) -> _Cell:
        """Return what follows at a device in a loop, when these have been entered: a turn ends where one of them is again."""
        self._steps += 1
        if self._steps > MOST_WAYS:
            raise TooManyPieces(f"packets go round there in more than {MOST_WAYS:,} ways, which are not looked at")
        lost = _Cell(self.owner.ending(Outcome.LOST), 1)
        cells = {}
        for edge in self._edges[name]:
            if edge.device in self.cells:
                cells[edge.device] = self.cells[edge.device]
            elif edge.device in entered:
                cells[edge.device] = lost
            else:
                cells[edge.device] = self._turn(edge.device, entered | {edge.device})
        return self._joined(name, cells)


class Network(Forwarding):
    """Where packets go in a plan, with all equal paths at once."""

    def __init__(self, plan: Plan) -> None:
        super().__init__(plan)
        self._itineraries: dict[Family, Itineraries] = {}

    def itineraries(self, family: Family) -> Itineraries:
        """Return the itineraries of a family."""
        if family not in self._itineraries:
            self._itineraries[family] = Itineraries(self, family)
        return self._itineraries[family]

    def ways(self, origin: Endpoint, destination: Address) -> list[Path]:
        """Return one path for each different sequence of lists that equally good paths meet, the first path first."""
        return self.itineraries(destination.family).ways(origin, destination)
