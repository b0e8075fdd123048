"""The commands that answer, as a person or a script runs them: text, JSON and exit status."""

from __future__ import annotations

import csv
import io
import json
import re
import subprocess
import sys
import xml.etree.ElementTree as ElementTree
from collections.abc import Callable
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import Run
from tests.documents import checked

Ask = Callable[..., Any]


def test_the_version_and_the_help_are_told(run: Run) -> None:
    assert run("--version").stdout.startswith("crossgate 0.")
    helped = run("--help").stdout
    for command in (
        "trace",
        "verify",
        "check",
        "reach",
        "compare",
        "entry",
        "fence",
        "tidy",
        "wild",
        "demo",
    ):
        assert command in helped


def test_a_trace_is_read_at_a_glance(run: Run, demo: Path) -> None:
    done = run("trace", "kiosk-1", "crane-2", "ping")
    assert done.returncode == 0
    assert "ping  kiosk-1 (10.64.9.21) to crane-2 (10.64.16.12)  IPv4" in done.stdout
    assert (
        "denied: kiosk-fence has no entry for it, so its otherwise line denies it on the way into "
        "lighthouse.v80"
    ) in done.stdout
    assert "\x1b" not in done.stdout
    assert demo.name


def test_a_trace_document_has_the_fields_that_are_relied_on(answer: Ask, demo: Path) -> None:
    document = answer("trace", "kiosk-1", "crane-2", "ping", "--at", "2026-12-01 08:30")
    assert (document["schema"], document["plan"], document["at"]) == (
        "crossgate/trace/1",
        "ternhaven.gate",
        "2026-12-01T08:30:00",
    )
    (conversation,) = document["conversations"]
    assert conversation["from"] == {"name": "kiosk-1", "address": "10.64.9.21"}
    assert (conversation["family"], conversation["service"], conversation["verdict"]) == (
        4,
        "icmp/8",
        "denied",
    )
    decided = {
        "point": "lighthouse.v80",
        "direction": "inbound",
        "list": "kiosk-fence",
        "entry": None,
        "action": "deny",
    }
    assert decided.items() <= conversation["decided"].items()
    assert conversation["decided"]["line"] > 0
    (leg,) = conversation["legs"]
    assert (leg["leg"], leg["outcome"], leg["crossings"][-1]) == (
        "request",
        "denied",
        conversation["decided"],
    )
    assert leg["crossings"][1]["list"] is None
    assert [
        each["family"]
        for each in answer("trace", "kiosk-1", "manifest", "tcp/8443")["conversations"]
    ] == [4, 6]
    assert demo.name


@pytest.mark.parametrize(
    ("words", "status"),
    [
        (("kiosk-1", "manifest", "tcp/8443", "--expect", "permit"), 0),
        (("kiosk-1", "manifest", "tcp/8443", "--expect", "deny"), 1),
        (("duty", "camera-3", "tcp/rtsp", "--expect", "half-open"), 0),
        (("duty", "crane-1", "ssh", "--at", "mon 23:00", "--expect", "permit"), 0),
        (("duty", "crane-1", "ssh", "--at", "mon 12:00", "--expect", "permit"), 1),
        (("visitor", "manifest", "https", "--as", "10.64.20.40", "--expect", "deny"), 0),
        (
            (
                "kiosk-1",
                "manifest",
                "tcp/8443",
                "-6",
                "--source-port",
                "8443",
                "--expect",
                "permit",
            ),
            0,
        ),
    ],
)
def test_a_trace_can_be_a_test(run: Run, demo: Path, words: tuple[str, ...], status: int) -> None:
    done = run("trace", *words)
    assert done.returncode == status, done.stderr
    assert demo.name


@pytest.mark.parametrize(
    ("words", "says"),
    [
        (("trace", "kiosk-9", "manifest", "ping"), "no host kiosk-9; there is kiosk-"),
        (("trace", "kiosk-1", "manifest", "tcp"), "is every TCP port, and a traced packet has one"),
        (("trace", "kiosk-1", "manifest", "tcp/99999"), "no port: 0 to 65535"),
        (("trace", "kiosk-1", "manifest", "bokking"), "there is booking"),
        (("trace", "kiosk-1", "crane-1", "ping", "-6"), "do not both have IPv6 addresses"),
        (("trace", "kiosk-1", "manifest", "ping", "-4", "-6"), "exclude each other"),
        (("trace", "kiosk-1", "manifest", "ping", "--at", "noon"), "--at noon: expected a time"),
        (
            ("trace", "kiosk-1", "manifest", "ping", "--as", "10.0.0"),
            "--as: 10.0.0 is no IPv4 address",
        ),
        (("lists", "kiosk-fense"), "there is kiosk-fence"),
        (("grid", "--from", "nowhere"), "no name nowhere"),
        (("grid", "--csv", "--json"), "exclude each other"),
        (("reach", "tickets", "harbor"), "there is harbour"),
        (("reach", "tickets", "harbour", "nonsense"), "no service nonsense"),
        (("reach", "tickets", "jetty.3"), "is a port and has no addresses"),
        (("compare", "missing.gate"), "there is no file missing.gate"),
        (("compare", "proposal/ternhaven.gate", "--list", "nope"), "no list nope"),
        (("check", "--sarif", "missing/out.sarif"), "cannot be written"),
        (("verify", "--junit", "."), "cannot be written"),
        (("--plan", "missing.gate", "lists"), "there is no file missing.gate"),
        (("--plan", ".", "lists"), "is a folder"),
    ],
)
def test_what_cannot_be_answered_is_told_with_status_2(
    run: Run, demo: Path, words: tuple[str, ...], says: str
) -> None:
    done = run(*words)
    assert done.returncode == 2
    assert says in done.stderr
    assert done.stdout == ""
    assert demo.name


def test_which_plan_is_taken(run: Run, launch: Run, tmp_path: Path) -> None:
    assert "there is no plan (*.gate) in this folder" in run("lists").stderr
    (tmp_path / "one.gate").write_text('title "one"\n')
    assert run("lists").stdout.startswith("one")
    (tmp_path / "two.gate").write_text('title "two"\n')
    done = run("lists")
    assert (done.returncode, "there are 2 plans here (one.gate, two.gate)" in done.stderr) == (
        2,
        True,
    )
    assert run("--plan", "two.gate", "lists").stdout.startswith("two")
    import os

    assert launch("lists", env={**os.environ, "CROSSGATE_PLAN": "two.gate"}).stdout.startswith(
        "two"
    )


def test_an_empty_plan_is_no_error(run: Run, tmp_path: Path) -> None:
    (tmp_path / "empty.gate").write_bytes(b"")
    assert "has no lists yet" in run("lists").stdout
    assert "is empty" in run("check").stdout
    assert "expects nothing yet" in run("verify").stdout
    assert run("grid").returncode == 2
    assert [run(each).returncode for each in ("lists", "check", "verify", "tally")] == [0, 0, 0, 0]


