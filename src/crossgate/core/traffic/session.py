"""One plan and all that has been worked out for it: paths, lists as regions, address classes,
traffic for each state of conditions.

Everything that is kept for a plan is kept here, so that it is freed with the plan. Two plans share
results only where one session is made `beside` another: the node numbers of graphs, so that equal
ones can be recognised, lists that are the same object, and the whole network where it is the same.
"""

from __future__ import annotations

from collections.abc import Hashable
from typing import TYPE_CHECKING, Any

from crossgate.core.conversation.packets import Tracer
from crossgate.core.lists.split import Regions
from crossgate.core.model.address import Family
from crossgate.core.model.condition import State
from crossgate.core.model.plan import Plan
from crossgate.core.network.address_classes import AddressClasses, address_classes
from crossgate.core.network.ways import Network
from crossgate.core.traffic.flows import Flows

if TYPE_CHECKING:
    from crossgate.core.network.matrix import Matrix

_NONE_OPEN: frozenset[str] = frozenset()


class Session:
    """The results for one plan that further questions need again; each is worked out once."""

    def __init__(self, plan: Plan, beside: Session | None = None) -> None:
        self.plan = plan
        self.beside = beside
        self.network: Network = Network(plan, None if beside is None else beside.network)
        self.regions: Regions = Regions(plan.lists, None if beside is None else beside.regions)
        self._same_addresses = (
            beside if beside is not None and self.network.same_addresses(beside.network) else None
        )
        self._alike = beside if beside is not None and self.network.like(beside.network) else None
        self._classes: dict[Family, AddressClasses] = {}
        self._matrices: dict[Family, Matrix] = {}
        self._flows: dict[State, Flows] = {}
        self._tracers: dict[State, Tracer] = {}
        self.kept: dict[Hashable, Any] = {}
        """What answers have come to, by the question; whoever asks keeps it here."""

    def is_beside(self, other: Session) -> bool:
        """Whether it was made beside another session, directly or by way of others."""
        return self.beside is not None and (self.beside is other or self.beside.is_beside(other))

    def address_classes(self, family: Family) -> AddressClasses:
        """Return the address classes of a family."""
        if self._same_addresses is not None:
            return self._same_addresses.address_classes(family)
        if family not in self._classes:
            self._classes[family] = address_classes(self.network, family)
        return self._classes[family]

    def matrix(self, family: Family) -> Matrix:
        """Return the graphs between all address classes of a family."""
        if self._alike is not None:
            return self._alike.matrix(family)
        if family not in self._matrices:
            from crossgate.core.network.matrix import Matrix

            ends = [each.end for each in self.address_classes(family)]
            self._matrices[family] = Matrix(self.network.graphs(family), ends)
        return self._matrices[family]

    def flows(self, state: State = _NONE_OPEN) -> Flows:
        """Return what answers questions about sets of conversations in one state of conditions."""
        if state not in self._flows:
            self._flows[state] = Flows(self.network, self.regions, state)
        return self._flows[state]

    def tracer(self, state: State = _NONE_OPEN) -> Tracer:
        """Return what traces single packets in one state of conditions."""
        if state not in self._tracers:
            self._tracers[state] = Tracer(self.network, state)
        return self._tracers[state]
