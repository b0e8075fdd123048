"""Traffic put through one list, packet by packet."""

from __future__ import annotations

from collections.abc import Hashable
from dataclasses import replace
from datetime import tzinfo

import numpy as np

from crossgate.core.answers.replay import list_lines
from crossgate.core.answers.replay_clock import Clock
from crossgate.core.answers.sums import ConversationSort, Sum, SumColumns, UsedLine
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.lists.index import ListIndex
from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.address import Family
from crossgate.core.model.condition import State
from crossgate.core.model.conditions import Limit, is_counted
from crossgate.core.model.packet import Packet
from crossgate.core.model.packets import Indices
from crossgate.core.network.ways import Network
from crossgate.core.traffic.asked import AskedLists
from crossgate.core.traffic.fates import NO_PLACE, VERDICTS, Fates
from crossgate.core.traffic.rates import Rates
from crossgate.core.traffic.run import courses_of
from crossgate.core.traffic.seen import Seen


class ListReplay:
    """Recorded traffic at a single list, packet by packet, without conversations: each packet is
    checked by itself.
    """

    def __init__(
        self, network: Network, access_list: AccessList, zone: tzinfo | None = None
    ) -> None:
        self.access_list = access_list
        self.clock = Clock(network, zone)
        self._asked = AskedLists(network.plan)
        self._number = self._asked.lists.index(access_list)
        self.packets, self.octets, self.foreign = 0, 0, 0
        """How many packets were asked, their octets, and how many are of the other family."""
        self._denied = SumColumns()
        self.rates = Rates()
        self._indexes: dict[State, ListIndex] = {}

    def add(self, family: Family, seen: Seen) -> None:
        """Check a batch of packets, or of flow records in both directions."""
        if family is not self.access_list.family:
            self.foreign += int(seen.counts.sum())
            return
        every = np.ones(len(seen), np.bool_)
        _, _, answers = courses_of(seen.packets, every)
        back = replace(seen.turned(every), packets=replace(answers, flags=seen.flags[1]))
        for side, own in enumerate((seen, back)):
            rows = np.flatnonzero(seen.counts[side])
            if len(rows):
                self._ask(own.take(rows))

    def _ask(self, seen: Seen) -> None:
        if self.access_list.limits:
            seen = seen.take(np.argsort(seen.first, kind="stable"))
        windows, states = self.clock.of(seen.first), self.clock.states
        if self.access_list.limits:
            windows, states = self._exceeding(seen, windows)
        entry = self._asked.unsettled(self._number, seen.packets, windows, states)
        self.packets += int(seen.counts[0].sum())
        self.octets += int(seen.octets[0].sum())
        self._asked.hits[self._number].add(entry, seen.counts[0], seen.counts[0])
        denied = ~self._asked.permits(self._number)[entry]
        nowhere, none = np.full(len(seen), NO_PLACE, np.int32), np.zeros(len(seen), np.bool_)
        lists = np.full(len(seen), self._number, np.int32)
        fates = Fates(
            denied.astype(np.int8) * VERDICTS.index(Verdict.DENIED),
            lists,
            entry,
            nowhere,
            ~none,
            none,
            none,
        )
        self._denied.add(seen, fates, [], np.flatnonzero(denied))

    def _exceeding(self, seen: Seen, windows: Indices) -> tuple[Indices, list[State]]:
        """Return the index of the state for each packet in the order of time, with the rate limits
        that it exceeds; and all states.
        """
        entries, numbers = self.access_list.entries, dict[State, int]()
        found = np.empty(len(seen), np.int64)
        decided = self._asked.unsettled(self._number, seen.packets, windows, self.clock.states)
        for row, (window, time, index) in enumerate(
            zip(windows.tolist(), seen.first.tolist(), decided.tolist(), strict=True)
        ):
            state = self.clock.states[window]
            if 0 <= index < len(entries) and entries[index].limit is not None:
                packet = seen.packets.packet(row)

                def limits(
                    over: frozenset[Limit], packet: Packet = packet, state: State = state
                ) -> list[tuple[Hashable, Limit]]:
                    states = (state | over, *self.access_list.undecided(state | over))
                    deciders = [self._index(each).decide(packet) for each in states]
                    entry = next((each for each in deciders if each.permits), deciders[0]).entry
                    own = (
                        None
                        if entry is None or entry.limit in over or not is_counted(packet)
                        else entry.limit
                    )
                    return [] if own is None else [("", own)]

                state |= self.rates.exceeded(time, packet.source, limits)
            found[row] = numbers.setdefault(state, len(numbers))
        return found, list(numbers)

    def _index(self, state: State) -> ListIndex:
        state = self.access_list.relevant(state)
        if state not in self._indexes:
            self._indexes[state] = ListIndex(self.access_list, state)
        return self._indexes[state]

    def denied(self) -> dict[ConversationSort, Sum]:
        """Return what the list denied."""
        return self._denied.found(self._asked.lists, compared=False)

    def lines(self) -> list[UsedLine]:
        """Return the list's lines with how often each decided."""
        return list_lines(self.access_list, self._asked.hits[self._number])
