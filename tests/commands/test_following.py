"""Lists that follow a machine: placed on a host or a group, asked wherever the machine is."""

from __future__ import annotations

from pathlib import Path

import pytest

from crossgate.core.model.address import Family
from crossgate.core.model.network import Direction, Point, PointKind
from crossgate.draw.layout import laid_out
from tests.conftest import Ask, Read, Run

PLAN = """\
subnet berth 10.64.32.0/24
subnet hall 10.64.8.0/24
router pier
    interface b 10.64.32.1/24 on berth
    interface h 10.64.8.1/24 on hall
switch jetty
    port 1
    port 2
    port 3
host camera-1 10.64.32.71 on berth at jetty.1
host camera-2 10.64.32.72 on berth at jetty.2
host both 10.64.32.73 10.64.32.90 on berth
host gate 10.64.32.10 on berth
host duty 10.64.8.40 on hall
group cameras 10.64.32.71-10.64.32.73
list camera-only extended ipv4
    10 permit tcp any to duty established
list camera-door extended ipv4
    10 permit tcp/554 duty to any
"""
FOLLOWED = (
    PLAN
    + "place camera-only inbound on group cameras\nplace camera-door outbound on host camera-1\n"
)


def test_a_group_stands_for_the_hosts_that_lie_in_it(plan_of: Read) -> None:
    plan = plan_of(FOLLOWED)
    assert plan.followed == {"camera-1", "camera-2"}  # one address of `both` is elsewhere
    assert plan.points_of(Point(PointKind.GROUP, "cameras"), Family.IPV6) == ()
    assert [each.name for each in plan.lists_on("camera-1")] == ["camera-only", "camera-door"]
    assert (
        [each.name for each in plan.lists_on("host camera-2")]
        == [each.name for each in plan.lists_on("cameras")]
        == ["camera-only"]
    )
    assert list(plan.places_of(plan.lists["camera-only"])) == [
        (Point(PointKind.HOST, name), Direction.INBOUND) for name in ("camera-1", "camera-2")
    ]


@pytest.mark.parametrize("port", ["jetty.1", "jetty.3"])
def test_it_is_asked_first_and_last_wherever_the_machine_is(
    run: Run, answer: Ask, tmp_path: Path, port: str
) -> None:
    (tmp_path / "a.gate").write_text(FOLLOWED.replace("jetty.1", port))
    legs = answer("trace", "duty", "camera-1", "tcp/554")["conversations"][0]["legs"]
    assert legs[0]["crossings"][-1]["point"] == "host camera-1"
    assert [each["point"] for each in legs[1]["crossings"][:2]] == ["host camera-1", port]
    assert run("trace", "duty", "camera-1", "tcp/554", "--expect", "permit").returncode == 0
    told = run("trace", "camera-1", "gate", "ping", "--expect", "deny")  # inside its own subnet too
    assert told.returncode == 0
    assert "host camera-1" in told.stdout
    # Whatever address it claims, and whatever machine of its subnet asks it.
    assert (
        run(
            "trace", "camera-1", "duty", "ping", "--as", "10.64.32.10", "--expect", "deny"
        ).returncode
        == 0
    )
    assert run("trace", "gate", "camera-1", "tcp/554", "--expect", "deny").returncode == 0
    assert run("trace", "gate", "both", "tcp/554", "--expect", "permit").returncode == 0


@pytest.mark.parametrize(
    ("line", "problem"),
    [
        (
            "place camera-door inbound on host camera-1",
            "host camera-1 inbound has the ipv4 list camera-only (line 20) already",
        ),
        (
            "place camera-only outbound on group cameras",
            "host camera-1 outbound has the ipv4 list camera-door (line 21) already",
        ),
        ("place camera-door inbound on host camera-3", "no host camera-3; there is camera-2"),
        ("place camera-door inbound on group camera", "no group camera; there is cameras"),
        ("place camera-door inbound on cameras", "cameras is a group; write group cameras"),
        ("place camera-door inbound on gate", "gate is a host; write host gate"),
        ("place camera-door inbound on host cameras", "cameras is a group; a host is needed here"),
    ],
)
def test_a_wrong_place_is_told_with_its_mend(
    run: Run, tmp_path: Path, line: str, problem: str
) -> None:
    (tmp_path / "a.gate").write_text(FOLLOWED + line + "\n")
    told = run("check")
    assert told.returncode == 2
    assert problem in told.stderr, told.stderr


