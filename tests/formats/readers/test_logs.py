"""Lines of logs: by a pattern, and by keys, against the same flows as a table."""

from __future__ import annotations

import random
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import pytest

from crossgate.core.model.errors import PlanError
from crossgate.formats.readers.logs import LogLines, log_batches, pattern_of
from crossgate.formats.readers.names import TrafficColumn
from crossgate.formats.readers.traffic import Traffic
from tests.conftest import Run
from tests.documents import checked

Answer = Callable[..., Any]
NOW = datetime(2026, 12, 1, 8, tzinfo=UTC)
NOW_US = int(NOW.timestamp() * 1_000_000)
LISBON = ZoneInfo("Europe/Lisbon")
KERNEL = (
    "<134>Nov 30 19:00:01 gate kernel: [1.5] DROP IN=eth0 OUT= SRC=10.0.0.5 DST=10.0.1.5 LEN=60 "
    "PROTO=TCP SPT=40000 DPT=443 SYN URGP=0"
)


def rows(tmp_path: Path, text: str, **options: Any) -> list[dict[str, Any]]:
    path = tmp_path / "fw.log"
    path.write_text(text)
    lines = LogLines(options.get("pattern"), NOW_US, options.get("zone", UTC))
    told = options.get("told", {})
    return [
        row for batch in log_batches(path, None, lines, told, "fw.log") for row in batch.to_pylist()
    ]


def test_fields_of_keys_are_read_whatever_their_order_and_case(tmp_path: Path) -> None:
    text = (
        f"{KERNEL}\n"
        '<134>1 2026-11-30T19:00:02.5+01:00 gate fw - - - action=allow dst="10.0.1.5" '
        "src=10.0.0.6 proto=6 dpt=22 spt=40001\n"
        "Nov 30 19:00:03 gate kernel: SRC=10.0.0.7 DST=10.0.1.5 PROTO=ICMP TYPE=8 CODE=0\n"
        "nothing of the kind\n"
    )
    found = rows(tmp_path, text)
    assert [each["SRC"] or None for each in found] == ["10.0.0.5", "10.0.0.6", "10.0.0.7", None]
    assert [each["DPT"] for each in found] == [443, 22, None, None]
    assert [each["icmpTypeCodeIPv4"] for each in found] == [None, None, 8 * 256, None]
    assert [each["time"].isoformat() for each in found] == [
        "2026-11-30T19:00:01+00:00",
        "2026-11-30T18:00:02.500000+00:00",
        "2026-11-30T19:00:03+00:00",
        "2026-11-30T19:00:03+00:00",
    ]


@pytest.mark.parametrize(
    ("line", "when"),
    [
        # The last such day that is not yet to come, but for tomorrow.
        ("Dec  2 07:00:00 x", "2026-12-02T07:00:00+00:00"),
        ("Dec  3 07:00:00 x", "2025-12-03T07:00:00+00:00"),
        ("Feb 29 07:00:00 x", "2024-02-29T07:00:00+00:00"),
        ("2026-07-01T12:00:00 x", "2026-07-01T11:00:00+00:00"),
        ("<13>1 2026-07-01T12:00:00Z x", "2026-07-01T12:00:00+00:00"),
        ("Nov 30 99:00:00 x", "2026-12-01T08:00:00+00:00"),
        ("x date=2026-11-30 time=19:00:00", "2026-11-30T19:00:00+00:00"),
        ("x timestamp=1700000000", "2023-11-14T22:13:20+00:00"),
        ("x timestamp=1700000000123", "2023-11-14T22:13:20.123000+00:00"),
        ("x timestamp=soon", "2026-12-01T08:00:00+00:00"),
        ("x", "2026-12-01T08:00:00+00:00"),
    ],
)
def test_when_a_line_was_written(tmp_path: Path, line: str, when: str) -> None:
    (row,) = rows(tmp_path, f"{line} src=10.0.0.5 dst=10.0.1.5 proto=tcp\n", zone=LISBON)
    assert row["time"].isoformat() == when


