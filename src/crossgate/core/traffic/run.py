"""One run of columns of conversations through their lanes: leg by leg, list by list
(`traffic.bulk`).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import NamedTuple

import numpy as np

from crossgate.core.conversation.rules import SHAPES, Leg
from crossgate.core.model import iana
from crossgate.core.model.condition import State
from crossgate.core.model.packet import TCP, icmp_of
from crossgate.core.model.packets import Indices, Marks, Packets
from crossgate.core.model.tls import UNSETTLED, hello_of
from crossgate.core.traffic.asked import AskedLists
from crossgate.core.traffic.fates import (
    DENIED,
    HALF_OPEN,
    LANE,
    NO_PLACE,
    PERMITTED,
    UNROUTABLE,
    Lanes,
    Numbers,
    Weights,
    by_value,
)

_FURTHER_BACK = LANE.index(Leg.SERVER_HELLO)
"""The crossings of a lane by what comes back once an answer has."""


class Kinds(NamedTuple):
    """Kinds of conversations: the packets that open them, the index of the state of each, and what
    each stands for.
    """

    packets: Packets
    windows: Indices
    states: Sequence[State]
    weights: Weights


class InLanes(NamedTuple):
    """Rows of kinds, one for each lane of a kind: its kind, its lane, whether that is the kind's
    first lane, and which kinds have both ends on one link.
    """

    rows: Indices
    lanes: Indices
    first: Marks
    on_link: Marks


class Run:
    """One run of rows through their lanes; `list_at` is the number of the list at each crossing."""

    def __init__(
        self,
        asked: AskedLists,
        every_lane: Lanes,
        list_at: Numbers,
        opening: Kinds,
        in_lanes: InLanes,
    ) -> None:
        self._asked, self._lanes, self._list_at = asked, every_lane, list_at
        self._packets, self._windows, self._states, self._weights = opening
        self._first_leg: dict[int, Numbers] = {}
        self._rows, self._lane, self._first, self.on_link = in_lanes
        rows = self._rows
        self.verdict = np.full(len(rows), PERMITTED, np.int8)
        self.stopped = tuple(np.full(len(rows), NO_PLACE, np.int32) for _ in range(3))
        self.met = np.zeros(len(rows), np.bool_)
        self.unsettled = np.zeros(len(rows), np.bool_)
        self._owed = (
            [[np.full(len(rows), NO_PLACE, np.int32) for _ in range(3)] for _ in range(2)]
            if self._lanes.judged.any()
            else []
        )
        """The list, entry and crossing that stop a row once its TLS is settled: the first ones on
        its way, then the last ones.
        """

    def legs(self) -> None:
        """Take all legs, one after the other."""
        tcp, answered, answers = courses_of(self._packets, self.on_link)
        live = self._leg(0, with_flags(self._packets, tcp, Leg.SYN), np.arange(len(self._rows)))
        live = live[~self._lanes.unanswered[self._lane[live]]]
        live = live[answered[self._rows[live]]]
        if not len(live):
            return
        live = self._leg(1, with_flags(answers, tcp, Leg.SYN_ACK), live)
        strays = self._lanes.strays[self._lane[live]]
        self.verdict[live[strays]] = HALF_OPEN
        live = live[~strays]
        live = self._leg(2, with_flags(self._packets, tcp, Leg.ACK), live[tcp[self._rows[live]]])
        if self._owed:
            self._settle(live[self._lanes.judged[self._lane[live]].any(axis=1)], answers)

    def _settle(self, live: Indices, answers: Packets) -> None:
        """Take the legs on which TCP conversations settle their TLS version, or show that they use
        none.
        """
        tcp = np.ones(len(self._packets), np.bool_)
        hello, data = (
            with_flags(self._packets, tcp, each) for each in (Leg.CLIENT_HELLO, Leg.DATA)
        )
        hellos, windows = [hello_of(each) for each in self._states], self._windows[self._rows[live]]
        untold = np.array([each == UNSETTLED for each in hellos], np.bool_)[windows]
        self.unsettled[live[untold]] = True
        live, windows = live[~untold], windows[~untold]
        speaks = np.array([each is not None for each in hellos], np.bool_)[windows]
        greeted = self._leg(2, hello, live[speaks], again=True)
        self._leg(
            1, with_flags(answers, tcp, Leg.SERVER_HELLO), self._judge(greeted, 1), again=True
        )
        self._leg(2, data, self._judge(live[~speaks], 0), again=True)

    def _judge(self, live: Indices, which: int) -> Indices:
        """Stop the rows that are to be stopped now, by the first line (0) or the last one (1) on
        their way, and return the others.
        """
        number, entry, crossing = (each[live] for each in self._owed[which])
        due = number != NO_PLACE
        stopped = live[due]
        self.verdict[stopped] = HALF_OPEN
        for column, values in zip(self.stopped, (number, entry, crossing), strict=True):
            column[stopped] = values[due]
        for own, rows in by_value(number[due]):
            self._count(2, own, entry[due][rows], stopped[rows], np.zeros(len(rows), np.bool_))
        left: Indices = live[~due]
        return left

    def _owe(
        self, step: int, which: int, chosen: Indices, crossing: Numbers, entry: Numbers
    ) -> None:
        """Remember the lines of a list that will stop rows once their TLS version is settled, at a
        step of the first leg.
        """
        judged = self._lanes.judged[self._lane[chosen], step]
        rows = chosen[judged]
        own, lines = self._asked.own_line(which, entry[judged])
        for column, values in zip(self._owed[1], (own, lines, crossing[judged]), strict=True):
            column[rows] = values
        first = rows[self._owed[0][0][rows] == NO_PLACE]
        for column, last in zip(*self._owed, strict=True):
            column[first] = last[first]

    def _leg(self, leg: int, packets: Packets, live: Indices, again: bool = False) -> Indices:
        """Take one leg of the rows `live`, given by their indices in the run, and return those that
        arrive.

        Legs are there (0), back (1), and there once more (2); with `again` it is one of the later
        legs, which take the same ways.
        """
        table = self._lanes.crossings[_FURTHER_BACK if again and leg == 1 else leg]
        for step in range(table.shape[1]):
            crossing = table[self._lane[live], step]
            asked = np.flatnonzero(crossing != NO_PLACE)
            if not len(asked):
                break
            number = self._list_at[crossing[asked]]
            entry = np.zeros(len(asked), np.int32)
            permitted = np.ones(len(asked), np.bool_)
            for which, own in by_value(number.copy()):
                chosen = live[asked[own]]
                decided = self._decided(leg, which, packets, chosen, again)
                if self._asked.asks_for_tls(which):
                    rows, stops = self._rows[chosen], decided
                    decided = decided.copy()
                    for by, entries in self._asked.let_by(
                        which, packets.take(rows), self._windows[rows], self._states, stops
                    ):
                        decided[by] = entries
                        if leg == 0:
                            self._owe(step, which, chosen[by], crossing[asked[own[by]]], stops[by])
                permitted[own] = self._asked.permits(which)[decided]
                number[own], entry[own] = self._asked.own_line(which, decided)
                self._count(leg, int(number[own[0]]), entry[own], chosen, permitted[own], again)
            self.met[live[asked]] = True
            out = asked[~permitted]
            self.verdict[live[out]] = HALF_OPEN if leg else DENIED
            for column, values in zip(
                self.stopped, (number[~permitted], entry[~permitted], crossing[out]), strict=True
            ):
                column[live[out]] = values
            going = np.ones(len(live), np.bool_)
            going[out] = False
            live = live[going]
        arrives = self._lanes.arrives[self._lane[live], leg]
        self.verdict[live[~arrives]] = UNROUTABLE
        arrived: Indices = live[arrives]
        return arrived

    def _decided(
        self, leg: int, number: int, packets: Packets, chosen: Indices, again: bool
    ) -> Numbers:
        """Return the entry of a list that decides each of some rows on a leg."""
        if leg == 2 and not self._asked.flagged(number):
            # The third leg of TCP differs from the first in its flags alone.
            found: Numbers = self._first_leg[number][chosen]
            return found
        rows = self._rows[chosen]
        entry = self._asked.decided(number, packets.take(rows), self._windows[rows], self._states)
        if leg == 0 and not again:
            self._first_leg.setdefault(number, np.empty(len(self._rows), np.int32))[chosen] = entry
        return entry

    def _count(
        self,
        leg: int,
        number: int,
        entry: Numbers,
        chosen: Indices,
        permitted: Marks,
        again: bool = False,
    ) -> None:
        """Count the decisions of lines on first ways: one for each leg, and its packets unless they
        are counted with another leg.
        """
        first = self._first[chosen]
        if not first.all():
            entry, chosen, permitted = entry[first], chosen[first], permitted[first]
        rows = self._rows[chosen]
        weights = self._weights
        packets = (weights.first_leg, weights.second_leg, weights.third_leg)[leg][rows]
        if leg == 0 and not permitted.all():
            packets = np.where(
                permitted, packets, weights.there[rows]
            )  # what is denied is sent again, not answered
        self._asked.hits[number].add(
            entry, weights.conversations[rows], np.zeros_like(packets) if again else packets
        )


def courses_of(packets: Packets, on_link: Marks) -> tuple[Marks, Marks, Packets]:
    """Return which rows are TCP conversations, which are answered, and the packets of the answers;
    the same as `conversation.rules.legs_of` says of one conversation.
    """
    tcp = (packets.protocol == TCP) & ~packets.fragment
    icmp = (packets.protocol == icmp_of(packets.family)) & ~packets.fragment
    answer = np.full(len(packets), -1)
    kind = packets.destination_port >> 8
    for answers, where in (
        (iana.ANSWERED_ON_LINK[icmp_of(packets.family)], icmp & on_link),
        (iana.ANSWERED[icmp_of(packets.family)], icmp),
    ):
        for asked, reply in answers.items():
            answer[where & (kind == asked)] = reply
    ports = (
        packets.destination_port,
        np.where(icmp, np.maximum(answer, 0) << 8, packets.source_port).astype(np.uint16),
    )
    back = replace(
        packets,
        source=packets.destination,
        destination=packets.source,
        source_port=ports[0],
        destination_port=ports[1],
    )
    return tcp, ~packets.fragment & (~icmp | (answer >= 0)), back


def with_flags(packets: Packets, tcp: Marks, leg: Leg) -> Packets:
    """Return packets with the flags of a leg where they are TCP."""
    flags = SHAPES[leg].flags
    assert flags is not None  # it is a leg of TCP
    return replace(packets, flags=np.where(tcp, flags, packets.flags).astype(np.uint8))
