"""`crossgate replay` on the demo's captures and flows, and on files that cannot be read."""

from __future__ import annotations

import csv
import struct
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from pyarrow import parquet

from tests.conftest import Run
from tests.net import BEHIND

Answer = Callable[..., Any]
DAY = ("replay", "day.pcap", "--zone", "UTC")


def test_a_day_is_told_by_verdict_by_what_was_stopped_and_by_line(run: Run, traffic: Path) -> None:
    told = run("--plan", "ternhaven.gate", *DAY).stdout
    assert "day.pcap: 22,506 frames (capture)" in told
    assert "675 packets were seen twice within 10 ms, and count once" in told
    assert "guest-1 to manifest           tcp/1-1024  denied     guest-fence 20" in told
    assert "duty to camera-3              tcp/554     half-open  berth-3-in otherwise" in told
    assert "lists that nothing came to: duty-only6, 110, sea6" in told


def test_the_document_says_the_same(answer: Answer, traffic: Path) -> None:
    document = answer("--plan", "ternhaven.gate", *DAY)
    assert document["schema"] == "crossgate/replay/1"
    verdicts = {verdict: each["conversations"] for verdict, each in document["verdicts"].items()}
    assert verdicts == {
        "permitted": 1684,
        "denied": 1110,
        "half-open": 7,
        "unroutable": 0,
        "varies": 0,
        "nowhere": 0,
    }
    scanned = [each for each in document["not_permitted"] if each["source"] == "10.64.41.77"]
    assert len(scanned) == 1024
    assert {
        (each["list"], each["entry"], each["point"], each["direction"]) for each in scanned
    } == {("guest-fence", 20, "subnet guests", "outbound")}
    (kiosks,) = (each for each in document["lists"] if each["list"] == "kiosk-fence")
    assert [line["legs"] for line in kiosks["lines"]] == [700, 350, 12, 0, 72]


def test_capture_and_flows_agree(answer: Answer, traffic: Path) -> None:
    captured = [
        answer("--plan", "ternhaven.gate", *DAY),
        answer("--plan", "ternhaven.gate", "replay", "sea.pcap", "--zone", "UTC"),
    ]
    flows = answer("--plan", "ternhaven.gate", "replay", "flows.parquet", "--zone", "UTC")
    both = answer("--plan", "ternhaven.gate", *DAY, "sea.pcap")
    for verdict in ("permitted", "half-open"):
        # Fragments are conversations of their own, and records of flows have none.
        told = sum(each["verdicts"][verdict]["conversations"] for each in captured)
        assert told == both["verdicts"][verdict]["conversations"]
        assert told - flows["verdicts"][verdict]["conversations"] == (
            6 if verdict == "permitted" else 0
        )


def test_verdicts_are_written_as_a_table(run: Run, traffic: Path) -> None:
    for name in ("verdicts.parquet", "verdicts.csv"):
        assert run("--plan", "ternhaven.gate", *DAY, "--out", name).returncode == 0
    rows = parquet.read_table(traffic / "verdicts.parquet").to_pylist()
    assert len(rows) == 1684 + 1110 + 7
    with (traffic / "verdicts.csv").open() as file:
        written = list(csv.DictReader(file))
    assert [row["verdict"] for row in written] == [row["verdict"] for row in rows]
    ended = [row["last"] for row in rows if "." in row["source"]]
    assert ended == sorted(ended)
    (half_open, *_) = (row for row in rows if row["verdict"] == "half-open")
    assert {
        key: half_open[key]
        for key in ("source", "destination", "destination_port", "list", "entry", "point")
    } == {
        "source": "10.64.20.40",
        "destination": "10.64.34.71",
        "destination_port": 554,
        "list": "berth-3-in",
        "entry": "otherwise",
        "point": "inbound on pier.b3",
    }
    permitted = next(row for row in rows if row["verdict"] == "permitted")
    assert (permitted["list"], permitted["entry"], permitted["point"]) == ("", "", "")


def test_another_plan_is_compared_by_what_was_seen(run: Run, answer: Answer, traffic: Path) -> None:
    words = ("--plan", "ternhaven.gate", "replay", "flows.parquet", "--zone", "UTC", "--against")
    done = run(*words, "proposal/ternhaven.gate")
    assert done.returncode == 1
    assert "denied -> permitted  1,024 conversations  1,024 packets" in done.stdout
    document = answer(*words, "proposal/ternhaven.gate", status=1)
    assert {(each["was"], each["verdict"]) for each in document["differing"]} == {
        ("denied", "permitted")
    }
    same = run(*words, "ternhaven.gate")
    assert same.returncode == 0
    assert "everything seen fares in ternhaven.gate as it does in ternhaven.gate" in same.stdout


