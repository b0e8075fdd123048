"""The lists that columns of packets are checked against, by number: which entry decides, what may
pass until TLS is settled, and how often each line decided.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np

from crossgate.core.lists.bulk.first_match import FirstMatch
from crossgate.core.lists.index import ListIndex
from crossgate.core.model.accesslist import AccessList, AnyList, Decider
from crossgate.core.model.condition import State
from crossgate.core.model.conditions import Limit
from crossgate.core.model.packets import Indices, Marks, Packets
from crossgate.core.model.plan import Plan
from crossgate.core.traffic.fates import NO_PLACE, Hits, Numbers, by_value


class AskedLists:
    """The lists of one plan by number, with what ethernet lists mean for the packets inside frames;
    results for a list are kept.
    """

    def __init__(self, plan: Plan) -> None:
        self.lists: list[AnyList[Any]] = [*plan.every_list.values(), *plan.closed.values()]
        """The plan's lists, in the order of their numbers in `Fates`: those for packets, those for
        frames, what closed devices do.
        """
        self._list_numbers = {each.name: number for number, each in enumerate(self.lists)}
        self._asked: list[AccessList] = []
        """The lists that packets are asked of: the plan's, with the same numbers; then what those
        for frames are for the packets in some.
        """
        self._number: dict[AccessList, int] = {}
        self._own: list[tuple[int, Numbers]] = []
        """For each list that is asked the number of the plan's list that it is, and which line of
        that each of its lines is.
        """
        self.hits: list[Hits] = []
        self.forget_hits()
        self._permits: list[Marks] = []
        self._flagged: list[bool] = []
        self.limits: list[dict[int, Limit]] = []
        """The limits of each list, by the index of their entry."""
        self._matches: dict[tuple[int, State], FirstMatch] = {}
        self._met: dict[tuple[int, State], int] = {}
        """How many packets were asked of a list that has no trees yet."""
        self._indexes: dict[tuple[int, State], tuple[ListIndex, dict[int, int]]] = {}
        for each in plan.lists.values():
            self.numbered(each)

    def forget_hits(self) -> None:
        """Start counting the decisions of lines from zero; counts that were given out stay as they
        are.
        """
        self.hits = [
            Hits(*(np.zeros(len(each.entries) + 1, np.int64) for _ in range(2)))
            for each in self.lists
        ]

    def numbered(self, own: AccessList) -> int:
        """Return the number of a list of packets, a new one the first time. The part of an ethernet
        list that concerns packets inside frames counts as such a list.
        """
        if own not in self._number:
            self._number[own] = len(self._asked)
            self._take_in(own)
        return self._number[own]

    def _take_in(self, own: AccessList) -> None:
        self._asked.append(own)
        number = self._list_numbers[own.name]
        indexes = {each.number: index for index, each in enumerate(self.lists[number].entries)}
        # The line behind the last entry is the otherwise line, as -1 is.
        lines = [*(indexes[each.number] for each in own.entries), -1]
        self._own.append((number, np.array(lines, np.int32)))
        self._permits.append(
            np.array([Decider(own, entry).permits for entry in (*own.entries, None)])
        )
        self._flagged.append(own.asks_for_flags)
        limits = enumerate(own.entries)
        self.limits.append(
            {
                index: entry.limit
                for index, entry in limits
                if entry.limit is not None and not entry.off
            }
        )

    def decided(
        self, number: int, packets: Packets, windows: Indices, states: Sequence[State]
    ) -> Numbers:
        """Return the index of the entry of a list that decides each packet; `states[windows[row]]`
        is the state of conditions for a row.
        """
        if not self._asked[number].is_conditional:
            return self._first_match(number, frozenset(), packets)
        found = np.empty(len(packets), np.int32)
        for state, own in by_value(windows):
            found[own] = self._first_match(number, states[state], packets.take(own))
        return found

    def unsettled(
        self, number: int, packets: Packets, windows: Indices, states: Sequence[State]
    ) -> Numbers:
        """Return the index of the entry that decides each packet while the TLS version of the
        conversation is not known yet; `windows` and `states` as in `decided`.
        """
        entry = self.decided(number, packets, windows, states)
        if self.asks_for_tls(number):
            found = entry.copy()
            for rows, by in self.let_by(number, packets, windows, states, entry):
                found[rows] = by
            return found
        return entry

    def let_by(
        self,
        number: int,
        packets: Packets,
        windows: Indices,
        states: Sequence[State],
        entry: Numbers,
    ) -> Iterator[tuple[Indices, Numbers]]:
        """Yield the packets that a list denies by the entries `entry` (of `decided`) but permits
        while the TLS version is not known yet: their rows, and the entry that permits each then.
        """
        access_list = self._asked[number]
        stopped = np.flatnonzero(~self._permits[number][entry])
        for state, own in by_value(windows[stopped]):
            left = stopped[own]
            for other in access_list.undecided(states[state]):
                found = self._first_match(number, other, packets.take(left))
                by = self._permits[number][found]
                if by.any():
                    yield left[by], found[by]
                left = left[~by]

    def asks_for_tls(self, number: int) -> bool:
        """Whether a list has entries that ask for a TLS version."""
        return bool(self._asked[number].tls)

    def _first_match(self, number: int, state: State, packets: Packets) -> Numbers:
        """Return the index of the entry that decides each packet. The search trees are made once a
        list has been asked about more packets than it has entries.
        """
        access_list = self._asked[number]
        key = (number, access_list.relevant(state))
        if key not in self._matches:
            self._met[key] = self._met.get(key, 0) + len(packets)
            if self._met[key] <= len(access_list.entries):
                return self._one_by_one(key, packets)
            self._matches[key] = FirstMatch(access_list, key[1])
        return self._matches[key].decide(packets)

    def _one_by_one(self, key: tuple[int, State], packets: Packets) -> Numbers:
        access_list = self._asked[key[0]]
        if key not in self._indexes:
            self._indexes[key] = (
                ListIndex(access_list, key[1]),
                {each.number: index for index, each in enumerate(access_list.entries)},
            )
        index, places = self._indexes[key]
        entries = (index.decide(packets.packet(row)).entry for row in range(len(packets)))
        return np.array(
            [NO_PLACE if entry is None else places[entry.number] for entry in entries], np.int32
        )

    def own_line(self, number: int, entry: Numbers) -> tuple[int, Numbers]:
        """Return which list of the plan a numbered list belongs to, and which lines of that its
        given lines are.
        """
        own, lines = self._own[number]
        return own, lines[entry]

    def permits(self, number: int) -> Marks:
        """Return whether each line of a list permits; the last one is for packets that match no
        entry.
        """
        return self._permits[number]

    def flagged(self, number: int) -> bool:
        """Whether some entry of a list asks for TCP flags."""
        return self._flagged[number]
