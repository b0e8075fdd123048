"""`gateway ADDRESS by POINT, POINT`: every answer holds whichever of the devices answers."""

from __future__ import annotations

from pathlib import Path

import pytest

from crossgate.core.model.plan import Plan
from crossgate.draw.layout import laid_out
from tests.conftest import Ask, Read, Run

PLAN = """\
subnet quay 192.0.2.0/28 2001:db8:c0::/64
subnet hall 10.64.8.0/24 2001:db8:8::/64
router breakwater
    interface quay 192.0.2.2/28 2001:db8:c0::2/64 on quay
    interface hall 10.64.8.2/24 2001:db8:8::2/64 on hall
router groyne
    interface quay 192.0.2.3/28 2001:db8:c0::3/64 on quay
    interface hall 10.64.8.3/24 2001:db8:8::3/64 on hall
{gateway}
host timetable 192.0.2.5 2001:db8:c0::5 on quay
host kiosk 10.64.8.21 2001:db8:8::21 on hall
list wall extended ipv4
    10 permit tcp/443 any to any
    20 permit tcp any to any established
list vrrp-wall extended ipv4
    10 permit vrrp 192.0.2.2 to 224.0.0.18
    otherwise deny
"""
GATEWAY = "gateway 192.0.2.1 2001:db8:c0::1 on quay by groyne.quay, breakwater.quay vrid 12"
WALLED = PLAN.format(gateway=GATEWAY) + "place wall inbound on groyne.quay\n"


def verdicts(answer: Ask, *words: str) -> list[str]:
    return [each["verdict"] for each in answer("trace", *words, "--all-paths")["conversations"]]


def test_a_machine_hands_its_packets_to_whichever_answers(
    run: Run, answer: Ask, tmp_path: Path
) -> None:
    (tmp_path / "a.gate").write_text(WALLED)
    # The first as written, not by name; with --all-paths each.
    first = answer("trace", "timetable", "kiosk", "ping", "-4")["conversations"][0]
    assert [each["point"] for each in first["legs"][0]["crossings"]] == [
        "subnet quay",
        "groyne.quay",
    ]
    assert (first["verdict"], first["varies"], first["ways"]) == ("denied", True, 2)
    assert sorted(verdicts(answer, "timetable", "kiosk", "ping", "-4")) == ["denied", "permitted"]
    assert verdicts(answer, "timetable", "kiosk", "https", "-4") == ["permitted"] * 2
    assert run("trace", "timetable", "kiosk", "ping", "-4", "--expect", "deny").returncode == 1
    cell = answer("grid", "ping", "--from", "timetable", "--to", "kiosk")
    assert "varies" in str(cell)


def test_a_machine_with_a_gateway_of_its_own_uses_that(
    run: Run, answer: Ask, tmp_path: Path
) -> None:
    own = WALLED.replace(
        "on quay\nhost kiosk", "on quay gateway 192.0.2.2 gateway 2001:db8:c0::1\nhost kiosk"
    )
    (tmp_path / "a.gate").write_text(own)
    assert verdicts(answer, "timetable", "kiosk", "ping") == ["permitted", "permitted"]
    told = run("trace", "timetable", "kiosk", "ping", "-6").stdout
    assert "permitted" in told


def test_traffic_to_the_address_arrives_at_each(run: Run, answer: Ask, tmp_path: Path) -> None:
    (tmp_path / "a.gate").write_text(
        WALLED
        + "expect permit ping timetable to 192.0.2.1\nexpect permit https kiosk to 192.0.2.1\n"
    )
    results = answer("verify", status=1)["expectations"]
    assert [each["held"] for each in results] == [False, True]
    assert sorted(verdicts(answer, "timetable", "192.0.2.1", "ping")) == ["denied", "permitted"]
    # What it sends comes from either, too; the answer to it is taken by whichever it comes to, and
    # never handed on over quay.
    assert set(verdicts(answer, "192.0.2.1", "kiosk", "ping")) == {"permitted"}
    assert run("trace", "timetable", "192.0.2.1", "ping", "--expect", "permit").returncode == 1


def test_one_of_them_down_leaves_the_other(answer: Ask, tmp_path: Path) -> None:
    claims = (
        "expect permit ping timetable to kiosk over ipv4\nexpect permit ping timetable to "
        "192.0.2.1\n"
    )
    (tmp_path / "a.gate").write_text(WALLED + claims)
    held = [each["held"] for each in answer("verify", "--without", "groyne")["expectations"]]
    assert held == [True, True]
    assert not any(
        each["held"]
        for each in answer("verify", "--without", "breakwater", status=1)["expectations"]
    )


