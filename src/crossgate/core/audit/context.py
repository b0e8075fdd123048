"""What all findings share: one plan at one time, which of its entries are covered, and what is to
be looked at.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from datetime import datetime
from typing import Any

from crossgate.core.audit.machines import Machines
from crossgate.core.audit.passages import Passages
from crossgate.core.audit.scope import AuditScope, Focus, Touched
from crossgate.core.audit.touched import TouchedTraffic
from crossgate.core.lists.covered import Coverage
from crossgate.core.lists.index import ListIndex
from crossgate.core.lists.redundancy import coverage
from crossgate.core.model.accesslist import AccessList, AnyList
from crossgate.core.model.condition import State
from crossgate.core.model.entry import AnyEntry, Entry
from crossgate.core.model.progress import Tell
from crossgate.core.sets.effort import TooManyPieces
from crossgate.core.sets.region import Region
from crossgate.core.traffic.conditions import states_for
from crossgate.core.traffic.flows import Flows, PlacedList
from crossgate.core.traffic.session import Session


class Case:
    """A plan to be audited as things are at `now`; what several findings need is worked out
    once.
    """

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
        self.missed: list[TooManyPieces] = []
        # What depends on the plan alone is kept for all that looks at it; which ways are worked out
        # depends on what is touched.
        kept = session.kept.setdefault("audit", {})
        self.kept = kept if touched is None else dict[str, Any]()
        self.scope = AuditScope(session, focus, touched)
        self.machines = Machines(session, self.scope, self.kept)
        self.passages = Passages(session, self.scope, self.machines)
        self._touched = None if touched is None else TouchedTraffic(session, touched, self.machines)
        self._tell = tell
        self._indexes: dict[tuple[str, State], ListIndex] = kept.setdefault("indexes", {})
        self._states: dict[tuple[AnyList[Any], ...], Sequence[State]] = kept.setdefault(
            "states", {}
        )
        self._coverage: dict[str, list[Coverage]] = {}
        self._altered: dict[object, bool] = {}

    def traffic(self, claimed: bool = False) -> Iterator[tuple[AccessList, list[Entry]]]:
        """Yield the placed lists, each with its entries that some packet reaches and whose traffic
        is to be looked at: those in the scope and, where a change touches what crosses the list,
        the others too. With `claimed`, what is sent with a false source address counts.
        """
        names = {placement.access_list for placement in self.plan.placements}
        for access_list in (each for name, each in self.plan.lists.items() if name in names):
            touched = self._touched
            chosen = (
                self.scope.entries(access_list)
                if touched is None or not touched.pairs(access_list, claimed)
                else self.scope.whole(access_list)
            )
            hidden = {each.entry.number for each in self.coverage(access_list) if not each.reached}
            yield access_list, [entry for entry in chosen if entry.number not in hidden]

    def sent(
        self, access_list: AccessList, entry: Entry, claimed: bool = False
    ) -> dict[int, list[int]]:
        """Return who sends to whom across a list (`Machines.senders`), as far as that is to be
        looked at for an entry.
        """
        touched = self._touched
        if touched is None or self._looks_at_all(access_list, entry):
            return self.machines.senders(access_list)
        return touched.pairs(access_list, claimed)

    def _looks_at_all(self, access_list: AccessList, entry: Entry) -> bool:
        """Whether all traffic of an entry is to be looked at, touched or not."""
        return self.scope.looks_at_all(access_list) and self.scope.in_focus(access_list, entry)

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
        touched = self._touched
        if touched is None or self._looks_at_all(access_list, entry):
            return True
        overlapping = self.session.address_classes(access_list.family).overlapping
        senders, receivers = touched.ends(access_list, claimed)
        if receivers.isdisjoint(overlapping(entry.destination.patterns)) or (
            not claimed and senders.isdisjoint(overlapping(entry.source.patterns))
        ):
            return False
        altered = touched.regions(access_list.family)
        if altered is None or self.scope.in_focus(access_list, entry):
            return True
        # Most entries carry something else, whoever sends it.
        key = packets, access_list.family, entry.service.terms, entry.qualifiers
        if key not in self._altered:
            self._altered[key] = any(
                each.between(own.source, own.destination).meets(own)
                for each in packets(self, access_list, entry)
                for own in altered
            )
        return self._altered[key] and any(
            each.meets(own) for each in packets(self, access_list, entry) for own in altered
        )

    def placed(self) -> Iterator[AccessList]:
        """Yield the placed lists that are to be looked at, in the plan's order."""
        names = {placement.access_list for placement in self.plan.placements}
        return (
            access_list
            for name, access_list in self.plan.lists.items()
            if name in names and self.scope.looks_at(access_list)
        )

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
        """Return what is known of each entry that is ever in force, over all states of the
        windows.
        """
        if not self.scope.looks_at(access_list):
            return []
        if access_list.name not in self._coverage:
            known: dict[int, Coverage] = {}
            only = None if self.scope.focus is None else self.scope.focus.get(access_list.name, ())
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

    def asking(self, opened: State) -> Flows:
        """Return what answers questions about sets of conversations while the given windows are
        open.
        """
        return self.session.flows(opened)

    def is_over(self, entry: Entry) -> bool:
        """Whether an entry's window has closed for good."""
        return self.plan.is_over(entry.window, self.now)


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
