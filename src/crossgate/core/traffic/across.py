"""Conversations in columns whose addresses are translated on their way: each is followed by itself,
with the walk.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable
from typing import NamedTuple

import numpy as np

from crossgate.core.conversation.packets import Tracer
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.accesslist import AccessList, Decider
from crossgate.core.model.condition import State
from crossgate.core.model.conditions import Limit
from crossgate.core.model.packet import TCP, Packet
from crossgate.core.model.tls import UNSETTLED, hello_of
from crossgate.core.network.entrance import Entrance
from crossgate.core.network.paths import Crossing
from crossgate.core.network.view import NOT_TRANSLATED
from crossgate.core.network.ways import Network
from crossgate.core.traffic.asked import AskedLists
from crossgate.core.traffic.fates import NO_PLACE, VARIES, VERDICTS, Weights
from crossgate.core.traffic.sent import CrossedPair, as_sent

_LATER = 3
"""From this leg on what is sent is counted with an earlier one."""


class CrossedFate(NamedTuple):
    """The fate of a conversation across translations, as in `Fates`: the number of the verdict, the
    list, entry and crossing that stopped it, and whether its TLS version is unknown.

    `lines` are the lines that decided on its first way, each with the number of its leg and its
    place.
    """

    verdict: int
    stopped: tuple[int, int, int]
    unsettled: bool
    lines: list[tuple[int, Crossing, Decider]]

    def limits(self) -> list[tuple[Hashable, Limit]]:
        """Return the rate limits of the entries that take its first packet, each with its place."""
        return [
            (crossing, decider.entry.limit)
            for leg, crossing, decider in self.lines
            if leg == 0 and decider.entry is not None and decider.entry.limit is not None
        ]


class Across:
    """Follows conversations that cross translations.

    They came in where they `entered`, and `asked` numbers their lists. The caller gives places
    their numbers and states their tracers.
    """

    def __init__(
        self,
        network: Network,
        entered: Entrance | None,
        asked: AskedLists,
        crossing: Callable[[Crossing, int], int],
        tracer: Callable[[State], Tracer],
    ) -> None:
        self._network, self._entered, self._asked = network, entered, asked
        self._crossing, self._tracer = crossing, tracer

    def fate(self, packet: Packet, pair: CrossedPair, state: State) -> CrossedFate:
        """Return the fate of a conversation that is translated on its way; `packet` is its first
        packet as it was seen.
        """
        pair, packet = as_sent(self._network, self._entered, pair, packet)
        ways = self._network.of_packet(pair.source, pair.destination, packet)
        endings = self._tracer(state).endings_of(packet, pair.on_link, ways, pair.strays)
        first, stopped = endings[0], (NO_PLACE, NO_PLACE, NO_PLACE)
        same = all(each.verdict is first.verdict for each in endings)
        if same and first.stop is not None:
            place = first.stop.crossing._replace(view=NOT_TRANSLATED)
            which, *line = self.line_of(first.stop.decider)
            stopped = line[0], line[1], self._crossing(place, which)
        untold = (
            hello_of(state) == UNSETTLED
            and first.verdict is Verdict.PERMITTED
            and packet.protocol == TCP
        )
        return CrossedFate(
            VERDICTS.index(first.verdict) if same else VARIES,
            stopped,
            untold and self._network.asks_for_tls(ways[0], packet.family),
            first.lines,
        )

    def count(self, fate: CrossedFate, row: int, weights: Weights) -> None:
        """Count the lines that decided, for the conversations and packets that a row stands for."""
        by_leg = weights.first_leg, weights.second_leg, weights.third_leg
        legs = weights.conversations[row : row + 1]
        for leg, _, decider in fate.lines:
            packets = int(by_leg[leg][row]) if leg < _LATER else 0
            if leg == 0 and not decider.permits:
                packets = int(weights.there[row])  # what is denied is sent again, not answered
            _, number, entry = self.line_of(decider)
            self._asked.hits[number].add(np.array([entry], np.int32), legs, np.array([packets]))

    def line_of(self, decider: Decider) -> tuple[int, int, int]:
        """Return the number of a line's list as it is asked, which list of the plan that is, and
        which of its lines the line is.
        """
        own = decider.access_list
        assert isinstance(own, AccessList)  # packets are asked of nothing else
        which = self._asked.numbered(own)
        index = NO_PLACE if decider.entry is None else own.entries.index(decider.entry)
        number, lines = self._asked.own_line(which, np.array([index], np.int32))
        return which, number, int(lines[0])
