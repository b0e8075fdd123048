"""What all findings share: one plan at one time, its lists as regions, which entries are covered,
and what passes where.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from itertools import islice
from typing import TYPE_CHECKING, Any, NamedTuple

from crossgate.core.lists.index import ListIndex
from crossgate.core.lists.redundancy import Coverage, coverage
from crossgate.core.model.accesslist import AccessList, AnEntry, AnyEntry, AnyList, Entry
from crossgate.core.model.address import Address, Family, Pattern, single
from crossgate.core.model.condition import State
from crossgate.core.model.network import EACH_WAY
from crossgate.core.model.progress import Tell
from crossgate.core.network.address_classes import AddressClass, AddressClasses
from crossgate.core.network.crossed import CrossedGraphs
from crossgate.core.network.paths import Crossing, Endpoint
from crossgate.core.network.view import View
from crossgate.core.network.way_graphs import WayGraphs
from crossgate.core.sets.addresses import AddressSet
from crossgate.core.sets.effort import TooManyPieces
from crossgate.core.sets.patterns import Excluded, PatternIndex
from crossgate.core.sets.region import Region
from crossgate.core.sets.spans import Spans
from crossgate.core.traffic.between import Flow, flows_between, merged
from crossgate.core.traffic.conditions import states_for
from crossgate.core.traffic.flows import Flows, PlacedList
from crossgate.core.traffic.session import Session
from crossgate.core.traffic.translated import Seen

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    from crossgate.core.answers.change import TouchedPairs
    from crossgate.core.network.matrix import Matrix

Focus = Mapping[str, Collection[int]]
"""The numbers of the entries that are to be looked at, list by list, and these lists as a whole;
those of a list that is not there are not.
"""


class Touched(NamedTuple):
    """What a change may affect, for an audit that looks only at that.

    `pairs` returns for a family which pairs of address classes may be affected, None for none; its
    second argument asks for pairs affected on the way there, whatever address the sender claims.
    `regions` returns for a family regions that contain every packet which a list treats
    differently, None where that may be any packet. All traffic of the lists in `anew` is looked at.
    """

    pairs: Callable[[Family, bool], TouchedPairs | None]
    regions: Callable[[Family], Sequence[Region] | None]
    anew: Collection[str]


_FIRST_RECEIVERS = 64
"""So many receivers are looked at before all of them are."""
_FEW_ENTRIES = 50
"""For more entries than these it costs less to work out all ways at once."""
_MOST_FLOWS = 20_000
"""So many flows are kept; entries of one list ask for the same ones."""


class Passing(NamedTuple):
    """Which address classes send to which across a place: for each sender a mask of the
    destinations, and the destinations of all senders together.
    """

    classes: AddressClasses
    rows: dict[int, NDArray[np.bool_]]
    anyone_to: Collection[int]


class SeenThere(NamedTuple):
    """Packets as they were `sent`, the view in which a place sees them, and what they are `there`."""

    sent: Region
    view: View
    there: Region


class Case:
    """A plan to be audited as things are at `now`; what several findings need is worked out once."""

    def __init__(
        self,
        session: Session,
        now: datetime,
        tell: Tell | None = None,
        focus: Focus | None = None,
        touched: Touched | None = None,
    ) -> None:
        self.session = session
        self.plan = session.plan
        self.network = session.network
        self.now = now
        self.focus = focus
        self._touched = touched
        self._looks_at_few = (
            focus is not None and touched is None and sum(map(len, focus.values())) <= _FEW_ENTRIES
        )
        self._carry: dict[object, bool] = {}
        self.missed: list[TooManyPieces] = []
        self._tell = tell
        # What depends on the plan alone is kept for all that looks at it; which ways are worked out
        # depends on what is touched.
        kept = session.kept.setdefault("audit", {})
        self.kept = whole = kept if touched is None else dict[str, Any]()
        self._passing: dict[tuple[Family, Crossing, frozenset[int] | None], Passing] = (
            kept.setdefault("passing", {})
        )
        self._matrices: dict[Family, Matrix] = kept.setdefault("unplaced", {})
        self._own: dict[tuple[Family, int], AddressSet] = kept.setdefault("own", {})
        self._meant: dict[tuple[Family, tuple[Pattern, ...]], list[int]] = kept.setdefault(
            "meant", {}
        )
        self._indexes: dict[tuple[str, State], ListIndex] = kept.setdefault("indexes", {})
        self._states: dict[tuple[AnyList[Any], ...], Sequence[State]] = kept.setdefault(
            "states", {}
        )
        self._seen: dict[tuple[Family, Crossing], list[SeenThere]] = kept.setdefault("seen", {})
        self._joined: dict[Family, dict[int, tuple[Pattern, ...]]] = whole.setdefault("joined", {})
        self._senders: dict[str, dict[int, list[int]]] = whole.setdefault("senders", {})
        self._flows: dict[tuple[Family, int, int], list[Flow]] = whole.setdefault("flows", {})
        self._columns: dict[Family, frozenset[int] | None] = {}
        self._of_touched: dict[tuple[str, bool], dict[int, list[int]]] = {}
        self._of_touched_ends: dict[tuple[str, bool], tuple[frozenset[int], frozenset[int]]] = {}
        self._met_by_touched: dict[tuple[Family, bool], int] = {}
        self._coverage: dict[str, list[Coverage]] = {}

    def entries(self, access_list: AnyList[AnEntry]) -> list[AnEntry]:
        """Return the entries in force of a list that are to be looked at."""
        chosen = None if self.focus is None else self.focus.get(access_list.name, ())
        if chosen is not None and not chosen:
            return []
        return [
            entry
            for entry in access_list.entries
            if not entry.off and (chosen is None or entry.number in chosen)
        ]

    @staticmethod
    def whole(access_list: AnyList[AnEntry]) -> list[AnEntry]:
        """Return all entries in force of a list: what passes beside an entry depends on the others,
        which a change may have touched.
        """
        return [entry for entry in access_list.entries if not entry.off]

    def in_focus(self, access_list: AccessList, entry: Entry) -> bool:
        """Whether everything about an entry is to be looked at, and not only touched traffic."""
        return self.focus is None or entry.number in self.focus.get(access_list.name, ())

    def to_be_looked_at(
        self,
        access_list: AccessList,
        entry: Entry,
        packets: Callable[[Case, AccessList, Entry], Iterable[Region]],
        claimed: bool = False,
    ) -> bool:
        """Whether a change may affect a finding about an entry that depends only on some `packets`
        of it, between its own ends or, with `claimed`, from senders that use a false source
        address; for an entry in focus everything that is sent across its list may.
        """
        if self._touched is None:
            return True
        in_focus = self.in_focus(access_list, entry)
        if in_focus and self._looks_at_all(access_list):
            return True
        overlapping = self.session.address_classes(access_list.family).overlapping
        senders, receivers = self._touched_ends(access_list, claimed)
        if receivers.isdisjoint(overlapping(entry.destination.patterns)) or (
            not claimed and senders.isdisjoint(overlapping(entry.source.patterns))
        ):
            return False
        if in_focus:
            return True
        altered = self._touched.regions(access_list.family)
        if altered is None:
            return True
        # Most entries carry something else, whoever sends it.
        key = packets, access_list.family, entry.service.terms, entry.qualifiers
        if key not in self._carry:
            self._carry[key] = any(
                each.between(own.source, own.destination).meets(own)
                for each in packets(self, access_list, entry)
                for own in altered
            )
        return self._carry[key] and any(
            each.meets(own) for each in packets(self, access_list, entry) for own in altered
        )

    def traffic(self) -> Iterator[tuple[AccessList, list[Entry]]]:
        """Yield the lists whose traffic is to be looked at, each with its entries that some packet
        reaches. With a focus, the other entries are included as far as their traffic is `touched`.
        """
        names = {placement.access_list for placement in self.plan.placements}
        for access_list in (each for name, each in self.plan.lists.items() if name in names):
            hidden = {each.entry.number for each in self.coverage(access_list) if not each.reached}
            chosen = (
                self.entries(access_list)
                if self._touched is None
                else [each for each in access_list.entries if not each.off]
            )
            yield access_list, [entry for entry in chosen if entry.number not in hidden]

    def placed(self) -> Iterator[AccessList]:
        """Yield the placed lists that are to be looked at, in the plan's order."""
        names = {placement.access_list for placement in self.plan.placements}
        return (
            access_list
            for name, access_list in self.plan.lists.items()
            if name in names and self.looks_at(access_list)
        )

    def looks_at(self, access_list: AnyList[Any]) -> bool:
        """Whether a list is to be looked at, even if only as a whole."""
        return self.focus is None or access_list.name in self.focus

    def states(self, *lists: AnyList[Any]) -> Sequence[State]:
        """Return every state that the conditions of these lists can be in."""
        if lists not in self._states:
            self._states[lists] = list(self.plan.states(lists))
        return self._states[lists]

    def states_of(
        self, lists: Iterable[PlacedList], packets: Callable[[], Iterable[Region]]
    ) -> list[State]:
        """Return the states of the conditions of some lists that have to be gone through for some
        packets (`states_for`).
        """
        return list(
            states_for(self.plan, dict.fromkeys(each.access_list for each in lists), packets)
        )

    def coverage(self, access_list: AccessList) -> list[Coverage]:
        """Return what is known of each entry that is ever in force, over all states of the windows."""
        if not self.looks_at(access_list):
            return []
        if access_list.name not in self._coverage:
            known: dict[int, Coverage] = {}
            only = None if self.focus is None else self.focus.get(access_list.name, ())
            for opened in self.states(access_list):
                for each in coverage(
                    self.session.regions.of(access_list, opened), self._tell, only, self.missed
                ):
                    before = known.get(each.entry.number)
                    known[each.entry.number] = each if before is None else _together(before, each)
            self._coverage[access_list.name] = [known[number] for number in sorted(known)]
        return self._coverage[access_list.name]

    def index(self, access_list: AccessList, opened: State) -> ListIndex:
        """Return what decides single packets by a list while the given windows are open."""
        key = (access_list.name, opened)
        if key not in self._indexes:
            self._indexes[key] = ListIndex(access_list, opened)
        return self._indexes[key]

    def crossing(
        self, family: Family, crossing: Crossing, columns: Iterable[int] | None = None
    ) -> Passing:
        """Return which address classes send to which across a place, on some path that arrives;
        only to those of some `columns`, unless all ways are known anyway.

        It must be a place where a list stands for either family, in either direction.
        """
        some = columns is not None and self._in_parts(family)
        chosen = frozenset(columns or ()) if some else None
        key = (family, crossing, chosen)
        if key not in self._passing:
            placed = (*crossing.place, family) in self.plan.placed
            matrix, classes = (
                self.session.matrix(family) if placed else self._unplaced(family),
                self.session.address_classes(family),
            )
            bit = matrix.graphs.sent_bit(crossing.place)
            rows = dict(matrix.meeting(bit, arriving=True, columns=chosen))
            senders = [index for index, row in enumerate(matrix.row.tolist()) if row in rows]
            anyone = frozenset(
                index for row in rows.values() for index in row.nonzero()[0].tolist()
            )
            self._passing[key] = Passing(
                classes, {index: rows[int(matrix.row[index])] for index in senders}, anyone
            )
        return self._passing[key]

    def in_turn(self, family: Family, receivers: Sequence[int]) -> Iterator[Sequence[int]]:
        """Yield some address classes in parts, for a question that any one of them may answer:
        first those whose ways are known already.
        """
        if not self._in_parts(family):
            yield receivers
            return
        known = self.columns(family)
        if known is None:
            known = self.session.matrix(family).worked_out
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
        graphs = self.network.graphs(family)
        if not isinstance(graphs, CrossedGraphs):
            return
        matrix, classes = self.session.matrix(family), self.session.address_classes(family)
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
                sides = self.own_addresses(family, one), self.own_addresses(family, other)
                for what, view in known[number]:
                    sent = Region(*sides, what)
                    yield SeenThere(sent, view, Seen(sent, view).image)

    def _views(
        self, source: Endpoint, destination: Endpoint, crossing: Crossing
    ) -> Iterator[tuple[Spans, View]]:
        """Yield the views in which a place sees what one end sends to another, each with the
        traffic that it is for.
        """
        for what, several in self.network.by_service(source, destination):
            views = (
                each.view
                for ways in several
                for each in ways.there.crossings
                if each.place == crossing.place and each.view
            )
            yield from ((what, view) for view in dict.fromkeys(views))

    def comes_by(self, region: Region, crossing: Crossing) -> bool:
        """Whether traffic that has been translated before passes a place and is in a region there."""
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
                for point, own, _ in self.plan.placed
                for direction in {*EACH_WAY, own}
            }
            places = {place for place in places if (*place, family) not in self.plan.placed}
            ends = [each.end for each in self.session.address_classes(family)]
            self._matrices[family] = Matrix(WayGraphs(self.network, family, places=places), ends)
        return self._matrices[family]

    def work_out_ways(self) -> None:
        """Work out all ways that are asked for where everything is looked at, and what they are
        looked up by.
        """
        for family in Family:
            if any(own is family for *_, own in self.plan.placed):
                self.session.matrix(family).work_out()
            self._unplaced(family).work_out()
        for point, own, _ in islice(self.plan.placed, 1):
            for direction in {*EACH_WAY, own}:
                for family in Family:
                    self.crossing(family, Crossing(point, direction))

    def _in_parts(self, family: Family) -> bool:
        """Whether ways are worked out as far as a question needs them: where just some traffic, or
        just a few entries, are looked at.
        """
        return self.columns(family) is not None or self._looks_at_few

    def columns(self, family: Family) -> frozenset[int] | None:
        """Return the address classes that receive, or answer, any traffic that is to be looked at;
        None for all.
        """
        if family not in self._columns:
            self._columns[family] = None if self._touched is None else self._asked_for(family)
        return self._columns[family]

    def _asked_for(self, family: Family) -> frozenset[int] | None:
        # Behind a translation an entry may take what was sent to others, and whether no conversation
        # at all learns what TLS is spoken is asked of all of them.
        if self._touched is None or self.plan.translations[family] or self.plan.asks_for_tls:
            return None
        classes, found = self.session.address_classes(family), set[int]()
        for access_list in self.plan.lists.values():
            if access_list.family is not family or not self._looks_at_all(access_list):
                continue
            for entry in self.entries(access_list):
                for side in (entry.source, entry.destination):
                    found.update(classes.overlapping(side.patterns))
                if len(found) == len(classes):
                    return None
        for claimed in (False, True):
            touched = self._touched.pairs(family, claimed)
            if touched is not None:
                found.update(touched.all_receivers)
        return frozenset(found)

    def senders(self, access_list: AccessList) -> dict[int, list[int]]:
        """Return, for each address class of machines that send across a list, the classes of
        machines that they send to, limited to `columns`; classes that are alike are joined.
        """
        if access_list.name not in self._senders:
            family = access_list.family
            matrix, machines = self.session.matrix(family), self._machines(family)
            places = self.plan.places_of(access_list)
            rows = dict(
                matrix.meeting(
                    sum(matrix.graphs.bit(place) for place in places),
                    columns=self.columns(family),
                )
            )
            columns = {
                row: [each for each in meets.nonzero()[0].tolist() if each in machines]
                for row, meets in rows.items()
            }
            self._senders[access_list.name] = {
                one: columns[row] for one in machines if (row := int(matrix.row[one])) in columns
            }
        return self._senders[access_list.name]

    def touched(self, access_list: AccessList, claimed: bool = False) -> dict[int, list[int]]:
        """Return the pairs of `senders` and receivers whose traffic a change may affect; with
        `claimed` also where senders use a false source address.
        """
        key = access_list.name, claimed
        if key not in self._of_touched:
            family = access_list.family
            touched = None if self._touched is None else self._touched.pairs(family, claimed)
            found = self._of_touched[key] = {}
            if touched is not None and self._meets_touched(access_list, claimed):
                for one, others in self.senders(access_list).items():
                    receivers = touched.receivers(one)
                    own = [other for other in others if other in receivers] if receivers else []
                    if own:
                        found[one] = own
        return self._of_touched[key]

    def _touched_ends(
        self, access_list: AccessList, claimed: bool
    ) -> tuple[frozenset[int], frozenset[int]]:
        """Return all senders, and all receivers, of what is `touched`."""
        key = access_list.name, claimed
        if key not in self._of_touched_ends:
            pairs = self.touched(access_list, claimed)
            self._of_touched_ends[key] = (
                frozenset(pairs),
                frozenset[int]().union(*pairs.values()),
            )
        return self._of_touched_ends[key]

    def _meets_touched(self, access_list: AccessList, claimed: bool) -> bool:
        """Whether a list is asked about any traffic that a change may affect."""
        key = access_list.family, claimed
        if key not in self._met_by_touched:
            assert self._touched is not None
            matrix, touched = self.session.matrix(access_list.family), self._touched.pairs(*key)
            self._met_by_touched[key] = 0 if touched is None else matrix.met_between(*touched)
        graphs = self.network.graphs(access_list.family)
        bits = sum(graphs.bit(place) for place in self.plan.places_of(access_list))
        return bool(bits & self._met_by_touched[key])

    def sent(
        self, access_list: AccessList, entry: Entry, claimed: bool = False
    ) -> dict[int, list[int]]:
        """Return the part of `senders` that is to be looked at for an entry: all of it, or what is
        `touched`.
        """
        return (
            self.senders(access_list)
            if self._looks_at_all(access_list) and self.in_focus(access_list, entry)
            else self.touched(access_list, claimed)
        )

    def _looks_at_all(self, access_list: AccessList) -> bool:
        """Whether all traffic of a list's entries in focus is to be looked at."""
        return self._touched is None or access_list.name in self._touched.anew

    def across(
        self,
        access_list: AccessList,
        entry: Entry,
        sent: Mapping[int, Sequence[int]],
        senders: Iterable[int],
    ) -> Iterator[tuple[int, Sequence[int]]]:
        """Yield the senders with the classes that have destinations of an entry, of the traffic
        `sent` across the entry's list; those without any are left out.
        """
        classes = self.session.address_classes(access_list.family)
        receivers = classes.overlapping(entry.destination.patterns)
        chosen = None if len(receivers) == len(classes) else set(receivers)
        for one in senders:
            others = sent[one] if chosen is None else [each for each in sent[one] if each in chosen]
            if others:
                yield one, others

    def nodes(self, family: Family, one: int, others: Sequence[int]) -> tuple[list[int], list[int]]:
        """Return the node numbers of the graphs from an address class to each of others, and those
        back from each.
        """
        return self.session.matrix(family).between_each(one, others)

    def flows(self, family: Family, one: int, other: int) -> list[Flow]:
        """Return what the machines of one address class send to those of another."""
        key = (family, one, other)
        if key not in self._flows:
            if len(self._flows) > _MOST_FLOWS:
                self._flows.clear()
            ends, machines = (
                [self.session.address_classes(family)[each] for each in (one, other)],
                self._machines(family),
            )
            patterns, excluded = (
                ((ends[0].pattern,), (ends[1].pattern,)),
                Excluded(machines[one], machines[other]),
            )
            self._flows[key] = flows_between(
                self.network,
                ends[0].end,
                ends[1].end,
                patterns,
                excluded,
                numbers=self.session.matrix(family).plain_between(one, other),
            )
        return self._flows[key]

    def flows_to(self, family: Family, one: int, others: Iterable[int]) -> Iterator[Flow]:
        """Yield what the machines of one address class send to those of each of others."""
        for other in others:
            yield from self.flows(family, one, other)

    def own_addresses(self, family: Family, index: int) -> AddressSet:
        """Return the addresses of an address class that are in no class inside it."""
        key = (family, index)
        if key not in self._own:
            each = self.session.address_classes(family)[index]
            self._own[key] = AddressSet.of(family, (each.pattern,)) - AddressSet.of(
                family, each.excluded
            )
        return self._own[key]

    def meant(self, family: Family, patterns: tuple[Pattern, ...]) -> list[int]:
        """Return the classes of the addresses that an entry asks for: those of machines, and others
        only where it names them singly or has no machines.
        """
        key = (family, patterns)
        if key not in self._meant:
            classes = self.session.address_classes(family)
            every = classes.holding(patterns)
            whole = any(each.wildcard == family.mask for each in patterns)
            index = PatternIndex(patterns)
            own = every if whole else [each for each in every if _is_meant(classes[each], index)]
            self._meant[key] = own or every
        return self._meant[key]

    def class_of(self, address: Address) -> int:
        """Return the address class of a machine, among those that are left when classes that are
        alike are joined.
        """
        known = self._machines(address.family)
        around = self.session.address_classes(address.family).overlapping((single(address),))
        return next(each for each in reversed(around) if each in known)

    def _machines(self, family: Family) -> dict[int, tuple[Pattern, ...]]:
        """Return the address classes of machines that are left when classes that are alike are
        joined, each with the patterns inside it that were not (`merged`).
        """
        if family not in self._joined:
            import numpy as np

            matrix, classes = self.session.matrix(family), self.session.address_classes(family)
            chosen = self.columns(family)
            routed = [index for index, each in enumerate(classes) if not each.scoped]
            group = [classes[index] for index in routed]
            columns = np.array(
                [index for index in routed if chosen is None or index in chosen], dtype=np.intp
            )
            matrix.work_out(columns.tolist())
            number = {each.pattern: index for index, each in zip(routed, group, strict=True)}
            names: dict[str, int] = {}
            segments = np.array(
                [names.setdefault(each.end.segment, len(names)) for each in group], dtype=np.intp
            )

            def same(one: AddressClass, other: AddressClass) -> bool:
                if (one.end.device is None) is not (other.end.device is None):
                    return False
                on_link = [segments == names[each.end.segment] for each in (one, other)]
                return bool((on_link[0] == on_link[1]).all()) and matrix.alike(
                    number[one.pattern], number[other.pattern], columns
                )

            left = merged(group, same)
            self._joined[family] = {
                routed[index]: inner
                for index, inner in left.items()
                if group[index].end.device is None
            }
        return self._joined[family]

    def asking(self, opened: State) -> Flows:
        """Return what answers questions about sets of conversations while the given windows are
        open.
        """
        return self.session.flows(opened)

    def is_over(self, entry: Entry) -> bool:
        """Whether an entry's window has closed for good."""
        return self.plan.is_over(entry.window, self.now)


def _is_meant(known: AddressClass, patterns: PatternIndex) -> bool:
    """Whether patterns are about a class: about machines, or about an address that is named by
    itself.
    """
    if known.end.device is None and not known.scoped:
        return True
    return (known.scoped or not known.pattern.wildcard) and any(
        known.pattern.covers(each) for each in patterns.overlapping(known.pattern)
    )


def _together(one: Coverage, other: Coverage) -> Coverage:
    """Return what is known of an entry from two states: it is reached, or needed, if it is so in
    either.
    """
    first = one if one.reached or not other.reached else other
    return first._replace(
        needed=one.needed or other.needed, because=() if first.reached else first.because
    )


def numbers(entries: Sequence[AnyEntry]) -> str:
    """Write entry numbers: `10`, `10 and 20`, `10, 20 and 30`."""
    texts = [str(entry.number) for entry in entries]
    return texts[0] if len(texts) == 1 else f"{', '.join(texts[:-1])} and {texts[-1]}"
