"""Cells of sets, against the conversations of every pair of their machines."""

from __future__ import annotations

from datetime import datetime
from itertools import product
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

from crossgate.core.answers.set_grid import SetGrid
from crossgate.core.conversation.opening import conversations
from crossgate.core.conversation.packets import Tracer
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.address import Family
from crossgate.core.model.conditions import When
from crossgate.core.network.endpoints import pairs
from crossgate.core.sets.effort import TooManyPieces
from crossgate.core.traffic.session import Session
from crossgate.language.reader import read_plan
from tests.conftest import Read

NET = """
subnet a 10.0.0.0/30
subnet b 10.0.1.0/30
subnet lonely 10.0.9.0/30
outside net 192.0.2.8/31
router r
    interface a 10.0.0.1/30
    interface b 10.0.1.1/30
    interface n 192.0.2.9/31 on net
host a2 10.0.0.2
host b2 10.0.1.2
group pair 10.0.0.2, 10.0.1.2
"""
NOON = datetime(2026, 12, 1, 12)
MACHINES = {
    "a": ["10.0.0.0", "10.0.0.2"],
    "b": ["10.0.1.0", "10.0.1.2"],
    "net": ["192.0.2.8"],
    "pair": ["10.0.0.2", "10.0.1.2"],
    "a2": ["10.0.0.2"],
}
SERVICES = ["tcp/80", "tcp/80,81", "udp/53", "ping"]
WORDS = st.sampled_from(["any", "a", "b", "10.0.0.2", "10.0.1.2", "192.0.2.8", "10.0.0.0/31"])
ENTRY = st.builds(
    "    {} {} {} to {}\n".format,
    st.sampled_from(["permit", "deny"]),
    st.sampled_from([*SERVICES, "tcp", "ip"]),
    WORDS,
    WORDS,
)


@settings(max_examples=60)
@given(
    st.lists(ENTRY, max_size=3),
    st.lists(ENTRY, max_size=2),
    st.sampled_from(SERVICES),
    st.sampled_from(["permit", "deny"]),
)
def test_a_cell_is_the_fates_of_all_its_pairs(
    tmp_path: Path, one: list[str], other: list[str], service: str, otherwise: str
) -> None:
    path = tmp_path / "grid.gate"
    lists = (
        f"list l extended ipv4\n{''.join(one)}    otherwise {otherwise}\nlist m extended "
        f"ipv4\n{''.join(other)}    otherwise permit\n"
    )
    path.write_text(NET + lists + "place l inbound on r.a\nplace m outbound on r.b\n")
    session = Session(read_plan(path))
    grid, tracer = SetGrid(session, When(NOON)), Tracer(session.network)
    for source, destination in product(MACHINES, MACHINES):
        (cell,) = grid.cell(source, destination, [service])
        expected = {
            tracer.trace(conversation).verdict
            for sender in MACHINES[source]
            for receiver in MACHINES[destination]
            if sender != receiver
            for start, end in pairs(session.network, sender, receiver)
            for conversation in conversations(
                session.plan.service(service, Family.IPV4), start, end
            )
        }
        told = cell.verdicts().get(Family.IPV4, ())
        assert told == (
            () if not expected else tuple(expected) if len(expected) == 1 else (Verdict.SOME,)
        ), (source, destination)


def test_what_has_no_way_no_family_and_no_answer(plan_of: Read) -> None:
    plan = plan_of(NET + "subnet six 2001:db8::/64\n")
    grid = SetGrid(Session(plan), When(NOON))
    assert [cell.verdicts() for cell in grid.cell("a", "lonely", ["ping"])] == [
        {Family.IPV4: (Verdict.UNROUTABLE,)}
    ]
    assert [cell.verdicts() for cell in grid.cell("a", "six", ["ping", "tcp/80"])] == [{}, {}]


def test_what_is_given_up_is_named_and_has_no_verdict(plan_of: Read) -> None:
    from crossgate.core.sets.effort import allow

    plan = plan_of(
        NET
        + (
            "list l extended ipv4\n    10 permit tcp/-1000 any to any\n    20 deny tcp any to "
            "10.0.1.2\nplace l inbound on r.a\n"
        )
    )
    missed: list[TooManyPieces] = []
    allow(1)
    try:
        (cell,) = SetGrid(Session(plan), When(NOON), missed).cell("a", "b", ["tcp/900-1100"])
    finally:
        allow(1_000_000)
    assert cell.verdicts() == {}
    assert "what a sends to b of tcp/900-1100" in missed[0].message


SIDES = """subnet one 10.0.1.0/24
subnet two 10.0.2.0/24
router left
    interface one 10.0.1.1/24
    interface two 10.0.2.1/24
router right
    interface one 10.0.1.2/24
    interface two 10.0.2.2/24
list wall extended ipv4
    10 deny ip any to 10.0.2.128/25
    20 permit ip any to any
place wall inbound on right.one
"""


def test_what_varies_with_the_path_goes_before_what_is_so_of_some(plan_of: Read) -> None:
    grid = SetGrid(Session(plan_of(SIDES)), When(NOON))
    ends = (("one", "two"), ("one", "10.0.2.128/25"), ("one", "10.0.2.0/25"))
    told = [
        cell.verdicts()[Family.IPV4]
        for one, other in ends
        for cell in grid.cell(one, other, ["ping"])
    ]
    assert told == [(Verdict.VARIES,), (Verdict.VARIES,), (Verdict.PERMITTED,)]