@pytest.mark.parametrize("seed", range(10))
def test_a_log_says_what_a_table_of_the_same_flows_does(tmp_path: Path, seed: int) -> None:
    chance = random.Random(seed)
    flows = [
        {
            "src": f"10.0.0.{chance.randrange(1, 9)}",
            "dst": f"10.0.1.{chance.randrange(1, 9)}",
            "proto": chance.choice(("tcp", "17")),
            "sport": str(chance.randrange(1024, 65536)),
            "dport": str(chance.choice((22, 53, 443))),
            "time": f"2026-11-30T{hour:02}:00:00Z",
            "action": chance.choice(("permit", "drop")),
        }
        for hour in range(24)
    ]
    table, keys, free = (tmp_path / name for name in ("t.csv", "keys.log", "free.log"))
    table.write_text(
        "\n".join([",".join(flows[0]), *(",".join(each.values()) for each in flows)]) + "\n"
    )
    lines = []
    for each in flows:
        others = [f"{key}={value}" for key, value in each.items() if key != "time"]
        chance.shuffle(others)
        lines.append(f"<14>1 {each['time']} gate fw - - - {' '.join(others)}")
    keys.write_text("\n".join(lines))
    free.write_text(
        "\n".join(
            "{time} {action} {proto} {src}:{sport} -> {dst}:{dport}".format(**each)
            for each in flows
        )
    )
    pattern = (
        r"^(?P<time>\S+) (?P<action>\w+) (?P<proto>\w+) (?<src>[0-9.]+):(?<sport>\d+) -> "
        r"(?P<dst>[0-9.]+):(?P<dport>\d+)"
    )
    seen = []
    for path, own in ((table, None), (keys, None), (free, pattern_of(pattern))):
        traffic = Traffic([path], {TrafficColumn.VERDICT: "action"}, NOW_US, own, UTC)
        seen.append([batch for batch, _ in traffic.batches()])
    for other in seen[1:]:
        for family, one in seen[0][0].items():
            two = other[0][family]
            assert (one.first == two.first).all()
            assert (one.said == two.said).all()
            for name in ("source", "destination", "protocol", "source_port", "destination_port"):
                assert (getattr(one.packets, name) == getattr(two.packets, name)).all()


@pytest.mark.parametrize(
    ("pattern", "told"),
    [
        ("(?P<src>.*", "--pattern: Invalid regular expression"),
        ("(?P<host>.*)", "no group host; there are src, dst"),
        (r"(?P<src>\S+) (?P<proto>\S+)", "no group dst; write it as"),
        ("no groups", "--pattern: "),
    ],
)
def test_a_pattern_that_cannot_be_used_is_told(pattern: str, told: str) -> None:
    with pytest.raises(PlanError) as error:
        pattern_of(pattern)
    assert told in str(error.value)


def test_a_log_is_replayed_and_its_actions_held_against_the_plan(
    tmp_path: Path, run: Run, answer: Answer
) -> None:
    (tmp_path / "net.gate").write_text(
        "subnet a 10.0.0.0/24\nsubnet b 10.0.1.0/24\nrouter r\n    interface a 10.0.0.1/24\n"
        "    interface b 10.0.1.1/24\nlist l extended ipv4\n    10 permit ssh any to any\n"
        "place l inbound on r.a\n"
    )
    (tmp_path / "fw.log").write_text(f"{KERNEL}\n{KERNEL.replace('DPT=443', 'DPT=22')}\nboot\n")
    told = run("replay", "fw.log")
    assert told.returncode == 0, told.stderr
    assert "1 record without an address is left out" in told.stdout
    pattern = (
        r"(?P<action>DROP|ACCEPT).*SRC=(?P<src>\S+) DST=(?P<dst>\S+).*PROTO=(?P<proto>\S+) "
        r"SPT=(?P<sport>\d+) DPT=(?P<dport>\d+)"
    )
    held = run("replay", "fw.log", "--pattern", pattern, "--json")
    assert held.returncode == 1
    said = checked(held.stdout)["said"]
    assert (said["agrees"]["conversations"], said["differs"]["conversations"]) == (1, 1)