def test_errors_of_a_plan_go_to_standard_error_with_their_places(run: Run, tmp_path: Path) -> None:
    (tmp_path / "bad.gate").write_text(
        "list l extended ipv4\n    permit tcp/70000 any to any\nplace L inbound on r.i\n"
    )
    done = run("check")
    assert done.returncode == 2
    assert "bad.gate:2:16: 70000 is no port: 0 to 65535" in done.stderr
    assert "bad.gate:3:7: no list L; there is l" in done.stderr


@pytest.mark.process
def test_a_closed_pipe_is_no_error(demo: Path) -> None:
    command = (
        f"{sys.executable} -m crossgate grid --at 'mon 12:00' | head -1; exit ${{PIPESTATUS[0]}}"
    )
    done = subprocess.run(
        ["bash", "-c", command], cwd=demo, capture_output=True, text=True, check=False
    )
    assert (done.returncode, done.stderr) == (0, "")


def test_lists_show_what_is_in_force(run: Run, answer: Ask, demo: Path) -> None:
    shut, open_ = (run("lists", "12", "--at", f"mon {hour}").stdout for hour in ("12:00", "23:00"))
    assert re.search(r"30 +shut", shut)
    assert re.search(r"30 +open", open_)
    assert "(not written: this is how every list ends)" in shut
    document = answer("lists", "12", "--at", "mon 12:00")
    (only,) = document["lists"]
    assert [entry["in_force"] for entry in only["entries"]] == [True, True, False]
    assert only["entries"][1]["source"] == ["10.64.32.10 wild 0.0.3.0"]
    assert demo.name


def test_verify_proves_and_tells_what_breaks(
    run: Run, answer: Ask, demo: Path, tmp_path: Path
) -> None:
    document = answer("verify")
    assert (document["schema"], document["failed"], document["held"]) == (
        "crossgate/verify/1",
        0,
        len(document["expectations"]),
    )
    assert {"line", "text", "kind", "held", "why", "counterexample"} <= document["expectations"][
        0
    ].keys()
    assert {"list", "entry", "line"} == document["unreached"][0].keys()
    plan = tmp_path / "ternhaven.gate"
    plan.write_text(plan.read_text() + "expect permit ssh tickets to harbour over ipv4\n")
    done = run("verify", "--junit", "out.xml")
    assert done.returncode == 1
    assert "failed" in done.stdout
    assert (
        "needed: in list kiosk-fence, at the end: 50 permit ssh tickets to harbour" in done.stdout
    )
    suite = ElementTree.parse(tmp_path / "out.xml").getroot().find("testsuite")
    assert suite is not None
    assert suite.get("failures") == "1"
    failed = answer("verify", status=1)["expectations"][-1]
    assert failed["counterexample"]["destination_port"] == 22
    assert demo.name


def test_verify_with_something_down(run: Run, answer: Ask, demo: Path) -> None:
    assert run("verify", "--any-one-down").stdout.startswith(
        "28 expectations held, 0 failed\n\nbreakwater down: 6 claims fail\n"
    )
    document = answer("verify", "--any-one-down", status=1)
    assert (document["down"], document["failed"]) == ([], 0)
    outages = {each["down"]: each for each in document["outages"]}
    assert outages["lighthouse.1 to jetty.24"]["points"] == ["lighthouse.1", "jetty.24"]
    broken = outages["breakwater"]["broken"]
    assert ("expect permit https guest-1 to visitor", "unroutable") in [
        (each["text"], each["verdict"]) for each in broken
    ]
    assert (
        "breakwater.land" not in outages or not outages["breakwater.land"]["broken"]
    )  # groyne is another way to the quay
    done = run("verify", "--without", "jetty")
    assert done.returncode == 1
    assert done.stdout.startswith("While jetty is down:\n\nfailed")
    document = answer("verify", "--without", "lighthouse.up", "--without", "jetty", status=1)
    assert document["down"] == ["jetty itself", "lighthouse.up"]
    assert document["outages"] is None
    assert (
        run("verify", "--without", "lighthous").stderr
        == "crossgate: no device lighthous; there is lighthouse\n"
    )
    assert demo.name


