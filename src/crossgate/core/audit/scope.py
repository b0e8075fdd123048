"""What an audit looks at: everything, or some entries and the traffic that a change may affect."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from typing import TYPE_CHECKING, Any, NamedTuple

from crossgate.core.model.accesslist import AnyList
from crossgate.core.model.address import Family
from crossgate.core.model.entry import AnEntry, AnyEntry
from crossgate.core.sets.region import Region
from crossgate.core.traffic.session import Session

if TYPE_CHECKING:
    from crossgate.core.answers.touched_pairs import TouchedPairs

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


_FEW_ENTRIES = 50
"""For more entries than these it costs less to work out all ways at once."""


class AuditScope:
    """Which entries of a plan are looked at, and between which address classes."""

    def __init__(self, session: Session, focus: Focus | None, change: Touched | None) -> None:
        self.focus = focus
        self.change = change
        self._plan = session.plan
        self._session = session
        self._looks_at_few = (
            focus is not None and change is None and sum(map(len, focus.values())) <= _FEW_ENTRIES
        )
        self._columns: dict[Family, frozenset[int] | None] = {}

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

    def in_focus(self, access_list: AnyList[Any], entry: AnyEntry) -> bool:
        """Whether everything about an entry is to be looked at, and not only touched traffic."""
        return self.focus is None or entry.number in self.focus.get(access_list.name, ())

    def looks_at(self, access_list: AnyList[Any]) -> bool:
        """Whether a list is to be looked at, even if only as a whole."""
        return self.focus is None or access_list.name in self.focus

    def looks_at_all(self, access_list: AnyList[Any]) -> bool:
        """Whether all traffic of a list's entries in focus is to be looked at."""
        return self.change is None or access_list.name in self.change.anew

    def columns(self, family: Family) -> frozenset[int] | None:
        """Return the address classes that receive, or answer, any traffic that is to be looked at;
        None for all.
        """
        if family not in self._columns:
            self._columns[family] = None if self.change is None else self._asked_for(family)
        return self._columns[family]

    def _asked_for(self, family: Family) -> frozenset[int] | None:
        # Behind a translation an entry may take what was sent to others, and whether no conversation
        # at all learns what TLS is spoken is asked of all of them.
        if self.change is None or self._plan.translations[family] or self._plan.asks_for_tls:
            return None
        classes, found = self._session.address_classes(family), set[int]()
        for access_list in self._plan.lists.values():
            if access_list.family is not family or not self.looks_at_all(access_list):
                continue
            for entry in self.entries(access_list):
                for side in (entry.source, entry.destination):
                    found.update(classes.overlapping(side.patterns))
                if len(found) == len(classes):
                    return None
        for claimed in (False, True):
            touched = self.change.pairs(family, claimed)
            if touched is not None:
                found.update(touched.all_receivers)
        return frozenset(found)

    def in_parts(self, family: Family) -> bool:
        """Whether ways are worked out as far as a question needs them: where just some traffic, or
        just a few entries, are looked at.
        """
        return self.columns(family) is not None or self._looks_at_few
