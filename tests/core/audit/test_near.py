"""Who can take a neighbour's address, against traces of each packet that one could send."""

from __future__ import annotations

import re
from collections.abc import Callable
from datetime import datetime
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings

from crossgate.core.audit import audit
from crossgate.core.conversation.opening import Conversation
from crossgate.core.conversation.packets import Tracer
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.address import Address, Family
from crossgate.core.model.entry import Action, Entry
from crossgate.core.model.finding import Finding
from crossgate.core.model.finding_kinds import KINDS
from crossgate.core.model.plan import Plan
from crossgate.core.network.endpoints import at_address
from crossgate.core.network.ways import Network
from crossgate.core.traffic.session import Session
from tests import net
from tests.conftest import Run

Read = Callable[[str], Plan]
NOON = datetime(2026, 11, 30, 12)
OTHERS = [name for name in KINDS if name != "neighbour-can-claim"]
HALL = """
subnet hall 10.0.0.0/24 2001:db8:a::/64
subnet room 10.0.1.0/24 2001:db8:b::/64
router r stateful
    interface hall 10.0.0.1/24 2001:db8:a::1/64 on hall
    interface room 10.0.1.1/24 2001:db8:b::1/64 on room
switch s
    port 1
    port 2
host one 10.0.0.2 2001:db8:a::2 on hall at s.1
host two 10.0.0.3 2001:db8:a::3 on hall at s.2
host server 10.0.1.2 2001:db8:b::2 on room
"""
FENCE = "list l extended ipv4\n    10 permit tcp/22 {} to server\nplace l inbound on r.hall\n"


def found(plan: Plan) -> list[Finding]:
    return audit(Session(plan), NOON, leave_out=OTHERS).findings


@pytest.mark.parametrize(
    ("trusted", "more", "who"),
    [
        ("one", "", "two on hall can take 10.0.0.2 (one)"),
        ("10.0.0.2 wild 0.0.0.4", "", "two on hall can take 10.0.0.2 (one)"),
        # All of the subnet is trusted, or nobody else is there.
        ("hall", "", None),
        ("10.0.0.2-10.0.0.3", "", None),
        ("any", "", None),
        ("server", "", None),
        # What is plugged in beside it cannot send under that address, or nothing at all.
        (
            "one",
            "list p standard ipv4\n    permit two\nplace p inbound on s.2\n",
            None,
        ),
        (
            "one",
            "list p standard ipv4\n    deny one\n    otherwise permit\nplace p inbound on host two\n",
            None,
        ),
        # One that drops something else does not help.
        (
            "one",
            "list p standard ipv4\n    deny server\n    otherwise permit\nplace p inbound on s.2\n",
            "two on hall can take",
        ),
    ],
)
def test_only_a_list_where_it_is_plugged_in_keeps_a_neighbour_from_it(
    plan_of: Read, trusted: str, more: str, who: str | None
) -> None:
    findings = found(plan_of(HALL + FENCE.format(trusted) + more))
    assert [who in each.message for each in findings if who] == [True] * (who is not None)
    assert len(findings) == (who is not None)


def test_lists_that_read_alike_are_told_apart_by_where_they_stand(plan_of: Read) -> None:
    fence = FENCE.format("one")
    other = fence.replace("list l", "list k").replace(
        "place l inbound on r.hall", "place k inbound on s.1"
    )
    for text in (fence + other, other + fence):
        assert [(each.access_list, each.entry) for each in found(plan_of(HALL + text))] == [
            ("l", 10)
        ]


def test_entries_for_answers_are_about_nobody_who_asks(plan_of: Read) -> None:
    fence = FENCE.format("one")
    assert [(each.access_list, each.entry) for each in found(plan_of(HALL + fence))] == [("l", 10)]
    answers = re.sub(r"(    10 permit [^\n]*?)( log)?\n", r"\1 established\n", fence)
    answers = answers.replace("permit ip ", "permit tcp ")
    assert "established" in answers
    assert found(plan_of(HALL + answers)) == []


def test_in_ipv6_too(plan_of: Read) -> None:
    fence = FENCE.replace("ipv4", "ipv6").format("one")
    (only,) = found(plan_of(HALL + fence))
    assert "two on hall can take 2001:db8:a::2 (one)" in only.message


@settings(max_examples=25, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(text=net.plans())
def test_it_is_so_just_where_a_traced_packet_gets_through(plan_of: Read, text: str) -> None:
    plan = plan_of(text)
    told = {(each.access_list, each.entry) for each in found(plan)}
    network = Network(plan)
    one, other = plan.hosts["pinned"], plan.hosts["plain"]
    got = set[tuple[str, int]]()
    for opened in plan.states(plan.lists.values()):
        tracer = Tracer(network, opened)
        for family in Family:
            for trusted, taker in ((one, other), (other, one)):
                address, own = trusted.in_family(family), taker.in_family(family)
                assert address is not None
                assert own is not None
                for packet in net.openings(family):
                    to = Address(family, packet.destination)
                    to_device = to in plan.interface_of
                    if packet.source != address.value or to_device or to in (address, own):
                        continue
                    ends = at_address(network, own), at_address(network, to)
                    if ends[1].segment == "":
                        continue
                    for ending in tracer.endings(Conversation(*ends, packet, True)):
                        if ending.verdict is not Verdict.PERMITTED:
                            continue
                        for passed in ending.passed:
                            entry = passed.decider.entry
                            taken = packet._replace(source=own.value)
                            if isinstance(entry, Entry) and not entry.source.contains(taken.source):
                                got.add((passed.decider.access_list.name, entry.number))
    permits = {
        (name, entry.number)
        for name, own_list in plan.lists.items()
        for entry in own_list.entries
        if entry.action is Action.PERMIT
    }
    assert got & permits <= told
    assert told <= got


@pytest.mark.usefixtures("demo")
def test_the_mend_keeps_neighbours_from_it_and_nobody_else_from_anything(
    run: Run, answer: Any
) -> None:
    before = answer("mend", "neighbour-can-claim", "12", "10", status=1)
    (only,) = before["mends"]
    assert only["proposals"][0]["edits"] == [
        "new list harbour-in, inbound on host duty, host resolver: deny manifest; otherwise permit"
    ]
    done = run("mend", "neighbour-can-claim", "12", "10", "--take", "a", "--write")
    assert done.returncode == 0, done.stderr
    assert "no packet with a true source address is treated otherwise" in done.stdout
    assert "new finding" not in done.stdout
    left = [
        each for each in answer("check")["findings"] if each["finding"] == "neighbour-can-claim"
    ]
    assert [(each["list"], each["entry"]) for each in left] == [("12", 30)]
