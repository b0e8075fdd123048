"""Equal paths in every answer: against tracing a packet along each way, on random networks and on two routers side by side."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from unittest import mock

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from crossgate.core.answers.compare import differences
from crossgate.core.answers.grid import cells
from crossgate.core.answers.points import crossed
from crossgate.core.answers.reach import reach
from crossgate.core.answers.verify import Verifier
from crossgate.core.audit import audit
from crossgate.core.model.address import Family, single
from crossgate.core.model.condition import When
from crossgate.core.model.plan import Plan
from crossgate.core.network.endpoints import at_address, pairs
from crossgate.core.sets.region import packet_region
from crossgate.core.traffic import flows as questions
from crossgate.core.traffic.between import flows
from crossgate.core.traffic.courses import by_course
from crossgate.core.traffic.legs import conversations
from crossgate.core.traffic.session import Session
from crossgate.core.traffic.trace import Verdict
from crossgate.core.wording.sentences import parting
from crossgate.language.reader import read_plan
from tests.core.network import reference

Read = Callable[[str], Plan]
NOON = datetime(2026, 12, 1, 12)
SIDES = """
subnet one 10.0.1.0/24
subnet two 10.0.2.0/24
router left{stateful}
    interface one 10.0.1.1/24 on one
    interface two 10.0.2.1/24 on two
router right{stateful}
    interface one 10.0.1.2/24 on one
    interface two 10.0.2.2/24 on two
host a 10.0.1.9 on one
host b 10.0.2.9 on two
list wall extended ipv4
    10 deny ip any to any
list gap extended ipv4
    10 permit tcp any to any established
    20 deny ip any to any
