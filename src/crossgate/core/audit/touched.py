"""The traffic that a change may affect, list by list."""

from __future__ import annotations

from collections.abc import Sequence

from crossgate.core.audit.machines import Machines
from crossgate.core.audit.scope import Touched
from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.address import Family
from crossgate.core.sets.region import Region
from crossgate.core.traffic.session import Session


class TouchedTraffic:
    """Which machines send across a list what a change may affect.

    Each question is asked about the traffic between machines with their own addresses or, with
    `claimed`, also about what they send with a false source address.
    """

    def __init__(self, session: Session, touched: Touched, machines: Machines) -> None:
        self._session = session
        self._touched = touched
        self._machines = machines
        self._pairs: dict[tuple[str, bool], dict[int, list[int]]] = {}
        self._ends: dict[tuple[str, bool], tuple[frozenset[int], frozenset[int]]] = {}
        self._met: dict[tuple[Family, bool], int] = {}

    def regions(self, family: Family) -> Sequence[Region] | None:
        """Return regions that contain every packet which a list treats differently; None where that
        may be any packet.
        """
        return self._touched.regions(family)

    def pairs(self, access_list: AccessList, claimed: bool) -> dict[int, list[int]]:
        """Return the senders (`Machines.senders`), each with the receivers of what may be affected;
        those without any are left out.
        """
        key = access_list.name, claimed
        if key not in self._pairs:
            touched = self._touched.pairs(access_list.family, claimed)
            found = self._pairs[key] = {}
            if touched is not None and self._asks(access_list, claimed):
                for one, others in self._machines.senders(access_list).items():
                    receivers = touched.receivers(one)
                    own = [other for other in others if other in receivers] if receivers else []
                    if own:
                        found[one] = own
        return self._pairs[key]

    def ends(self, access_list: AccessList, claimed: bool) -> tuple[frozenset[int], frozenset[int]]:
        """Return the senders of all `pairs`, and their receivers."""
        key = access_list.name, claimed
        if key not in self._ends:
            pairs = self.pairs(access_list, claimed)
            self._ends[key] = frozenset(pairs), frozenset[int]().union(*pairs.values())
        return self._ends[key]

    def _asks(self, access_list: AccessList, claimed: bool) -> bool:
        """Whether any traffic that may be affected meets a list."""
        key = access_list.family, claimed
        if key not in self._met:
            matrix, pairs = self._session.matrix(access_list.family), self._touched.pairs(*key)
            self._met[key] = 0 if pairs is None else matrix.met_between(*pairs)
        graphs = self._session.network.graphs(access_list.family)
        bits = sum(graphs.bit(place) for place in self._session.plan.places_of(access_list))
        return bool(bits & self._met[key])
