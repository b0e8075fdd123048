"""Many conditions on one way: those that cannot matter are left out, and every answer stays the
same.
"""

from __future__ import annotations

import re
from datetime import datetime
from pathlib import Path
from unittest.mock import patch

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from crossgate.core.answers.verify import Verifier
from crossgate.core.audit import audit
from crossgate.core.conversation.rules import Leg
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.address import Family, everything
from crossgate.core.sets.frame import PacketSet
from crossgate.core.sets.region import every_packet
from crossgate.core.traffic import conditions
from crossgate.core.traffic.between import flows
from crossgate.core.traffic.conditions import Mattering
from crossgate.core.traffic.courses import by_course
from crossgate.core.traffic.flows import lists_on
from crossgate.core.traffic.question import answers
from crossgate.core.traffic.session import Session
from crossgate.language.reader import read_plan

NETWORK = """
subnet here 10.0.0.0/24
subnet far 10.0.1.0/24
router one stateful
    interface here 10.0.0.1/24 on here
    interface far 10.0.1.1/24 on far
host a 10.0.0.9 on here
host b 10.0.0.10 on here
host s 10.0.1.9 on far
"""
CONDITIONS = [
    "",
    " during w1",
    " during w2",
    " during w3",
    " at most 5 a second",
    " at most 9 a minute from each source",
    " tls 1.2-",
    " tls 1.0",
]


def windows(count: int) -> str:
    """Return windows that are open for an hour each, one after the other."""
    return "".join(
        f"window w{hour} daily {hour:02}:00-{hour + 1:02}:00\n" for hour in range(1, count + 1)
    )


@st.composite
def plans(draw: st.DrawFn) -> str:
    """A router with lists on both sides, whose entries have conditions, and claims of all kinds."""
    text = NETWORK + windows(3)
    for name, place in (
        ("one-in", "inbound on one.here"),
        ("two-out", "outbound on one.far"),
        ("back", "inbound on one.far"),
    ):
        text += f"list {name} extended ipv4\n"
        for _ in range(draw(st.integers(1, 4))):
            ends = draw(
                st.sampled_from(["a to s", "b to s", "here to far", "far to here", "any to any"])
            )
            condition = draw(st.sampled_from(CONDITIONS))
            action = (
                "permit"
                if "at most" in condition
                else draw(st.sampled_from(["permit", "permit", "deny"]))
            )
            text += (
                f"    {action} {draw(st.sampled_from(['tcp', 'tcp/443', 'tcp/22']))} "
                f"{ends}{condition}\n"
            )
        text += f"    otherwise {draw(st.sampled_from(['permit', 'deny']))}\nplace {name} {place}\n"
    for claim in ("permit", "deny", "half-open"):
        for service, ends in (("tcp/443", "a to s"), ("tcp/22", "b to s")):
            text += (
                f"expect {claim} {service} {ends}\nexpect {claim} {service} {ends} "
                f"flooding\nexpect {claim} {service} {ends} tls 1.2\n"
            )
    return text


@settings(max_examples=12)
@given(plans())
def test_what_is_left_out_changes_no_answer(
    tmp_path_factory: pytest.TempPathFactory, text: str
) -> None:
    path = tmp_path_factory.mktemp("plan") / "plan.gate"
    path.write_text(text)

    def answers(enough: int) -> object:
        with patch.object(conditions, "ENOUGH", enough):
            plan = read_plan(path)
            held = [Verifier(Session(plan)).verify(each) for each in plan.expectations]
            findings = audit(Session(plan), datetime(2026, 11, 26, 12)).findings
            return [(each.held, each.verdict) for each in held], [
                (each.name, each.access_list, each.entry) for each in findings
            ]

    assert answers(0) == answers(1 << 20)


@settings(max_examples=8)
@given(plans(), st.booleans())
def test_states_that_matter_alike_to_a_flow_are_answered_alike(
    tmp_path_factory: pytest.TempPathFactory, text: str, stateful: bool
) -> None:
    path = tmp_path_factory.mktemp("plan") / "plan.gate"
    # Nobody else learns what TLS is spoken.
    plain = re.sub(r" tls [\d.-]+", "", text.replace(" stateful", ""))
    path.write_text(text if stateful else plain)
    session = Session(read_plan(path))
    network, family = session.network, Family.IPV4
    ends, every = session.address_classes(family), (everything(family),)
    begun = by_course([every_packet(family)])
    for flow in flows(network, ends, ends, every, every):
        mattering = Mattering(network, session.regions, flow.every, flow)
        found: dict[object, dict[tuple[Verdict, Leg], PacketSet]] = {}
        for state in session.plan.states(lists_on(network, flow.every, family)):
            told: dict[tuple[Verdict, Leg], PacketSet] = {}
            for each in answers(session.flows(state), flow, begun):
                ended = each.verdict, each.stopped.leg
                known = told.get(ended)
                told[ended] = each.packets if known is None else known | each.packets
            assert found.setdefault(mattering.of(state), told) == told, state


def test_only_conditions_that_can_matter_are_gone_over(tmp_path: Path) -> None:
    path = tmp_path / "plan.gate"
    hours = "".join(
        f"    permit tcp/{5000 + hour} a to s during w{hour}\n" for hour in range(1, 23)
    )
    spoken = "".join(
        f"    permit tcp/{6000 + number} a to s tls 1.{number}\n" for number in range(4)
    )
    last = (
        "    permit tcp/22 b to s during w3\n    permit tcp/443 a to s\nplace one-in inbound "
        "on one.here\n"
    )
    list_text = f"list one-in extended ipv4\n{hours}{spoken}{last}"
    claims = [
        "permit tcp/443 a to s",
        "deny tcp/22 a to s",
        "permit tcp/22 b to s",
        "permit tcp/22 b to s at mon 03:30",
        "deny tcp/5000-5999 a to s",
    ]
    path.write_text(
        NETWORK + windows(22) + list_text + "".join(f"expect {claim}\n" for claim in claims)
    )
    plan = read_plan(path)
    verifier = Verifier(Session(plan))
    found = [verifier.verify(each) for each in plan.expectations]
    assert [(each.held, each.states) for each in found[:4]] == [
        (True, 1),
        (True, 1),
        (False, 2),
        (True, 6),
    ]
    assert found[4].states == 23
