"""The lists of a plan, asked about packets one at a time, and counted."""

from __future__ import annotations

from collections import Counter
from collections.abc import Hashable, Iterator

from crossgate.core.conversation.packets import Indexes
from crossgate.core.conversation.rules import Decision
from crossgate.core.model.accesslist import AccessList, Decider, DeciderKey
from crossgate.core.model.address import Family
from crossgate.core.model.condition import State
from crossgate.core.model.conditions import Limit
from crossgate.core.model.packet import Packet
from crossgate.core.network.one_way import OneWay
from crossgate.core.network.paths import Crossing
from crossgate.core.network.ways import Network
from crossgate.core.traffic.rates import SECOND, Rates
from crossgate.rehearsal.frames import Read
from crossgate.rehearsal.running import Running


class Lists:
    """The lists of the present plan. `tally` has how many packets each line decided, and `tally_at`
    the same by the device where the line stands, None for machines' own.
    """

    def __init__(self, network: Network) -> None:
        self.tally: Counter[DeciderKey] = Counter()
        self.tally_at: dict[str | None, Counter[DeciderKey]] = {}
        self._rates = Rates()
        self.change(network)

    def change(self, network: Network) -> None:
        """Go on with the lists of another plan."""
        self._network = network
        self._indexes: dict[State, Indexes] = {}

    def decision(self, access_list: AccessList, packet: Packet, state: State) -> Decision:
        """Return what a list decides about a packet in a state of conditions."""
        if state not in self._indexes:
            self._indexes[state] = Indexes(state)
        return self._indexes[state].decision(access_list, packet)

    def asked(
        self, running: Running, read: Read, way: OneWay, returns: bool, state: State
    ) -> Iterator[tuple[Crossing, Decision | None]]:
        """Yield the crossings of a way, each with the decision of the list there about a packet;
        None where no list is asked.
        """
        for crossing in way.path.crossings:
            own = self._network.list_at(crossing, read.packet.family)
            if own is None or crossing.remembered_by in running.known:
                yield crossing, None
            else:
                seen = running.seen_as(read, returns, crossing.view)
                yield crossing, self.decision(own, seen, state)

    def count(self, crossing: Crossing, decider: Decider) -> None:
        """Count a packet that a line decided at a crossing."""
        self.tally[decider.key] += 1
        self.tally_at.setdefault(crossing.point.device, Counter())[decider.key] += 1

    def is_limited(self, way: OneWay, family: Family) -> bool:
        """Whether some list on a way has a rate limit."""
        if not self._network.plan.limits:
            return False
        lists = (self._network.list_at(each, family) for each in way.path.crossings)
        return any(each is not None and each.limits for each in lists)

    def exceeded(
        self, running: Running, read: Read, way: OneWay, returns: bool, state: State, now: float
    ) -> State:
        """Return the rate limits that a packet exceeds on its way at a time, in seconds."""

        def met(over: frozenset[Limit]) -> Iterator[tuple[Hashable, Limit]]:
            for crossing, decision in self.asked(running, read, way, returns, state | over):
                entry = None if decision is None else decision.decider.entry
                if entry is not None and entry.limit is not None and entry.limit not in over:
                    yield crossing.place, entry.limit
                if decision is not None and not decision.permits:
                    return

        return self._rates.exceeded(int(now * SECOND), read.packet.source, met)
