"""Who sends to whom across a place where a list stands."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from functools import cached_property
from itertools import islice
from typing import TYPE_CHECKING, NamedTuple

from crossgate.core.audit.machines import Machines
from crossgate.core.audit.scope import AuditScope
from crossgate.core.model.address import Family
from crossgate.core.model.network import EACH_WAY
from crossgate.core.network.address_classes import AddressClasses
from crossgate.core.network.crossed import CrossedGraphs
from crossgate.core.network.paths import Crossing, Endpoint
from crossgate.core.network.view import View
from crossgate.core.network.way_graphs import WayGraphs
from crossgate.core.sets.region import Region
from crossgate.core.sets.spans import Spans
from crossgate.core.traffic.session import Session
from crossgate.core.traffic.translated import SeenRegion

if TYPE_CHECKING:
    from crossgate.core.network.matrix import Matrix

_FIRST_RECEIVERS = 64
"""So many receivers are looked at before all of them are."""


class Passing:
    """Which address classes send to which across a place, worked out pair by pair as it is asked
    for; only to those of some `columns` where they are given.
    """

    def __init__(
        self,
        matrix: Matrix,
        classes: AddressClasses,
        place: int,
        columns: frozenset[int] | None,
    ) -> None:
        """Make it; `place` is the token of the place in the graphs of the matrix."""
        self.classes = classes
        self._matrix = matrix
        self._columns = columns
        if columns is None:
            matrix.work_out()
            self._rows = frozenset(matrix.rows_meeting(place, arriving=True))
        else:
            self._rows = frozenset(
                row for row, _ in matrix.meeting(place, arriving=True, columns=columns)
            )
        self._crosses = matrix.nodes_meeting(place, arriving=True)

    def __bool__(self) -> bool:
        return bool(self._rows)

    def senders(self, among: Iterable[int]) -> list[int]:
        """Return those of some address classes that send anything across the place."""
        row, rows = self._matrix.rows_in_order, self._rows
        return [index for index in among if row[index] in rows]

    def sends(self, one: int, other: int) -> bool:
        """Whether an address class sends to another one across the place."""
        return (self._columns is None or other in self._columns) and bool(
            self._crosses[self._matrix.number(one, other)]
        )

    @cached_property
    def anyone_to(self) -> frozenset[int]:
        """The address classes that anybody sends to across the place."""
        import numpy as np

        rows = sorted(self._rows)
        if self._columns is None:
            crossed = np.any(self._crosses[self._matrix.numbers[rows]], axis=0)
            return frozenset(np.flatnonzero(crossed).tolist())
        columns = np.array(sorted(self._columns), dtype=np.intp)
        crossed = np.any(self._crosses[self._matrix.numbers_to(columns)[rows]], axis=0)
        return frozenset(columns[crossed].tolist())


class SeenThere(NamedTuple):
    """Packets as they were `sent`, the view in which a place sees them, and what they are
    `there`.
    """

    sent: Region
    view: View
    there: Region


class Passages:
    """What passes each place of a plan where a list may stand."""

    def __init__(self, session: Session, scope: AuditScope, machines: Machines) -> None:
        self._plan = session.plan
        self._network = session.network
        self._session = session
        self._scope = scope
        self._machines = machines
        kept = session.kept.setdefault("audit", {})
        self._passing: dict[tuple[Family, Crossing, frozenset[int] | None], Passing] = (
            kept.setdefault("passing", {})
        )
        self._matrices: dict[Family, Matrix] = kept.setdefault("unplaced", {})
        self._seen: dict[tuple[Family, Crossing], list[SeenThere]] = kept.setdefault("seen", {})

    def crossing(
        self, family: Family, crossing: Crossing, columns: Iterable[int] | None = None
    ) -> Passing:
        """Return which address classes send to which across a place, on some path that arrives;
        only to those of some `columns`, unless all ways are known anyway.

        It must be a place where a list stands for either family, in either direction.
        """
        some = columns is not None and self._scope.in_parts(family)
        chosen = frozenset(columns or ()) if some else None
        key = (family, crossing, chosen)
        if key not in self._passing:
            placed = (*crossing.place, family) in self._plan.placed
            matrix, classes = (
                self._session.matrix(family) if placed else self._unplaced(family),
                self._session.address_classes(family),
            )
            self._passing[key] = Passing(
                matrix, classes, matrix.graphs.sent_bit(crossing.place), chosen
            )
        return self._passing[key]

    def in_turn(self, family: Family, receivers: Sequence[int]) -> Iterator[Sequence[int]]:
        """Yield some address classes in parts, for a question that any one of them may answer:
        first those whose ways are known already.
        """
        if not self._scope.in_parts(family):
            yield receivers
            return
        known = self._scope.columns(family)
        if known is None:
            known = self._session.matrix(family).worked_out
        yield [index for index in receivers if index in known]
        others, size = [index for index in receivers if index not in known], _FIRST_RECEIVERS
        while others:
            yield others[:size]
            others, size = others[size:], len(others)

    def seen(self, family: Family, crossing: Crossing) -> list[SeenThere]:
        """Return what machines send across a place that has been translated before it."""
        key = family, crossing
        if key not in self._seen:
            self._seen[key] = list(self._translated(family, crossing))
        return self._seen[key]

    def _translated(self, family: Family, crossing: Crossing) -> Iterator[SeenThere]:
        graphs = self._network.graphs(family)
        if not isinstance(graphs, CrossedGraphs):
            return
        matrix, classes = self._session.matrix(family), self._session.address_classes(family)
        bits = sum(graphs.views(crossing).values())
        known: dict[int, list[tuple[Spans, View]]] = {}
        rows = dict(matrix.meeting(bits, arriving=True)) if bits else {}
        for one, row in enumerate(matrix.row.tolist()):
            if row not in rows or classes[one].end.device is not None:
                continue
            for other in rows[row].nonzero()[0].tolist():
                number, _ = matrix.between(one, other)
                if number not in known:
                    known[number] = list(
                        self._views(classes[one].end, classes[other].end, crossing)
                    )
                sides = (
                    self._machines.own_addresses(family, one),
                    self._machines.own_addresses(family, other),
                )
                for what, view in known[number]:
                    sent = Region(*sides, what)
                    yield SeenThere(sent, view, SeenRegion(sent, view).image)

    def _views(
        self, source: Endpoint, destination: Endpoint, crossing: Crossing
    ) -> Iterator[tuple[Spans, View]]:
        """Yield the views in which a place sees what one end sends to another, each with the
        traffic that it is for.
        """
        for what, several in self._network.by_service(source, destination):
            views = (
                each.view
                for ways in several
                for each in ways.there.crossings
                if each.place == crossing.place and each.view
            )
            yield from ((what, view) for view in dict.fromkeys(views))

    def comes_by(self, region: Region, crossing: Crossing) -> bool:
        """Whether traffic that has been translated before passes a place and is in a region
        there.
        """
        seen = self.seen(region.family, crossing)
        return any(each.there.meets(region) for each in seen)

    def _unplaced(self, family: Family) -> Matrix:
        """Return the graphs of a family as if its lists stood wherever a list of the other family
        or direction does.
        """
        if family not in self._matrices:
            from crossgate.core.network.matrix import Matrix

            places = {
                (point, direction)
                for point, own, _ in self._plan.placed
                for direction in {*EACH_WAY, own}
            }
            places = {place for place in places if (*place, family) not in self._plan.placed}
            ends = [each.end for each in self._session.address_classes(family)]
            self._matrices[family] = Matrix(WayGraphs(self._network, family, places=places), ends)
        return self._matrices[family]

    def work_out_ways(self) -> None:
        """Work out all ways that are asked for where everything is looked at, and what they are
        looked up by.
        """
        for family in Family:
            if any(own is family for *_, own in self._plan.placed):
                self._session.matrix(family).work_out()
            self._unplaced(family).work_out()
        for point, own, _ in islice(self._plan.placed, 1):
            for direction in {*EACH_WAY, own}:
                for family in Family:
                    self.crossing(family, Crossing(point, direction))
