"""How a conversation ends, by the lists that its legs met."""

from __future__ import annotations

import pytest

from crossgate.core.conversation.rules import (
    ANSWERED,
    HANDSHAKE,
    WITH_TLS,
    WITHOUT_TLS,
    Decided,
    Finish,
    Late,
    Leg,
    script,
    when_arrived,
)
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.accesslist import AccessList, Decider
from crossgate.core.model.address import Family
from crossgate.core.model.entry import Action, Kind, Otherwise
from crossgate.core.model.errors import Place
from crossgate.core.model.network import Direction, Point, PointKind
from crossgate.core.network.paths import Crossing

NOWHERE = Place("", 0)


def line(name: str) -> Decided:
    """Return the otherwise line of a list of some name, met somewhere."""
    otherwise = Otherwise(Action.DENY, NOWHERE, written=False)
    own = AccessList(name, Kind.EXTENDED, (), otherwise, NOWHERE, (), family=Family.IPV4)
    point = Point(PointKind.INTERFACE, "r", "a")
    return Decided(Crossing(point, Direction.INBOUND), Decider(own, None))


HERE, THERE = line("here"), line("there")


@pytest.mark.parametrize(
    ("late", "judged", "verdict", "leg"),
    [
        (None, False, Verdict.PERMITTED, Leg.ACK),
        (None, True, Verdict.PERMITTED, Leg.SERVER_HELLO),
        (2, False, Verdict.HALF_OPEN, Leg.ACK),
        (2, True, Verdict.HALF_OPEN, Leg.ACK),
        # Nobody waits for the hellos where nobody judges them.
        (3, False, Verdict.PERMITTED, Leg.ACK),
        (3, True, Verdict.HALF_OPEN, Leg.CLIENT_HELLO),
        (4, False, Verdict.PERMITTED, Leg.ACK),
        (4, True, Verdict.HALF_OPEN, Leg.SERVER_HELLO),
    ],
)
def test_a_later_leg_counts_where_it_is_sent(
    late: int | None, judged: bool, verdict: Verdict, leg: Leg
) -> None:
    own = script(HANDSHAKE, speaks=True)
    assert own.legs == (*HANDSHAKE, *WITH_TLS)
    noted = None if late is None else Late(late, HERE)
    found = when_arrived(own, noted, judged, ())
    assert found == Finish(verdict, leg, HERE if verdict is Verdict.HALF_OPEN else None)


@pytest.mark.parametrize(
    ("speaks", "leg", "stop"),
    [(True, Leg.SERVER_HELLO, THERE), (False, Leg.DATA, HERE)],
)
def test_what_is_due_stops_it_once_it_has_settled(speaks: bool, leg: Leg, stop: Decided) -> None:
    own = script(HANDSHAKE, speaks)
    assert own.legs[3:] == (WITH_TLS if speaks else WITHOUT_TLS)
    assert when_arrived(own, None, True, (HERE, THERE)) == Finish(Verdict.HALF_OPEN, leg, stop)
    # A list that denies the same leg comes after it.
    late = Late(len(own.legs) - 1, line("late"))
    assert when_arrived(own, late, True, (HERE, THERE)) == Finish(Verdict.HALF_OPEN, leg, stop)


def test_an_answer_that_goes_astray_leaves_it_half_open() -> None:
    own = script(ANSWERED, astray=True)
    assert when_arrived(own, None, False, ()) == Finish(Verdict.HALF_OPEN, Leg.REPLY)
    assert when_arrived(script(ANSWERED), None, False, ()) == Finish(Verdict.PERMITTED, Leg.REPLY)
