"""What packets to one class of destinations meet, device by device: the sequences of tokens that
follow once they have come into a device.
"""

from __future__ import annotations

from typing import NamedTuple

from crossgate.core.network.costs import FAR, begins
from crossgate.core.network.nodes import MOST_WAYS, Nodes, SequenceEnd
from crossgate.core.sets.effort import TooManyPieces


class ColumnCell(NamedTuple):
    """The number of a node (a set of sequences), and how many paths it stands for."""

    number: int
    paths: int


class Edge(NamedTuple):
    """A hop from one device to another, given by its number: the tokens it meets, and its cost. A
    packet is `lost` on it where no cable joins the two.
    """

    tokens: tuple[int, ...]
    device: int
    lost: bool = False
    cost: int = 0


class Onward(NamedTuple):
    """Where each device sends packets on to, and in how many ways a packet's path ends at it."""

    edges: list[list[Edge]]
    exits: list[int]


class Column:
    """What a packet to one class of destinations meets once it has come into each device, by the
    device's number.

    `costs` are those of the paths left from there where the least cost decides, `ends` the devices
    that can then hand the packet to its destination, and `turning` the devices on a loop.
    """

    def __init__(self, nodes: Nodes, names: list[str]) -> None:
        self.nodes = nodes
        self.names = names
        self.numbers = [-1] * len(names)
        self.paths = [0] * len(names)
        self.costs: list[int] = []
        self.ends: frozenset[int] = frozenset()
        self.turning: set[int] = set()

    def cell(self, device: int) -> ColumnCell:
        """Return what follows once a packet has come into a device."""
        return ColumnCell(self.numbers[device], self.paths[device])


class Cheapest(Column):
    """The column of destinations that every device reaches by the least cost alone.

    Devices are settled in order of rising cost, beginning with those at the destination. `feeding`
    has for each device the edges that lead into it, `exits` in how many ways a device hands a
    packet to its destination. A device among `last` does only that.
    """

    def __init__(
        self,
        nodes: Nodes,
        names: list[str],
        feeding: list[list[Edge]],
        costs: list[int],
        exits: dict[int, int],
        last: frozenset[int],
    ) -> None:
        super().__init__(nodes, names)
        self.costs = costs
        self.ends = frozenset(exits)
        lost = nodes.ending(SequenceEnd.LOST)
        for device, count in exits.items():
            self.paths[device] = count
        following: list[set[int]] = [
            {nodes.ending(name)} if number in self.ends else set()
            for number, name in enumerate(names)
        ]
        for device in sorted(
            (each for each, cost in enumerate(costs) if cost != FAR), key=costs.__getitem__
        ):
            number = self.numbers[device] = nodes.union(frozenset(following[device]))
            count, behind = self.paths[device], costs[device]
            for tokens, feeder, is_lost, cost in feeding[device]:
                if begins(costs[feeder], behind, cost) and feeder not in last:
                    following[feeder].add(nodes.prepend(tokens, lost if is_lost else number))
                    self.paths[feeder] += 1 if is_lost else count
        for device, cost in enumerate(costs):
            if cost == FAR:
                self.numbers[device], self.paths[device] = nodes.ending(names[device]), 1


class ChosenHops(Column):
    """The column of destinations for which each device chooses its next hop by itself, as static
    routes let it.

    A device is settled once all that it sends on to are. Devices that are left then are on loops,
    which are followed for one turn.
    """

    def __init__(self, nodes: Nodes, names: list[str], moves: Onward) -> None:
        super().__init__(nodes, names)
        self._edges, self._exits = moves
        self._known: dict[int, ColumnCell] = {}
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
                    self._known[device] = self._joined(
                        device,
                        {each.device: self._known[each.device] for each in self._edges[device]},
                    )
                for feeder in feeding[device]:
                    waiting[feeder] -= 1
                    if not waiting[feeder] and feeder not in self._known:
                        following.append(feeder)
            ready = following

    def _joined(self, device: int, cells: dict[int, ColumnCell]) -> ColumnCell:
        """Return what follows at a device, given what follows at those it sends on to."""
        edges, exits = self._edges[device], self._exits[device]
        numbers = {self.nodes.prepend(edge.tokens, cells[edge.device].number) for edge in edges}
        if exits:
            numbers.add(self.nodes.ending(self.names[device]))
        return ColumnCell(
            self.nodes.union(frozenset(numbers)),
            sum(cells[edge.device].paths for edge in edges) + exits,
        )

    def _in_loops(self) -> list[int]:
        """Return the devices that are not settled and to which a packet can come back."""
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

    def _turn(self, device: int, entered: frozenset[int]) -> ColumnCell:
        """Return what follows at a device on a loop once the given devices have been entered: a
        turn ends where one of them is entered again.
        """
        self._steps += 1
        if self._steps > MOST_WAYS:
            raise TooManyPieces(
                f"packets go round there in more than {MOST_WAYS:,} ways, which are not looked at"
            )
        lost = ColumnCell(self.nodes.ending(SequenceEnd.LOST), 1)
        cells = {}
        for edge in self._edges[device]:
            if edge.device in self._known:
                cells[edge.device] = self._known[edge.device]
            elif edge.device in entered:
                cells[edge.device] = lost
            else:
                cells[edge.device] = self._turn(edge.device, entered | {edge.device})
        return self._joined(device, cells)
