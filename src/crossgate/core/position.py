"""Where a new entry belongs in a list: as far down as it still does something."""

from __future__ import annotations

from typing import NamedTuple

from crossgate.core.accesslist import AccessList, Entry
from crossgate.core.coverage import uncovered
from crossgate.core.regions import EntryRegion, overlap, split


class Position(NamedTuple):
    """Between two entries that follow each other, None for the ends of the list; and why not further down."""

    before: Entry | None
    after: Entry | None
    why: str


def effective_position(access_list: AccessList, new: Entry) -> Position:
    """Return the last position at which a new entry decides some packet otherwise than the list would without it.

    Where there is none, it is the last at which a packet gets as far as the entry at all, else the end.
    """
    entries = list(access_list.entries)
    region = EntryRegion(new, access_list.family)
    near = []
    for index, entry in enumerate(entries):
        if entry.off:
            continue
        other = EntryRegion(entry, access_list.family)
        if region.hull is not None and other.hull is not None and overlap(region.hull, other.hull) is not None:
            near.append((index, other))
    # Between two entries that it shares no packet with, a new entry does the same wherever it stands.
    places = [len(near), *range(len(near) - 1, -1, -1)]
    reached: int | None = None
    for place in places:
        before, after = [each for _, each in near[:place]], [each for _, each in near[place:]]
        left = [part for box in region.boxes() for part in uncovered(box, before)]
        if left and reached is None:
            reached = place
        if any(_differs(access_list, new, after, decider) for box in left for _, decider in split(after, box)):
            return _position(
                access_list, near, place, "takes all of it" if place < len(near) and reached == place else "decides the same way first"
            )
    if reached is not None:
        return _position(access_list, near, reached, "takes all of it")
    return _position(access_list, near, len(near), "")


def _differs(access_list: AccessList, new: Entry, after: list[EntryRegion], decider: int | None) -> bool:
    action = access_list.otherwise.action if decider is None else after[decider].entry.action
    return action is not new.action


def _position(access_list: AccessList, near: list[tuple[int, EntryRegion]], place: int, why: str) -> Position:
    entries = access_list.entries
    if place == len(near):
        return Position(entries[-1] if entries else None, None, "")
    index = near[place][0]
    below = entries[index]
    return Position(entries[index - 1] if index else None, below, f"{below.number} ({below.text}), which {why}" if why else "")
