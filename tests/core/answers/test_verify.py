"""What must hold: every word of a claim, and what a failed one is told."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from crossgate.core.answers.verify import Verified, Verifier
from crossgate.core.impact import impact_of
from crossgate.core.model.accesslist import DeciderKey
from crossgate.core.model.plan import Plan
from crossgate.core.traffic.session import Session

Read = Callable[[str], Plan]

NET = """
subnet hall   10.64.8.0/24  2001:db8:64:8::/64
subnet office 10.64.20.0/24 2001:db8:64:14::/64
outside sea
router gate
    interface hall   10.64.8.1/24   2001:db8:64:8::1/64   on hall
    interface office 10.64.20.1/24  2001:db8:64:14::1/64  on office
    interface sea    203.0.113.2/30 on sea
host kiosk  10.64.8.21  2001:db8:64:8::21  on hall
host server 10.64.20.10 2001:db8:64:14::10 on office
host old    10.64.20.11 on office
host far    198.51.100.7 on sea
group both  kiosk, server
service web tcp/80, tcp/443
window night daily 22:00-06:00
window feast 2026-12-24 00:00 to 2026-12-27 00:00
list fence extended ipv4
    10 permit web hall to server
    20 permit udp/53 hall to office source port 40000-
    30 reject tcp/23 any to any
    40 permit ping hall to office during night
    50 permit tcp/22 kiosk to server during feast
    otherwise deny