"""


@pytest.mark.parametrize("side", ["left", "right"])
@pytest.mark.parametrize("claim", ["keep deny ping one to two", "keep permit ping one to two"])
def test_a_wall_at_one_of_two_routers_keeps_no_promise(plan_of: Read, side: str, claim: str) -> None:
    """The first path alone would hold one of the claims, whichever router has the wall."""
    plan = plan_of(SIDES.format(stateful="") + f"place wall inbound on {side}.one\n{claim}\n")
    (result,) = [Verifier(Session(plan)).verify(each) for each in plan.expectations]
    assert not result.held
    other = {"left": "right", "right": "left"}[side]
    wanted = f"is permitted by way of {other}" if "permit" not in claim else f"is denied by way of {side}: wall 10"
    assert wanted in result.why
    assert "locked-out" in {each.name for each in audit(Session(plan), NOON).findings}


def test_walls_at_both_routers_are_a_wall(plan_of: Read) -> None:
    plan = plan_of(SIDES.format(stateful="") + "place wall inbound on left.one\nplace wall inbound on right.one\nkeep deny ip one to two\n")
    assert Verifier(Session(plan)).verify(plan.expectations[0]).held


@pytest.mark.parametrize(("stateful", "verdict"), [("", Verdict.HALF_OPEN), (" stateful", Verdict.VARIES)])
def test_there_and_back_are_independent_and_a_stateful_device_knows_only_what_it_saw(
    plan_of: Read, stateful: str, verdict: Verdict
) -> None:
    """The way back is closed at both; a stateful router lets it by only where the request came by it, too."""
    session = Session(plan_of(SIDES.format(stateful=stateful) + "place wall inbound on left.two\nplace wall inbound on right.two\n"))
    (found,) = reach(session, "a", "b", When(NOON), "ping")
    assert [part.verdict for part in found.parts] == [verdict]
    start, end = pairs(session.network, "a", "b")[0]
    (wanted,) = conversations(session.plan.service("ping", Family.IPV4), start, end)
    traces = list(session.tracer().alternatives(wanted))
    assert len(traces) == (4 if stateful else 2)
    assert {each.verdict for each in traces} == ({Verdict.PERMITTED, Verdict.HALF_OPEN} if stateful else {Verdict.HALF_OPEN})


def test_what_varies_is_told_everywhere(plan_of: Read) -> None:
    text = SIDES.format(stateful="")
    closed, opened = plan_of(text + "place wall inbound on right.one\n"), plan_of(text)
    session = Session(closed)
    (found,) = reach(session, "a", "b", When(NOON), "ping")
    (part,) = found.parts
    assert part.verdict is Verdict.VARIES
    assert part.stop is not None
    assert (part.stop.decider.name, str(part.stop.crossing.point)) == ("wall 10", "right.one")
    (cell,) = cells(session.network, session.tracer(), ["a"], ["b"], ["ping"])
    assert cell.verdicts() == {Family.IPV4: (Verdict.VARIES,)}
    start, end = pairs(session.network, "a", "b")[0]
    assert {str(each.crossing.point) for each in crossed(session.network, start, end)} >= {"left.one", "right.one", "left.two", "right.two"}
    (wanted,) = conversations(closed.service("ping", Family.IPV4), start, end)
    trace = session.tracer().trace(wanted)
    assert (trace.verdict, trace.ways) == (Verdict.PERMITTED, 2)
    assert trace.differing is not None
    assert (trace.differing.verdict, parting(trace.differing, trace)) == (Verdict.DENIED, "right")
    turned = {(each.was.verdict, each.now.verdict) for each in differences(session, Session(opened)) if not each.stray and not each.devices}
    assert turned == {(Verdict.VARIES, Verdict.PERMITTED)}


@settings(max_examples=40, deadline=None)
@given(st.integers(0, 1 << 32), st.data(), st.sampled_from([0, 3]))
def test_an_answer_speaks_of_all_ways(tmp_path_factory: pytest.TempPathFactory, seed: int, data: st.DataObject, few_ways: int) -> None:
    """The verdict over all ways is the one that tracing along each of them finds, or that they vary."""
    path = tmp_path_factory.mktemp("net") / "r.gate"
    path.write_text(reference.network(seed))
    session = Session(read_plan(path))
    family = data.draw(st.sampled_from(Family))
    ends = session.address_classes(family)
    hosts = [address for host in session.plan.hosts.values() for address in host.addresses if address.family is family]
    between = st.sampled_from([(one, other) for one in hosts for other in hosts if one != other])
    for source, destination in data.draw(st.lists(between, max_size=6)):
        found = flows(session.network, ends, ends, [single(source)], [single(destination)])
        for service in ("tcp/80", "udp/53", "ping"):
            start, end = at_address(session.network, source), at_address(session.network, destination)
            (wanted,) = conversations(session.plan.service(service, family), start, end)
            verdicts = {each.verdict for each in session.tracer().alternatives(wanted)}
            expected = verdicts.pop() if len(verdicts) == 1 else Verdict.VARIES
            begun = by_course([packet_region(wanted.first)])
            with mock.patch.object(questions, "_FEW_WAYS", few_ways):
                told = {answer.verdict for flow in found for answer in session.flows().answers(flow, begun)}
            assert told == {expected}, (seed, str(source), str(destination), service)


@settings(max_examples=30, deadline=None)
@given(st.integers(0, 1 << 32))
def test_a_cell_of_the_grid_is_what_tracing_finds(tmp_path_factory: pytest.TempPathFactory, seed: int) -> None:
    path = tmp_path_factory.mktemp("net") / "r.gate"
    path.write_text(reference.network(seed))
    session = Session(read_plan(path))
    names = list(session.plan.hosts)
    for cell in cells(session.network, session.tracer(), names, names, ["tcp/80", "ping"], few=seed % 2 * 1000):
        for fates in cell.fates.values():
            for conversation, fate in fates:
                trace = session.tracer().trace(conversation)
                assert (fate.verdict, fate.agreed) == (trace.verdict, trace.differing is None), (seed, cell)
                assert fate.stopped == (trace.decided.decider if trace.decided else None)
