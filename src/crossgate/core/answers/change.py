"""What two plans can treat differently, found from what changed before any packet is looked at.

1. The graphs of both plans share their numbers, so the ways of a pair differ only where the numbers
do.

2. A pair of address classes is suspect where its ways there or back differ, or meet a place whose
list differs about addresses of theirs. All other pairs are treated alike in both plans, and are not
looked at.

3. Two lists may do the same with a packet by other lines. For what becomes of packets only those
matter that they treat differently; findings, which are about lines, need the others too.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import cached_property
from itertools import chain
from typing import TYPE_CHECKING

from crossgate.core.answers.list_changes import Ends, ListChanges, regions_of
from crossgate.core.answers.names_alone import Renamed, differ_in_names_alone
from crossgate.core.answers.touched_pairs import (
    ComparedClasses,
    Side,
    Suspect,
    TouchedPairs,
    Treatment,
    are_alike,
    links_of,
    pairs_meeting,
    pairs_with,
    positions,
    treatment,
)
from crossgate.core.model.address import Family, Pattern
from crossgate.core.network.address_classes import AddressClass, address_classes, boundaries
from crossgate.core.sets.patterns import Excluded
from crossgate.core.sets.region import Region
from crossgate.core.traffic.between import merged
from crossgate.core.traffic.session import Session

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray


class PlanChange:
    """The change from one plan to another; `new` is a session made beside `old`, a fresh one where
    the given one is not. An edit that only gave something another name says what was `renamed`.
    """

    def __init__(self, old: Session, new: Session, renamed: Renamed | None = None) -> None:
        self.old, self.new = old, new if new.is_beside(old) else Session(new.plan, beside=old)
        self.in_names_alone = renamed is not None and differ_in_names_alone(
            old.plan, new.plan, renamed
        )
        self._lists = ListChanges(self.old, self.new)
        self._known: dict[tuple[Family, bool], ComparedClasses] = {}
        self._in_lists_alone: dict[Family, bool] = {}

    @cached_property
    def same_network(self) -> bool:
        """Whether packets take the same ways in both plans, and meet lists at the same places."""
        return self.new.network.like(self.old.network)

    def _only_lists(self, family: Family) -> bool:
        """Whether the plans differ in nothing but lists, so that a packet is treated differently
        only where some list treats it differently.
        """
        if family not in self._in_lists_alone:
            before, after = (
                [] if self.same_network else [each.pattern for each in own.address_classes(family)]
                for own in (self.old, self.new)
            )
            same_paths = self.new.network.same_paths(self.old.network)
            self._in_lists_alone[family] = same_paths and before == after
        return self._in_lists_alone[family]

    def _can_differ(self, family: Family, treated: bool) -> bool:
        """Whether the plans can treat any packet of a family differently, or unless `treated` have
        another line decide about it.
        """
        if self.in_names_alone:
            return False
        places = self._lists.at(family).values()
        return not self._only_lists(family) or any(
            not treated or each.regions != [] for each in places
        )

    def altered(self, family: Family) -> list[Region] | None:
        """Return regions that contain every packet about which another line decides; None where
        that may be any packet.
        """
        if not self._only_lists(family) or self._translates(family):
            return None
        found: list[Region] = []
        for each in self._lists.at(family).values():
            if each.entries is None:
                return None
            found += regions_of(each.entries, family)
        return list(dict.fromkeys(found))

    def pairs(self, family: Family) -> Iterator[Suspect]:
        """Yield the pairs of address classes between which the two plans may treat something
        differently; pairs that are treated alike are one.
        """
        if not self._can_differ(family, treated=True):
            return
        import numpy as np

        every = self._pairs(family, treated=True)
        before, after = (known.classes for known in every.known)
        sides, group, index = [], [], {}
        suspects = set(every.columns[every.suspect.any(axis=0)].tolist())  # as either end
        for number, (pattern, was, now) in enumerate(
            zip(every.patterns, before, after, strict=True)
        ):
            own = was or now
            sides.append(Side(pattern, (was and was.end, now and now.end)))
            if own is not None and not own.scoped and number in suspects:
                index[pattern] = number
                group.append(own)
        routed = np.array(list(index.values()), dtype=np.intp)
        senders = merged(
            group,
            lambda one, other: are_alike(
                every, routed, index[one.pattern], index[other.pattern], True
            ),
        )
        receivers = merged(
            group,
            lambda one, other: are_alike(
                every, routed, index[one.pattern], index[other.pattern], False
            ),
        )
        left, place = list(receivers), every.place
        columns = routed[left]
        for one, sources in senders.items():
            for nth in every.suspect[routed[one]][place[columns]].nonzero()[0].tolist():
                here, far = int(routed[one]), int(columns[nth])
                nodes = [
                    (int(known.numbers[here, place[far]]), int(known.numbers[far, place[here]]))
                    for known in every.known
                ]
                yield Suspect(
                    sides[here],
                    sides[far],
                    Excluded(sources, receivers[left[nth]]),
                    (nodes[0], nodes[1]),
                )

    def concerns(
        self, family: Family, senders: Sequence[AddressClass], receivers: Sequence[AddressClass]
    ) -> bool:
        """Whether the plans can treat anything differently that some classes of the new plan send
        to others.
        """
        if not self._can_differ(family, treated=True):
            return False
        every = self._pairs(family, treated=True)
        here, far = (
            [every.number.get(each.pattern, -1) for each in group] for group in (senders, receivers)
        )
        if -1 in here or -1 in far:
            return True
        places = every.place[far]
        return bool(every.suspect[here][:, places[places >= 0]].any())

    def touched(self, session: Session, family: Family, there: bool) -> TouchedPairs | None:
        """Return the pairs of address classes of one of the two plans about whose traffic another
        line may decide; None where there are none.

        With `there`, return the pairs whose way there may differ, whatever address the sender
        claims.
        """
        if not self._can_differ(family, treated=False):
            return None
        import numpy as np

        every = self._pairs(family, treated=False)
        numbers = np.array(
            [every.number.get(each.pattern, -1) for each in session.address_classes(family)],
            dtype=np.intp,
        )
        chosen = every.there if there else every.suspect
        if np.array_equal(numbers, np.arange(len(every.patterns))):
            return TouchedPairs(chosen, every.columns)
        assert len(every.columns) == len(every.patterns)  # the plans tell other addresses apart
        found: NDArray[np.bool_] = chosen[numbers][:, numbers]
        found[numbers < 0] = True
        found[:, numbers < 0] = True
        return TouchedPairs(found, np.arange(len(numbers)))

    def _pairs(self, family: Family, treated: bool) -> ComparedClasses:
        """Return the pairs that may be treated differently, or unless `treated` those about whose
        packets another line may decide.
        """
        key = family, treated and self._only_lists(family)
        if key not in self._known:
            self._known[key] = self._paired(family, treated)
        return self._known[key]

    def _paired(self, family: Family, treated: bool) -> ComparedClasses:
        import numpy as np

        if self._only_lists(family):
            classes = self.new.address_classes(family)
            some = self._columns(family, treated)
            columns = np.arange(len(classes)) if some is None else np.array(some, dtype=np.intp)
            both = [
                Treatment(
                    list(each.address_classes(family)),
                    matrix.numbers_to(columns)[matrix.row],
                    links_of(classes),
                )
                for each in ((self.new,) if self.same_network else (self.old, self.new))
                for matrix in (each.matrix(family),)
            ]
            patterns = [each.pattern for each in classes]
            suspect = np.zeros(both[0].numbers.shape, dtype=bool)
        else:
            from crossgate.core.network.matrix import Matrix

            sessions = self.old, self.new
            edges = [boundaries(each.network, family) for each in sessions]
            if edges[0] == edges[1]:
                found: list[Sequence[AddressClass]] = [
                    each.address_classes(family) for each in sessions
                ]
                matrices = [each.matrix(family) for each in sessions]
            else:
                found = [
                    address_classes(each.network, family, edges[0] | edges[1]) for each in sessions
                ]
                matrices = [
                    Matrix(own.network.graphs(family), [each.end for each in ends])
                    for own, ends in zip(sessions, found, strict=True)
                ]
            patterns = list(dict.fromkeys(each.pattern for classes in found for each in classes))
            both = [
                treatment(own, matrix, patterns)
                for own, matrix in zip(found, matrices, strict=True)
            ]
            before, after = both
            on_link = [each.segments[:, None] == each.segments for each in both]
            suspect = (before.numbers != after.numbers) | (on_link[0] != on_link[1])
            columns = np.arange(len(patterns))
        number = {pattern: index for index, pattern in enumerate(patterns)}
        there = suspect.copy()
        graphs = self.new.network.graphs(family)
        translated = pairs_with(both, graphs.is_translated)
        for bit, place in self._lists.at(family).items():
            meets = pairs_meeting(graphs, both, bit)
            there |= meets
            ends = place.ends(treated) if self._only_lists(family) else None
            suspect |= (
                meets
                if ends is None
                # Where they are translated, a list sees other addresses.
                else meets & (translated | self._between(family, ends, number, columns))
            )
        suspect[columns] |= suspect[columns].T  # the answers
        return ComparedClasses(patterns, number, (both[0], both[-1]), columns, there, suspect)

    def _columns(self, family: Family, treated: bool) -> list[int] | None:
        """Return the address classes between which packets may go that are treated differently, or
        unless `treated` about which another line decides, or their answers; None for all classes.
        """
        if self._translates(family):
            return None
        classes, found = self.new.address_classes(family), set[int]()
        for each in self._lists.at(family).values():
            ends = each.ends(treated)
            if ends is None:
                return None
            for patterns in chain.from_iterable(ends):
                found.update(classes.overlapping(patterns))
        return sorted(found)

    def _translates(self, family: Family) -> bool:
        """Whether lists may see other addresses than were sent, so that the addresses in an entry
        do not tell whose packets it takes.
        """
        return any(each.plan.translations[family] for each in (self.old, self.new))

    def _between(
        self,
        family: Family,
        ends: Sequence[Ends],
        number: dict[Pattern, int],
        columns: NDArray[np.intp],
    ) -> NDArray[np.bool_]:
        """Return which pairs of address classes, by their numbers, have addresses at some ends: a
        row for each sender, and the columns of some receivers.
        """
        import numpy as np

        classes = self.new.address_classes(family)
        place = positions(columns, len(number))
        found = np.zeros((len(number), len(columns)), dtype=bool)
        for several in ends:
            senders, receivers = (
                [number[classes[each].pattern] for each in classes.overlapping(patterns)]
                for patterns in several
            )
            places = place[receivers]
            found[np.ix_(np.array(senders, dtype=np.intp), places[places >= 0])] = True
        return found
