"""Where a new entry belongs in a list: as far down as it still does something.

Right before an entry of another action is the last place at which a new entry does something, if a packet of both gets past
all entries above; the lowest such entry decides, and before all of them the otherwise line, which stands below every entry.
So the list is asked from its end, and most lists answer at the first question.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from crossgate.core.lists.split import EntryRegion
from crossgate.core.model.accesslist import AccessList, Entry
from crossgate.core.sets.boxes import Box, overlap
from crossgate.core.sets.uncovered import first_uncovered


class Position(NamedTuple):
    """Between two entries that follow each other, None for the ends of the list; and why not further down."""

    before: Entry | None
    after: Entry | None
    why: str


def effective_position(access_list: AccessList, new: Entry, states: Sequence[frozenset[str]] = (frozenset(),)) -> Position:
    """Return the last position at which a new entry decides some packet otherwise than the list would without it.

    `states` are the sets of windows that can be open; in one of them has it to do something. Where there is no such
    position, it is the last at which a packet gets as far as the entry at all, else the end.
    """
    in_force = [state for state in states if new.in_force(state)] or list(states)
    lists = [_Near(access_list, new, state) for state in in_force]
    lowest = [index for near in lists if (index := near.effective()) is not None]
    if lowest:
        index = max(lowest)
        all_of_it = not any(near.reached(index + 1) for near in lists)
        return _position(access_list, index, "takes all of it" if all_of_it else "takes all that it would change")
    return _position(access_list, max(near.last_reached() for near in lists), "takes all of it")


class _Near:
    """The entries in force that share packets with a new one, by their index in the list, in one state of the windows."""

    def __init__(self, access_list: AccessList, new: Entry, state: frozenset[str]) -> None:
        self.end = len(access_list.entries)
        self.changes_rest = access_list.otherwise.action is not new.action
        self.region = EntryRegion(new, access_list.family)
        self.others: list[tuple[int, EntryRegion]] = []
        self.opposite: list[tuple[int, EntryRegion]] = []
        for index, entry in enumerate(access_list.entries):
            region = EntryRegion(entry, access_list.family) if entry.in_force(state) else None
            if region is not None and region.hull is not None and self.region.hull is not None and overlap(region.hull, self.region.hull):
                self.others.append((index, region))
                if entry.action is not new.action:
                    self.opposite.append((index, region))

    def effective(self) -> int | None:
        """Return the index in the list before which the entry last does something; that of the end, or None for nowhere."""
        if self.changes_rest and self.reached(self.end):
            return self.end
        for index, region in reversed(self.opposite):
            shared = (part for box in self.region.boxes() for part in region.within(box))
            if self._passes(shared, index):
                return index
        return None

    def reached(self, index: int) -> bool:
        """Whether a packet of the entry gets past all entries before an index."""
        return self._passes(self.region.boxes(), index)

    def last_reached(self) -> int:
        """Return the last index before which a packet still gets past all that stands above; the end where none ever does."""
        indices = [index for index, _ in self.others]
        if not self.reached(0) or self.reached(self.end):
            return self.end
        low, high = 0, len(indices) - 1
        while low < high:
            middle = (low + high + 1) // 2
            low, high = (middle, high) if self.reached(indices[middle]) else (low, middle - 1)
        return indices[low]

    def _passes(self, boxes: Iterator[Box], index: int) -> bool:
        """Whether some packet of some boxes is in no entry before an index."""
        return any(_is_left(box, [region for before, region in self.others if before < index]) for box in boxes)


def _is_left(box: Box, regions: Sequence[EntryRegion]) -> bool:
    """Whether something is left of a box without all regions."""
    near = [region for region in regions if region.hull is not None and overlap(region.hull, box) is not None]
    return first_uncovered(box, [region.hull if region.size == 1 and region.hull is not None else region for region in near]) is not None


def _position(access_list: AccessList, index: int, why: str) -> Position:
    """Return the position before the entry with an index."""
    entries = access_list.entries
    if index == len(entries):
        return Position(entries[-1] if entries else None, None, "")
    below = entries[index]
    return Position(entries[index - 1] if index else None, below, f"{below.number} ({below.text}), which {why}")