def test_a_grid_in_letters_csv_and_json(
    run: Run, answer: Ask, demo: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    done = run("grid", "ping", "--from", "kiosk-1", "--to", "manifest", "--at", "mon 12:00")
    assert done.returncode == 0
    assert "kiosk-1" in done.stdout
    assert "D denied" in done.stdout
    monkeypatch.setenv("COLUMNS", "80")
    assert max(map(len, run("grid", "ping", "--at", "mon 12:00").stdout.split("\n"))) <= 80
    rows = list(
        csv.DictReader(
            io.StringIO(run("grid", "ping", "--from", "kiosk-1", "--to", "crane-1", "--csv").stdout)
        )
    )
    assert [(row["verdict"], row["list"], row["entry"]) for row in rows] == [
        ("denied", "kiosk-fence", "otherwise")
    ]
    document = answer("grid", "tcp/8443", "--from", "kiosk-1", "--to", "manifest")
    assert [(cell["family"], cell["verdict"]) for cell in document["cells"]] == [
        (4, "permitted"),
        (6, "permitted"),
    ]


def test_an_error_in_a_long_line_shows_what_surrounds_it(
    run: Run, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "long.gate").write_text(
        "list fence extended ipv4\n"
        f"    10 permit ip any to {'10.64.32.10, ' * 9}harbur during night\n"
    )
    whole = run("check", "long.gate").stderr.splitlines()
    assert whole[1].endswith("harbur during night")
    monkeypatch.setenv("COLUMNS", "60")
    cut = run("check", "long.gate").stderr.splitlines()
    assert cut[0] == whole[0]
    assert (cut[1], cut[2]) == (
        "    … 10.64.32.10, 10.64.32.10, harbur during night",
        "                                ^~~~~~",
    )


def test_a_grid_of_sets_is_proved_for_the_whole(run: Run, answer: Ask, demo: Path) -> None:
    words = (
        "grid",
        "ping",
        "booking",
        "--from",
        "tickets",
        "--from",
        "cranes",
        "--from",
        "internet",
        "--to",
        "harbour",
        "--to",
        "pier",
    )
    told = run(*words, "--at", "mon 12:00").stdout.splitlines()
    assert [line.split() for line in told[2:7]] == [
        ["ping"],
        ["harbour", "pier"],
        ["tickets", "D", "D"],
        ["cranes", "s", "H"],
        ["internet", "D", "D"],
    ]
    assert told[8:12][2].split() == ["tickets", "s", "D"]
    assert "s some of it (reach tells)" in told[-1]
    cells = answer(*words)["cells"]
    assert {
        (each["from"], each["to"], each["service"], each["family"], each["verdict"])
        for each in cells
    } >= {
        ("tickets", "harbour", "booking", 6, "some"),
        ("cranes", "pier", "ping", 4, "half-open"),
    }
    rows = list(csv.DictReader(io.StringIO(run(*words, "--csv").stdout)))
    assert {(row["from"], row["packet"], row["verdict"], row["list"]) for row in rows} >= {
        ("tickets", "", "denied", "")
    }
    one_by_one = answer("grid", "ping", "--from", "tickets", "--to", "crane-1", "--hosts")["cells"]
    assert [each["from"] for each in one_by_one] == ["kiosk-1", "kiosk-2", "laptop"]
    changed = answer(
        "grid",
        "tcp/80",
        "--from",
        "guests",
        "--to",
        "harbour",
        "--against",
        "proposal/ternhaven.gate",
        status=1,
    )["changes"]
    assert [(each["was"], each["is"]) for each in changed if each["family"] == 4] == [
        ("denied", "permitted")
    ]


def test_equal_rows_of_many_names_are_one(run: Run, answer: Ask, tmp_path: Path) -> None:
    hosts = "".join(f"host h{n} 10.0.{n % 3}.{n + 10} on s{n % 3}\n" for n in range(24))
    subnets = "".join(f"subnet s{n} 10.0.{n}.0/24\n" for n in range(3))
    interfaces = "".join(f"    interface i{n} 10.0.{n}.1/24 on s{n}\n" for n in range(3))
    (tmp_path / "p.gate").write_text(
        f"{subnets}router r\n{interfaces}{hosts}"
        "list l extended ipv4\n    deny tcp/80 s1 to s2\n    deny tcp/80 s1 to h0\n"
        "    otherwise permit\nplace l inbound on r.i1\n"
    )
    folded = run("grid", "tcp/80").stdout.splitlines()
    every = run("grid", "tcp/80", "--every").stdout.splitlines()
    rows = {line.split()[0]: line for line in every if re.match(r"h\d+ +\d+ ", line)}
    assert len(rows) == 24
    shown = [line for line in folded if re.match(r"h\d+ \+\d+ +\d+ ", line)]
    assert [line.split()[:2] for line in shown] == [["h0", "+15"], ["h1", "+7"]]
    assert any("24 names in 2 rows" in line for line in folded)
    named = [each.split() for line in folded for each in line.strip().split(", ")]
    assert {name for number, name in filter(lambda each: len(each) == 2, named)} >= {*rows}
    for line in shown:  # what stands there is what each of them has, but of itself
        letters = line.split()[3:]
        first = int(line.split()[0][1:])
        for number in range(24):
            if (number % 3 == 1) is (first % 3 == 1):
                own = rows[f"h{number}"].split()[2:]
                assert all(a == b or "-" in (a, b) for a, b in zip(letters, own, strict=True))


def test_a_grid_needs_no_hosts(run: Run, tmp_path: Path) -> None:
    (tmp_path / "net.gate").write_text(
        "subnet a 10.0.0.0/24\nsubnet b 10.0.1.0/24\nrouter r\n    interface a 10.0.0.1/24\n    "
        "interface b 10.0.1.1/24\n"
        "list l standard ipv4\n    10 deny any\nplace l inbound on r.a\n"
    )
    told = run("grid").stdout.splitlines()
    assert [line.split() for line in told[:4]] == [
        ["ping"],
        ["1", "2"],
        ["a", "1", "p", "D"],
        ["b", "2", "H", "p"],
    ]
    (tmp_path / "net.gate").write_text("")
    assert "no hosts and no subnets yet" in run("grid").stderr


def test_a_grid_against_another_plan_shows_what_changed(run: Run, answer: Ask, demo: Path) -> None:
    done = run("grid", "https", "--against", "proposal/ternhaven.gate", "--at", "mon 12:00")
    assert done.returncode == 1
    assert re.search(r"guest-1 +to +camera-3 +https +IPv4 +was +denied +is +half-open", done.stdout)
    assert run("grid", "https", "--against", "ternhaven.gate").returncode == 0
    changes = answer("grid", "https", "--against", "proposal/ternhaven.gate", status=1)["changes"]
    assert {"from", "to", "service", "family", "was", "is"} == changes[0].keys()
    assert demo.name


PEOPLED = """subnet a 10.0.0.0/24
subnet b 10.0.1.0/24
subnet c 10.0.2.0/24
router r
    interface a 10.0.0.1/24
    interface b 10.0.1.1/24
    interface c 10.0.2.1/24
group few 10.0.2.0/28
host h 10.0.0.5
expect permit tcp h to b
"""


def test_a_grid_leaves_no_name_out_without_saying_so(run: Run, answer: Ask, tmp_path: Path) -> None:
    (tmp_path / "net.gate").write_text(PEOPLED + "host k 10.0.1.5\n")
    (tmp_path / "other").mkdir()
    (tmp_path / "other" / "new.gate").write_text(PEOPLED + "host m 10.0.1.5\n")
    left = (
        "left out: c (no host is there); tcp (single packets cannot stand for it; ends that "
        "are sets can have it)"
    )
    assert run("grid").stdout.splitlines()[-1] == left
    assert answer("grid")["left_out"] == {"names": ["c"], "services": ["tcp"]}
    assert (
        run("grid", "ping", "--hosts", "--from", "few", "--from", "a").stdout.splitlines()[-1]
        == "left out: few, c (no host is there)"
    )
    whole = run("grid", "--from", "a", "--to", "b").stdout
    assert ("tcp\n" in whole, "left out" in whole) == (True, False)
    changes = answer("grid", "ping", "--against", "other/new.gate", status=1)["changes"]
    assert {(each["from"], each["to"], each["was"], each["is"]) for each in changes} == {
        ("h", "k", "permitted", None),
        ("k", "h", "permitted", None),
        ("h", "m", None, "permitted"),
        ("m", "h", None, "permitted"),
    }
    assert run("grid", "ping", "--from", "m", "--against", "other/new.gate").stdout.startswith(
        "m  to  h  ping  IPv4  was  not there  is  permitted"
    )
    done = run("draw", "grid", "ping", "--against", "other/new.gate", "--out", "grid.svg")
    assert done.returncode == 0, done.stderr
    drawn = (tmp_path / "grid.svg").read_text()
    for told in (
        "left out: c (no host is there)",
        "only in net.gate: k",
        "only in other/new.gate: m",
    ):
        assert told in drawn
    assert "no name nobody" in run("grid", "--from", "nobody", "--against", "other/new.gate").stderr


def test_points_tell_where_a_list_would_stand_well(run: Run, answer: Ask, demo: Path) -> None:
    told = run("points", "guest-1", "crane-2").stdout
    assert "a standard list suits outbound on lighthouse.v160" in told
    assert "an extended list suits inbound on lighthouse.v400" in told
    document = answer("points", "guest-1", "crane-2")
    assert document["conversations"][0]["points"][0]["leg"] == "there"
    assert demo.name


def test_the_tally_adds_up_and_starts_anew_for_an_edited_entry(
    run: Run, answer: Ask, demo: Path, tmp_path: Path
) -> None:
    def hits() -> dict[int | None, int]:
        lists = {each["list"]: each["hits"] for each in answer("tally")["lists"]}
        return {hit["entry"]: hit["hits"] for hit in lists["kiosk-fence"]}

    assert "nothing is counted yet" in run("tally").stdout
    for _ in range(2):
        assert run("trace", "kiosk-2", "manifest", "telnet", "-4", "--tally").returncode == 0
    assert hits()[30] == 2
    assert " 2x" in run("lists", "kiosk-fence").stdout
    plan = tmp_path / "ternhaven.gate"
    plan.write_text(plan.read_text().replace("reject tcp/telnet", "deny tcp/telnet"))
    assert hits()[30] == 0
    plan.write_text(plan.read_text().replace("deny tcp/telnet", "reject tcp/telnet"))
    assert hits()[30] == 2
    assert "is empty" in run("tally", "clear").stdout
    assert sum(hits().values()) == 0
    assert demo.name


@pytest.mark.process
def test_two_tallies_at_once_lose_nothing(answer: Ask, demo: Path) -> None:
    command = [
        sys.executable,
        "-m",
        "crossgate",
        "trace",
        "kiosk-2",
        "manifest",
        "telnet",
        "-4",
        "--tally",
    ]
    running = [subprocess.Popen(command, cwd=demo, stdout=subprocess.DEVNULL) for _ in range(6)]
    assert [each.wait() for each in running] == [0] * 6
    lists = {each["list"]: each["hits"] for each in answer("tally")["lists"]}
    assert {hit["entry"]: hit["hits"] for hit in lists["kiosk-fence"]}[30] == 6


def test_check_tells_mistakes_and_what_counts(
    run: Run, answer: Ask, demo: Path, tmp_path: Path
) -> None:
    assert run("check").returncode == 0
    assert run("check", "--strict").returncode == 1
    document = answer("check")
    assert document["schema"] == "crossgate/check/1"
    assert {
        "finding",
        "severity",
        "line",
        "list",
        "entry",
        "message",
        "because",
        "packet",
    } <= document["findings"][0].keys()
    assert [each["finding"] for each in document["accepted"]] == [
        "one-family",
        "bogus-source",
        "bogus-source",
    ]
    assert document["accepted"][0]["reason"].startswith("IPv6 at this socket")
    plan = tmp_path / "ternhaven.gate"
    plan.write_text(
        plan.read_text().replace("10.64.32.10 wild 0.0.3.0", "10.64.32.10 wild 255.255.252.0")
    )
    done = run("check", "--sarif", "out.sarif")
    assert done.returncode == 1
    assert "error mask-reversed in list 12 entry 20" in done.stdout
    sarif = json.loads((tmp_path / "out.sarif").read_text())
    assert (sarif["version"], sarif["runs"][0]["tool"]["driver"]["name"]) == ("2.1.0", "Cross Gate")
    results = sarif["runs"][0]["results"]
    rules = [rule["id"] for rule in sarif["runs"][0]["tool"]["driver"]["rules"]]
    assert all(rules[result["ruleIndex"]] == result["ruleId"] for result in results)
    (reversed_mask,) = [result for result in results if result["ruleId"] == "mask-reversed"]
    line = plan.read_text().split("\n")[
        reversed_mask["locations"][0]["physicalLocation"]["region"]["startLine"] - 1
    ]
    assert "255.255.252.0" in line
    assert [
        result["suppressions"][0]["kind"] for result in results if "suppressions" in result
    ] == ["inSource"] * 3
    assert demo.name


def test_reach_tells_exactly_what_gets_through(run: Run, answer: Ask, demo: Path) -> None:
    told = run("reach", "tickets", "harbour", "--at", "mon 12:00").stdout
    assert "booking  tickets to manifest" in told
    assert "denied by kiosk-fence 30, inbound on lighthouse.v80" in told
    assert "denied by kiosk-fence otherwise, inbound on lighthouse.v80\n    everything else" in told
    told = run("reach", "tickets", "harbour", "--at", "mon 12:00", "--all").stdout
    assert "ip but tcp/23,53 and udp/53  tickets but laptop to harbour but manifest" in told
    document = answer("reach", "guests", "cranes", "ssh")
    only = next(each for each in document["answers"] if not each["devices"])
    assert [part["verdict"] for part in only["parts"]] == ["denied"]
    assert only["parts"][0]["decided"]["list"] == "guest-fence"
    assert only["parts"][0]["lines"] == [
        {"service": "ssh", "source": "guests", "destination": "cranes"}
    ]
    assert "devices' own addresses" in run("reach", "tickets", "harbour", "--devices").stdout
    assert "open no conversation" in run("reach", "tickets", "harbour", "--strays").stdout
    assert demo.name


def test_many_are_traced_in_a_line_each(run: Run, answer: Ask, demo: Path) -> None:
    done = run("trace", "kiosk-1,kiosk-2", "servers", "booking", "ping", "-4", "--at", "mon 12:00")
    assert done.stdout.splitlines()[1:] == [
        "kiosk-1 to manifest  booking  permitted  kiosk-port 10, kiosk-fence 10",
        "kiosk-1 to manifest  ping     denied     kiosk-fence otherwise, inbound on lighthouse.v80",
        "kiosk-1 to resolver  booking  denied     kiosk-fence otherwise, inbound on lighthouse.v80",
        "kiosk-1 to resolver  ping     denied     kiosk-fence otherwise, inbound on lighthouse.v80",
        "kiosk-2 to manifest  booking  permitted  banned otherwise, kiosk-fence 10",
        "kiosk-2 to manifest  ping     denied     kiosk-fence otherwise, inbound on lighthouse.v80",
        "kiosk-2 to resolver  booking  denied     kiosk-fence otherwise, inbound on lighthouse.v80",
        "kiosk-2 to resolver  ping     denied     kiosk-fence otherwise, inbound on lighthouse.v80",
        "2 permitted, 6 denied",
    ]
    assert (
        len(answer("trace", "kiosk-1,kiosk-2", "servers", "booking", "ping", "-4")["conversations"])
        == 12
    )
    full = run("trace", "kiosk-1,kiosk-2", "manifest", "ping", "-4", "--full").stdout
    assert full.count("hears nothing and times out") == 2
    # One alone is shown whole, unless it is to be short; parts of a service that fare otherwise are
    # told apart.
    assert "SYN" in run("trace", "kiosk-1", "manifest", "https").stdout
    short = run(
        "trace", "kiosk-1", "manifest", "tcp/22,tcp/8443", "--short", "-4"
    ).stdout.splitlines()
    assert [line.split()[3:5] for line in short[1:3]] == [
        ["tcp/22", "denied"],
        ["tcp/8443", "permitted"],
    ]
    assert "list 12 entry 10" in run("trace", "cargo", "manifest", "https").stdout
    # Of several, pairs of one machine or without a common family are left out; where nothing is
    # left that is told.
    assert [
        line.split()[:3]
        for line in run("trace", "servers", "servers", "ping", "-4").stdout.splitlines()[1:3]
    ] == [
        ["manifest", "to", "resolver"],
        ["resolver", "to", "manifest"],
    ]
    assert "crane-1" not in run("trace", "kiosk-1", "cranes,manifest", "ping", "-6").stdout
    assert run("trace", "kiosk-1", "cranes", "ping", "-6").returncode == 2
    both_names = run("trace", "kiosk-1,lighthouse", "lighthouse.v80,manifest", "ping", "-4")
    assert [line.split()[:3] for line in both_names.stdout.splitlines()[1:4]] == [
        ["kiosk-1", "to", "lighthouse.v80"],
        ["kiosk-1", "to", "manifest"],
        ["lighthouse", "to", "manifest"],
    ], both_names.stderr
    for words, told in (
        (("berth-2", "manifest", "ping"), "berth-2 has no host of the plan"),
        (("kiosk-1", "to", ",", "ping"), "an address or a name is missing beside a comma"),
        (
            ("kiosk-1,kiosk-2", "servers", "domain", "bokking"),
            "no service bokking; there is booking",
        ),
        (
            ("kiosk-1", "manifest", "ping", "--full", "--short"),
            "--full and --short exclude each other",
        ),
    ):
        refused = run("trace", *words)
        assert (refused.returncode, told in refused.stderr) == (2, True), refused.stderr


def test_a_name_may_be_claimed(run: Run, answer: Ask, demo: Path) -> None:
    documents = answer("trace", "visitor", "manifest", "https", "--as", "servers,duty")[
        "conversations"
    ]
    assert [each["as"] for each in documents if each["family"] == 4] == [
        "10.64.20.10",
        "10.64.20.53",
        "10.64.20.40",
    ]
    assert {each["verdict"] for each in documents} == {"denied"}
    told = run("trace", "visitor", "manifest", "https", "--as", "servers")
    assert "visitor as 10.64.20.53 to manifest" in told.stdout
    assert (
        "--as: no host nobody"
        in run("trace", "visitor", "manifest", "https", "--as", "nobody").stderr
    )


def test_places_without_a_list_are_one_line_unless_every(run: Run, answer: Ask, demo: Path) -> None:
    words = ("trace", "kiosk-1", "manifest", "tcp/8443", "-4")
    crossings = sum(len(leg["crossings"]) for leg in answer(*words)["conversations"][0]["legs"])
    folded, every = run(*words).stdout.splitlines(), run(*words, "--every").stdout.splitlines()
    assert len(every) == crossings + 2
    assert (len(folded) < len(every), "3 places" in folded[2], "no list" in folded[2]) == (
        True,
        True,
        True,
    )


def test_lists_in_a_line_each_and_by_where_they_stand(run: Run, answer: Ask, demo: Path) -> None:
    told = run("lists", "--short").stdout.splitlines()
    assert len(told) == 1 + len(answer("lists")["lists"])
    assert told[4].split() == [
        "kiosk-fence",
        "extended",
        "ipv4",
        "4",
        "entries",
        "inbound",
        "on",
        "lighthouse.v80",
    ]
    assert [
        line.split()[0]
        for line in run("lists", "--short", "--on", "lighthouse").stdout.splitlines()[1:]
    ] == [
        "12",
        "duty-only",
        "duty-only6",
        "kiosk-fence",
        "kiosk-fence6",
    ]
    assert [each["list"] for each in answer("lists", "--on", "guests")["lists"]] == [
        "guest-fence",
        "guest-fence6",
    ]
    assert [each["list"] for each in answer("lists", "--on", "lighthouse.v80")["lists"]] == [
        "kiosk-fence",
        "kiosk-fence6",
    ]
    assert run("lists", "--on", "pier.up").stdout.splitlines()[-1] == "no list stands on pier.up"
    assert "no device nowhere" in run("lists", "--on", "nowhere").stderr
    run("verify", "--tally")
    run("lift", "kiosk-port")
    told = run("lists", "--short").stdout.splitlines()
    assert told[4].split()[5].endswith("x")
    assert told[6].endswith("placed nowhere")


def test_what_fails_stands_first_with_what_would_mend_it(run: Run, answer: Ask, demo: Path) -> None:
    plan = demo / "ternhaven.gate"
    held = run("verify").stdout
    assert "held  " not in held
    assert held.rstrip().endswith("28 expectations held, 0 failed")
    assert run("verify", "--full").stdout.count("held  ") == 28
    plan.write_text(
        plan.read_text()
        + (
            "expect permit ssh kiosk-1 to manifest over ipv4\nexpect deny booking tickets to "
            "manifest over ipv4\n"
        )
    )
    told = run("verify").stdout.splitlines()
    assert told[0].split()[:2] == ["failed", "220"]
    assert (
        told[2].strip()
        == "needed: in list kiosk-fence, at the end: 50 permit ssh kiosk-1 to manifest"
    )
    assert "is permitted: kiosk-fence 10 permits it on the way into lighthouse.v80" in told[4]
    for result in answer("verify", status=1)["expectations"][-2:]:
        where, _, entry = result["needed"].partition(": ")
        assert run("entry", "add", where.split()[2].rstrip(","), entry, "--anyway").returncode == 0
        now = checked(run("verify", "--json").stdout)["expectations"]
        assert next(each for each in now if each["text"] == result["text"])["held"]


@pytest.mark.parametrize(
    ("text", "is_read"),
    [
        ("MON 12:00", lambda now: now.weekday() == 0 and (now.hour, now.minute) == (12, 0)),
        (
            "21:30",
            lambda now: (now.hour, now.minute) == (21, 30) and now.date() == datetime.now().date(),
        ),
        ("now", lambda now: abs(now - datetime.now()) < timedelta(minutes=1)),
        ("Tue 2026-12-01 23:00", lambda now: now == datetime(2026, 12, 1, 23)),
        ("24:00", lambda now: (now.hour, now.minute) == (0, 0)),
    ],
)
def test_a_time_in_every_form(
    answer: Ask, demo: Path, text: str, is_read: Callable[[datetime], bool]
) -> None:
    assert is_read(datetime.fromisoformat(answer("lists", "--at", text)["at"]))


def test_a_time_that_the_tool_printed_is_read_back(run: Run, demo: Path) -> None:
    printed = (
        run("grid", "ping", "--at", "mon 23:00")
        .stdout.splitlines()[0]
        .removeprefix("at ")
        .removesuffix(", no TLS")
    )
    assert run("grid", "ping", "--at", printed).stdout.splitlines()[0] == f"at {printed}, no TLS"
    wrong = run("grid", "ping", "--at", "mon 2026-12-01 23:00")
    assert (wrong.returncode, "2026-12-01 is a Tuesday" in wrong.stderr) == (2, True)


def test_a_mask_of_no_told_kind_is_answered_as_both(run: Run, answer: Ask) -> None:
    told = run("wild", "10.20.0.0", "255.255.255.0").stdout
    assert (
        told.index("as a netmask")
        < told.index("10.20.0.0/24")
        < told.index("as a wildcard, which it does not look like")
    )
    document = answer("wild", "10.20.0.0", "255.255.255.0")
    assert [each["pattern"] for each in document["readings"]] == [
        "10.20.0.0 mask 255.255.255.0",
        "10.20.0.0 wild 255.255.255.0",
    ]
    assert (document["count"], document["readings"][1]["count"]) == (256, 2**24)
    alone = run("wild", "255.255.254.0").stdout.splitlines()
    assert [line.split() for line in alone[:4]] == [
        ["as", "a", "netmask"],
        ["count", "512", "addresses", "around", "each", "address"],
        ["prefix", "/23"],
        ["wildcard", "0.0.1.255"],
    ]
    assert "255.255.254.0 as a wildcard matches one address in 512" in alone[-1]
    # Scattered bits are a wildcard and no netmask; an address is no mask.
    assert "netmask" not in run("wild", "10.20.0.0", "0.0.3.0").stdout.replace(
        "no netmask says", ""
    )
    assert "readings" not in answer("wild", "10.1.1.1")


def git(folder: Path, *words: str) -> None:
    subprocess.run(
        ["git", "-c", "user.name=x", "-c", "user.email=x@example.com", *words],
        cwd=folder,
        check=True,
        capture_output=True,
    )


def test_compare_takes_two_plans_and_names_both(run: Run, answer: Ask, demo: Path) -> None:
    (demo / "old.gate").write_text((demo / "ternhaven.gate").read_text())
    done = run("compare", "old.gate", "proposal/ternhaven.gate")
    assert done.returncode == 1
    assert done.stdout.startswith("was: old.gate   is: proposal/ternhaven.gate\n")
    assert answer("compare", "old.gate", "proposal/ternhaven.gate", status=1)["plan"] == "old.gate"
    back = run("compare", "proposal/ternhaven.gate", "old.gate")
    assert "was permitted by guest-fence 15" in back.stdout
    for words in ((), ("a.gate", "b.gate", "c.gate")):
        assert (
            "compare takes the other plan, or two: crossgate compare OLD NEW; or --since REV"
            in run("--plan", "old.gate", "compare", *words).stderr
        )


def test_an_address_that_a_device_had_or_gets_is_no_exception_to_what_differs(
    run: Run, tmp_path: Path
) -> None:
    text = """\
subnet a 10.0.0.0/24
subnet b 10.0.1.0/24
router r
    interface a 10.0.0.1/24 on a
    interface b 10.0.1.1/24 on b
list gate extended ipv4
    10 permit ip any to any
place gate inbound on r.a
"""
    other = text.replace("10.0.0.1/24", "10.0.0.254/24").replace("permit", "deny")
    (tmp_path / "old.gate").write_text(text)
    (tmp_path / "new.gate").write_text(other)
    told = run("compare", "old.gate", "new.gate").stdout.splitlines()
    assert [" ".join(each.split()) for each in told if each.startswith("    ip")] == [
        "ip a to b",
        "ip b to a",
    ]


def test_compare_since_a_revision(run: Run, answer: Ask, tmp_path: Path, demo: Path) -> None:
    plan, names = demo / "ternhaven.gate", demo / "names.gate"
    text = plan.read_text()
    names.write_text("group officers duty\n")
    plan.write_text(text + 'include "names.gate"\n')
    words = ("--plan", "ternhaven.gate", "compare", "--since", "HEAD")
    assert "does not lie in a git repository" in run(*words).stderr
    git(demo, "init", "-q")
    git(demo, "add", "ternhaven.gate", "names.gate")
    git(demo, "commit", "-qm", "first")
    same = run(*words)
    assert (
        same.returncode,
        "no difference: ternhaven.gate at HEAD and ternhaven.gate" in same.stdout,
    ) == (0, True), same.stderr
    # An include's change since then is seen too, though the plan's own file is the same.
    names.write_text(
        "group officers duty\nlist 13 standard ipv4\n    10 deny manifest\n    20 permit "
        "any\nplace 13 inbound on subnet cargo\n"
    )
    changed = run(*words)
    assert (changed.returncode, changed.stdout.splitlines()[0]) == (
        1,
        "was: ternhaven.gate at HEAD   is: ternhaven.gate",
    ), changed.stderr
    assert answer(*words, status=1)["plan"] == "ternhaven.gate at HEAD"
    assert "git knows no revision nonesuch" in run(*words[:-1], "nonesuch").stderr
    assert "git knows no revision --all" in run(*words[:-1], "--all").stderr
    assert (
        "--since compares the plan with an older version of itself"
        in run(*words, "proposal/ternhaven.gate").stderr
    )
    (demo / "new.gate").write_text(text)
    assert (
        "there is no file new.gate at HEAD"
        in run("--plan", "new.gate", "compare", "--since", "HEAD").stderr
    )
    outside = tmp_path.parent / f"{tmp_path.name}-outside.gate"
    outside.write_text("")
    plan.write_text(text + f'include "../{outside.name}"\n')
    git(demo, "commit", "-qam", "second")
    refused = run("--include-from", "..", *words)
    assert (
        refused.returncode,
        "lies outside the git repository" in refused.stderr,
        outside.name in refused.stderr,
    ) == (2, True, True)


def test_compare_catches_the_order_slip(run: Run, answer: Ask, demo: Path) -> None:
    done = run("compare", "proposal/ternhaven.gate")
    assert done.returncode == 1
    assert "was denied by guest-fence 20" in done.stdout
    assert "is  permitted by guest-fence 15" in done.stdout
    same = run("compare", "ternhaven.gate")
    assert (same.returncode, same.stdout.splitlines()[-1]) == (
        0,
        (
            "no difference: ternhaven.gate and ternhaven.gate treat every packet with a true "
            "source "
            "address alike"
        ),
    )
    (difference,) = answer("compare", "proposal/ternhaven.gate", "--list", "guest-fence", status=1)[
        "differences"
    ]
    assert (difference["was"]["entry"], difference["is"]["entry"]) == (20, 15)
    assert run("compare", "proposal/ternhaven.gate", "--list", "12").returncode == 0
    documents = answer("compare", "proposal/ternhaven.gate", status=1)["differences"]
    opened = [
        each
        for each in documents
        if each["is"]["verdict"] == "permitted" and each["opens"] and not each["devices"]
    ]
    assert opened[0]["was"]["verdict"] == "denied"
    assert demo.name


@pytest.mark.parametrize(
    ("words", "says", "status"),
    [
        ("10.64.8.0/22", "netmask   10.64.8.0 mask 255.255.252.0", 0),
        ("10.64.8.0 mask 255.255.252.0", "wildcard  10.64.8.0 wild 0.0.3.255", 0),
        ("10.64.8.5 wild 0.0.3.255", "prefix    10.64.8.0/22", 0),
        ("10.64.16.8-10.64.16.27", "3 prefixes have exactly it", 0),
        ("10.0.0.1-10.0.0.2", "10.0.0.2  0.0.0.0", 0),
        ("10.64.8.0 wild 255.255.252.0", "one address in 1,024 of every network", 0),
        ("2001:db8::a wild ::ffff:0:0:0:0", "2001:db8:0:ffff::a", 0),
        ("10.64.32.10 wild 0.0.3.0 has 10.64.34.10", "has 10.64.34.10", 0),
        ("10.64.32.10 wild 0.0.3.0 has 10.64.36.10", "1 fixed bit differs", 1),
        ("10.64.16.8-10.64.16.27 has 10.64.16.28", "does not have", 1),
        ("cover 10.64.32.10 10.64.33.10 10.64.34.10", "lets in 1 stranger", 0),
        ("cover 10.0.0.0/30 10.0.0.4-10.0.0.7", "lets in nobody else", 0),
        ("cover 2001:db8::1 2001:db8::2", "the fewest patterns that have exactly them: 2", 0),
    ],
)
def test_wildcards_are_worked_out(run: Run, words: str, says: str, status: int) -> None:
    done = run("wild", *words.split())
    assert (done.returncode, says in done.stdout) == (status, True), done.stdout + done.stderr


@pytest.mark.parametrize(
    ("words", "says"),
    [
        ("10.0.0.300", "300 is more than 255"),
        ("10.0.0.0 mask 0.0.3.255", "write wild 0.0.3.255"),
        ("10.0.0.0/8 has", "has takes one address"),
        ("10.0.0.0/8 has 2001:db8::1", "the pattern is IPv4"),
        ("cover", "cover takes addresses"),
        ("cover 10.0.0.1 2001:db8::1", "of both families"),
        ("10.0.0.0/8 and more", "nothing more belongs here"),
    ],
)
def test_wildcards_that_cannot_be_are_told(run: Run, words: str, says: str) -> None:
    done = run("wild", *words.split())
    assert (done.returncode, says in done.stderr) == (2, True), done.stderr


def test_wildcards_as_a_document(answer: Ask) -> None:
    document = answer("wild", "10.64.8.0/22")
    assert document["patterns"] == [
        {
            "address": "10.64.8.0",
            "wildcard": "0.0.3.255",
            "prefix": "22",
            "netmask": "255.255.252.0",
            "count": 1024,
        }
    ]
    covered = answer("wild", "cover", "10.0.0.1", "10.0.0.2")
    assert (covered["strangers"], covered["proved"], len(covered["exactly"])) == (2, True, 2)
    assert answer("wild", "10.0.0.0/8", "has", "11.0.0.0", status=1)["has"] is False


def test_a_list_of_a_hundred_thousand_entries_is_read_and_traced(run: Run, tmp_path: Path) -> None:
    lines = [
        f"    {number * 10} deny tcp/{number % 60000} 192.0.2.0/24 to 10.9.0.{number % 250}"
        for number in range(1, 100_001)
    ]
    net = (
        "subnet a 10.0.0.0/24\nsubnet b 10.9.0.0/24\nrouter r\n    interface a 10.0.0.1/24 on a\n "
        "   interface b 10.9.0.1/24 on b\n"
    )
    hosts = "host one 10.0.0.9 on a\nhost two 10.9.0.9 on b\n"
    text = "\n".join(
        [
            net + hosts + "list big extended ipv4",
            *lines,
            "    otherwise permit",
            "place big inbound on r.a",
            "",
        ]
    )
    (tmp_path / "big.gate").write_text(text)
    done = run("trace", "one", "two", "https", "--expect", "permit")
    assert done.returncode == 0, done.stderr
    assert "otherwise" in done.stdout


SIDES = """subnet one 10.0.1.0/24
subnet two 10.0.2.0/24
router left
    interface one 10.0.1.1/24 on one
    interface two 10.0.2.1/24 on two
router right
    interface one 10.0.1.2/24 on one
    interface two 10.0.2.2/24 on two
host a 10.0.1.9 on one
host b 10.0.2.9 on two
list wall extended ipv4
    10 deny ip any to any
place wall inbound on right.one
keep deny ping one to two
"""


def test_equal_paths_that_differ_are_told_by_every_command(
    run: Run, answer: Ask, tmp_path: Path
) -> None:
    (tmp_path / "sides.gate").write_text(SIDES)
    told = run("trace", "a", "b", "ping").stdout
    assert (
        "it varies with the path: by way of right it is denied: wall 10 denies it on the way into "
        "right.one"
    ) in told
    (document,) = answer("trace", "a", "b", "ping")["conversations"]
    assert (document["verdict"], document["varies"], document["ways"]) == ("permitted", True, 2)
    every = run("trace", "a", "b", "ping", "--all-paths").stdout
    assert (
        "2 equal paths there and 2 paths back meet the lists in 2 ways: 1 permitted, 1 denied"
        in every
    )
    for verdict in ("permit", "deny"):
        assert run("trace", "a", "b", "ping", "--expect", verdict).returncode == 1
    done = run("verify")
    assert (done.returncode, "is permitted by way of left" in done.stdout) == (1, True)
    assert (
        "varies with the path: stopped on some by wall 10, inbound on right.one"
        in run("reach", "one", "two").stdout
    )
    assert answer("reach", "one", "two")["answers"][0]["parts"][0]["verdict"] == "varies"
    grid = run("grid", "ping").stdout
    assert re.search(r"a +1 - v", grid)
    assert "v varies" in grid
    points = run("points", "a", "b").stdout
    assert re.search(r"or by +right.one +inbound +wall", points)
    assert "an extended list suits inbound on left.one and right.one" in points
    assert [
        each["beside"] for each in answer("points", "a", "b")["conversations"][0]["suited"]
    ] == [["right.two"], ["right.one"]]
    document = answer("place", "wall", "inbound", "left.one", "--dry-run")
    assert [(each["held"], each["holds"]) for each in document["expectations"]] == [(False, True)]


def test_a_service_of_the_other_family_is_told(run: Run, tmp_path: Path) -> None:
    (tmp_path / "p.gate").write_text(
        "subnet hall 10.0.0.0/24\nhost a 10.0.0.1 on hall\nhost b 10.0.0.2 on hall\n"
    )
    done = run("trace", "a", "b", "icmp/router-renumbering")
    assert (done.returncode, "is no ICMP type" in done.stderr) == (2, True)


def test_a_grid_of_no_service_is_told(run: Run, demo: Path) -> None:
    done = run("grid", "nonsense")
    assert (done.returncode, "no service nonsense" in done.stderr) == (2, True)
    assert run("grid", "booking", "--from", "tickets", "--to", "manifest").returncode == 0


def test_what_escapes_a_line_is_told(run: Run, answer: Ask, tmp_path: Path) -> None:
    (tmp_path / "p.gate").write_text(
        "subnet one 10.1.0.0/24\nhost h 10.1.0.5\nwindow night daily 22:00-06:00\nlist l extended "
        "ipv4\n    permit tcp/22 h to any\n"
        "    permit tcp/80 any to any during night\n    deny tcp/22,80 one to any\n    off deny "
        "ip any to any\n    deny tcp/22 h to 10.9.0.0/24\n"
        "list s standard ipv4\n    permit h\n    deny one\nlist f standard ethernet\n    permit "
        "any\n"
    )
    told = [
        line.strip()
        for line in run("lists", "--taken", "--at", "mon 12:00").stdout.splitlines()
        if "above," in line or "nothing" in line
    ]
    assert told == [
        "above, 10 permits ssh h to any",
        "above, 20 permits http one to any during night",
        "above, 10 permits all of it",
        "above, 10 permits h",
    ]
    entries = answer("lists", "l", "--taken")["lists"][0]["entries"]
    assert entries[0]["taken"] == {"left": True, "parts": []}
    assert (entries[4]["taken"]["left"], [each["by"] for each in entries[4]["taken"]["parts"]]) == (
        False,
        [10],
    )
    assert entries[2]["taken"]["parts"][0] == {
        "by": 10,
        "action": "permit",
        "lines": [{"service": "ssh", "source": "h", "destination": "any"}],
    }
    assert "taken" not in answer("lists", "l")["lists"][0]["entries"][0]
    assert "leave one of both out" in run("lists", "--taken", "--short").stderr


def test_words_that_people_mistake_are_explained(run: Run, tmp_path: Path) -> None:
    (tmp_path / "p.gate").write_text(
        "list l extended ipv4\n    permit rdp any to any\n    permit ping any to any\n"
    )
    shown = run("lists").stdout
    assert "rdp   protocol 27, the Reliable Data Protocol of RFC 908" in shown
    assert "ping  icmp/8/0" in shown


def test_pieces_may_stand_before_any_command(run: Run, demo: Path) -> None:
    done = run("--pieces", "3", "reach", "tickets", "harbour")
    assert (done.returncode, "falls into more than 3 pieces" in done.stderr) == (2, True)
    assert run("reach", "tickets", "harbour", "--pieces", "100000").returncode == 0
    assert "--pieces 30" in run("--pieces", "3", "verify").stdout


def test_what_nobody_can_send_is_said(run: Run, demo: Path) -> None:
    assert (
        "nothing is sent: no machine can have an address of 224.0.0.1"
        in run("reach", "224.0.0.1", "any").stdout
    )
    assert (
        "no machine of the plan has the address that it is sent from"
        in run("trace", "fe80::1", "duty", "ping").stdout
    )


def scattered(*more: str) -> str:
    """Return a plan whose list denies what wildcards scatter, so that all that it permits is many
    pieces.
    """
    rows = [
        f"    {10 * n} deny ip 10.{n * 37 % 128}.{n * 91 % 256}.{n * 53 % 256} "
        f"wild 0.{1 << n % 7 | 1 << n * 3 % 7 | 8}.{n * 29 % 256}.{n * 71 % 256} to any"
        for n in range(1, 13)
    ]
    return "\n".join(
        [
            "subnet here 10.0.0.0/9",
            "subnet far 10.128.0.0/9",
            "router r",
            "    interface a 10.0.0.1/9 on here",
            "    interface b 10.128.0.1/9 on far",
            "list big extended ipv4",
            *rows,
            "    otherwise permit",
            "place big inbound on r.a",
            *more,
            "",
        ]
    )


def test_one_part_that_is_too_many_pieces_is_everything_else(
    run: Run, answer: Ask, tmp_path: Path
) -> None:
    (tmp_path / "p.gate").write_text(scattered())
    done = run("reach", "here", "far", "--pieces", "800")
    assert (done.returncode, done.stderr) == (0, "")
    assert "permitted\n    everything else\n" in done.stdout
    whole, few = (
        answer("reach", "here", "far", *words)["answers"][0]["parts"]
        for words in ((), ("--pieces", "800"))
    )
    assert [each["rest"] for each in few] == [True] + [False] * (len(few) - 1)
    assert [each["rest"] for each in whole] == [False] * len(few)
    assert (few[0]["lines"], few[0]["packet"]) == ([], whole[0]["packet"])
    assert few[1:] == whole[1:]


def test_two_parts_that_are_too_many_pieces_are_not_answered(run: Run, tmp_path: Path) -> None:
    other = (
        "list two extended ipv4",
        "    10 permit udp any to any",
        "    otherwise deny",
        "place two outbound on r.b",
    )
    (tmp_path / "p.gate").write_text(scattered(*other))
    done = run("reach", "here", "far", "--pieces", "800")
    assert (done.returncode, done.stderr.count("not answered: the list of all that is")) == (2, 2)
    assert done.stdout.count("    too many pieces to write; one packet: ") == 2
    assert (
        "denied by two otherwise, outbound on r.b\n    too many pieces to write; one packet: "
        "tcp/443 from "
    ) in done.stdout


def test_why_the_lines_above_did_not_decide(run: Run, demo: Path, answer: Ask) -> None:
    told = run("trace", "kiosk-1", "crane-2", "ping", "--why", "--at", "mon 12:00").stdout
    assert re.search(
        r"lighthouse\.v80 +inbound +kiosk-fence +10 +permit booking .*protocol, icmp", told
    )
    assert re.search(r"^ +40 +permit ping .*: dry-dock is shut\n +otherwise +deny", told, re.M)
    document = answer("trace", "kiosk-1", "crane-2", "ping", "--why", "--at", "mon 12:00")
    (leg,) = document["conversations"][0]["legs"]
    passed = leg["crossings"][-1]["passed"]
    assert [(each["entry"], each["field"]) for each in passed] == [
        (10, "protocol"),
        (20, "protocol"),
        (30, "protocol"),
        (40, "window"),
    ]
    assert (
        "passed"
        not in answer("trace", "kiosk-1", "crane-2", "ping")["conversations"][0]["legs"][0][
            "crossings"
        ][-1]
    )
    alone = run(
        "lists", "12", "kiosk-fence6", "--why", "tcp/443 camera-1 to crane-1", "--at", "mon 12:00"
    )
    assert "0.0.3.0          00000000.00000000.00000011.00000000" in alone.stdout
    assert re.search(
        r"^  30 +permit duty during night: night is shut\n  otherwise  deny", alone.stdout, re.M
    )
    (twelve,) = answer("lists", "12", "--why", "tcp/443 camera-1 to crane-1")["lists"]
    (one,) = twelve["packets"]
    assert (twelve["list"], one["packet"]["destination_port"]) == ("12", 443)
    assert {each["field"] for each in one["passed"]} == {"source", "window"}
    wrong = run("lists", "12", "--why", "camera-1 crane-1 tcp/443")
    assert (wrong.returncode, "write SERVICE FROM to TO" in wrong.stderr) == (2, True)
    frames = run("lists", "banned", "--why", "tcp/443 camera-1 to crane-1")
    assert (frames.returncode, "lists of frames are asked about none" in frames.stderr) == (2, True)
    both = run("trace", "kiosk-1", "crane-2", "ping", "--why", "--short")
    assert (both.returncode, "exclude each other" in both.stderr) == (2, True)
