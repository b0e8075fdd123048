"""How the access lists of two plans differ: which of them, at which places, and about which
packets.

Two lists differ where they do not read alike; nothing else about a list matters. They may still do
the same with a packet, by other lines.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from functools import cached_property
from itertools import combinations
from typing import NamedTuple

from crossgate.core.lists.difference import same_lists, treated_otherwise, unshared
from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.address import Family, Pattern
from crossgate.core.model.condition import State
from crossgate.core.model.entry import Action, Entry
from crossgate.core.model.plan import Plan
from crossgate.core.sets.region import Region, entry_region
from crossgate.core.traffic.session import Session

Ends = tuple[Sequence[Pattern], Sequence[Pattern]]
"""The sources and the destinations of some packets."""


class ListsThere(NamedTuple):
    """How the lists at a place of two plans differ, where None stands for any packet.

    `entries` take all packets about which another line decides than before, be it alike: those that
    only one of the lists has, or for a list that stands there in one plan alone those that deny.
    `regions` contain all packets that are treated differently.
    """

    entries: list[Entry] | None
    regions: list[Region] | None

    def ends(self, treated: bool) -> list[Ends] | None:
        """Return the ends of the packets about which another line decides, or with `treated` of
        those that are treated differently; None for all ends.
        """
        several = self.regions if treated else self.entries
        return (
            None
            if several is None
            else [(each.source.patterns, each.destination.patterns) for each in several]
        )


_MOST_WINDOWS = 3
"""Lists with more windows are not compared in each of their states."""


class ListChanges:
    """The lists of two plans, place by place, where they differ."""

    def __init__(self, old: Session, new: Session) -> None:
        self.old, self.new = old, new
        self._differing: dict[Family, dict[int, ListsThere]] = {}
        self._compared: dict[tuple[AccessList | None, AccessList | None], ListsThere] = {}

    @cached_property
    def names(self) -> frozenset[str]:
        """The names of the lists that do not read alike in both plans."""
        before, after = self.old.plan, self.new.plan
        return frozenset(
            name
            for name in {*before.lists, *after.lists}
            if not _same(before, before.lists.get(name), after, after.lists.get(name))
        )

    def at(self, family: Family) -> dict[int, ListsThere]:
        """Return the places whose lists differ between the plans, by the bit of each."""
        if family not in self._differing:
            graphs = self.new.network.graphs(family)
            before, after = self.old.plan, self.new.plan
            found: dict[int, ListsThere] = {}
            for place in before.asked.keys() | after.asked.keys():
                was, now = before.asked.get(place), after.asked.get(place)
                # A plan may look lists up by other names than they have (`live.order.between`).
                known = (
                    was is not None
                    and now is not None
                    and now.name not in self.names
                    and before.lists.get(now.name) is was
                    and after.lists.get(now.name) is now
                )
                if place[2] is family and not known and not _same(before, was, after, now):
                    found[graphs.bit(place[:2])] = self._there(was, now)
            self._differing[family] = found
        return self._differing[family]

    def _there(self, was: AccessList | None, now: AccessList | None) -> ListsThere:
        """Return how the lists at a place differ; None stands for no list there."""
        key = was, now
        if key not in self._compared:
            several = [each for each in key if each is not None]
            entries = (
                _denying(several[0])
                if was is None or now is None
                else _alone(self.old.plan, was, self.new.plan, now)
            )
            states = self._states(several)
            if states is None:
                regions = None if entries is None else regions_of(entries, several[0].family)
            else:
                regions = []
                for state in states:
                    own = treated_otherwise(
                        None if was is None else self.old.regions.of(was, state),
                        None if now is None else self.new.regions.of(now, state),
                    )
                    regions = None if own is None or regions is None else [*regions, *own]
            self._compared[key] = ListsThere(entries, regions and list(dict.fromkeys(regions)))
        return self._compared[key]

    def _states(self, lists: Sequence[AccessList]) -> list[State] | None:
        """Return every state that some lists can be in, of either plan or of both; None where these
        are many, or depend on more than windows.
        """
        names = sorted({name for each in lists for name in each.windows})
        plans = self.old.plan, self.new.plan
        if (
            any(each.limits or each.tls for each in lists)
            or len(names) > _MOST_WINDOWS
            or any(len({plan.every_window.get(name) for plan in plans}) > 1 for name in names)
        ):
            return None
        return [
            frozenset(opened)
            for count in range(len(names) + 1)
            for opened in combinations(names, count)
        ]


def _alone(before: Plan, was: AccessList, after: Plan, now: AccessList) -> list[Entry] | None:
    """Return the entries that only one of two lists has, or has at another position; None where all
    other packets are treated differently too.
    """
    if was.otherwise.action is not now.otherwise.action or asks_for_tls(was) is not asks_for_tls(
        now
    ):
        return None
    old, new = (
        [
            (entry, plan.every_window.get(entry.window or ""))
            for entry in own.entries
            if not entry.off
        ]
        for plan, own in ((before, was), (after, now))
    )
    return [entry for entry, _ in unshared(old, new, lambda each: (*each[0].meaning, each[1]))]


def regions_of(entries: Iterable[Entry], family: Family) -> list[Region]:
    """Return the regions that some entries take."""
    regions = (entry_region(each, family) for each in entries)
    return [each for each in regions if each is not None]


def _denying(own: AccessList) -> list[Entry] | None:
    """Return the entries by which a list denies packets; None where it may deny any packet, or ask
    for a TLS version.
    """
    if own.otherwise.action is not Action.PERMIT or asks_for_tls(own):
        return None
    return [each for each in own.entries if each.action is not Action.PERMIT and not each.off]


def asks_for_tls(access_list: AccessList | None) -> bool:
    """Whether a list has entries with `tls`, so that it is asked again once a conversation has
    settled its TLS version; False for None, which stands for no list.
    """
    return access_list is not None and bool(access_list.tls)


def _same(before: Plan, was: AccessList | None, after: Plan, now: AccessList | None) -> bool:
    """Whether a list reads alike in both plans, its windows included."""
    if was is None or now is None:
        return False
    entries = [[entry for entry in each.entries if not entry.off] for each in (was, now)]
    return (
        was.windows == now.windows
        and same_lists(was, entries[0], now, entries[1])
        and (
            not was.windows
            or all(one.window == other.window for one, other in zip(*entries, strict=True))
        )
        and all(before.every_window[name] == after.every_window[name] for name in was.windows)
    )
