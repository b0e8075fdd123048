"""The machines that tests of a sheet are made at."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from functools import cached_property

from crossgate.core.model.address import Address, Family
from crossgate.core.model.network import Direction, Host, Point, PointKind
from crossgate.core.model.plan import Plan
from crossgate.core.network.endpoints import at_address, candidates
from crossgate.core.network.paths import Endpoint
from crossgate.core.network.ways import Network

MOST_MACHINES = 4
"""So many machines of each end of an entry are tried."""
MOST_SPREAD = 24
"""So many machines stand for all of the plan, where an entry does not say which."""


class SheetMachines:
    """The machines of a plan between which tests are made."""

    def __init__(self, network: Network, only_from: Sequence[str] = ()) -> None:
        """Make it; tests start at the `only_from` machines, at all hosts where none is given."""
        self._network, self._only = network, frozenset(only_from)
        self._ends: dict[tuple[str, Family], Endpoint | None] = {}
        self._at: dict[Address, Endpoint] = {}
        self._passed: dict[tuple[object, Address], frozenset[tuple[Point, Direction]]] = {}

    @property
    def plan(self) -> Plan:
        """The plan."""
        return self._network.plan

    def may_send(self, name: str) -> bool:
        """Whether tests may start at a machine: it is a host, and one of those that are wanted."""
        return name in self.plan.hosts and (not self._only or name in self._only)

    def end(self, name: str, family: Family) -> Endpoint | None:
        """Return a host as an endpoint of a family, None where it has no address of it."""
        key = name, family
        if key not in self._ends:
            found = [e for e in candidates(self._network, name) if e.address.family is family]
            self._ends[key] = found[0] if found else None
        return self._ends[key]

    def at(self, address: Address) -> Endpoint:
        """Return the endpoint that has an address."""
        if address not in self._at:
            self._at[address] = at_address(self._network, address)
        return self._at[address]

    def passed(self, origin: Endpoint, target: Address) -> frozenset[tuple[Point, Direction]]:
        """Return the places on the first path from an endpoint to an address."""
        key = origin.sender, target
        if key not in self._passed:
            path = self._network.path(origin, target)
            self._passed[key] = frozenset(each.place for each in path.crossings)
        return self._passed[key]

    @cached_property
    def by_segment(self) -> dict[str, list[Host]]:
        """The hosts of each subnet and outside."""
        found: dict[str, list[Host]] = {}
        for host in self.plan.hosts.values():
            found.setdefault(host.on, []).append(host)
        return found

    @cached_property
    def spread(self) -> list[Host]:
        """Hosts from everywhere: the first of each subnet, then the second of each, and so on."""
        found: list[Host] = []
        for rank in range(max(map(len, self.by_segment.values()), default=0)):
            found += [hosts[rank] for hosts in self.by_segment.values() if rank < len(hosts)]
        return found

    def near(self, places: Iterable[tuple[Point, Direction]]) -> list[Host]:
        """Return the hosts on the links that some places belong to, or behind their ports."""
        names: dict[str, None] = {}
        found: dict[str, Host] = {}
        for point, _ in places:
            if point.kind is PointKind.HOST:
                found[point.owner] = self.plan.hosts[point.owner]
            elif point.kind is PointKind.PORT:
                found.update((h.name, h) for h in self.plan.hosts.values() if h.at == point)
            elif point.kind is PointKind.SUBNET:
                names[point.owner] = None
            elif point.kind is PointKind.INTERFACE:
                names[self.plan.devices[point.owner].interfaces[point.part].on] = None
        for name in names:
            found.update((host.name, host) for host in self.by_segment.get(name, ()))
        return list(found.values())
