"""What opens a conversation on one link only, in lines that say which services get through."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st

from crossgate.core.answers.reach import reach
from crossgate.core.conversation.opening import conversations
from crossgate.core.conversation.packets import Tracer
from crossgate.core.model import iana
from crossgate.core.model.address import Family
from crossgate.core.model.conditions import When
from crossgate.core.model.plan import Plan
from crossgate.core.network.endpoints import pairs
from crossgate.core.network.ways import Network
from crossgate.core.sets.meaning import meaning_of
from crossgate.core.traffic.session import Session
from crossgate.core.wording.services import Sort
from crossgate.core.wording.sets import Wording
from tests.core.wording.test_sets import slow

Read = Callable[[str], Plan]
WHEN = When(datetime(2026, 11, 30, 12))
NEAR = sorted(iana.ANSWERED_ON_LINK[58])
ANSWERED = sorted({*iana.ANSWERED[58], *NEAR})
PLAN = """
subnet a 2001:db8:1::/64
subnet b 2001:db8:2::/64
router r
    interface a 2001:db8:1::1/64
    interface b 2001:db8:2::1/64
switch s
    port 1
    port 2
host h 2001:db8:1::5 on a at s.1
host k 2001:db8:1::6 on a at s.2
host far 2001:db8:2::5 on b
list p extended ipv6
{}
place p {}
"""


def has(plan: Plan, words: str, kind: int) -> bool:
    """Whether services have an ICMPv6 message, as somebody reads them."""
    taken, _, left_out = words.partition(" but ")

    def among(several: str) -> bool:
        return any(
            term.protocol in (None, 58) and term.icmp_type in (None, kind)
            for each in several.replace(" and ", ", ").split(", ")
            for term in plan.service(each, Family.IPV6).terms
        )

    return among(taken) and not (left_out and among(left_out))


@slow
@given(
    kinds=st.sets(st.sampled_from(ANSWERED)),
    action=st.sampled_from(["permit", "deny"]),
    more=st.sampled_from(["", "    permit tcp/443 any to any\n", "    permit icmp any to any\n"]),
    place=st.sampled_from(["inbound on s.1", "outbound on r.b"]),
    to=st.sampled_from(["k", "far", "a", "any"]),
)
def test_a_line_has_just_the_messages_that_are_treated_so(
    plan_of: Read, kinds: set[int], action: str, more: str, place: str, to: str
) -> None:
    entries = "".join(f"    {action} icmp/{kind} any to any\n" for kind in sorted(kinds))
    plan = plan_of(PLAN.format(entries + more + "    otherwise deny", place))
    network, wording = Network(plan), Wording(plan)
    (found,) = (each for each in reach(Session(plan), "h", to, WHEN, None) if not each.devices)
    told = [(part.verdict, wording.rows(part.lines, Sort.OPENING)) for part in found.parts]
    tracer = Tracer(network, plan.state_at(WHEN))
    for name, kinds_there in (("k", ANSWERED), ("far", sorted(iana.ANSWERED[58]))):
        ends = pairs(network, "h", name)[0]
        meant = meaning_of(plan, to)
        if meant is None or not meant.has(ends[1].address):
            continue
        for kind in kinds_there:
            (one,) = conversations(plan.service(f"icmp/{kind}", Family.IPV6), *ends)
            said = {
                verdict
                for verdict, rows in told
                for words, source, destination in rows
                if has(plan, words, kind)
                and all(
                    (meaning := meaning_of(plan, word)) is not None and meaning.has(end.address)
                    for word, end in zip((source, destination), ends, strict=True)
                )
            }
            assert said == {tracer.trace(one).verdict}, (name, kind, told)


@pytest.mark.parametrize(
    ("entry", "written"),
    [
        ("permit icmp/135 any to any", ["ip but icmp/135"]),
        ("permit near any to any", ["ip but icmp/133, icmp/135, icmp/141"]),
        ("permit tcp/443 any to any", ["ip but tcp/443"]),
    ],
)
def test_it_is_left_out_where_it_is(plan_of: Read, entry: str, written: list[str]) -> None:
    services = "service near icmp/133, icmp/135, icmp/141\n"
    plan = plan_of(services + PLAN.format(f"    {entry}\n    otherwise deny", "inbound on s.1"))
    (found,) = (each for each in reach(Session(plan), "h", "k", WHEN, None) if not each.devices)
    denied = next(each for each in found.parts if each.verdict == "denied")
    assert [row[0] for row in Wording(plan).rows(denied.lines, Sort.OPENING)] == written
