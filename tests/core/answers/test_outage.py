"""What no longer holds while a part of the network is down: against verifying every claim anew, and
a way round that has no list.
"""

from __future__ import annotations

from collections.abc import Callable
from itertools import islice, permutations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from crossgate.core.answers.outage import any_one_down, down_point, parts
from crossgate.core.answers.verify import Verifier
from crossgate.core.model.errors import PlanError
from crossgate.core.model.plan import Plan
from crossgate.core.traffic.session import Session
from crossgate.language.reader import read_plan
from tests.core.network import reference

Read = Callable[[str], Plan]
ROUND = """
subnet one 10.0.1.0/24
subnet two 10.0.2.0/24
subnet middle 10.0.3.0/24
router short
    interface one 10.0.1.1/24 on one
    interface two 10.0.2.1/24 on two
router in
    interface one 10.0.1.2/24 on one
    interface middle 10.0.3.1/24 on middle
router out
    interface middle 10.0.3.2/24 on middle
    interface two 10.0.2.2/24 on two
host a 10.0.1.9 on one
host b 10.0.2.9 on two
list wall extended ipv4
    10 deny ping any to any
    otherwise permit
place wall inbound on short.one
place wall inbound on short.two
keep deny ping one to two
expect permit tcp/443 a to b
expect permit tcp/22 a to short
"""


def results(plan: Plan) -> tuple[Session, list[str], dict[str, list[str]]]:
    """Return the claims that hold, and by part that is down those that do not hold then."""
    session = Session(plan)
    verified = [Verifier(session).verify(each) for each in plan.expectations]
    broken = {
        outage.part.name: [each.expectation.text for each in outage.broken]
        for outage in any_one_down(session, verified)
    }
    return session, [each.expectation.text for each in verified if each.held], broken


def test_the_way_round_has_no_list(plan_of: Read) -> None:
    session, held, broken = results(plan_of(ROUND))
    assert len(held) == 3
    keep, https, _ = held
    assert broken["short"] == [keep]
    assert broken["short.two"] == [keep]
    assert broken["in"] == broken["out"] == broken["in.middle to out.middle"] == []
    assert https not in [text for texts in broken.values() for text in texts]
    down = session.plan.without([down_point(session.plan, "short")])
    verdicts = {each.text: Verifier(Session(down)).verify(each) for each in down.expectations}
    assert "permitted" in verdicts[keep].why
    assert "is down" in verdicts[held[2]].why


def test_nothing_gets_through_where_there_is_no_way(plan_of: Read) -> None:
    """A claim that something is denied holds, one that it is permitted does not."""
    plan = plan_of(ROUND)
    down = plan.without(down_point(plan, word) for word in ("short", "in.middle"))
    assert [Verifier(Session(down)).verify(each).held for each in plan.expectations] == [
        True,
        False,
        False,
    ]


def test_only_what_can_be_down_is_named(plan_of: Read) -> None:
    plan = plan_of(ROUND)
    assert [part.name for part in parts(plan)] == [
        "short",
        "in",
        "out",
        "short.one",
        "in.one",
        "short.two",
        "out.two",
        "in.middle to out.middle",
    ]
    for word in ("one", "a", "10.0.1.9", "any"):
        with pytest.raises(PlanError, match="no device and no point"):
            down_point(plan, word)
    with pytest.raises(PlanError, match="no interface"):
        down_point(plan, "short.three")


@settings(max_examples=10, deadline=None)
@given(st.integers(0, 1 << 32))
def test_what_is_not_looked_at_again_holds_as_before(
    tmp_path_factory: pytest.TempPathFactory, seed: int
) -> None:
    path = tmp_path_factory.mktemp("net") / "r.gate"
    text = reference.network(seed)
    path.write_text(text)
    hosts = list(read_plan(path).hosts)
    claims = [
        f"expect {('permit', 'deny')[number % 2]} tcp/80 {one} to {other}"
        for number, (one, other) in enumerate(islice(permutations(hosts, 2), 8))
    ]
    path.write_text("\n".join([text, *claims, ""]))
    session, held, broken = results(read_plan(path))
    for part in parts(session.plan):
        anew = Verifier(Session(session.plan.without(part.points)))
        failing = [
            each.text
            for each in session.plan.expectations
            if each.text in held and not anew.verify(each).held
        ]
        assert broken[part.name] == failing, (seed, part.name)