place fence inbound on gate.hall
"""


def verified(plan_of: Read, claim: str) -> Verified:
    plan = plan_of(NET + claim + "\n")
    (expectation,) = plan.expectations
    return Verifier(Session(plan)).verify(expectation)


@pytest.mark.parametrize(
    ("claim", "held"),
    [
        ("expect permit web kiosk to server", True),
        ("expect permit web hall to server over ipv4", True),
        ("expect permit web hall to office over ipv4", False),
        ("expect permit web hall to office over ipv6", True),
        ("expect permit web hall to office", False),
        ("expect deny tcp/22 hall to office over ipv4", False),
        ("expect deny tcp/22 hall to office at 2026-12-01 12:00 over ipv4", True),
        ("expect permit tcp/22 kiosk to server at 2026-12-25 12:00 over ipv4", True),
        ("expect deny tcp/22 hall to old over ipv4", True),
        ("expect permit ping kiosk to server over ipv4", False),
        ("expect permit ping kiosk to server at mon 23:00 over ipv4", True),
        ("expect permit ping kiosk to server at mon 06:00 over ipv4", False),
        ("expect deny ping kiosk to server at mon 06:00 over ipv4", True),
        ("expect permit udp/53 kiosk to old over ipv4", False),
        ("expect permit udp/53 kiosk to old source port 50000", True),
        ("expect deny udp/53 kiosk to old source port 33000", True),
        ("expect deny ip any to old over ipv4", False),
        ("expect deny gre hall to sea over ipv4", True),
        ("expect permit web sea to server over ipv4", True),
        ("expect deny tcp/23 kiosk to far by fence 30", True),
        ("expect deny tcp/23 kiosk to far by fence otherwise", False),
        ("expect deny gre kiosk to far by fence otherwise", True),
        ("expect permit web kiosk to server over ipv4 by fence 10", True),
        ("expect permit web kiosk to server over ipv4 by fence 20", False),
        ("expect half-open web server to kiosk over ipv4", True),
        ("expect permit web server to kiosk source port 80 over ipv4", True),
        ("expect deny web 10.64.8.0/25 to 10.64.20.128-10.64.20.200", True),
        ("expect permit web both to server over ipv4", True),
        ("expect permit ping hall to hall", True),
        ("expect deny icmp/3 hall to office over ipv4", True),
        ("expect permit ping gate to old", True),
        ("expect permit ping gate.office to old", True),
        ("keep deny web kiosk to far", True),
    ],
)
def test_a_claim_is_proved_or_not(plan_of: Read, claim: str, held: bool) -> None:
    result = verified(plan_of, claim)
    assert result.held is held, result.why
    assert bool(result.why) is not held
    assert (result.counterexample is None) is held


@pytest.mark.parametrize(
    ("claim", "why", "needed"),
    [
        (
            "expect permit tcp/22 kiosk to old over ipv4",
            (
                "is denied: fence has no entry for it, so its otherwise line denies it on the way "
                "into gate.hall"
            ),
            "in list fence, at the end: 60 permit tcp/22 kiosk to old",
        ),
        (
            "expect deny web kiosk to server over ipv4",
            "is permitted: fence 10 permits it on the way into gate.hall",
            "in list fence, before 10: 5 deny web kiosk to server",
        ),
        (
            "expect deny web old to far",
            "is permitted",
            "nothing is placed there; see: crossgate points old far",
        ),
        (
            "expect permit tcp/23 kiosk to far",
            "is denied: fence 30 rejects it",
            "in list fence, before 30: 25 permit tcp/23 kiosk to far",
        ),
        (
            "expect permit ping kiosk to server over ipv4",
            "while no window is open",
            "in list fence, at the end: 60 permit ping kiosk to server",
        ),
        (
            "expect deny tcp/22 kiosk to server over ipv4",
            "while feast is open",
            "in list fence, before 50: 45 deny tcp/22 kiosk to server",
        ),
        (
            "expect permit web kiosk to server over ipv4 by fence 20",
            "entry 20 of fence has no part in it",
            "change the entry that decides",
        ),
        (
            "expect permit web old to kiosk over ipv6",
            "share no address family over IPv6",
            "addresses of one family",
        ),
        (
            "expect permit web kiosk to kiosk",
            "kiosk and kiosk are one machine",
            "another machine at one of its ends",
        ),
        (
            "expect permit web kiosk to 10.64.8.21",
            "kiosk and 10.64.8.21 are one machine",
            "another machine at one of its ends",
        ),
        (
            "expect permit web old to old over ipv6",
            "share no address family over IPv6",
            "addresses of one family",
        ),
    ],
)
def test_a_failed_claim_is_told_why_and_what_it_needs(
    plan_of: Read, claim: str, why: str, needed: str
) -> None:
    result = verified(plan_of, claim)
    assert why in result.why
    assert needed in result.needed


def test_unroutable_is_no_denial(plan_of: Read) -> None:
    text = (
        "subnet a 10.1.0.0/24\nsubnet b 10.2.0.0/24\nhost one 10.1.0.9 on a\nhost two 10.2.0.9 "
        "on b\nexpect deny ping one to two\n"
    )
    plan = plan_of(text)
    result = Verifier(Session(plan)).verify(plan.expectations[0])
    assert not result.held
    assert "is unroutable" in result.why
    assert result.needed == "a route there and back"


def test_addresses_that_nobody_can_have_are_told_so(plan_of: Read) -> None:
    plan = plan_of(
        "subnet a 10.1.0.0/24\nhost one 10.1.0.9 on a\nexpect deny ping 192.0.2.1 to one\n"
    )
    result = Verifier(Session(plan)).verify(plan.expectations[0])
    assert (result.held, result.why) == (False, "nobody can have 192.0.2.1: no subnet holds it")


def test_what_no_expectation_reached_is_told(plan_of: Read) -> None:
    plan = plan_of(NET + "expect permit web kiosk to server over ipv4\n")
    verifier = Verifier(Session(plan))
    assert verifier.verify(plan.expectations[0]).held
    assert [entry.number for _, entry in verifier.unreached()] == [20, 30, 40, 50]
    assert verifier.reached[DeciderKey("fence", 10)] > 0


def test_an_impact_tells_what_a_change_turns(plan_of: Read) -> None:
    from datetime import datetime

    claims = (
        "expect permit web kiosk to server over ipv4\nexpect deny tcp/23 kiosk to far by "
        "fence 30\nexpect permit gre kiosk to far\n"
    )
    old = plan_of(NET + claims)
    new = plan_of(
        NET.replace("10 permit web", "10 permit gre any to any\n    15 deny web") + claims
    )
    found = impact_of(Session(old), Session(new), datetime(2026, 12, 1, 12))
    assert [(each.now.expectation.text, each.held, each.now.held) for each in found.turned] == [
        ("expect permit web kiosk to server over ipv4", True, False),
        ("expect permit gre kiosk to far", False, True),
    ]
    assert [each.expectation.text for each in found.broken] == [
        "expect permit web kiosk to server over ipv4"
    ]
    assert {str(each.now.verdict) for each in found.differences} >= {"permitted", "denied"}
    assert [finding.name for finding in found.findings] == ["no-effect"]
    same = impact_of(Session(old), Session(plan_of(NET + claims)), datetime(2026, 12, 1, 12))
    assert same == ([], [], [], [], [], [])


def test_two_lines_that_say_the_same_are_each_told_with_its_own_place(plan_of: Read) -> None:
    claim = "expect permit tcp/23 kiosk to server\n"
    plan = plan_of(NET + claim + claim)
    session = Session(plan)
    first, second = Verifier(session), Verifier(session)
    told = [first.verify(each) for each in plan.expectations]
    assert all(each.expectation is own for each, own in zip(told, plan.expectations, strict=True))
    assert [each.held for each in told] == [False, False]
    # What one has found of a session another need not look for again, and counts all the same.
    assert second.verify(plan.expectations[1]).broken is told[0].broken
    assert {key: 2 * count for key, count in second.reached.items()} == dict(first.reached)
