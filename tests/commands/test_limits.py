"""`at most N a second`: within and beyond, in every answer."""

from __future__ import annotations

import csv
import io
from pathlib import Path

import pytest

from tests.conftest import Ask, Run

PLAN = """\
subnet quay 192.0.2.0/28
outside sea
router breakwater{stateful}
    interface sea 203.0.113.2/30 on sea
    interface quay 192.0.2.1/28 on quay
    route default via 203.0.113.1
host timetable 192.0.2.5 on quay
host visitor 198.51.100.7 on sea
window night daily 22:00-06:00
list 110 extended ipv4
    10 permit https any to timetable at most 50 a second from each source log "the public timetable"
    20 permit tcp any to any established
    30 permit ping any to timetable during night at most 5 a minute
place 110 inbound on breakwater.sea
"""
LIMITED = PLAN.format(stateful="")


def verdict(answer: Ask, *words: str) -> str:
    (found,) = answer("trace", "visitor", "timetable", *words)["conversations"]
    return str(found["verdict"])


@pytest.mark.parametrize("stateful", ["", " stateful"])
def test_a_trace_is_within_and_with_flood_beyond(
    run: Run, answer: Ask, tmp_path: Path, stateful: str
) -> None:
    (tmp_path / "a.gate").write_text(PLAN.format(stateful=stateful))
    assert verdict(answer, "https") == "permitted"
    assert verdict(answer, "https", "--flood") == "denied"
    assert verdict(answer, "ping", "--at", "mon 23:00") == "permitted"
    assert (
        verdict(answer, "ping", "--at", "mon 23:00", "--flood")
        == verdict(answer, "ping", "--at", "mon 12:00")
        == "denied"
    )
    told = run("trace", "visitor", "timetable", "https")
    assert (
        "list 110 entry 10 permits at most 50 a second from each source: this is within; --flood "
        "shows what is beyond"
    ) in told.stdout
    assert (
        "this is beyond"
        in run("trace", "visitor", "timetable", "https", "--flood", "--expect", "deny").stdout
    )
    assert answer("trace", "visitor", "timetable", "https", "--flood")["flooding"] is True


def test_claims_are_within_and_with_flooding_beyond(run: Run, answer: Ask, tmp_path: Path) -> None:
    claims = (
        "expect permit https sea to timetable\nexpect deny https sea to timetable flooding "
        "over ipv4\n"
    )
    claims += (
        "expect permit https sea to timetable flooding\nexpect only https sea to timetable "
        "at mon 12:00\n"
    )
    claims += "expect only nothing sea to timetable flooding\n"
    (tmp_path / "a.gate").write_text(LIMITED + claims)
    found = answer("verify", status=1)["expectations"]
    assert [each["held"] for each in found] == [True, True, False, True, True]
    assert "beyond what the lists permit at most is denied" in run("verify").stdout


def test_reach_and_the_grid_tell_both(run: Run, answer: Ask, tmp_path: Path) -> None:
    (tmp_path / "a.gate").write_text(LIMITED)
    document = answer("reach", "sea", "timetable", "https")
    assert [
        part["verdict"]
        for each in document["answers"]
        for part in each["parts"]
        if not each["devices"]
    ] == ["permitted"]
    assert [
        part["verdict"]
        for each in document["beyond"]
        for part in each["parts"]
        if not each["devices"]
    ] == ["denied"]
    assert "beyond every at most" in run("reach", "sea", "timetable", "https").stdout
    assert answer("reach", "timetable", "sea", "https")["beyond"] == []
    cells = [
        answer("grid", "https", "--from", "visitor", "--to", "timetable", *flood)["cells"][0]
        for flood in ([], ["--flood"])
    ]
    assert [each["verdict"] for each in cells] == ["permitted", "denied"]
    cells = [
        answer("grid", "https", "--from", "sea", "--to", "quay", *flood)["cells"][0]
        for flood in ([], ["--flood"])
    ]
    assert [each["verdict"] for each in cells] == ["some", "denied"]


def test_compare_tells_what_differs_beyond(run: Run, answer: Ask, tmp_path: Path) -> None:
    (tmp_path / "a.gate").write_text(LIMITED)
    (tmp_path / "b.gate").write_text(LIMITED.replace(" at most 50 a second from each source", ""))
    found = answer("compare", "a.gate", "b.gate", status=1)["differences"]
    machines = [each for each in found if each["opens"] and not each["devices"]]
    assert [
        (each["was"]["verdict"], each["is"]["verdict"], each["exceeded"]) for each in machines
    ] == [("denied", "permitted", ["list 110 entry 10 (at most 50 a second from each source)"])]
    assert (
        "IPv4  beyond list 110 entry 10 (at most 50 a second from each source)"
        in run("compare", "a.gate", "b.gate").stdout
    )
    # Of another rate it is what is beyond the one and within the other.
    (tmp_path / "b.gate").write_text(LIMITED.replace("50", "60"))
    found = answer("compare", "a.gate", "b.gate", status=1)["differences"]
    assert {(each["is"]["verdict"], *each["exceeded"]) for each in found if each["opens"]} == {
        ("permitted", "list 110 entry 10 (at most 50 a second from each source)")
    }
    found = answer("compare", "b.gate", "a.gate", status=1)["differences"]
    assert {(each["is"]["verdict"], *each["exceeded"]) for each in found if each["opens"]} == {
        ("denied", "list 110 entry 10 (at most 50 a second from each source)")
    }
    # With a second limit behind the first, what is beyond the one may be within the other.
    (tmp_path / "b.gate").write_text(
        LIMITED.replace("    20", "    15 permit https any to timetable at most 9 a minute\n    20")
    )
    found = answer("compare", "a.gate", "b.gate", status=1)["differences"]
    assert [each["exceeded"] for each in found if each["opens"] and not each["devices"]] == [
        ["list 110 entry 10 (at most 50 a second from each source)"]
    ]


