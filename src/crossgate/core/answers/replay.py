"""What a plan would do with recorded traffic: its conversations with their verdicts, and the sums
of these.

Times are the wall clock of one zone: the windows for a conversation are those that are open when it
begins.
"""

from __future__ import annotations

from collections.abc import Hashable, Iterator, Sequence
from datetime import tzinfo
from typing import Any, NamedTuple

import numpy as np

from crossgate.core.answers.replay_clock import Clock
from crossgate.core.answers.sums import ConversationSort, Sum, Sums, SumStretch, UsedLine
from crossgate.core.model.accesslist import AnyList, Decider, DeciderKey
from crossgate.core.model.address import Address, Family
from crossgate.core.model.condition import State
from crossgate.core.model.conditions import Limit
from crossgate.core.model.packets import Indices, Marks, whole_address
from crossgate.core.model.tls import settled
from crossgate.core.model.window import Period
from crossgate.core.network.entrance import Entrance
from crossgate.core.network.ways import Network
from crossgate.core.traffic.arrivals import Arrivals, Arrived
from crossgate.core.traffic.assembly import Assembler
from crossgate.core.traffic.bulk import BulkTracer
from crossgate.core.traffic.fates import NO_PLACE, PERMITTED, VERDICTS, Fates, Hits
from crossgate.core.traffic.rates import Rates
from crossgate.core.traffic.seen import SECOND, Seen, decoded, joined, opened, spoken

_BATCH = 1 << 15


class Replayed(NamedTuple):
    """Conversations in the order in which they ended, with their fates; `other` are their fates in
    another plan.
    """

    seen: Seen
    fates: Fates
    other: Fates | None


