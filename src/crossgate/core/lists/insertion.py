"""Where a new entry belongs in a list: as far down as it still has an effect.

The last place at which a new entry has an effect is right before an entry of another action with
which it shares a packet that passes all entries above. The lowest such entry decides the place; the
otherwise line counts as one, below all entries. So the list is searched from its end, and for most
lists the first question gives the answer.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple

from crossgate.core.lists.split import EntryRegion
from crossgate.core.model.accesslist import AccessList, AnyList
from crossgate.core.model.condition import State
from crossgate.core.model.entry import MOST_NUMBER, AnyEntry, Entry
from crossgate.core.sets.frame import SetFrame
from crossgate.core.sets.products import Product, is_left
from crossgate.core.sets.region import Region


class Position(NamedTuple):
    """A place between two neighbouring entries, None for the ends of the list; and why it is not
    further down.
    """

    before: Entry | None
    after: Entry | None
    why: str


def effective_position(
    access_list: AccessList, new: Entry, states: Sequence[State] = (frozenset(),)
) -> Position:
    """Return the last position at which a new entry decides some packet differently from the list
    without it.

    `states` are those that conditions can be in; the entry must have an effect in one of them.
    Where there is no such position, it is the last at which a packet reaches the entry at all, or
    else the end.
    """
    in_force = [state for state in states if new.in_force(state)] or list(states)
    lists = [_Near(access_list, new, state) for state in in_force]
    lowest = [index for near in lists if (index := near.effective()) is not None]
    if lowest:
        index = max(lowest)
        all_of_it = not any(near.reached(index + 1) for near in lists)
        return _position(
            access_list, index, "takes all of it" if all_of_it else "takes all that it would change"
        )
    return _position(access_list, max(near.last_reached() for near in lists), "takes all of it")


class _Near:
    """The entries in force that share packets with a new one, by their index in the list, in one
    state.
    """

    def __init__(self, access_list: AccessList, new: Entry, state: State) -> None:
        self.end = len(access_list.entries)
        self.changes_rest = access_list.otherwise.action is not new.action
        own, others = EntryRegion(new, access_list.family), list[tuple[int, Entry, Region]]()
        for index, entry in enumerate(access_list.entries if own.hull is not None else ()):
            own_entry = entry.in_state(state)
            region = None if own_entry is None else EntryRegion(own_entry, access_list.family)
            if (
                region is not None
                and region.region is not None
                and own.hull is not None
                and region.touches(own.hull)
            ):
                others.append((index, entry, region.region))
        self.others: list[tuple[int, Product]] = []
        self.opposite: list[tuple[int, Product]] = []
        self.whole: Product | None = None
        if own.region is not None:
            frame = SetFrame(own.region, [other for _, _, other in others])
            self.whole, self._order = frame.whole, frame.order
            for index, entry, other in others:
                row = frame.product(other)
                if row is not None:
                    self.others.append((index, row))
                    if entry.action is not new.action:
                        self.opposite.append((index, row))

    def effective(self) -> int | None:
        """Return the last index in the list before which the entry has an effect; the length of the
        list for its end, None for nowhere.
        """
        if self.changes_rest and self.reached(self.end):
            return self.end
        return next(
            (index for index, row in reversed(self.opposite) if self._passes(row, index)), None
        )

    def reached(self, index: int) -> bool:
        """Whether a packet of the new entry passes all entries before an index."""
        return self.whole is not None and self._passes(self.whole, index)

    def last_reached(self) -> int:
        """Return the last index before which a packet still passes all that stands above; the end
        where none ever does.
        """
        indices = [index for index, _ in self.others]
        if not self.reached(0) or self.reached(self.end):
            return self.end
        low, high = 0, len(indices) - 1
        while low < high:
            middle = (low + high + 1) // 2
            low, high = (middle, high) if self.reached(indices[middle]) else (low, middle - 1)
        return indices[low]

    def _passes(self, packets: Product, index: int) -> bool:
        """Whether some of the packets are in no entry before an index."""
        return is_left(packets, [row for before, row in self.others if before < index], self._order)


def _position(access_list: AccessList, index: int, why: str) -> Position:
    """Return the position before the entry with an index."""
    entries = access_list.entries
    if index == len(entries):
        return Position(entries[-1] if entries else None, None, "")
    below = entries[index]
    return Position(
        entries[index - 1] if index else None, below, f"{below.number} ({below.text}), which {why}"
    )


def free_numbers(access_list: AnyList[Any], below: AnyEntry | None, count: int) -> list[int]:
    """Return free numbers right before an entry, None for the end of the list, ascending; none
    where there are too few.
    """
    low = max(
        (
            each.number
            for each in access_list.entries
            if below is None or each.number < below.number
        ),
        default=0,
    )
    if count == 1:
        found = number_between(low, None if below is None else below.number)
        return [] if found is None else [found]
    room = (below.number if below is not None else low + 10 * (count + 1)) - low
    step = min(10, room // (count + 1))
    return (
        [low + step * (number + 1) for number in range(count)]
        if step and low + step * count <= MOST_NUMBER
        else []
    )


def number_between(low: int, high: int | None) -> int | None:
    """Return a number between two, None for no end: the next ten where it fits, or else the middle;
    None where none is free.
    """
    ten = (low // 10 + 1) * 10
    if high is None:
        return min(ten, MOST_NUMBER) if low < MOST_NUMBER else None
    if high - low < 2:
        return None
    return ten if ten < high else (low + high) // 2
