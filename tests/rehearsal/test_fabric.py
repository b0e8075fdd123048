"""The fabric in memory: what becomes of conversations, against `trace`."""

from __future__ import annotations

import random
from collections.abc import Callable
from datetime import datetime

from hypothesis import HealthCheck, Phase, example, given, settings
from hypothesis import strategies as st

from crossgate.core.conversation.opening import conversations
from crossgate.core.conversation.packets import Tracer
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.address import Family, parse_address
from crossgate.core.model.conditions import When
from crossgate.core.model.plan import Plan
from crossgate.core.network.endpoints import at_address
from crossgate.core.network.ways import Network
from tests.core.conversation.test_crossing import SERVICES, ends, plan_text
from tests.net import conversation, openings, plans
from tests.rehearsal.wire import Wire

Read = Callable[[str], Plan]
MONDAY = datetime(2026, 11, 30, 12)
FARES = {
    Verdict.PERMITTED: "permitted",
    Verdict.HALF_OPEN: "half-open",
    Verdict.DENIED: "stopped",
    Verdict.UNROUTABLE: "stopped",
}


@settings(
    max_examples=10,
    deadline=None,
    suppress_health_check=[HealthCheck.function_scoped_fixture],
    phases=[Phase.explicit, Phase.reuse, Phase.generate],
)
@given(text=plans(), family=st.sampled_from(Family))
def test_what_machines_send_fares_as_it_is_traced(plan_of: Read, text: str, family: Family) -> None:
    plan = plan_of(text)
    network = Network(plan)
    tracer = Tracer(network, plan.state_at(When(MONDAY)))
    wire = Wire(plan, MONDAY)
    for packet in openings(family):
        ends = (wire.named(family, each) for each in (packet.source, packet.destination))
        sender, receiver = ends
        if sender is None or receiver in (None, sender) or packet.icmp_type in (3,):
            continue
        trace = tracer.trace(conversation(network, packet))
        assert wire.fares(packet) == FARES[trace.verdict], packet


HOSTS = """host h9 10.0.0.9 2001:db8:1::9 on in
host h20 10.0.0.20 on in
host dmz9 10.0.1.9 on dmz
host six3 2001:db8:2::3 on dmz6
host six9 2001:db8:2::9 on dmz6
host far2 198.51.100.77 on net
"""
BETTER = ("stopped", "half-open", "permitted")


@settings(
    max_examples=8,
    deadline=None,
    suppress_health_check=[HealthCheck.function_scoped_fixture],
    phases=[Phase.explicit, Phase.reuse, Phase.generate],
)
@given(st.integers(0, 1 << 32))
@example(10978455)
def test_what_is_translated_fares_as_it_is_traced(plan_of: Read, seed: int) -> None:
    text = plan_text(seed) + HOSTS
    plan = plan_of(text)
    network, chance = Network(plan), random.Random(seed)
    tracer = Tracer(network, plan.state_at(When(MONDAY)))
    wire = Wire(plan, MONDAY, None)
    for family in Family:
        for one, other in ends(family, chance):
            start, end = (at_address(network, parse_address(each)) for each in (one, other))
            for service in SERVICES:
                (wanted,) = conversations(plan.service(service, family), start, end)
                wire.told.clear()
                fared = wire.fares(wanted.first)
                if fared == "stopped" and not any(each.stops for each in wire.told):
                    continue  # no machine has the address
                expected = {
                    # Where just the answer has no way, the other machine got what was sent.
                    "half-open"
                    if each.verdict is Verdict.UNROUTABLE and each.leg.returns
                    else FARES[each.verdict]
                    for each in tracer.endings(wanted)
                }
                if fared not in expected:
                    # The device chose a port that lists let by, of which others they would not.
                    worst = min(expected, key=BETTER.index)
                    assert BETTER.index(fared) > BETTER.index(worst), (service, one, other)
                    assert "2000-65535" in text
