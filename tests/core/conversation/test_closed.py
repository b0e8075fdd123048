"""Closed devices: what comes in at an interface without an inbound list is denied, as an empty list
would deny it.
"""

from __future__ import annotations

import random
import re
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import crossgate
from crossgate.core.answers.compare import differences
from crossgate.core.audit import audit
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.accesslist import ClosedPlace
from crossgate.core.model.address import Family
from crossgate.core.model.plan import Plan
from crossgate.core.traffic.session import Session
from tests.conftest import Ask, Run
from tests.core.network import reference

Read = Callable[[str], Plan]
PLAN = """outside net
subnet dmz 10.0.2.0/24 2001:db8:2::/64
subnet users 10.0.1.0/24 2001:db8:1::/64
router wall{words}
    interface dmz 10.0.2.1/24 2001:db8:2::1/64
    interface users 10.0.1.1/24 2001:db8:1::1/64
    interface net 203.0.113.1/30 on net
host web 10.0.2.10 2001:db8:2::10
host pc 10.0.1.10 2001:db8:1::10
list users-out extended ipv4
    permit tcp/80,443 users to any
    otherwise deny
place users-out inbound on wall.users
"""


def opened(text: str) -> str:
    """Return a plan without closed devices, with an empty list where these have none."""
    plan = crossgate.parse(text)
    lines = re.sub(
        r"^((?:router|switch) \S+.*?) closed", r"\1", text, flags=re.MULTILINE
    ).splitlines()
    for number, (point, direction, family) in enumerate(plan.closed):
        lines += [
            f"list shut{number} extended {family.word}",
            "    otherwise deny",
            f"place shut{number} {direction} on {point}",
        ]
    return "\n".join(lines) + "\n"


@settings(max_examples=7, deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(st.integers(0, 1 << 32))
def test_a_closed_device_does_what_empty_lists_would(seed: int) -> None:
    chance = random.Random(seed)
    text = re.sub(
        r"^(router \S+.*)$",
        lambda found: found[1] + " closed" * (chance.random() < 0.5),
        reference.network(seed),
        flags=re.MULTILINE,
    )
    closed, written = Session(crossgate.parse(text)), Session(crossgate.parse(opened(text)))
    assert differences(closed, written) == []
    names = [
        *list(closed.plan.hosts)[:5],
        *(name for name, each in closed.plan.devices.items() if each.interfaces),
    ][:8]
    for source, destination in ((one, other) for one in names for other in names if one != other):
        for service in ("tcp/80", "udp/53"):
            was, now = (
                fares(each.plan, source, destination, service) for each in (closed, written)
            )
            assert was == now, (seed, source, destination)


def fares(plan: Plan, source: str, destination: str, service: str) -> list[tuple[object, ...]]:
    """Return the verdict of a conversation in each family, on how many ways, and where it is
    stopped.
    """
    traces = crossgate.trace(plan, source, destination, service)
    return [(each.verdict, each.ways, each.decided and each.decided.crossing) for each in traces]


def test_verdicts_name_the_place(run: Run, answer: Ask, tmp_path: Path) -> None:
    (tmp_path / "p.gate").write_text(
        PLAN.format(words=" stateful closed")
        + "expect permit https pc to web\nexpect deny https web to pc\n"
    )
    traced = run("trace", "web", "pc", "https").stdout
    assert "wall.dmz is closed: no IPv4 list stands inbound there, so wall denies it" in traced
    (four, six) = answer("trace", "web", "pc", "https")["conversations"]
    assert [four["decided"][each] for each in ("point", "list", "closed", "entry")] == [
        "wall.dmz",
        None,
        True,
        None,
    ]
    assert six["legs"][0]["crossings"][-1]["closed"] is True
    assert "denied at wall.dmz, closed" in run("reach", "web", "pc").stdout
    assert (
        "needed: an ipv6 list inbound on wall.users with: permit https pc to web"
        in run("verify").stdout
    )
    assert run("mend", "--all", "--write", "--yes").returncode == 0
    assert run("verify").returncode == 0
    assert (
        "    10 permit https pc to web\n    otherwise deny\n" in (tmp_path / "p.gate").read_text()
    )


def test_what_a_stateful_closed_device_remembers_comes_back(plan_of: Read) -> None:
    for words, verdict in (
        (" stateful closed", Verdict.PERMITTED),
        (" closed", Verdict.HALF_OPEN),
        (" closed stateful", Verdict.PERMITTED),
    ):
        traces = crossgate.trace(
            plan_of(PLAN.format(words=words)), "pc", "web", "https", family=Family.IPV4
        )
        assert [each.verdict for each in traces] == [verdict]


def test_a_list_at_the_place_is_asked_instead_and_a_family_that_is_not_there_is_not_closed(
    plan_of: Read,
) -> None:
    plan = plan_of(PLAN.format(words=" closed"))
    assert sorted(each.name for each in plan.closed.values()) == [
        "wall.dmz, closed",
        "wall.dmz, closed",
        "wall.net, closed",
        "wall.users, closed",
    ]
    assert {each.family for each in plan.closed.values() if each.name.startswith("wall.users")} == {
        Family.IPV6
    }
    assert all(isinstance(each, ClosedPlace) for each in plan.closed.values())
    assert not plan_of(PLAN.format(words="")).closed


@pytest.mark.parametrize(("words", "found"), [("", ["one-family"]), (" stateful closed", [])])
def test_the_other_family_does_not_pass_a_closed_place(
    plan_of: Read, words: str, found: list[str]
) -> None:
    names = [
        each.name
        for each in audit(
            Session(plan_of(PLAN.format(words=words))), crossgate.when(plan_of("")).at
        ).findings
    ]
    assert [
        each for each in names if each in ("one-family", "unplaced", "nothing-permitted")
    ] == found
