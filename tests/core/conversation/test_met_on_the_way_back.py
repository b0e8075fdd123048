"""A stateful device that only the way back meets: it remembers the answer that it let by, and asks
its lists of no later one.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest

from crossgate.core.answers.verify import Verifier
from crossgate.core.conversation.opening import conversations
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.address import Family
from crossgate.core.model.packets import packet_columns
from crossgate.core.model.plan import Plan
from crossgate.core.model.tls import settled
from crossgate.core.network.endpoints import at_address
from crossgate.core.traffic.bulk import BulkTracer
from crossgate.core.traffic.fates import VERDICTS
from crossgate.core.traffic.session import Session

PLAN = """subnet a 10.0.0.0/24
subnet b 10.0.1.0/24
subnet c 10.0.2.0/24
router judge stateful
    interface a 10.0.0.1/24 on a
    interface b 10.0.1.1/24 on b
    route 10.0.2.0/24 via 10.0.1.11
router out
    interface b 10.0.1.11/24 on b
    interface c 10.0.2.1/24 on c
router home{state}
    interface b 10.0.1.12/24 on b
    interface c 10.0.2.2/24 on c
host client 10.0.0.9 on a
host server 10.0.2.9 on c gateway 10.0.2.2
list hello extended ipv4
    permit tcp/443 any to any tls 1.3
place hello inbound on judge.a
list answer extended ipv4
    permit tcp any to any flags syn,ack
place answer inbound on home.c
expect permit tcp/443 client to server tls 1.3
"""


@pytest.mark.parametrize(
    ("state", "verdict"), [(" stateful", Verdict.PERMITTED), ("", Verdict.HALF_OPEN)]
)
def test_every_engine_says_the_same(
    plan_of: Callable[[str], Plan], state: str, verdict: Verdict
) -> None:
    plan = plan_of(PLAN.format(state=state))
    session = Session(plan)
    spoken = settled(frozenset(), plan.lists["hello"].hellos[0])
    client, server = (
        at_address(session.network, plan.hosts[each].addresses[0]) for each in ("client", "server")
    )
    (conversation,) = conversations(plan.service("tcp/443", Family.IPV4), client, server)
    tracer, one = session.tracer(spoken), np.ones(1, np.int64)
    rows = packet_columns(Family.IPV4, [conversation.first])
    fates = BulkTracer(session.network).trace(rows, one * 0, [spoken], one, one)
    assert tracer.trace(conversation).verdict is verdict
    assert tracer.fate(conversation, (session.network.between(client, server),)).verdict is verdict
    assert VERDICTS[fates.verdict[0]] is verdict
    assert Verifier(session).verify(plan.expectations[0]).held is (verdict is Verdict.PERMITTED)