class Replay:
    """Puts recorded traffic together into conversations and traces these; the totals are in
    `sums`.
    """

    def __init__(
        self,
        network: Network,
        zone: tzinfo | None = None,
        idle: int = 300 * SECOND,
        entrance: Entrance | None = None,
        other: Network | None = None,
        by: Period | None = None,
        users: bool = False,
    ) -> None:
        """Make it. With the network of an `other` plan, conversations that it treats differently
        are kept separately. With `by`, sums are kept for each hour or day too; with `users`, also
        of what each line permitted.
        """
        self._users = users
        self.by = by
        self.network = network
        self.tracer = BulkTracer(network, entrance)
        self.other = None if other is None else BulkTracer(other, entrance)
        self.clock = Clock(network, zone)
        self._other_clock = None if other is None else Clock(other, zone)
        self._idle = idle
        self._arrivals: dict[Family, Arrivals] = {}
        self._assemblers: dict[Family, Assembler] = {}
        self._waiting: dict[Family, list[Seen]] = {}
        self._rated: dict[Family, list[Seen]] = {}
        self.rates, self._other_rates = Rates(), Rates()
        self.sums = Sums(hits=self.tracer.asked.hits)

    @property
    def again(self) -> int:
        """How many packets were seen more than once."""
        return sum(each.again for each in self._arrivals.values())

    @property
    def backwards(self) -> int:
        """How many packets or records came after a later one."""
        return sum(each.backwards for each in self._arrivals.values())

    def add(
        self, family: Family, seen: Seen, client_ports: tuple[int, int] | None = None
    ) -> Iterator[Replayed]:
        """Take a batch of recorded traffic, flow records where `client_ports` are given, and yield
        the conversations that have ended.
        """
        yield from self.put(family, self.arrived(family, seen, client_ports))

    def arrived(
        self, family: Family, seen: Seen, client_ports: tuple[int, int] | None = None
    ) -> Arrived:
        """Return a batch in order, each packet once, to be given to `put` here or in another
        process.
        """
        if family not in self._arrivals:
            self._arrivals[family] = Arrivals(self._idle)
        return self._arrivals[family].take(opened(seen, client_ports))

    def put(self, family: Family, arrived: Arrived) -> Iterator[Replayed]:
        """Take a batch of `arrived`, or one process's share of it, and yield the conversations that
        have ended.
        """
        if family not in self._assemblers:
            self._assemblers[family] = Assembler(self._idle)
        ended = self._assemblers[family].add(arrived)
        if len(ended):
            waiting = self._waiting.setdefault(family, [])
            waiting.append(ended)
            if sum(map(len, waiting)) >= _BATCH:
                yield from self._traced(family)

    def rest(self) -> Iterator[Replayed]:
        """Yield the conversations that are open at the end, and those that had to wait for it
        because rate limits count them.
        """
        yield from self.open_ones()
        for several in self._rated.values():
            seen = joined(several)
            yield from self._told(seen.take(_in_order(seen)), in_order=True)
        self._rated = {}

    def waiting(self) -> dict[Family, list[Seen]]:
        """Return, and forget, the conversations that can only be decided at the end, since `at
        most` limits count them in the order of all traffic.
        """
        found, self._rated = self._rated, {}
        return found

    def wait(self, given: dict[Family, list[Seen]]) -> None:
        """Take over the conversations that another process left for the end (`waiting`)."""
        for family, several in given.items():
            self._rated.setdefault(family, []).extend(several)

    def open_ones(self) -> Iterator[Replayed]:
        """Yield the conversations that are open at the end, without those that rate limits
        count.
        """
        for family, assembler in self._assemblers.items():
            left = assembler.rest()
            if left is not None and len(left):
                self._waiting.setdefault(family, []).append(left)
            if self._waiting.get(family):
                yield from self._traced(family)

    def begin_again(self) -> None:
        """Forget all traffic and its sums, and keep what was worked out for the plan."""
        self._arrivals, self._assemblers, self._waiting, self._rated = {}, {}, {}, {}
        self.rates, self._other_rates = Rates(), Rates()
        self.tracer.asked.forget_hits()
        self.sums = Sums(hits=self.tracer.asked.hits)

    def stopped(self) -> dict[ConversationSort, Sum]:
        """Return what was not permitted; with another plan, what that plan treats differently."""
        tracer = self.other or self.tracer
        return self.sums.sorts.found(tracer.asked.lists, self.other is not None)

    def said_otherwise(self) -> dict[ConversationSort, Sum]:
        """Return the conversations on which a device reported another decision than the plan's."""
        return self.sums.said.sorts.found(self.tracer.asked.lists, compared=True)

    def decider(self, number: int, place: int) -> Decider:
        """Return a line, given the number of its list and its index there, as they stand in the
        sums.
        """
        own = self.tracer.asked.lists[number]
        return Decider(own, own.entries[place] if place < len(own.entries) else None)

    def used(self) -> dict[Decider, dict[ConversationSort, Sum]]:
        """Return what each line permitted on the way there, by kind of conversation."""
        found: dict[DeciderKey, tuple[Decider, dict[ConversationSort, Sum]]] = {}
        for sort, each in self.sums.users.found(self.tracer.asked.lists, compared=False).items():
            if sort.decider is not None:
                found.setdefault(sort.decider.key, (sort.decider, {}))[1][sort] = each
        return dict(found.values())

    def _traced(self, family: Family) -> Iterator[Replayed]:
        seen = joined(self._waiting.pop(family))
        # Limits count in the order of time: what meets one waits until all has been seen.
        rated = self._limited(self.tracer, self.clock, seen)
        if self.other is not None and self._other_clock is not None:
            rated |= self._limited(self.other, self._other_clock, seen)
        if rated.any():
            self._rated.setdefault(family, []).append(seen.take(rated))
            seen = seen.take(~rated)
        yield from self._told(seen)

    def _told(self, seen: Seen, in_order: bool = False) -> Iterator[Replayed]:
        """Trace conversations and add up their sums, stretch of time by stretch where these are
        kept separately.
        """
        if self.by is None:
            yield self._one_told(seen, in_order)
            return
        for begins, rows in self.clock.stretches(seen.first, self.by):
            hits = self.tracer.asked.hits
            before = [Hits(each.legs.copy(), each.packets.copy()) for each in hits]
            found = self._one_told(seen.take(rows), in_order)
            stretch = self.sums.stretches.setdefault(begins, SumStretch())
            stretch.add(found.seen, found.fates, hits, before)
            yield found

    def _one_told(self, seen: Seen, in_order: bool) -> Replayed:
        """Trace conversations and add up their sums; the conversations must be in the order of time
        where rate limits count them.
        """
        windows, states = self._states(
            self.tracer, self.clock, seen, self.rates if in_order else None
        )
        fates = self._fates(self.tracer, seen, windows, states)
        if self._users:
            self._use(seen, fates, windows, states)
        other = None
        if self.other is not None and self._other_clock is not None:
            beside = self._states(
                self.other, self._other_clock, seen, self._other_rates if in_order else None
            )
            other = self._fates(self.other, seen, *beside)
        self._sum(seen, fates)
        self.sums.said.add(seen, fates, self.tracer.places)
        if other is None or self.other is None:
            self.sums.sorts.add(seen, fates, self.tracer.places, np.flatnonzero(fates.verdict > 0))
        else:
            self.sums.sorts.add(
                seen,
                other,
                self.other.places,
                np.flatnonzero(fates.verdict != other.verdict),
                fates.verdict.astype(np.int64),
            )
        return Replayed(seen, fates, other)

    @staticmethod
    def _limited(tracer: BulkTracer, clock: Clock, seen: Seen) -> Marks:
        if not tracer.network.plan.limits:
            return np.zeros(len(seen), np.bool_)
        return tracer.limited(
            seen.packets, *_speaking(tracer, seen, clock.of(seen.first), clock.states)
        )

    def _use(self, seen: Seen, fates: Fates, windows: Indices, states: Sequence[State]) -> None:
        """Add permitted conversations to the lines that permit them on the way there."""
        permitted = np.flatnonzero(fates.verdict == PERMITTED)
        packets = seen.packets.take(permitted)
        for own, number, lines in self.tracer.met_there(packets, windows[permitted], states):
            rows = permitted[own]
            none = np.zeros(len(rows), np.bool_)
            line = Fates(
                np.full(len(rows), PERMITTED, np.int8),
                np.full(len(rows), number, np.int32),
                lines,
                np.full(len(rows), NO_PLACE, np.int32),
                ~none,
                none,
                none,
            )
            self.sums.users.add(seen.take(rows), line, [], np.arange(len(rows)))

    @staticmethod
    def _states(
        tracer: BulkTracer, clock: Clock, seen: Seen, rates: Rates | None
    ) -> tuple[Indices, list[State]]:
        """Return the index of the state of conditions for each conversation, and all states."""
        windows, states = _speaking(tracer, seen, clock.of(seen.first), clock.states)
        return (
            (windows, states) if rates is None else _exceeding(tracer, rates, seen, windows, states)
        )

    @staticmethod
    def _fates(tracer: BulkTracer, seen: Seen, windows: Indices, states: Sequence[State]) -> Fates:
        return tracer.trace(seen.packets, windows, states, seen.counts[0], seen.counts[1])

    def _sum(self, seen: Seen, fates: Fates) -> None:
        sums = self.sums
        for number, verdict in (*enumerate(VERDICTS), (NO_PLACE, None)):
            sums.verdicts[verdict].add(seen, np.flatnonzero(fates.verdict == number))
        sums.on_link.add(seen, np.flatnonzero(fates.on_link))
        sums.unsettled.add(seen, np.flatnonzero(fates.unsettled))
        sums.unmet.add(
            seen, np.flatnonzero(~fates.met & ~fates.on_link & (fates.verdict != NO_PLACE))
        )
        if len(seen):
            sums.span(int(seen.first.min()), int(seen.last.max()))
        lost = np.flatnonzero(fates.verdict == NO_PLACE)
        if len(lost):
            ends = self.tracer.ends(seen.packets.family)
            for side, column in zip(
                ends.found(seen.packets.take(lost)),
                (seen.packets.source, seen.packets.destination),
                strict=True,
            ):
                for row in lost[side == NO_PLACE].tolist():
                    address = Address(seen.packets.family, whole_address(column[:, row]))
                    sums.nowhere[address] = sums.nowhere.get(address, 0) + int(
                        seen.counts[:, row].sum()
                    )

    def lines(self) -> Iterator[tuple[AnyList[Any], list[UsedLine]]]:
        """Yield each placed list, and each closed place, with its lines and how often they
        decided.
        """
        plan = self.network.plan
        placed = {each.access_list for each in plan.every_placement} | {
            each.name for each in plan.closed.values()
        }
        for each, hits in zip(self.tracer.asked.lists, self.sums.hits, strict=True):
            if each.name in placed:
                yield each, list_lines(each, hits)