def test_where_it_came_in_and_one_list_alone(run: Run, answer: Answer, traffic: Path) -> None:
    sea = ("--plan", "ternhaven.gate", "replay", "sea.pcap", "--zone", "UTC")
    assert (
        "duty to manifest              tcp/443      denied  list 110 entry 10"
        in run(*sea, "--from", "breakwater.sea").stdout
    )
    asked = answer(*sea, "--at-point", "breakwater.sea", "--direction", "inbound")
    assert [each["list"] for each in asked["lists"]] == ["110", "sea6"]
    alone = answer(*sea, "--list", "110")
    assert alone["lists"][0] == asked["lists"][0]
    assert alone["lists"][0]["packets"] + alone["lists"][0]["other_family"] == 2649


def test_the_tally_counts_packets(run: Run, answer: Answer, traffic: Path) -> None:
    for _ in range(2):
        assert run("--plan", "ternhaven.gate", *DAY, "--tally").returncode == 0
    (guests,) = answer("--plan", "ternhaven.gate", "tally", "guest-fence")["lists"]
    assert {each["entry"]: each["hits"] for each in guests["hits"]} == {
        10: 540,
        20: 2048,
        30: 6806,
        None: 0,
    }


def test_when_lines_decided_is_kept_and_drawn(run: Run, traffic: Path) -> None:
    none = run("--plan", "ternhaven.gate", "draw", "tally", "--by", "hour")
    assert none.returncode == 2
    assert "crossgate replay FILE --by hour --tally" in none.stderr
    assert run("--plan", "ternhaven.gate", *DAY, "--by", "hour", "--tally").returncode == 0
    for by, told in (("hour", "1,024 on Wed 25 Nov 13:00"), ("day", "1,024 on Wed 25 Nov")):
        done = run("--plan", "ternhaven.gate", "draw", "tally", "guest-fence", "--by", by)
        assert done.stdout == f"tally-{by}.svg\n", done.stderr
        picture = (traffic / f"tally-{by}.svg").read_text()
        assert f"1,024 in all, {told}" in picture
        assert picture.count('id="bar-guest-fence-20') == 1


@pytest.mark.parametrize(
    ("words", "problem"),
    [
        (("nothing.pcap",), "nothing.pcap cannot be read: No such file or directory"),
        (("empty",), "empty is empty; a capture (pcap, pcapng) or a table of flows"),
        (
            ("ternhaven.gate",),
            "ternhaven.gate cannot be read as CSV: CSV parse error: Expected 1 columns, got 2",
        ),
        (
            ("day.pcap", "--zone", "Ternhaven/Quay"),
            "--zone Ternhaven/Quay: no such time zone; name one of the IANA database",
        ),
        (
            ("day.pcap", "--from", "breakwater.see"),
            "no interface breakwater.see; there is breakwater.sea",
        ),
        (("day.pcap", "--from", "breakwater itself"), "nothing comes in at breakwater itself"),
        (("day.pcap", "--from", "lighthouse.1"), "no host of the plan is at lighthouse.1"),
        (("day.pcap", "--at-point", "breakwater.sea"), "--at-point and --direction go together"),
        (
            ("day.pcap", "--at-point", "breakwater.quay", "--direction", "inbound"),
            "no list stands inbound on breakwater.quay",
        ),
        (
            ("day.pcap", "--list", "110", "--out", "a.csv"),
            "--out is about conversations on their way",
        ),
        (
            ("day.pcap", "--out", "day.pcap"),
            "the ending says what is written; name a file that ends in .parquet or .csv",
        ),
        (("flows.parquet", "--out", "flows.parquet"), "--out flows.parquet is a file that is read"),
        (
            ("flows.parquet", "--out", "nowhere/a.csv"),
            "nowhere/a.csv cannot be written: No such file or directory",
        ),
        (("flows.parquet", "--column", "source=src"), "flows.parquet has no column src"),
        (("day.pcap", "--list", "111"), "no list 111; there is 110"),
        (("day.pcap", "--verdict", "action"), "day.pcap is a capture, and has no column action"),
        (
            ("flows.parquet", "--verdict", "tcpControlBits"),
            "flows.parquet row 1 of column tcpControlBits: '",
        ),
        (
            ("flows.parquet", "--verdict", "action", "--against", "ternhaven.gate"),
            "--verdict and --against exclude each other",
        ),
        (
            ("flows.parquet", "--verdict", "action", "--list", "110"),
            "--verdict is about conversations on their way",
        ),
    ],
)
def test_what_cannot_be_done_is_told(
    run: Run, traffic: Path, words: tuple[str, ...], problem: str
) -> None:
    (traffic / "empty").write_bytes(b"")
    done = run("--plan", "ternhaven.gate", "replay", *words)
    assert done.returncode == 2
    assert problem in done.stderr


