"""`zone NAME`: windows, `--at` and replayed traffic are on the wall clock of the plan's time zone,
daylight changes too.
"""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from pathlib import Path
from zoneinfo import ZoneInfo

import numpy as np
import pytest

from crossgate.core.answers.replay_clock import Clock
from crossgate.core.model.plan import Plan
from crossgate.core.network.ways import Network
from crossgate.core.traffic.seen import SECOND
from tests.conftest import Read, Run

PLAN = """\
zone Europe/Lisbon
subnet a 10.0.0.0/24
subnet b 10.0.1.0/24
router r
    interface a 10.0.0.1/24 on a
    interface b 10.0.1.1/24 on b
host one 10.0.0.2 on a
host two 10.0.1.2 on b
window small daily 01:00-02:00
list l extended ipv4
    10 permit ip any to any during small
place l inbound on r.a
"""


def test_it_is_read_and_is_the_plans_clock(plan_of: Read) -> None:
    plan = plan_of(PLAN)
    assert plan.zone == "Europe/Lisbon"
    now = datetime.now(ZoneInfo("Europe/Lisbon")).replace(tzinfo=None)
    assert abs(plan.now() - now) < timedelta(minutes=1)
    assert abs(Plan().now() - datetime.now()) < timedelta(minutes=1)
    there = Plan(zone="Pacific/Kiritimati")
    assert there.now() - Plan(zone="Pacific/Niue").now() > timedelta(hours=24)


@pytest.mark.parametrize(
    ("line", "problem"),
    [
        ("zone Europe/Lisboa", "no time zone Europe/Lisboa; there is Europe/Lisbon"),
        ("zone", "a time zone, as Europe/Lisbon or UTC"),
        ("zone UTC+1 x", "no time zone UTC+1"),
        ("zone UTC\nzone UTC", "zone"),
    ],
)
def test_what_is_no_zone_is_told_with_its_place(
    run: Run, tmp_path: Path, line: str, problem: str
) -> None:
    (tmp_path / "p.gate").write_text(line + "\n")
    refused = run("check")
    assert refused.returncode != 0
    assert "p.gate:" in refused.stdout + refused.stderr
    assert problem in refused.stdout + refused.stderr


def opened(plan: Plan, zone: str | None, *moments: str) -> list[bool]:
    times = np.array(
        [
            int(datetime.fromisoformat(each).replace(tzinfo=UTC).timestamp()) * SECOND
            for each in moments
        ]
    )
    wall = Clock(Network(plan), ZoneInfo(zone) if zone else UTC)
    return ["small" in wall.states[number] for number in wall.of(times)]


def test_daylight_changes_of_the_wall_clock_count(plan_of: Read) -> None:
    plan = plan_of(PLAN)
    # In winter Lisbon has UTC, in summer an hour more.
    assert opened(plan, plan.zone, "2026-01-10 01:30", "2026-07-10 01:30", "2026-07-10 00:30") == [
        True,
        False,
        True,
    ]
    # On 29 March 2026 01:00 becomes 02:00, so 01:30 is never; on 25 October 02:00 becomes 01:00, so
    # it is twice.
    assert opened(plan, plan.zone, "2026-03-29 00:59", "2026-03-29 01:00", "2026-03-29 01:30") == [
        False,
        False,
        False,
    ]
    assert opened(
        plan,
        plan.zone,
        "2026-10-25 00:00",
        "2026-10-25 00:30",
        "2026-10-25 01:30",
        "2026-10-25 02:00",
    ) == [
        True,
        True,
        True,
        False,
    ]
    assert opened(plan, None, "2026-07-10 01:30") == [True]


def test_replay_takes_the_plans_zone_unless_told_otherwise(run: Run, tmp_path: Path) -> None:
    (tmp_path / "p.gate").write_text(PLAN)
    (tmp_path / "flows.csv").write_text(
        "src,dst,proto,sport,dport,start\n10.0.0.2,10.0.1.2,6,50000,80,2026-07-10T00:30:00Z\n"
    )
    told = run("replay", "flows.csv").stdout
    assert "from 2026-07-10 01:30 to 2026-07-10 01:30, Europe/Lisbon" in told
    assert "permitted" in told or "half-open" in told
    assert "denied" not in told
    assert "denied" in run("replay", "flows.csv", "--zone", "UTC").stdout


def test_the_plan_stays_tidy_and_is_explained(run: Run, tmp_path: Path) -> None:
    (tmp_path / "p.gate").write_text(PLAN)
    assert run("tidy", "--check").returncode in (0, 1)
    assert "time zone of the devices' clocks" in run("help", "zone").stdout
    assert run("trace", "one", "two", "ping", "--at", "01:30").returncode == 0
