"""Lists that permit no more than claims need: every claim holds, and no line can go."""

from __future__ import annotations

from pathlib import Path
from random import Random

import pytest

from crossgate.core.answers.verify import Verifier
from crossgate.core.audit import audit
from crossgate.core.model.entry import Action
from crossgate.core.model.errors import PlanError
from crossgate.core.model.finding_kinds import Severity
from crossgate.core.model.plan import Plan
from crossgate.core.traffic.session import Session
from crossgate.language.change import propose
from crossgate.language.draft import Draft
from crossgate.language.edits import drop_entry, find_list
from crossgate.language.least import least
from crossgate.language.reader import Reading, read
from tests.conftest import Run
from tests.core.audit.test_findings import NOW

SITE = """subnet one 10.1.0.0/24{six[1]}
subnet two 10.2.0.0/24{six[2]}
subnet three 10.3.0.0/24{six[3]}
subnet spine 10.9.0.0/29{six[9]}
outside net
router r1{kind}
    interface a 10.1.0.1/24{addresses[1]}
    interface up 10.9.0.1/29{addresses[9]}
router r2
    interface b 10.2.0.1/24{addresses[2]}
    interface c 10.3.0.1/24{addresses[3]}
    interface up 10.9.0.2/29{addresses[8]}
router edge
    interface up 10.9.0.3/29{addresses[7]}
    interface w 192.0.2.2/30 on net
    route default via 192.0.2.1
host h1 10.1.0.9
host h2 10.2.0.9
host h3 10.3.0.9
"""
CLAIMS = (
    "permit https h1 to two",
    "permit domain one to h2",
    "permit ping one to three",
    "deny ssh one to two",
    "permit tcp/22 h3 to one",
    "permit https one to net over ipv4",
    "permit https net to h3 over ipv4",
    "permit udp/500 three to two",
    "deny udp two to one",
    "permit gre h2 to h3",
)


def site(claims: list[str], kind: str = "", six: bool = False) -> str:
    nets = {number: f" 2001:db8:{number}::/64" if six else "" for number in (1, 2, 3, 9)}
    hosts = {
        number: f" 2001:db8:{number if number < 7 else 9}::{1 if number < 7 else number}/64"
        if six
        else ""
        for number in (1, 2, 3, 7, 8, 9)
    }
    return SITE.format(six=nets, addresses=hosts, kind=kind) + "".join(
        f"expect {each}\n" for each in claims
    )


def written(path: Path, text: str) -> Reading:
    path.write_text(text)
    reading = read(path)
    proposal = propose(reading, least(reading), NOW)
    assert not proposal.errors
    assert not proposal.refused
    return reading.changed(proposal.new)


def held(plan: Plan) -> list[bool]:
    verifier = Verifier(Session(plan))
    return [verifier.verify(each).held for each in plan.expectations]


@pytest.mark.parametrize("seed", range(6))
@pytest.mark.parametrize("kind", ["", " stateful"])
def test_every_claim_holds_and_no_line_can_go(tmp_path: Path, seed: int, kind: str) -> None:
    chance = Random(seed)
    claims = chance.sample(CLAIMS, chance.randint(2, 6))
    claims += (
        ["permit https h1 to h3"] if not any(each.startswith("permit") for each in claims) else []
    )
    six = seed % 2 == 1
    reading = written(tmp_path / "p.gate", site(claims, kind, six))
    plan = reading.plan
    assert all(held(plan)), claims
    lines = 0
    for access_list in plan.lists.values():
        for entry in access_list.entries:
            if (
                access_list.family == 6 and "icmp/" in entry.text
            ) or entry.action is not Action.PERMIT:
                continue  # what every IPv6 list needs, and what keeps any from meaning the inside
            lines += 1
            draft = Draft(reading)
            drop_entry(draft, find_list(plan, access_list.name), entry)
            assert not all(held(reading.changed(draft.result()).plan)), (
                f"{access_list.name} {entry.text} can go"
            )
    assert (
        lines <= sum(3 if "domain" in each else 2 for each in claims) + 2
    )  # over TCP and UDP, and the denials before what is any
    assert [
        each.name
        for each in audit(Session(plan), NOW).findings
        if each.severity is not Severity.NOTE
    ] == []


def test_what_an_outside_is_called_in_a_list_opens_nothing_inside(tmp_path: Path) -> None:
    reading = written(tmp_path / "p.gate", site(["permit https one to net"]))
    lines = [each.text for each in reading.plan.lists["r1-a-in"].entries]
    assert lines == ["deny ip one to inside", "permit https one to any"]
    with_claim = written(
        tmp_path / "p.gate",
        site(["permit https one to net", "deny https one to two", "permit domain one to h3"]),
    )
    assert [each.text for each in with_claim.plan.lists["r1-a-in"].entries] == [
        "permit domain one to h3",
        "deny ip one to inside",
        "permit https one to any",
    ]
    assert with_claim.plan.groups["inside"].text == "one, two, three, spine"


@pytest.mark.parametrize("claim", ["only https one to elsewhere", "permit https one to any"])
def test_what_is_meant_for_everybody_is_not_kept_from_the_inside(
    tmp_path: Path, claim: str
) -> None:
    plan = written(tmp_path / "p.gate", site([claim, "permit ssh h2 to h3"])).plan
    assert [each.text for each in plan.lists["r1-a-in"].entries] == ["permit https one to any"]
    assert held(plan) == [True, True]


def test_where_a_list_stands_nothing_is_written_and_that_is_told(run: Run, tmp_path: Path) -> None:
    standing = "list own extended ipv4\n    permit ip any to any\nplace own inbound on r1.a\n"
    (tmp_path / "p.gate").write_text(site(["permit https h2 to h3"]) + standing)
    done = run("mend", "--least", "--write")
    assert done.returncode == 0, done.stdout + done.stderr
    assert "a list stands already where one comes in; it is left as it is" in done.stdout
    assert set(read(tmp_path / "p.gate").plan.lists) == {"own", "r2-b-in", "r2-c-in"}
    assert run("verify").returncode == 0
    (tmp_path / "p.gate").write_text(site(["deny https h2 to h3"]))
    assert "expects nothing to be permitted" in run("mend", "--least").stderr
    assert "leave LINE, FINDING" in run("mend", "--least", "--all").stderr
    path = tmp_path / "q.gate"
    standing = (
        "list l standard ipv4\n    permit any\nplace l inbound on r.a\nexpect permit ssh h to a\n"
    )
    path.write_text(
        "subnet a 10.0.0.0/24\nrouter r\n    interface a 10.0.0.1/24\nhost h 10.0.0.5\n" + standing
    )
    reading = read(path)
    with pytest.raises(PlanError, match="stand already wherever"):
        least(reading)
