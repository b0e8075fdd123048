"""How a conversation fares over time: from when to when which verdict, and which line makes it so.

Between two moments at which a window of some list opens or shuts, nothing changes. So a conversation
is traced once for each set of windows that is open together, and stretches of time in which it fares
alike are one.

What is open when its verdict turns is another matter. A stateful device has remembered it, and lets
it go on until it ends or is idle for too long; where no device remembers, the next packet is judged
anew, and a line for connections under way may let that one by.
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
    """What becomes of a conversation that is open when its verdict turns to another than
    permitted.
    """

    REMEMBERED = "remembered"
    PERMITTED = "permitted"
    STOPPED = "stopped"


class Turn(NamedTuple):
    """What becomes of an open conversation when it would be stopped from now on, at the device or
    host that stops it, and the line that decides about its next packet, None where that is not
    asked.
    """

    opened: Opened
    by: str
    decider: Decider | None


class Stretch(NamedTuple):
    """A stretch of time in which a conversation fares as it is traced. `end` is excluded, None where
    nothing changes any more; `turn` tells of conversations that are open at its beginning.
    """

    start: datetime
    end: datetime | None
    trace: Trace
    turn: Turn | None

    @property
    def fares(self) -> Verdict:
        """The verdict; that it varies where it does with the path."""
        return self.trace.verdict if self.trace.differing is None else Verdict.VARIES


class Hours(NamedTuple):
    """How a conversation fares from one time `until` another one: the stretches that begin before
    that, and the one that comes `then`, None where nothing changes any more.
    """

    until: datetime
    stretches: tuple[Stretch, ...]
    then: Stretch | None

    @property
    def told(self) -> Conversation:
        """The conversation."""
        return self.stretches[0].trace.conversation

    @property
    def next(self) -> Stretch | None:
        """What comes after the first stretch."""
        return self.stretches[1] if len(self.stretches) > 1 else self.then


def hours(network: Network, conversation: Conversation, when: When, until: datetime) -> Hours:
    """Return how a conversation fares from a time on, and until another one."""
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
            return Hours(until, tuple(found), then)
        found.append(then)
    return Hours(until, tuple(found), None)


def _by_state(
    network: Network, conversation: Conversation, when: When
) -> Callable[[datetime], Trace]:
    """Return what traces a conversation at a time, once for each state of the plan's conditions."""
    known: dict[object, Trace] = {}

    def traced(moment: datetime) -> Trace:
        state = network.plan.state_at(when._replace(at=moment))
        if state not in known:
            known[state] = Tracer(network, state).trace(conversation)
        return known[state]

    return traced


def _placed_windows(plan: Plan) -> list[Window]:
    """Return the windows of lists that stand somewhere."""
    names = {
        name for each in plan.every_placement for name in plan.every_list[each.access_list].windows
    }
    return [plan.every_window[name] for name in plan.every_window if name in names]


def _fares(trace: Trace) -> tuple[object, ...]:
    """Return what two traces have in common that fare alike: verdicts and lines that decide."""
    other = trace.differing
    return (
        trace.verdict,
        tuple(decider.key for decider in trace.deciders()),
        None if other is None else other.verdict,
    )


def _turn(
    network: Network, before: Trace, after: Trace, when: When, moment: datetime
) -> Turn | None:
    """Return what becomes of conversations that were permitted and open when they would be stopped
    from a moment on; None where it is no such turn.
    """
    decided = after.decided
    if before.verdict is not Verdict.PERMITTED or after.verdict is Verdict.PERMITTED:
        return None
    if decided is None or decided.access_list is None:
        return None
    at = decided.crossing.point
    remembers = decided.crossing.remembered_by
    if remembers in network.stateful:
        return Turn(Opened.REMEMBERED, str(remembers), None)
    packet = packet_there(after.conversation, after.legs[-1].leg, decided)
    if packet.flags is not None:
        packet = packet._replace(flags=ACK)
    decider = decided.access_list.decide(packet, network.plan.state_at(when._replace(at=moment)))
    opened = Opened.PERMITTED if decider.permits else Opened.STOPPED
    return Turn(opened, at.device or at.owner, decider)
