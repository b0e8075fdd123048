"""What becomes of packets to one class of destinations, device by device: the sequences that follow once they have come in."""

from __future__ import annotations

from typing import NamedTuple

from crossgate.core.network.nodes import MOST_WAYS, Nodes, Outcome
from crossgate.core.network.routes import FAR
from crossgate.core.sets.effort import TooManyPieces


class Cell(NamedTuple):
    """The itinerary of a pair, or from a device on, and how many paths it stands for."""

    number: int
    paths: int


class Edge(NamedTuple):
    """A move from one device to another, by its number: its tokens. Where no cable leads to it, the packet is `lost`."""

    tokens: tuple[int, ...]
    device: int
    lost: bool = False


class Moves(NamedTuple):
    """Where each device sends packets on to, and in how many ways it ends their way itself."""

    edges: list[list[Edge]]
    exits: list[int]


class Column:
    """What follows for a packet to one class of destinations once it has come into each device, by the device's number.

    `costs` are the hops that are left, where fewest hops decide; `turning` are the devices in loops.
    """

    def __init__(self, nodes: Nodes, names: list[str]) -> None:
        self.nodes = nodes
        self.names = names
        self.numbers = [-1] * len(names)
        self.paths = [0] * len(names)
        self.costs: list[int] = []
        self.turning: set[int] = set()

    def cell(self, device: int) -> Cell:
        """Return what follows at a device."""
        return Cell(self.numbers[device], self.paths[device])


class Nearest(Column):
    """The column of those whose way is the fewest hops to one of some devices, settled outward from these, hop by hop.

    `feeding` has for each device the edges that lead into it; `ends` are the devices, each with how many ways it has to hand
    a packet out. The one that has the address, `owner`, is a hop before the others.
    """

    def __init__(self, nodes: Nodes, names: list[str], feeding: list[list[Edge]], ends: dict[int, int], owner: int | None) -> None:
        super().__init__(nodes, names)
        self.costs = [FAR] * len(names)
        self._lost = nodes.ending(Outcome.LOST)
        for device, count in ends.items():
            self._set(device, nodes.ending(names[device]), count, 0)
        front, cost = list(ends), 0
        if owner is not None:
            self._set(owner, nodes.ending(names[owner]), 1, -1)
            front += self._settle([owner], feeding, 0)
        while front:
            cost += 1
            front = self._settle(front, feeding, cost)
        for device, known in enumerate(self.costs):
            if known == FAR:
                self._set(device, nodes.ending(names[device]), 1, FAR)

    def _set(self, device: int, number: int, paths: int, cost: int) -> None:
        self.numbers[device], self.paths[device], self.costs[device] = number, paths, cost

    def _settle(self, front: list[int], feeding: list[list[Edge]], cost: int) -> list[int]:
        """Settle those that have a neighbour in `front` and none nearer, and return them."""
        numbers, costs, prepend = self.numbers, self.costs, self.nodes.prepend
        following: dict[int, set[int]] = {}
        for device in front:
            number, count = numbers[device], self.paths[device]
            for tokens, feeder, lost in feeding[device]:
                if costs[feeder] == FAR:
                    found = prepend(tokens, self._lost if lost else number)
                    if feeder in following:
                        following[feeder].add(found)
                    else:
                        following[feeder] = {found}
                    self.paths[feeder] += 1 if lost else count
        for device, several in following.items():
            costs[device] = cost
            numbers[device] = next(iter(several)) if len(several) == 1 else self.nodes.union(frozenset(several))
        return list(following)


class Chosen(Column):
    """The column of those whose way each device chooses by itself, as static routes let it.

    Devices are settled once all those are that they send on to; what is left then goes round, and is walked turn by turn.
    """

    def __init__(self, nodes: Nodes, names: list[str], moves: Moves) -> None:
        super().__init__(nodes, names)
        self._edges, self._exits = moves
        self._known: dict[int, Cell] = {}
        self._steps = 0
        self._settle()
        for device, cell in self._known.items():
            self.numbers[device], self.paths[device] = cell

    def _settle(self) -> None:
        waiting = [len(edges) for edges in self._edges]
        feeding: list[list[int]] = [[] for _ in self._edges]
        for device, edges in enumerate(self._edges):
            for edge in edges:
                feeding[edge.device].append(device)
        ready = [device for device, count in enumerate(waiting) if not count]
        while len(self._known) < len(self._edges):
            if not ready:
                ready = self._in_loops()
                self.turning.update(ready)
                turned = {device: self._turn(device, frozenset((device,))) for device in ready}
                self._known.update(turned)
            following = []
            for device in ready:
                if device not in self._known:
                    self._known[device] = self._joined(device, {each.device: self._known[each.device] for each in self._edges[device]})
                for feeder in feeding[device]:
                    waiting[feeder] -= 1
                    if not waiting[feeder] and feeder not in self._known:
                        following.append(feeder)
            ready = following

    def _joined(self, device: int, cells: dict[int, Cell]) -> Cell:
        """Return what follows at a device, given what follows at those it sends on to."""
        edges, exits = self._edges[device], self._exits[device]
        numbers = {self.nodes.prepend(edge.tokens, cells[edge.device].number) for edge in edges}
        if exits:
            numbers.add(self.nodes.ending(self.names[device]))
        return Cell(self.nodes.union(frozenset(numbers)), sum(cells[edge.device].paths for edge in edges) + exits)

    def _in_loops(self) -> list[int]:
        """Return the devices that are not settled and from which a packet can come back to them."""
        left = {
            device: [edge.device for edge in edges if edge.device not in self._known]
            for device, edges in enumerate(self._edges)
            if device not in self._known
        }

        def comes_back(start: int) -> bool:
            seen, front = set(), list(left[start])
            while front:
                device = front.pop()
                if device == start:
                    return True
                if device not in seen:
                    seen.add(device)
                    front += left[device]
            return False

        return [device for device in left if comes_back(device)]

    def _turn(self, device: int, entered: frozenset[int]) -> Cell:
        """Return what follows at a device in a loop, when these have been entered: a turn ends where one of them is again."""
        self._steps += 1
        if self._steps > MOST_WAYS:
            raise TooManyPieces(f"packets go round there in more than {MOST_WAYS:,} ways, which are not looked at")
        lost = Cell(self.nodes.ending(Outcome.LOST), 1)
        cells = {}
        for edge in self._edges[device]:
            if edge.device in self._known:
                cells[edge.device] = self._known[edge.device]
            elif edge.device in entered:
                cells[edge.device] = lost
            else:
                cells[edge.device] = self._turn(edge.device, entered | {edge.device})
        return self._joined(device, cells)
