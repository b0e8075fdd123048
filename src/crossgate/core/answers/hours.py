"""How the verdict on a conversation changes over time, and which line makes it change.

Between two moments at which a window of some list opens or closes, nothing changes. So a
conversation is traced once for each set of windows that are open together, and neighbouring
stretches of time with the same result are joined.

A connection that is already open when the verdict changes is different. A stateful device keeps it
open until it ends or is idle for too long. Where no device is stateful, the next packet is judged
anew, and an entry for established connections may permit it.
"""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime, timedelta
from enum import StrEnum
from itertools import chain, takewhile
from typing import NamedTuple

from crossgate.core.answers.why import packet_there
from crossgate.core.conversation.opening import Conversation
from crossgate.core.conversation.packets import Tracer
from crossgate.core.conversation.story import Trace
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.accesslist import Decider
from crossgate.core.model.conditions import When
from crossgate.core.model.packet import ACK
from crossgate.core.model.plan import Plan
from crossgate.core.model.window import Window, changes, every_kind_of_moment
from crossgate.core.network.ways import Network

WEEK = timedelta(days=7)


class Opened(StrEnum):
    """What becomes of an open connection when the verdict on new ones changes from permitted."""

    REMEMBERED = "remembered"
    PERMITTED = "permitted"
    STOPPED = "stopped"


class OpenTurn(NamedTuple):
    """What becomes of an open connection once its conversation would be denied, at the device or
    host that denies it; and the line that decides about its next packet, None where no list is
    asked.
    """

    opened: Opened
    by: str
    decider: Decider | None


class Stretch(NamedTuple):
    """A stretch of time in which the trace of a conversation stays the same. `end` is excluded,
    None where nothing changes any more; `turn` tells what becomes of connections that are open when
    it begins.
    """

    start: datetime
    end: datetime | None
    trace: Trace
    turn: OpenTurn | None

    @property
    def fares(self) -> Verdict:
        """The verdict, which is `VARIES` where it depends on the path."""
        return self.trace.verdict if self.trace.differing is None else Verdict.VARIES


class ConversationHours(NamedTuple):
    """How the verdict on a conversation changes until a time: the stretches that begin before it,
    and the one that comes `then`, None where nothing changes any more.
    """

    until: datetime
    stretches: tuple[Stretch, ...]
    then: Stretch | None

    def __repr__(self) -> str:
        return f"<ConversationHours {self.told!r} stretches={len(self.stretches)}>"

    @property
    def told(self) -> Conversation:
        """The conversation."""
        return self.stretches[0].trace.conversation

    @property
    def next(self) -> Stretch | None:
        """The stretch that follows the first."""
        return self.stretches[1] if len(self.stretches) > 1 else self.then


def hours(
    network: Network, conversation: Conversation, when: When, until: datetime
) -> ConversationHours:
    """Return how the verdict on a conversation changes from a time on, until another one."""
    plan = network.plan
    traced = _by_state(network, conversation, when)
    windows = _placed_windows(plan)
    found = [Stretch(when.at, None, traced(when.at), None)]
    before = takewhile(until.__gt__, changes(windows, when.at))
    for moment in chain(before, [until], every_kind_of_moment(windows, until)):
        trace, last = traced(moment), found[-1]
        if _fares(trace) == _fares(last.trace):
            continue
        found[-1] = last._replace(end=moment)
        turn = _turn(network, last.trace, trace, when, moment)
        then = Stretch(moment, None, trace, turn)
        if moment >= until:
            return ConversationHours(until, tuple(found), then)
        found.append(then)
    return ConversationHours(until, tuple(found), None)


def _by_state(
    network: Network, conversation: Conversation, when: When
) -> Callable[[datetime], Trace]:
    """Return a function that traces a conversation at a time, once for each state of the plan's
    conditions.
    """
    known: dict[object, Trace] = {}

    def traced(moment: datetime) -> Trace:
        state = network.plan.state_at(when._replace(at=moment))
        if state not in known:
            known[state] = Tracer(network, state).trace(conversation)
        return known[state]

    return traced


def _placed_windows(plan: Plan) -> list[Window]:
    """Return the windows of the lists that are placed."""
    names = {
        name for each in plan.every_placement for name in plan.every_list[each.access_list].windows
    }
    return [plan.every_window[name] for name in plan.every_window if name in names]


def _fares(trace: Trace) -> tuple[object, ...]:
    """Return the part of a trace by which two of them count as the same: the verdicts and the lines
    that decide.
    """
    other = trace.differing
    return (
        trace.verdict,
        tuple(decider.key for decider in trace.deciders()),
        None if other is None else other.verdict,
    )


def _turn(
    network: Network, before: Trace, after: Trace, when: When, moment: datetime
) -> OpenTurn | None:
    """Return what becomes of open, permitted connections whose conversation is denied from a moment
    on; None where that is not the case.
    """
    decided = after.decided
    if before.verdict is not Verdict.PERMITTED or after.verdict is Verdict.PERMITTED:
        return None
    if decided is None or decided.access_list is None:
        return None
    at = decided.crossing.point
    remembers = decided.crossing.remembered_by
    if remembers in network.stateful:
        return OpenTurn(Opened.REMEMBERED, str(remembers), None)
    packet = packet_there(after.conversation, after.legs[-1].leg, decided)
    if packet.flags is not None:
        packet = packet._replace(flags=ACK)
    decider = decided.access_list.decide(packet, network.plan.state_at(when._replace(at=moment)))
    opened = Opened.PERMITTED if decider.permits else Opened.STOPPED
    return OpenTurn(opened, at.device or at.owner, decider)
