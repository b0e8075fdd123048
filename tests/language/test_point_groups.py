"""Groups of points: a list is placed at each of them with one line, and the grid stands for what is
behind them.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest

import crossgate
from crossgate.core.audit import audit
from crossgate.core.model.errors import PlanErrors
from crossgate.core.model.plan import Plan
from crossgate.core.traffic.session import Session
from tests.conftest import Ask, Run

Read = Callable[[str], Plan]
PLAN = """outside net
subnet hall 10.0.8.0/24 2001:db8:8::/64
subnet office 10.0.20.0/24 2001:db8:20::/64
subnet labs 10.0.30.0/24
router gate
    interface hall 10.0.8.1/24 2001:db8:8::1/64
    interface office 10.0.20.1/24 2001:db8:20::1/64
    interface labs 10.0.30.1/24
    interface net 203.0.113.1/30 on net
switch floor
    port 1
    port 2
host kiosk 10.0.8.21 at floor.1
host box 10.0.20.10
group faces gate.hall, gate.office
group sockets floor.1, floor.2
list no-telnet extended ipv4
    deny telnet any to any
    otherwise permit
"""


def test_a_list_on_a_group_of_points_stands_at_each(plan_of: Read) -> None:
    grouped = plan_of(PLAN + "place no-telnet inbound on group faces\n")
    one_by_one = plan_of(
        PLAN + "place no-telnet inbound on gate.hall\nplace no-telnet inbound on gate.office\n"
    )
    assert grouped.placed.keys() == one_by_one.placed.keys()
    assert crossgate.compare(grouped, one_by_one) == []
    (trace,) = crossgate.trace(grouped, "kiosk", "box", "telnet")
    assert str(trace.decided.crossing.point if trace.decided else "") == "gate.hall"
    assert plan_of(PLAN + "place no-telnet inbound on group sockets\n").placed.keys() == {
        (point, direction, family)
        for point, direction, family in grouped.placed
        for point in grouped.groups["sockets"].points
    }


def test_its_points_are_still_addresses(plan_of: Read) -> None:
    (trace,) = crossgate.trace(
        plan_of(
            PLAN
            + (
                "list l extended ipv4\n    deny ip any to faces\n    otherwise permit\nplace l "
                "inbound on gate.hall\n"
            )
        ),
        "kiosk",
        "gate.office",
        "ssh",
        family=crossgate.Family.IPV4,
    )
    assert trace.verdict is crossgate.Verdict.DENIED


@pytest.mark.parametrize(
    ("line", "message"),
    [
        (
            "place no-telnet inbound on group faces\nplace other inbound on gate.office",
            "gate.office inbound has the ipv4 list no-telnet",
        ),
        (
            "place no-telnet inbound on gate.hall\nplace other inbound on group faces",
            "gate.hall inbound has the ipv4 list no-telnet",
        ),
        (
            "group mixed floor.1, kiosk",
            "floor.1 is a port and has no addresses; a group has addresses, or points alone",
        ),
        (
            "group mixed floor.1 but kiosk",
            "floor.1 is a port and has no addresses; a group has addresses, or points alone",
        ),
    ],
)
def test_what_cannot_be(plan_of: Read, line: str, message: str) -> None:
    with pytest.raises(PlanErrors, match=message):
        plan_of(PLAN + "list other extended ipv4\n    permit ip any to any\n" + line + "\n")


def test_neighbour_discovery_is_looked_at_at_each_point(plan_of: Read) -> None:
    text = (
        PLAN
        + "list six extended ipv6\n    permit tcp any to any\nplace six inbound on group faces\n"
    )
    (found,) = [
        each
        for each in audit(Session(plan_of(text)), crossgate.when(plan_of("")).at).findings
        if each.name == "neighbour-blocked"
    ]
    assert "gate.hall" in found.message


def test_commands_know_them(run: Run, answer: Ask, tmp_path: Path) -> None:
    (tmp_path / "p.gate").write_text(PLAN)
    assert run("place", "no-telnet", "inbound", "group faces", "--yes").returncode == 0
    assert "place no-telnet inbound on group faces" in (tmp_path / "p.gate").read_text()
    assert "inbound on group faces  gate.hall, gate.office" in run("lists", "no-telnet").stdout
    (shown,) = answer("lists", "no-telnet")["lists"]
    assert shown["placed"][0]["points"] == ["gate.hall", "gate.office"]
    grid = run("grid", "telnet", "--from", "faces", "--to", "labs").stdout
    assert "hall" in grid
    assert "office" in grid
    assert run("lift", "no-telnet", "inbound", "group faces", "--yes").returncode == 0
    assert "place " not in (tmp_path / "p.gate").read_text()