def list_lines(access_list: AnyList[Any], hits: Hits) -> list[UsedLine]:
    """Return the lines of a list with how often each decided, the otherwise line last."""
    entries = (*access_list.entries, None)
    counts = zip(entries, hits.legs.tolist(), hits.packets.tolist(), strict=True)
    return [UsedLine(Decider(access_list, entry), legs, packets) for entry, legs, packets in counts]


def _in_order(seen: Seen) -> Indices:
    """Return the order of time; conversations that began at the same moment are in the order of
    their addresses and ports.
    """
    packets = seen.packets
    keys = [
        packets.source_port,
        packets.destination_port,
        packets.protocol,
        *packets.destination[::-1],
        *packets.source[::-1],
        seen.first,
    ]
    return np.lexsort(keys)


def _speaking(
    tracer: BulkTracer, seen: Seen, windows: Indices, states: list[State]
) -> tuple[Indices, list[State]]:
    """Return the index of the state for each conversation, by the TLS version that its server's
    hello chose; and all states.
    """
    if not tracer.network.plan.asks_for_tls:
        return windows, states
    pairs = np.stack([windows.astype(np.uint64), spoken(seen)])
    each, inverse = np.unique(pairs, axis=1, return_inverse=True)
    return inverse.reshape(-1), [
        settled(states[window], decoded(hello)) for window, hello in each.T.tolist()
    ]


def _exceeding(
    tracer: BulkTracer, rates: Rates, seen: Seen, windows: Indices, states: list[State]
) -> tuple[Indices, list[State]]:
    """Return the index of the state for each conversation in the order of time, with the rate
    limits that it exceeds; and all states.
    """
    _, kinds = tracer.ends(seen.packets.family).kinds.find(seen.packets, windows)
    numbers: dict[State, int] = {}
    met: dict[tuple[int, frozenset[Limit]], list[tuple[Hashable, Limit]]] = {}
    found = np.empty(len(seen), np.int64)
    sources = [whole_address(seen.packets.source[:, row]) for row in range(len(seen))]
    for row, (kind, window, time) in enumerate(
        zip(kinds.tolist(), windows.tolist(), seen.first.tolist(), strict=True)
    ):

        def limits(
            over: frozenset[Limit], row: int = row, kind: int = kind, state: State = states[window]
        ) -> list[tuple[Hashable, Limit]]:
            if (kind, over) not in met:
                met[kind, over] = tracer.limits_met(
                    seen.packets.take(slice(row, row + 1)), state | over
                )
            return met[kind, over]

        state = states[window] | rates.exceeded(time, sources[row], limits)
        found[row] = numbers.setdefault(state, len(numbers))
    return found, list(numbers)