def test_edits_place_and_lift_it(run: Run, tmp_path: Path) -> None:
    path = tmp_path / "a.gate"
    path.write_text(PLAN)
    assert run("place", "camera-only", "inbound", "group", "cameras", "--yes").returncode == 0
    assert path.read_text().endswith("\nplace camera-only inbound on group cameras\n")
    refused = run("place", "camera-door", "inbound", "host camera-2", "--yes")
    assert refused.returncode == 2
    assert "first: crossgate lift camera-only inbound group cameras" in refused.stderr
    assert run("lift", "camera-only", "inbound", "group", "cameras", "--yes").returncode == 0
    assert "place" not in path.read_text()


def test_what_it_changes_is_told_for_the_machines_alone(
    run: Run, answer: Ask, tmp_path: Path
) -> None:
    (tmp_path / "a.gate").write_text(FOLLOWED)
    (tmp_path / "b.gate").write_text(PLAN)
    changed = answer("compare", "a.gate", "b.gate", status=1)["differences"]
    assert {each["is"]["verdict"] for each in changed} == {"permitted"}
    for packet in (each["packet"] for each in changed):
        assert {packet["source"], packet["destination"]} & {"10.64.32.71", "10.64.32.72"}, packet
    (tmp_path / "b.gate").unlink()
    (reached,) = answer("reach", "both", "duty")["answers"]
    assert [part["verdict"] for part in reached["parts"]] == ["permitted"]


def test_the_same_at_the_port_is_a_finding(answer: Ask, tmp_path: Path) -> None:
    path = tmp_path / "a.gate"
    again = (
        "list again extended ipv4\n    10 permit tcp any to duty established\nplace again "
        "inbound on jetty.1\n"
    )
    path.write_text(FOLLOWED + again)
    found = [
        each for each in answer("check", status=0)["findings"] if each["finding"] == "asked-twice"
    ]
    assert [each["list"] for each in found] == ["again"]
    path.write_text(FOLLOWED + again.replace("established", ""))
    assert "asked-twice" not in {each["finding"] for each in answer("check", status=0)["findings"]}


def test_neighbour_discovery_has_to_pass_it(answer: Ask, tmp_path: Path) -> None:
    text = PLAN.replace("10.64.32.0/24", "10.64.32.0/24 2001:db8:32::/64", 1).replace(
        "10.64.32.71 on", "10.64.32.71 2001:db8:32::71 on"
    )
    (tmp_path / "a.gate").write_text(
        text
        + (
            "list six extended ipv6\n    10 permit tcp any to any\nplace six inbound on host "
            "camera-1\n"
        )
    )
    assert "neighbour-blocked" in {
        each["finding"] for each in answer("check", status=0)["findings"]
    }


def test_it_goes_out_as_filter_rules_and_is_drawn_beside_the_machine(
    run: Run, plan_of: Read, tmp_path: Path
) -> None:
    plan = plan_of(FOLLOWED)
    (tmp_path / "a.gate").write_text(FOLLOWED)
    (tmp_path / "test.gate").unlink()
    told = run("export", "nas-filter-rule", "camera-only")
    assert told.stdout.startswith("permit in 6 from 0.0.0.0/0 to 10.64.8.40 established\n")
    gates = {(str(each.point), each.list) for each in laid_out(plan).gates}
    assert gates == {
        ("host camera-1", "camera-only"),
        ("host camera-1", "camera-door"),
        ("host camera-2", "camera-only"),
    }