@pytest.mark.parametrize(
    ("line", "problem"),
    [
        (
            "gateway 192.0.2.1 on quay by groyne.quay",
            "only groyne answers for it; name a second interface behind a comma",
        ),
        ("gateway 192.0.2.1 on quay by groyne.quay, groyne.quay", "groyne stands twice"),
        (
            "gateway 192.0.2.1 on quay by groyne.quay, breakwater.hall",
            "breakwater.hall is no interface on quay",
        ),
        (
            "gateway 192.0.2.1 on quay by groyne.quay, breakwater.key",
            "no interface breakwater.key; there is breakwater.quay",
        ),
        (
            "gateway 10.64.8.1 on quay by groyne.quay, breakwater.quay",
            "10.64.8.1 is not in quay, which is 192.0.2.0/28",
        ),
        ("gateway 192.0.2.2 on quay by groyne.quay, breakwater.quay", "both have 192.0.2.2"),
        ("gateway 192.0.2.5 on quay by groyne.quay, breakwater.quay", "both have 192.0.2.5"),
        ("gateway 192.0.2.1 on quay by groyne.quay, breakwater.quay vrid 256", "256 is too large"),
        (
            "gateway 192.0.2.1 on quay by groyne.quay, breakwater.quay vrid 0",
            "0 is no virtual router's number: 1 to 255",
        ),
        ("gateway on quay by groyne.quay, breakwater.quay", "expected an address here"),
        ("gateway 192.0.2.1 on quay", "expected by"),
    ],
)
def test_a_wrong_line_is_told_with_its_mend(
    run: Run, tmp_path: Path, line: str, problem: str
) -> None:
    (tmp_path / "a.gate").write_text(PLAN.format(gateway=line))
    told = run("check")
    assert told.returncode == 2
    assert problem in told.stderr, told.stderr


def test_vrrp_has_to_pass_among_them(answer: Ask, tmp_path: Path) -> None:
    path = tmp_path / "a.gate"

    def found(placed: str) -> list[tuple[str, int | None]]:
        path.write_text(PLAN.format(gateway=GATEWAY) + placed)
        return [
            (each["list"], each["entry"])
            for each in answer("check", status=0)["findings"]
            if each["finding"] == "vrrp-blocked"
        ]

    assert found("place wall inbound on groyne.quay\n") == [("wall", None)]
    assert found("place wall inbound on groyne itself\n") == [("wall", None)]
    assert found("place wall inbound on groyne.hall\n") == []
    assert found("place vrrp-wall inbound on groyne.quay\n") == []
    assert found("place vrrp-wall inbound on breakwater.quay\n") == [("vrrp-wall", None)]


def test_a_fence_closes_it(run: Run, answer: Ask, tmp_path: Path) -> None:
    path = tmp_path / "a.gate"
    path.write_text(PLAN.format(gateway=GATEWAY))
    assert run("fence", "quay", "--yes").returncode == 0, path.read_text()
    assert verdicts(answer, "timetable", "192.0.2.1", "ssh") == ["denied", "denied"]
    assert verdicts(answer, "timetable", "192.0.2.1", "ping") == ["permitted"] * len(
        verdicts(answer, "timetable", "192.0.2.1", "ping")
    )
    assert answer("verify")["expectations"]


def test_a_route_may_go_by_it_and_it_is_drawn(plan_of: Read, answer: Ask, tmp_path: Path) -> None:
    more = (
        "subnet far 10.9.0.0/24\nrouter pier\n    interface far 10.9.0.1/24 on far\n    "
        "interface quay 192.0.2.6/28 on quay\n"
    )
    text = (
        WALLED
        + "routing static\n"
        + more
        + "    route default via 192.0.2.1\nhost away 10.9.0.9 on far\n"
    )
    text = text.replace(
        "on hall\nrouter groyne", "on hall\n    route 10.9.0.0/24 via 192.0.2.6\nrouter groyne"
    )
    text = text.replace("on hall\ngateway", "on hall\n    route 10.9.0.0/24 via 192.0.2.6\ngateway")
    plan: Plan = plan_of(text)
    assert any(
        each.text == "192.0.2.1 is shared by groyne, breakwater" for each in laid_out(plan).labels
    )
    (tmp_path / "test.gate").rename(tmp_path / "a.gate")
    assert sorted(verdicts(answer, "away", "kiosk", "ping")) == ["denied", "permitted"]


def test_tidy_sets_its_columns(run: Run, tmp_path: Path) -> None:
    path = tmp_path / "a.gate"
    path.write_text(
        PLAN.format(
            gateway=(
                "gateway   192.0.2.1   2001:DB8:C0::1   on quay by "
                "groyne.quay,breakwater.quay   vrid 12"
            )
        )
    )
    assert run("tidy", "--yes").returncode == 0
    assert (
        "gateway 192.0.2.1 2001:db8:c0::1 on quay by groyne.quay,breakwater.quay vrid 12\n"
        in path.read_text()
    )
