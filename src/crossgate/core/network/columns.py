"""What becomes of packets to one class of destinations, device by device: the sequences that follow once they have come in.

Devices are settled once all those are that they send on to; what is left then goes round, and is walked turn by turn.
"""

from __future__ import annotations

from typing import NamedTuple

from crossgate.core.network.nodes import Nodes, Outcome
from crossgate.core.sets.effort import TooManyPieces

MOST_WAYS = 4096
"""Up to so many different ways of one pair are looked at one by one."""


class Cell(NamedTuple):
    """The itinerary of a pair, or from a device on, and how many paths it stands for."""

    number: int
    paths: int


class Edge(NamedTuple):
    """A move from one device to another: its tokens, and the device."""

    tokens: tuple[int, ...] | None
    device: str


class Moves(NamedTuple):
    """Where each device sends packets on to, and in how many ways it ends their way itself."""

    edges: dict[str, list[Edge]]
    exits: dict[str, int]


class Column:
    """What follows for a packet to one class of destinations once it has come into each device; `turning` are those in loops.

    Devices are settled once all those are that they send on to; what is left then goes round, and is walked turn by turn.
    """

    def __init__(self, nodes: Nodes, edges: dict[str, list[Edge]], exits: dict[str, int]) -> None:
        self.nodes = nodes
        self.cells: dict[str, Cell] = {}
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

    def _joined(self, name: str, cells: dict[str, Cell]) -> Cell:
        """Return what follows at a device, given what follows at those it sends on to."""
        numbers = {self.nodes.prepend(edge.tokens or (), cells[edge.device].number) for edge in self._edges[name]}
        if self._exits[name]:
            numbers.add(self.nodes.ending(name))
        return Cell(self.nodes.union(frozenset(numbers)), sum(cells[edge.device].paths for edge in self._edges[name]) + self._exits[name])

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

    def _turn(self, name: str, entered: frozenset[str]) -> Cell:
        """Return what follows at a device in a loop, when these have been entered: a turn ends where one of them is again."""
        self._steps += 1
        if self._steps > MOST_WAYS:
            raise TooManyPieces(f"packets go round there in more than {MOST_WAYS:,} ways, which are not looked at")
        lost = Cell(self.nodes.ending(Outcome.LOST), 1)
        cells = {}
        for edge in self._edges[name]:
            if edge.device in self.cells:
                cells[edge.device] = self.cells[edge.device]
            elif edge.device in entered:
                cells[edge.device] = lost
            else:
                cells[edge.device] = self._turn(edge.device, entered | {edge.device})
        return self._joined(name, cells)
