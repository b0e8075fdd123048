"""Lists that stand within a subnet, asked about what goes between two of its machines."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest

import crossgate
from crossgate import Verdict
from crossgate.core.model.errors import PlanErrors
from crossgate.core.model.plan import Plan
from tests.conftest import Ask, Run

Read = Callable[[str], Plan]
PLAN = """subnet hall 10.0.8.0/24
subnet office 10.0.20.0/24
router gate{stateful}
    interface hall 10.0.8.1/24 at floor.up
    interface office 10.0.20.1/24
switch floor
    port up
    port 1
    port 2
host kiosk 10.0.8.21 at floor.1
host laptop 10.0.8.22 at floor.2
host guest 10.0.8.25
host box 10.0.20.10
list between extended ipv4
    10 permit ssh any to any
    20 permit tcp any to any established
    otherwise deny
place between within subnet hall
"""


def points(plan: Plan, source: str, destination: str, service: str = "ssh") -> list[list[str]]:
    (trace,) = crossgate.trace(plan, source, destination, service)
    return [
        [each.crossing.where for each in leg.asked if each.access_list is not None]
        for leg in trace.legs
    ]


def test_it_is_asked_once_about_each_packet_between_two_machines(plan_of: Read) -> None:
    plan = plan_of(PLAN.format(stateful=" stateful"))
    assert points(plan, "kiosk", "laptop") == [["within subnet hall"]] * 3
    assert points(plan, "guest", "kiosk", "telnet") == [["within subnet hall"]]
    (denied,) = crossgate.trace(plan, "guest", "kiosk", "telnet")
    assert denied.verdict is Verdict.DENIED


@pytest.mark.parametrize(
    ("source", "destination"),
    [("kiosk", "box"), ("box", "kiosk"), ("kiosk", "gate.hall"), ("gate.hall", "laptop")],
)
def test_what_meets_a_device_is_not_asked(plan_of: Read, source: str, destination: str) -> None:
    for leg in points(plan_of(PLAN.format(stateful="")), source, destination, "ping"):
        assert leg == []


def test_the_senders_own_list_and_port_come_first(plan_of: Read) -> None:
    more = """list own extended ipv4
    permit ip any to any
place own inbound on host kiosk
place own inbound on floor.1
place own outbound on floor.2
"""
    expected = ["inbound on host kiosk", "inbound on floor.1", "within subnet hall"]
    (syn, *_) = points(plan_of(PLAN.format(stateful="") + more), "kiosk", "laptop")
    assert syn == [*expected, "outbound on floor.2"]


def test_claims_comparisons_and_columns_know_it(plan_of: Read) -> None:
    claims = "expect permit ssh hall to hall\nexpect deny telnet hall to hall\n"
    plan = plan_of(PLAN.format(stateful="") + claims)
    assert [each.held for each in crossgate.verify(plan)] == [True, True]
    without = plan_of(PLAN.format(stateful="").replace("place between within subnet hall\n", ""))
    (difference, *_) = [each for each in crossgate.compare(without, plan) if not each.stray]
    assert difference.now.decided is not None
    assert difference.now.decided.crossing.where == "within subnet hall"
    flows: dict[str, list[object]] = {
        "srcaddr": ["10.0.8.21"] * 2,
        "dstaddr": ["10.0.8.22"] * 2,
        "srcport": [50000] * 2,
        "dstport": [22, 23],
        "protocol": [6] * 2,
        "packets": [3, 1],
    }
    told = crossgate.replay(plan, flows)["verdict"].to_pylist()
    assert told == ["permitted", "denied"]


@pytest.mark.parametrize(
    ("line", "message"),
    [
        ("place between within gate.hall", "expected subnet, not gate.hall"),
        ("place between within subnet hall", "subnet hall within has the ipv4 list between"),
        ("place between within subnet nowhere", "no subnet nowhere"),
    ],
)
def test_where_it_cannot_stand(plan_of: Read, line: str, message: str) -> None:
    with pytest.raises(PlanErrors, match=message):
        plan_of(PLAN.format(stateful="") + line + "\n")


def test_commands_write_and_show_it(run: Run, answer: Ask, tmp_path: Path) -> None:
    text = PLAN.format(stateful="").replace("place between within subnet hall\n", "")
    (tmp_path / "p.gate").write_text(text)
    suits = run("points", "guest", "10.0.8.77").stdout
    assert "an extended list suits within subnet hall" in suits
    assert "within" not in run("points", "guest", "box").stdout
    assert run("place", "between", "within", "subnet hall", "--yes").returncode == 0
    assert (tmp_path / "p.gate").read_text().endswith("place between within subnet hall\n")
    assert (
        "within is for a subnet's own machines"
        in run("place", "between", "within", "floor.1").stderr
    )
    assert "  within subnet hall" in run("lists", "between").stdout
    assert "on the way within subnet hall" in run("trace", "kiosk", "laptop", "telnet").stdout
    assert (
        answer("trace", "kiosk", "laptop", "telnet")["conversations"][0]["decided"]["direction"]
        == "within"
    )
    assert run("check").returncode in (0, 1)
    assert run("tidy", "--yes").returncode == 0
    drawn = run("draw", "network", "--path", "guest", "kiosk", "telnet", "--out", "p.svg")
    assert drawn.returncode == 0
    assert "gate-between-within-subnet-hall" in (tmp_path / "p.svg").read_text()
    refused = run("export", "nas-filter-rule", "between")
    assert "between stands within subnet hall; --direction" in refused.stderr
    refused = run("export", "nas-filter-rule", "between", "--direction", "within")
    assert "--direction inbound, from the terminal, or outbound" in refused.stderr
    assert run("export", "csv").stdout.count("within") == 1
    assert run("lift", "between", "within", "subnet hall", "--yes").returncode == 0
    assert "place" not in (tmp_path / "p.gate").read_text()


def test_a_denial_between_two_machines_of_a_subnet_is_mended_within_it(
    run: Run, tmp_path: Path
) -> None:
    network = PLAN.format(stateful="").partition("list between")[0]
    (tmp_path / "p.gate").write_text(network + "expect deny telnet guest to 10.0.8.77\n")
    proposed = run("mend")
    assert "new list hall-within, within subnet hall: deny telnet guest to" in proposed.stdout
    run("mend", "--take", "a", "--write")
    assert "place hall-within within subnet hall\n" in (tmp_path / "p.gate").read_text()
    assert run("verify").returncode == 0
