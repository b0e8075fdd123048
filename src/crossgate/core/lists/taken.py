"""What the lines above an entry take of the packets that it asks for: all of them, some, or
none.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

from crossgate.core.lists.split import Regions, region_hull, split
from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.condition import State
from crossgate.core.model.entry import Entry
from crossgate.core.sets.frame import PacketSet
from crossgate.core.sets.region import entry_region


class TakenPart(NamedTuple):
    """What one entry takes of another one's packets, in one or several states; the sets may
    overlap.
    """

    taker: Entry
    packets: tuple[PacketSet, ...]


class Taken(NamedTuple):
    """What the entries above take from an entry, each what it is the first to take, in their order;
    `left` says that something is left for it.
    """

    entry: Entry
    parts: tuple[TakenPart, ...]
    left: bool

    @property
    def opposed(self) -> tuple[TakenPart, ...]:
        """The parts about which the other entry decides the opposite."""
        return tuple(each for each in self.parts if each.taker.action is not self.entry.action)


def taken(
    access_list: AccessList,
    entry: Entry,
    below: int | None,
    states: Iterable[State],
    regions: Regions | None = None,
) -> Taken:
    """Return what the entries with numbers up to `below`, None for all, take of an entry, which
    need not be in the list.

    Several states of conditions are gone through; where the entry is in force in none of them,
    nothing is taken. A caller that asks about many entries of a list passes the `regions` that it
    keeps.
    """
    regions = regions or Regions({})
    found: dict[int, list[PacketSet]] = {}
    takers: dict[int, Entry] = {}
    left = False
    for state in states:
        region = entry_region(entry, access_list.family) if entry.in_force(state) else None
        if region is None:
            continue
        hull = region_hull(region)
        above = [
            each
            for each in regions.of(access_list, state).near(hull)
            if each.entry.number != entry.number and (below is None or each.entry.number < below)
        ]
        for piece, index in split(region, [each.region for each in above]):
            if index is None:
                left = True
                continue
            taker = above[index].entry
            takers[taker.number] = taker
            found.setdefault(taker.number, []).append(piece)
    parts = (TakenPart(takers[number], tuple(pieces)) for number, pieces in sorted(found.items()))
    return Taken(entry, tuple(parts), left)
