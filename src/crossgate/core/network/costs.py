"""What computed routes cost: the sum of the costs of the interfaces that a packet leaves by (RFC
2328 section 16.1).

1. An interface costs what its line says. Where that says nothing it costs 100 where machines or a
   shared gateway are on its subnet, so that such a subnet is a way through for others only where
   there is no other way, and 1 elsewhere.
2. No device is a neighbour over a passive interface; its subnet is reached as before.
3. The last interface counts too, the one to the destination's subnet. The device that has the
   address itself is at no cost.
4. A device that is connected to the destination's prefix hands the packet out itself, whatever
   other ways cost. Any other with an interface on the destination's outside does where no way by a
   neighbour costs less.

Nothing outside this module decides which of several ways is the least.
"""

from __future__ import annotations

from collections.abc import Iterable
from heapq import heapify, heappop, heappush
from typing import TYPE_CHECKING, NamedTuple

from crossgate.core.model.address import Family
from crossgate.core.model.network import Interface
from crossgate.core.model.plan import Plan

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

FAR = 1 << 30
"""More than any way costs: that of an end to which there is none."""
_THROUGH_MACHINES = 100
"""What an interface costs on a subnet with machines, where its line says nothing."""


class Link(NamedTuple):
    """A subnet between two devices: the interface of one, that of its neighbour, and what it costs
    to leave by the first.
    """

    interface: Interface
    neighbour: Interface
    cost: int


class Exits(NamedTuple):
    """Where computed paths end: the devices that can hand a packet to its destination, with what
    that costs them.

    Those in `last` do so whatever other paths cost. `owner` is the device that has the address,
    None where a machine has it.
    """

    costs: frozenset[tuple[str, int]]
    last: frozenset[str]
    owner: str | None = None


class Costs:
    """The neighbours of each device of one plan, and what paths between devices cost; results are
    kept.
    """

    def __init__(self, plan: Plan, on_segment: dict[tuple[str, Family], list[Interface]]) -> None:
        """Make it; `on_segment` has the interfaces of each family on a segment that are up, by
        device name.
        """
        self._plan = plan
        self._on_segment = on_segment
        self._busy = plan.with_machines | {gateway.on for gateway in plan.gateways}
        self._links: dict[tuple[str, Family], list[Link]] = {}
        self._feeding: dict[tuple[str, Family], dict[str, int]] = {}
        self._known: dict[tuple[Exits, Family], dict[str, int]] = {}

    def leaving(self, interface: Interface) -> int:
        """Return the cost of leaving by an interface."""
        if interface.cost is not None:
            return interface.cost
        through_machines = (
            interface.on in self._busy and not self._plan.segments[interface.on].outside
        )
        return _THROUGH_MACHINES if through_machines else 1

    def links(self, name: str, family: Family) -> list[Link]:
        """Return the links from a device to each of its neighbours, by the neighbour's name."""
        key = (name, family)
        if key not in self._links:
            found = [
                Link(interface, neighbour, self.leaving(interface))
                for interface in self._plan.devices[name].interfaces.values()
                if interface.in_family(family)
                and not (
                    interface.passive
                    or self._plan.segments[interface.on].outside
                    or self._plan.is_down(interface)
                )
                for neighbour in self._on_segment[interface.on, family]
                if neighbour.device != name and not neighbour.passive
            ]
            self._links[key] = sorted(
                found, key=lambda link: (link.neighbour.device, link.interface.name)
            )
        return self._links[key]

    def to(self, exits: Exits, family: Family) -> dict[str, int]:
        """Return the least cost from each device to any of the exits, for the devices that have a
        path to one.
        """
        key = (exits, family)
        if key not in self._known:
            self._known[key] = self._least(exits, family)
        return self._known[key]

    def _least(self, exits: Exits, family: Family) -> dict[str, int]:
        costs: dict[str, int] = {}
        front = [(cost, name) for name, cost in exits.costs if name != exits.owner]
        front += [] if exits.owner is None else [(0, exits.owner)]
        heapify(front)
        while front:
            cost, name = heappop(front)
            if name in costs:
                continue
            costs[name] = cost
            for feeder, more in self._feeders(name, family).items():
                if feeder not in costs and feeder not in exits.last and feeder != exits.owner:
                    heappush(front, (cost + more, feeder))
        return costs

    def _feeders(self, name: str, family: Family) -> dict[str, int]:
        """Return the neighbours of a device, each with the least cost of sending to this device."""
        key = (name, family)
        if key not in self._feeding:
            found: dict[str, int] = {}
            for link in self.links(name, family):
                cost = self.leaving(link.neighbour)
                found[link.neighbour.device] = min(cost, found.get(link.neighbour.device, cost))
            self._feeding[key] = found
        return self._feeding[key]

    def onward(self, name: str, family: Family, costs: dict[str, int]) -> tuple[int, list[Link]]:
        """Return the least cost of a path from a device by way of a neighbour, and the links that
        such paths begin with; `costs` are the least costs from each device to the destination.
        """
        sums = [
            (costs[link.neighbour.device] + link.cost, link)
            for link in self.links(name, family)
            if link.neighbour.device in costs
        ]
        least = min((cost for cost, _ in sums), default=FAR)
        return least, [link for cost, link in sums if cost == least]


def begins(cost: int, behind: int, leaving: int) -> bool:
    """Whether some least-cost path begins with a link: the device's least cost to the destination,
    `cost`, equals the link's cost (`leaving`) plus the neighbour's least cost (`behind`).
    """
    return cost != FAR and cost == behind + leaving


def chosen(costs: NDArray[np.int32], leaving: Iterable[int]) -> NDArray[np.bool_]:
    """Return which of several devices (a row each) least-cost paths to destinations (a column each)
    begin with.

    `leaving` is the cost of sending to each device. Where no device has a path, none is chosen.
    """
    import numpy as np

    sums = costs + np.fromiter(leaving, np.int32)[:, None]
    found: NDArray[np.bool_] = (sums == sums.min(axis=0)) & (costs != FAR)
    return found
