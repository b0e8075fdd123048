"""Isolated ports and subnets, and lists of hosts that remember: networks that decide one sentence
of docs/language.md each.
"""

from __future__ import annotations

from collections.abc import Callable

import pytest

import crossgate
from crossgate import Verdict
from crossgate.core.model.errors import PlanErrors
from crossgate.core.model.plan import Plan
from crossgate.core.network.failure import FailureKind

Read = Callable[[str], Plan]
PLAN = """subnet hall 10.0.8.0/24{subnet}
subnet office 10.0.20.0/24
router gate
    interface hall 10.0.8.1/24 at floor.up
    interface office 10.0.20.1/24
switch floor
    port up
    port 1{one}
    port 2{two}
    port 3{three}
    port far to roof.far
switch roof
    port far
    port 1{roof}
host kiosk 10.0.8.21 at floor.1
host laptop 10.0.8.22 at floor.2
host till 10.0.8.23 at floor.3
host sign 10.0.8.24 at roof.1
host guest 10.0.8.25
host box 10.0.20.10
"""
ISOLATED = {"subnet": "", "one": " isolated", "two": " isolated", "three": "", "roof": " isolated"}


def verdict(plan: Plan, source: str, destination: str) -> Verdict:
    (trace,) = crossgate.trace(plan, source, destination, "ssh")
    return trace.verdict


@pytest.mark.parametrize(
    ("source", "destination", "reached"),
    [
        ("kiosk", "laptop", False),
        ("laptop", "sign", False),
        ("kiosk", "till", True),
        ("till", "kiosk", True),
        ("kiosk", "guest", True),
        ("kiosk", "box", True),
        ("box", "kiosk", True),
        ("kiosk", "gate", True),
        ("gate", "sign", True),
    ],
)
def test_machines_at_isolated_ports_get_no_frame_of_each_other(
    plan_of: Read, source: str, destination: str, reached: bool
) -> None:
    plan = plan_of(PLAN.format(**ISOLATED))
    (trace,) = crossgate.trace(plan, source, destination, "ssh")
    assert (trace.verdict is Verdict.PERMITTED) is reached
    if not reached:
        failure = trace.legs[0].path.failure
        assert failure is not None
        assert failure == (
            FailureKind.ISOLATED,
            f"{source} and {destination} are isolated from each other on hall",
        )


def test_every_machine_of_an_isolated_subnet_is(plan_of: Read) -> None:
    plan = plan_of(PLAN.format(**dict.fromkeys(ISOLATED, "") | {"subnet": " isolated"}))
    for source, destination in (
        ("kiosk", "guest"),
        ("guest", "10.0.8.99"),
        ("till", "sign"),
        ("10.0.8.98", "10.0.8.99"),
    ):
        assert verdict(plan, source, destination) is Verdict.UNROUTABLE
    assert verdict(plan, "guest", "box") is Verdict.PERMITTED
    assert verdict(plan, "guest", "gate.hall") is Verdict.PERMITTED


def test_the_list_at_the_senders_port_is_asked_first(plan_of: Read) -> None:
    text = PLAN.format(**ISOLATED) + (
        "list l extended ipv4\n    deny ssh any to any\n    otherwise permit\nplace l inbound "
        "on floor.1\n"
    )
    plan = plan_of(text)
    assert verdict(plan, "kiosk", "laptop") is Verdict.DENIED
    assert verdict(plan, "laptop", "kiosk") is Verdict.UNROUTABLE


def test_claims_and_sets_know_it(plan_of: Read) -> None:
    claims = (
        "expect deny ip hall to hall\nexpect permit ping hall to box\nexpect only nothing "
        "hall to hall\n"
    )
    plan = plan_of(PLAN.format(**dict.fromkeys(ISOLATED, "") | {"subnet": " isolated"}) + claims)
    first, second, third = crossgate.verify(plan)
    assert not first.held
    assert "isolated from each other" in first.why
    assert second.held
    assert third.held
    (found,) = [each for each in crossgate.reach(plan, "hall", "hall", "ssh") if not each.devices]
    assert [part.verdict for part in found.parts] == [Verdict.UNROUTABLE]


@pytest.mark.parametrize(
    ("change", "message"),
    [
        (
            ("port up", "port up isolated"),
            "floor.up is isolated .line 7., and a device is behind it",
        ),
        (
            ("port far to roof.far", "port far to roof.far isolated"),
            "a cable to another switch carries the frames of all",
        ),
        (
            ("    port far\n", "    port far isolated\n"),
            "roof.far is isolated .line 13., and a device is behind it",
        ),
    ],
)
def test_what_cannot_be_isolated(plan_of: Read, change: tuple[str, str], message: str) -> None:
    with pytest.raises(PlanErrors, match=message):
        plan_of(PLAN.format(**ISOLATED).replace(*change, 1))


OWN = """list own-in extended ipv4
    permit ssh any to box
    otherwise deny
list own-out extended ipv4
    permit tcp/443 box to any
    otherwise deny
place own-in outbound on host box
place own-out inbound on host box
"""


def test_a_stateful_hosts_own_lists_remember_what_they_let_by_both_ways(plan_of: Read) -> None:
    plain = PLAN.format(**ISOLATED) + OWN
    remembering = plain.replace("host box 10.0.20.10", "host box 10.0.20.10 stateful")
    assert [verdict(plan_of(text), "kiosk", "box") for text in (plain, remembering)] == [
        Verdict.HALF_OPEN,
        Verdict.PERMITTED,
    ]
    for text, expected in ((plain, Verdict.HALF_OPEN), (remembering, Verdict.PERMITTED)):
        (trace,) = crossgate.trace(plan_of(text), "box", "kiosk", "https")
        assert trace.verdict is expected
    one_way = remembering.replace("place own-in outbound on host box\n", "")
    assert verdict(plan_of(one_way), "kiosk", "box") is Verdict.PERMITTED


def test_sets_and_columns_say_the_same_of_hosts_that_remember(plan_of: Read) -> None:
    claims = (
        "expect permit ssh hall to box\nexpect permit https box to till\nexpect deny telnet "
        "hall to box\n"
    )
    plan = plan_of(
        PLAN.format(**ISOLATED).replace("host box 10.0.20.10", "host box 10.0.20.10 stateful")
        + OWN
        + claims
    )
    assert [each.held for each in crossgate.verify(plan)] == [True, True, True]
    flows: dict[str, list[object]] = {
        "srcaddr": ["10.0.8.21", "10.0.20.10", "10.0.8.21"],
        "dstaddr": ["10.0.20.10", "10.0.8.23", "10.0.20.10"],
    }
    flows |= {
        "srcport": [50000] * 3,
        "dstport": [22, 443, 23],
        "protocol": [6] * 3,
        "packets": [5] * 3,
    }
    assert crossgate.replay(plan, flows)["verdict"].to_pylist() == [
        "permitted",
        "permitted",
        "denied",
    ]


def test_messages_say_to_and_from_a_host(plan_of: Read) -> None:
    from crossgate.core.wording.sentences import sentence

    plan = plan_of(PLAN.format(**ISOLATED) + OWN)
    (there,) = crossgate.trace(plan, "kiosk", "box", "telnet")
    assert "denies it on the way to host box" in sentence(there)
    (back,) = crossgate.trace(plan, "box", "kiosk", "telnet")
    assert "denies it on the way from host box" in sentence(back)
