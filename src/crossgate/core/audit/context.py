"""What the findings share: one plan at one time, its lists as regions, what is covered, what crosses where."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from datetime import datetime
from functools import cached_property

from crossgate.core.lists.redundancy import Coverage, coverage
from crossgate.core.model.accesslist import AccessList, Entry
from crossgate.core.model.address import Family
from crossgate.core.model.progress import Tell
from crossgate.core.model.window import states
from crossgate.core.network.address_classes import AddressClass
from crossgate.core.network.routing import Crossing
from crossgate.core.sets.boxes import address_box
from crossgate.core.sets.effort import TooManyPieces
from crossgate.core.traffic.flows import Flow, Flows, alike, flow_between, likeness
from crossgate.core.traffic.session import Session

Focus = Mapping[str, Collection[int]]
"""The numbers of the entries that are to be looked at, list by list; those of a list that is not there are not."""


class Case:
    """One plan to be audited as things are at `now`. What two findings need is worked out once."""

    def __init__(self, session: Session, now: datetime, tell: Tell | None = None, focus: Focus | None = None) -> None:
        self.session = session
        self.plan = session.plan
        self.network = session.network
        self.now = now
        self.focus = focus
        self.missed: list[TooManyPieces] = []
        self._tell = tell
        self._coverage: dict[str, list[Coverage]] = {}

    def entries(self, access_list: AccessList) -> list[Entry]:
        """Return the entries of a list that are in it and to be looked at."""
        chosen = None if self.focus is None else self.focus.get(access_list.name, ())
        return [entry for entry in access_list.entries if not entry.off and (chosen is None or entry.number in chosen)]

    def placed(self) -> Iterator[AccessList]:
        """Yield the lists that stand somewhere, in the plan's order."""
        names = {placement.access_list for placement in self.plan.placements}
        return (access_list for name, access_list in self.plan.lists.items() if name in names)

    def states(self, *lists: AccessList) -> list[frozenset[str]]:
        """Return every set of windows that can be open, as far as these lists are concerned."""
        names = sorted({name for each in lists for name in each.windows})
        return list(states([self.plan.windows[name] for name in names])) if names else [frozenset()]

    def coverage(self, access_list: AccessList) -> list[Coverage]:
        """Return what is known of each entry that is ever in force, all states of the windows taken together."""
        if access_list.name not in self._coverage:
            known: dict[int, Coverage] = {}
            only = None if self.focus is None else self.focus.get(access_list.name, ())
            for opened in self.states(access_list):
                for each in coverage(self.session.regions.of(access_list, opened), self._tell, only, self.missed):
                    before = known.get(each.entry.number)
                    known[each.entry.number] = each if before is None else _together(before, each)
            self._coverage[access_list.name] = [known[number] for number in sorted(known)]
        return self._coverage[access_list.name]

    @cached_property
    def address_classes(self) -> dict[Family, list[AddressClass]]:
        """The address classes of each family."""
        return {family: self.session.address_classes(family) for family in Family}

    @cached_property
    def crossed(self) -> dict[Family, dict[Crossing, list[tuple[AddressClass, AddressClass]]]]:
        """For each family and place, which address classes send to which across it."""
        found: dict[Family, dict[Crossing, list[tuple[AddressClass, AddressClass]]]] = {}
        for family, ends in self.address_classes.items():
            found[family] = {}
            for source in ends:
                for destination in ends:
                    address = destination.end.address
                    crossings = self.network.itineraries(family).crossings(source.end, address)
                    for crossing in crossings:
                        found[family].setdefault(crossing, []).append((source, destination))
        return found

    @cached_property
    def flows(self) -> dict[Family, list[Flow]]:
        """What machines send each other, alike flows taken as one; devices' own traffic is left out."""
        found: dict[Family, list[Flow]] = {}
        for family, every in self.address_classes.items():
            found[family] = []
            ends = [address_class for address_class in every if not address_class.scoped]
            for source, destination, excluded in alike(ends, ends, lambda one, other: likeness(self.network, one.end, other.end)):
                if source.end.device is None and destination.end.device is None:
                    box = address_box(source.pattern, destination.pattern)
                    found[family].append(flow_between(self.network, source.end, destination.end, (box,), excluded))
        return found

    def asking(self, opened: frozenset[str]) -> Flows:
        """Return the network while just these windows are open."""
        return self.session.flows(opened)

    def is_over(self, entry: Entry) -> bool:
        """Whether an entry's window has closed for good."""
        window = None if entry.window is None else self.plan.windows[entry.window]
        return window is not None and window.closes is not None and window.closes <= self.now


def _together(one: Coverage, other: Coverage) -> Coverage:
    """Return what is known of an entry from two states: reached or needed in either is so."""
    first = one if one.reached or not other.reached else other
    return first._replace(needed=one.needed or other.needed, because=() if first.reached else first.because)


def numbers(entries: Sequence[Entry]) -> str:
    """Write the numbers of entries: `10`, `10 and 20`, `10, 20 and 30`."""
    texts = [str(entry.number) for entry in entries]
    return texts[0] if len(texts) == 1 else f"{', '.join(texts[:-1])} and {texts[-1]}"