@pytest.mark.parametrize(
    ("entry", "problem"),
    [
        (
            "deny https any to timetable at most 5 a second",
            "at most says how much is permitted, and this entry is a deny",
        ),
        (
            "permit https any to timetable at most 0 a second",
            "at most 0 permits nothing; write deny",
        ),
        ("permit https any to timetable at most 5 a hour", "expected second or minute, not hour"),
        ("permit https any to timetable at 5 a second", "expected most, not 5"),
        (
            "permit https any to timetable at most 5 a second from source",
            "expected each, not source",
        ),
        (
            "permit https any to timetable log at most 5 a second",
            "at stands too late or twice; the order is",
        ),
        (
            "permit https any to timetable at most 5 a second during night",
            "during stands too late or twice; the order is",
        ),
    ],
)
def test_a_wrong_limit_is_told_with_its_mend(
    run: Run, tmp_path: Path, entry: str, problem: str
) -> None:
    (tmp_path / "a.gate").write_text(LIMITED + f"list more extended ipv4\n    10 {entry}\n")
    told = run("check")
    assert told.returncode == 2
    assert problem in told.stderr, told.stderr


def test_findings_look_at_what_is_beyond(answer: Ask, tmp_path: Path) -> None:
    path = tmp_path / "a.gate"

    def found(entries: str) -> set[tuple[str, int | None]]:
        path.write_text(
            LIMITED + f"list more extended ipv4\n{entries}place more outbound on breakwater.quay\n"
        )
        document = answer("check", status=1 if "error" in entries else 0)
        return {
            (each["finding"], each["entry"])
            for each in document["findings"]
            if each["list"] == "more"
        }

    # What is beyond the first gets as far as the second; beyond a limit that is permitted anyway
    # nothing changes.
    assert (
        found(
            "    10 permit ping any to any at most 5 a second\n    20 permit ping any to any at "
            "most 9 a minute\n    30 permit tcp any to any\n"
        )
        == set()
    )
    assert found(
        "    10 permit ping any to any at most 5 a second\n    20 permit ping any to any\n"
    ) == {("no-effect", 10)}
    assert found("    10 permit ping any to any at most 5 a second\n    otherwise permit\n") >= {
        ("no-effect", 10)
    }


def test_edits_and_formats_carry_it(run: Run, answer: Ask, tmp_path: Path) -> None:
    path = tmp_path / "a.gate"
    path.write_text(LIMITED)
    assert (
        run(
            "entry", "add", "110", "permit ssh any to timetable at most 3 a minute", "--yes"
        ).returncode
        == 0
    )
    entries = answer("lists", "110")["lists"][0]["entries"]
    assert [each["at_most"] for each in entries if each["entry"] in (10, 20, 40)] == [
        {"count": 50, "seconds": 1, "each_source": True},
        None,
        {"count": 3, "seconds": 60, "each_source": False},
    ]
    assert run("tidy", "--yes").returncode == 0
    refused = run("export", "ietf-acl", "110")
    assert refused.returncode == 1
    assert "ietf-acl has no limit of how many a second" in refused.stderr
    table = run("export", "csv", "110").stdout
    rows = list(csv.DictReader(io.StringIO(table)))
    assert [row["limit"] for row in rows if row["limit"]] == [
        "50 a second from each source",
        "5 a minute",
        "3 a minute",
    ]
    (tmp_path / "lists.csv").write_text(table)
    path.unlink()
    path.write_text(LIMITED.partition("list 110")[0])
    assert run("import", "csv", "lists.csv", "--yes").returncode == 0
    assert "during night at most 5 a minute" in path.read_text()
    again = answer("lists", "110")["lists"][0]["entries"]
    assert [each["at_most"] for each in again] == [each["at_most"] for each in entries]


def test_replay_counts_by_the_clock_of_the_traffic(run: Run, answer: Ask, tmp_path: Path) -> None:
    (tmp_path / "a.gate").write_text(
        LIMITED.replace("at most 50 a second from each source", "at most 2 a second")
    )
    rows = ["time,source,destination,protocol,source_port,destination_port,packets"]
    for number, second in enumerate((0.0, 0.1, 0.2, 0.9, 3.0)):
        rows.append(
            f"{1_796_119_200 + second:.1f},198.51.100.7,192.0.2.5,6,{50_000 + number},443,3"
        )
    (tmp_path / "flows.csv").write_text("\n".join(rows) + "\n")
    document = answer("replay", "flows.csv", "--zone", "UTC")
    # 2 tokens at 0.0; at 0.2 there is 0.4, at 0.9 there is 1.8 of one again.
    assert document["verdicts"]["permitted"]["conversations"] == 4
    assert document["verdicts"]["denied"]["conversations"] == 1
    (lines,) = [each["lines"] for each in document["lists"] if each["list"] == "110"]
    assert [each["beyond"] for each in lines] == [1, None, 0, None]
    assert "1 beyond" in run("replay", "flows.csv", "--zone", "UTC").stdout