def test_no_space_left_is_told(run: Run, traffic: Path) -> None:
    (traffic / "full.csv").symlink_to("/dev/full")
    done = run("--plan", "ternhaven.gate", *DAY, "--out", "full.csv")
    assert (done.returncode, done.stderr) == (
        2,
        "crossgate: full.csv cannot be written: No space left on device\n",
    )


def test_a_capture_that_is_cut_off_counts_as_far_as_it_goes(run: Run, traffic: Path) -> None:
    whole = (traffic / "sea.pcap").read_bytes()
    (traffic / "cut.pcap").write_bytes(whole[:-5])
    done = run("--plan", "ternhaven.gate", "replay", "cut.pcap", "--zone", "UTC")
    assert done.returncode == 2
    assert "cut.pcap: 2,648 frames" in done.stdout
    assert "cut.pcap could not be read to its end, at frame 2,649" in done.stderr


def test_frames_of_other_kinds_and_times_that_run_backwards_are_told(
    run: Run, traffic: Path
) -> None:
    packet = (
        struct.pack(">BBHHHBBH", 0x45, 0, 28, 1, 0, 64, 17, 0)
        + bytes([10, 64, 9, 21, 10, 64, 20, 53])
        + struct.pack(">HHHH", 50_000, 53, 8, 0)
    )
    frames = [
        (5, b"\x08\x00" + packet),
        (3, b"\x08\x00" + packet),
        (6, b"\x08\x06" + bytes(28)),
        (7, b"\x08\x00" + packet[:22]),
    ]
    octets = struct.pack("<IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, 65_535, 1)
    for second, body in frames:
        octets += struct.pack("<IIII", second, 0, 12 + len(body), 12 + len(body)) + bytes(12) + body
    (traffic / "odd.pcap").write_bytes(octets)
    told = run("--plan", "ternhaven.gate", "replay", "odd.pcap", "--zone", "UTC").stdout
    assert "1 frame carries no IP; the first is frame 3" in told
    assert "1 frame is captured too short to tell; the first is frame 4" in told
    assert "1 row came after a later one: times run backwards" in told


def test_standard_input_is_read(launch: Run, traffic: Path) -> None:
    with (traffic / "sea.pcap").open("rb") as source:
        done = launch("--plan", "ternhaven.gate", "replay", "-", "--zone", "UTC", stdin=source)
    assert done.returncode == 0, done.stderr
    assert "-: 2,649 frames (capture)" in done.stdout


def test_what_devices_decided_is_held_against_the_plan(
    run: Run, answer: Answer, traffic: Path
) -> None:
    plan = ("--plan", "ternhaven.gate")
    run(*plan, *DAY, "--out", "decided.csv")
    with (traffic / "decided.csv").open() as file:
        # A table of flows has no identifiers, which tell pings of both ways apart.
        rows = [row for row in csv.DictReader(file) if row["protocol"] != "1"]

    def log(turned: int) -> tuple[str, ...]:
        """Write the log of a device that decides as the plan does, but for some scans."""
        said = {"permitted": "accept", "denied": "DROP", "half-open": ""}
        for row in rows:
            row["action"] = said[row["verdict"]]
        scans = [row for row in rows if row["source"] == "10.64.41.77" and row["action"] == "DROP"]
        for row in scans[:turned]:
            row["action"] = "accept"
        with (traffic / "log.csv").open("w", newline="") as file:
            writer = csv.DictWriter(file, list(rows[0]))
            writer.writeheader()
            writer.writerows(rows)
        return (*plan, "replay", "log.csv", "--verdict", "action", "--zone", "UTC")

    said = answer(*log(0))["said"]
    assert (said["differs"]["conversations"], said["differing"]) == (0, [])
    assert said["not_told"]["conversations"] == 7
    assert said["agrees"]["conversations"] > 2_000
    words = log(3)
    for spread in ((), ("--workers", "2")):
        differs = answer(*words, *spread, status=1)["said"]
        assert differs["differs"]["conversations"] == 3
        assert differs["agrees"]["conversations"] == said["agrees"]["conversations"] - 3
        assert {
            (each["was"], each["verdict"], each["list"], each["entry"])
            for each in differs["differing"]
        } == {("permitted", "denied", "guest-fence", 20)}
    done = run(*words)
    assert done.returncode == 1
    assert "permitted -> denied  guest-fence 20" in done.stdout


DOOR = """subnet hall 10.64.8.0/24
subnet wall 10.64.20.0/24
router lighthouse
  interface hall 10.64.8.1/24
  interface wall 10.64.20.1/24
list door extended ipv4
  10 permit tcp/80,8443 any to any
list back extended ipv4
  10 permit tcp any to any source port 8443
place door inbound on lighthouse.hall
place back inbound on lighthouse.wall
"""


@pytest.mark.parametrize(
    ("port", "said", "outcome"),
    [
        (8443, ("accept",), "agrees"),
        (8443, ("drop",), "differs"),
        (8443, ("accept", "drop"), "differs"),
        (8443, ("accept", ""), "agrees"),
        (22, ("drop",), "agrees"),
        (22, ("accept",), "differs"),
        (22, ("drop", "accept"), "differs"),
        (80, ("accept",), "agrees"),
        (80, ("drop",), "agrees"),
        (80, ("accept", "drop"), "agrees"),
        (22, ("",), "not_told"),
    ],
)
def test_records_of_one_conversation_say_together_what_was_decided(
    answer: Answer, tmp_path: Path, port: int, said: tuple[str, ...], outcome: str
) -> None:
    (tmp_path / "door.gate").write_text(DOOR)
    rows = [
        f"{second},10.64.8.11,50000,10.64.20.10,{port},tcp,{word}"
        for second, word in enumerate(said)
    ]
    (tmp_path / "log.csv").write_text(
        "\n".join(["time,src,sport,dst,dport,proto,action", *rows, ""])
    )
    words = ("--plan", "door.gate", "replay", "log.csv", "--verdict", "action", "--zone", "UTC")
    document = answer(*words, status=1 if outcome == "differs" else 0)
    found = {
        each: document["said"][each]["conversations"] for each in ("agrees", "differs", "not_told")
    }
    assert found == {each: int(each == outcome) for each in found}


@pytest.mark.parametrize("stretch", ["hour", "day"])
def test_what_a_day_comes_to_is_what_its_stretches_do(
    answer: Answer, traffic: Path, stretch: str
) -> None:
    document = answer("--plan", "ternhaven.gate", *DAY, "sea.pcap", "--by", stretch)
    stretches = document["by"]["stretches"]
    begins = [each["from"] for each in stretches]
    assert begins == sorted(set(begins))
    assert {each[11:] for each in begins} <= (
        {"00:00"} if stretch == "day" else {f"{hour:02}:00" for hour in range(24)}
    )
    for verdict, whole in document["verdicts"].items():
        own = [each["verdicts"][verdict] for each in stretches if verdict in each["verdicts"]]
        assert {what: sum(each[what] for each in own) for what in whole} == whole
    lines: dict[tuple[str, int | None], list[int]] = {}
    for each in stretches:
        for line in each["lines"]:
            sums = lines.setdefault((line["list"], line["entry"]), [0, 0])
            sums[0] += line["legs"]
            sums[1] += line["packets"]
    assert lines == {
        (each["list"], line["entry"]): [line["legs"], line["packets"]]
        for each in document["lists"]
        for line in each["lines"]
        if line["legs"]
    }
    parts = answer("--plan", "ternhaven.gate", *DAY, "sea.pcap", "--by", stretch, "--workers", "2")
    assert parts["by"] == document["by"]


def test_a_scan_stands_out_in_its_hour(run: Run, traffic: Path) -> None:
    told = run("--plan", "ternhaven.gate", *DAY, "--by", "hour").stdout
    assert "Wed 2026-11-25 13:00        109   1,027          -" in told
    (scan,) = [line for line in told.splitlines() if line.startswith("  guest-fence 20 ")]
    assert scan.split("|")[1].strip() == "█"


def test_who_uses_a_line_is_counted_as_its_conversations_are(
    run: Run, answer: Answer, traffic: Path
) -> None:
    words = ("--plan", "ternhaven.gate", *DAY, "--top-permitted", "10000")
    lines = answer(*words, "--out", "rows.csv")["top_permitted"]
    with (traffic / "rows.csv").open() as file:
        rows = list(csv.DictReader(file))
    seen: dict[tuple[str, str, str], list[int]] = {}
    for row in rows:
        if row["verdict"] == "permitted" and row["protocol"] in ("6", "17"):
            service = f"{'tcp' if row['protocol'] == '6' else 'udp'}/{row['destination_port']}"
            sums = seen.setdefault((row["source"], row["destination"], service), [0, 0])
            sums[0] += 1
            sums[1] += int(row["packets"])
    by_line = {(each["list"], each["entry"]): each["users"] for each in lines}
    assert {("kiosk-fence", 10), ("guest-fence", 30), ("12", 20)} <= by_line.keys()
    told = 0
    for line in (("kiosk-fence", 10), ("guest-fence", 30), ("12", 20)):
        for each in by_line[line]:
            key = each["source"], each["destination"], each["service"]
            if key in seen:
                assert [each["conversations"], each["packets"]] == seen[key], (line, key)
                told += 1
    assert told > 100
    parts = answer(*words, "--workers", "2")["top_permitted"]
    assert [(each["list"], each["entry"]) for each in parts] == [*by_line]
    assert parts == lines


LISTS = """
list first extended ipv4
    10 permit tcp/80 hall to any
place first inbound on edge.a
list second extended ipv4
    10 permit tcp any to any
place second outbound on outer.sea
"""


def test_who_uses_a_line_behind_a_translation_is_told_as_it_sends(
    answer: Answer, tmp_path: Path
) -> None:
    (tmp_path / "p.gate").write_text(BEHIND + LISTS)
    (tmp_path / "f.csv").write_text(
        "source,destination,protocol,source port,destination port,packets,bytes\n"
        "10.0.0.9,198.51.100.7,tcp,40000,80,5,900\n10.0.0.9,198.51.100.7,tcp,40001,80,3,500\n"
        "10.0.0.9,198.51.100.8,tcp,40001,25,3,500\n"
    )
    document = answer("replay", "f.csv", "--top-permitted", "5")
    # What opens is counted once where it is permitted, and each time where it is denied.
    assert [
        (each["list"], [(line["legs"], line["packets"]) for line in each["lines"]])
        for each in document["lists"]
    ] == [("first", [(2, 2), (1, 3)]), ("second", [(4, 8), (0, 0)])]
    lines = document["top_permitted"]
    assert sorted(
        (each["list"], user["source"], user["conversations"], user["packets"])
        for each in lines
        for user in each["users"]
    ) == [("first", "10.0.0.9", 2, 8), ("second", "10.0.0.9", 2, 8)]


def test_the_line_that_is_used_is_the_one_that_a_trace_meets(answer: Answer, traffic: Path) -> None:
    lines = answer("--plan", "ternhaven.gate", *DAY, "--top-permitted", "1")["top_permitted"]
    for line in lines:
        (user,) = line["users"]
        traced = answer(
            "--plan",
            "ternhaven.gate",
            "trace",
            user["source"],
            user["destination"],
            user["service"],
            "--at",
            "2026-11-25 23:30",
        )
        met = [
            (each["list"], each["entry"])
            for each in traced["conversations"][0]["legs"][0]["crossings"]
            if each.get("list")
        ]
        assert (line["list"], line["entry"]) in met


FLOWS = "time,src,dst,proto,sport,dport\n"
FIRST = "2026-11-25T10:00:00Z,10.64.9.21,10.64.20.10,tcp,40000,8443\n"
SECOND = "2026-11-25T11:00:00Z,10.64.9.21,10.64.16.11,tcp,40001,22\n"


def test_only_what_came_after_the_last_look(
    run: Run, answer: Answer, demo: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", str(demo / "state"))
    flows = demo / "flows.csv"
    flows.write_text(FLOWS + FIRST)
    words = ("replay", "flows.csv", "--zone", "UTC")
    assert "1 conversation" in run(*words, "--since-last").stdout
    again = run(*words, "--since-last")
    assert "no conversation" in again.stdout
    assert "1 row of before the last look left out" in again.stderr
    flows.write_text(FLOWS + FIRST + SECOND)
    assert "2 conversations" not in run(*words, "--since-last").stdout
    assert "no conversation" in run(*words, "--since-last").stdout
    both = run(*words).stdout  # without the option all counts, and nothing is kept
    assert "permitted  1 conversation" in both
    assert "denied     1 conversation" in both
    assert "no conversation" in run(*words, "--since-last", "--workers", "1").stdout
    assert run("replay", "flows.csv", "--since-last", "--list", "kiosk-fence").returncode == 0
    refused = run("replay", "-", "--since-last")
    assert (refused.returncode, "standard input has none" in refused.stderr) == (2, True)
    (kept,) = (demo / "state").rglob("looks/*.json")
    kept.write_text('{"flows.csv": "yesterday"}')
    refused = run(*words, "--since-last")
    assert (refused.returncode, "delete it to begin anew" in refused.stderr) == (2, True)
