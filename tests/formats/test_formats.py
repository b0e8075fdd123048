"""Files that others read and write: JUnit, SARIF, the tally."""

from __future__ import annotations

import json
import re
import sqlite3
import subprocess
import sys
import threading
import xml.etree.ElementTree as ElementTree
from collections.abc import Callable
from contextlib import closing
from datetime import datetime
from pathlib import Path

import pytest
from junitparser import JUnitXml

from crossgate.core.answers.verify import Verifier
from crossgate.core.audit import audit
from crossgate.core.model.accesslist import DeciderKey
from crossgate.core.model.errors import PlanError
from crossgate.core.model.finding_kinds import KINDS
from crossgate.core.model.plan import Plan
from crossgate.core.model.window import Period
from crossgate.core.traffic.session import Session
from crossgate.formats.junit import junit_text
from crossgate.formats.sarif import sarif_document
from crossgate.formats.tally import MOST_HITS, Tally
from crossgate.language.reader import read_plan
from tests.conftest import Run

PLAN = """title "Two & more"
subnet a 10.0.0.0/24
subnet b 10.0.1.0/24
router r
    interface a 10.0.0.1/24 on a
    interface b 10.0.1.1/24 on b
host one 10.0.0.9 on a
host two 10.0.1.9 on b
list l extended ipv4
    10 permit tcp/80 a to b
    20 deny tcp/80 a to b
    otherwise deny
place l inbound on r.a
expect permit tcp/80 one to two
keep permit tcp/22 one to two "the way in"
"""


@pytest.fixture
def path(tmp_path: Path) -> Path:
    path = tmp_path / "two.gate"
    path.write_text(PLAN)
    return path


def test_junit_has_a_case_for_each_claim(plan_of: Callable[[str], Plan]) -> None:
    plan = plan_of(PLAN)
    verifier = Verifier(Session(plan))
    suite = ElementTree.fromstring(
        junit_text(plan, [verifier.verify(each) for each in plan.expectations])
    ).find("testsuite")
    assert suite is not None
    assert (suite.get("name"), suite.get("tests"), suite.get("failures")) == (
        "Two & more",
        "2",
        "1",
    )
    held, failed = suite.findall("testcase")
    assert (held.get("classname"), held.find("failure")) == ("expect", None)
    failure = failed.find("failure")
    assert failure is not None
    assert failed.get("classname") == "keep"
    assert "needed: in list l, at the end: 30 permit" in (failure.text or "")


def test_sarif_names_every_rule_and_its_level(plan_of: Callable[[str], Plan]) -> None:
    audited = audit(Session(plan_of(PLAN)), datetime(2026, 12, 1))
    document = sarif_document(audited)
    (run,) = document["runs"]
    rules = {
        rule["id"]: rule["defaultConfiguration"]["level"] for rule in run["tool"]["driver"]["rules"]
    }
    assert rules == {name: str(kind.severity) for name, kind in KINDS.items()}
    assert {result["ruleId"] for result in run["results"]} == {
        finding.name for finding in audited.findings
    }
    assert {
        result["level"] for result in run["results"] if result["ruleId"] == "never-reached"
    } == {"error"}


def test_a_tally_adds_up_by_the_text_of_an_entry(path: Path) -> None:
    plan, tally = read_plan(path), Tally(path)
    assert tally.hits(plan.lists["l"]) == {}
    tally.add(plan, {DeciderKey("l", 10): 2, DeciderKey("l", None): 1})
    tally.add(plan, {DeciderKey("l", 10): 3})
    assert tally.hits(plan.lists["l"]) == {10: 5, 20: 0, None: 1}
    path.write_text(
        PLAN.replace("permit tcp/80 a to b\n    20", "permit tcp/81 a to b\n    20").replace(
            "otherwise deny", "otherwise reject"
        )
    )
    assert Tally(path).hits(read_plan(path).lists["l"]) == {10: 0, 20: 0, None: 0}
    tally.clear()
    path.write_text(PLAN)
    assert Tally(path).hits(read_plan(path).lists["l"]) == {10: 0, 20: 0, None: 0}


def test_a_device_s_counters_are_taken_once(path: Path) -> None:
    plan, tally = read_plan(path), Tally(path)
    first, last = DeciderKey("l", 10), DeciderKey("l", None)
    tally.take(plan, {"a": {first: 5, last: 1}, "b": {first: 2}})
    tally.take(plan, {"a": {first: 5, last: 1}})
    assert tally.hits(plan.lists["l"]) == {10: 7, 20: 0, None: 1}
    tally.take(plan, {"a": {first: 8, last: 1}})
    assert tally.hits(plan.lists["l"]) == {10: 10, 20: 0, None: 1}
    tally.take(plan, {"a": {first: 3}})  # it has begun anew
    assert tally.hits(plan.lists["l"]) == {10: 13, 20: 0, None: 1}
    tally.clear()
    tally.take(plan, {"a": {first: 4}, "b": {first: 2}})
    assert tally.hits(plan.lists["l"]) == {10: 1, 20: 0, None: 0}


def test_many_tallies_at_once_lose_nothing(path: Path) -> None:
    plan = read_plan(path)

    def add() -> None:
        for _ in range(10):
            Tally(path).add(plan, {DeciderKey("l", 10): 1})

    threads = [threading.Thread(target=add) for _ in range(6)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert Tally(path).hits(plan.lists["l"])[10] == 60


def test_plans_in_one_folder_have_tallies_of_their_own(path: Path) -> None:
    plan = read_plan(path)
    Tally(path).add(plan, {DeciderKey("l", 10): 1})
    assert Tally(path.with_name("other.gate")).hits(plan.lists["l"])[10] == 0


def test_a_tally_that_cannot_be_used_is_told(path: Path) -> None:
    plan = read_plan(path)
    (path.parent / ".crossgate").mkdir()
    (path.parent / ".crossgate" / "tally.sqlite").write_bytes(
        b"no database at all, but long enough to be read as one" * 30
    )
    with pytest.raises(PlanError, match=r"is damaged .*; remove the file to begin anew"):
        Tally(path).add(plan, {DeciderKey("l", 10): 1})
    with pytest.raises(sqlite3.DatabaseError):
        sqlite3.connect(path.parent / ".crossgate" / "tally.sqlite").execute("SELECT * FROM tally")


def spoilt(path: Path, statement: str) -> None:
    """Change the tally beside a plan behind our back."""
    with closing(
        sqlite3.connect(path.parent / ".crossgate" / "tally.sqlite", isolation_level=None)
    ) as connection:
        connection.execute(statement)


@pytest.mark.parametrize(
    ("statements", "says"),
    [
        (
            ["PRAGMA user_version = 4"],
            "is of version 4, from a newer Cross Gate; this one knows version 3",
        ),
        (
            ["ALTER TABLE tally RENAME TO old", "CREATE VIEW tally AS SELECT * FROM old"],
            "is another database",
        ),
        (
            ["CREATE TRIGGER t AFTER INSERT ON tally BEGIN DELETE FROM tally; END"],
            "is another database",
        ),
        (["CREATE TABLE more (x)"], "is another database"),
        (["DROP TABLE times", "CREATE TABLE times (plan, hits)"], "is another database"),
        (["DROP TABLE tally", "CREATE TABLE tally (plan, hits)"], "is another database"),
        (["UPDATE tally SET hits = 9e999"], "holds inf where a count of hits belongs"),
        (["UPDATE tally SET hits = -1"], "holds -1 where a count of hits belongs"),
        (["UPDATE tally SET hits = 'many'"], "holds many where a count of hits belongs"),
    ],
)
def test_a_strange_tally_is_told_and_left_as_it_is(
    path: Path, statements: list[str], says: str
) -> None:
    plan, tally = read_plan(path), Tally(path)
    tally.add(plan, {DeciderKey("l", 10): 1})
    for each in statements:
        spoilt(path, each)
    before = tally.path.read_bytes()
    with pytest.raises(PlanError, match=says) as raised:
        tally.hits(plan.lists["l"])
    assert "remove" not in str(raised.value)
    if "holds" not in says:
        with pytest.raises(PlanError, match=says):
            tally.add(plan, {DeciderKey("l", 10): 1})
    assert tally.path.read_bytes() == before


def test_a_tally_from_before_there_were_versions_is_used_and_hits_never_run_over(
    path: Path,
) -> None:
    plan, tally = read_plan(path), Tally(path)
    tally.add(plan, {DeciderKey("l", 10): 1 << 62})
    spoilt(path, "PRAGMA user_version = 0")
    tally.add(plan, {DeciderKey("l", 10): 1 << 62, DeciderKey("l", 20): 1 << 64})
    assert tally.hits(plan.lists["l"]) == {10: MOST_HITS, 20: MOST_HITS, None: 0}


def test_a_tally_tells_hours_and_days(path: Path) -> None:
    plan, tally = read_plan(path), Tally(path)
    tally.add(plan, {DeciderKey("l", 10): 1})
    spoilt(path, "DROP TABLE times")  # as a file of version 1 is
    spoilt(path, "PRAGMA user_version = 1")
    own = plan.lists["l"]
    assert tally.times(own, Period.HOUR) == {10: {}, 20: {}, None: {}}
    nine, ten, day = (datetime(2026, 11, 24, hour) for hour in (9, 10, 0))
    key = DeciderKey("l", 10)
    for _ in range(2):
        tally.add(plan, {}, {(Period.HOUR, nine): {key: 3}, (Period.HOUR, ten): {key: 4}})
    tally.add(plan, {}, {(Period.DAY, day): {key: 5, DeciderKey("l", None): 1}})
    assert tally.times(own, Period.HOUR) == {10: {nine: 6, ten: 8}, 20: {}, None: {}}
    assert tally.times(own, Period.DAY) == {10: {day: 19}, 20: {}, None: {day: 1}}
    assert tally.hits(own)[10] == 1
    spoilt(path, "UPDATE times SET begins = 'noon' WHERE hits = 6")
    with pytest.raises(PlanError, match="holds noon where a time belongs"):
        tally.times(own, Period.DAY)
    tally.clear()
    assert tally.times(own, Period.DAY) == {10: {}, 20: {}, None: {}}


def test_a_tally_that_is_in_use_is_told_and_never_to_be_removed(
    path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    plan, tally = read_plan(path), Tally(path)
    tally.add(plan, {DeciderKey("l", 10): 1})
    monkeypatch.setattr("crossgate.formats.tally._WAIT_SECONDS", 0.1)
    with closing(sqlite3.connect(tally.path, isolation_level=None)) as other:
        other.execute("BEGIN EXCLUSIVE")
        with pytest.raises(PlanError, match="is being used by another program") as raised:
            tally.add(plan, {DeciderKey("l", 10): 1})
        assert "remove" not in str(raised.value)


def test_a_tally_that_is_a_link_is_not_followed(path: Path, tmp_path: Path) -> None:
    plan, tally = read_plan(path), Tally(path)
    with closing(sqlite3.connect(tmp_path / "bank.sqlite")) as other:
        other.execute("CREATE TABLE accounts (x)")
    tally.path.parent.mkdir()
    tally.path.symlink_to(tmp_path / "bank.sqlite")
    before = (tmp_path / "bank.sqlite").read_bytes()
    with pytest.raises(PlanError, match="is a link or no regular file"):
        tally.add(plan, {DeciderKey("l", 10): 1})
    assert (tmp_path / "bank.sqlite").read_bytes() == before


BROKEN = (
    "subnet a 10.0.0.0/24\nlist l extended ipv4\n    10 permit tcp/telnt any to any\nplace m "
    "inbound on a\n"
)


def test_a_plan_with_errors_still_writes_its_documents(run: Run, tmp_path: Path) -> None:
    (tmp_path / "p.gate").write_text(BROKEN)
    for words in (("check", "--sarif", "out"), ("verify", "--junit", "out")):
        done = run(*words)
        assert done.returncode == 2
        assert "telnt" in done.stderr
        text = (tmp_path / "out").read_text()
        if words[0] == "check":
            (told,) = json.loads(text)["runs"]
            lines = [
                each["locations"][0]["physicalLocation"]["region"]["startLine"]
                for each in told["results"]
            ]
            assert {each["ruleId"] for each in told["results"]} == {"plan-error"}
        else:
            suite = JUnitXml.fromstring(text)
            lines = [int(case.name.split()[1]) for each in suite for case in each]
            assert suite.errors == len(lines)
        assert lines == [3, 4]


def test_each_rule_of_sarif_is_described(run: Run, tmp_path: Path) -> None:
    (tmp_path / "p.gate").write_text("subnet a 10.0.0.0/24\n")
    run("check", "--sarif", "out")
    for rule in json.loads((tmp_path / "out").read_text())["runs"][0]["tool"]["driver"]["rules"]:
        assert rule["fullDescription"]["text"]
        assert rule["help"]["text"]


@pytest.mark.process
def test_git_diff_with_the_documented_driver_never_dies(tmp_path: Path) -> None:
    guide = (Path(__file__).parents[2] / "docs" / "pipelines.md").read_text()
    driver = re.search(r"git config diff\.crossgate\.command '(.*)'\n", guide)
    assert driver is not None
    command = (
        driver[1]
        .replace("'\\''", "'")
        .replace("crossgate compare", f"{sys.executable} -m crossgate compare")
    )

    def git(*words: str) -> subprocess.CompletedProcess[str]:
        settings = [
            "-c",
            "user.name=a",
            "-c",
            "user.email=a@example.com",
            "-c",
            f"diff.crossgate.command={command}",
        ]
        return subprocess.run(
            ["git", *settings, *words], cwd=tmp_path, capture_output=True, text=True, check=False
        )

    plan = (
        "subnet a 10.0.0.0/24\nsubnet b 10.1.0.0/24\nrouter r\n    interface a 10.0.0.1/24 on "
        "a\n    interface b 10.1.0.1/24 on b\n"
    )
    lists = (
        "list l extended ipv4\n    10 deny tcp/22 any to any\n    20 permit ip any to "
        "any\nplace l inbound on r.a\n"
    )
    (tmp_path / ".gitattributes").write_text("*.gate diff=crossgate\n")
    for name, text in (
        ("good.gate", plan + lists),
        ("bad.gate", plan),
        ("whole.gate", 'include "good.gate"\n'),
    ):
        (tmp_path / name).write_text(text)
    assert git("init", "-q").returncode == 0
    git("add", ".")
    git("commit", "-qm", "first")
    (tmp_path / "good.gate").write_text(plan + lists.replace("tcp/22", "tcp/23"))
    (tmp_path / "bad.gate").write_text(plan + "subnet\n")
    (tmp_path / "whole.gate").write_text('include "good.gate"\n# more\n')
    (tmp_path / "new.gate").write_text(plan)
    git("add", "-N", "new.gate")
    done = git("--no-pager", "diff")
    assert done.returncode == 0, done.stderr
    assert "tcp/22" in done.stdout  # what good.gate lets by now
    assert "+subnet\n" in done.stdout
    assert "bad.gate:6" in done.stderr
    assert "+# more" in done.stdout
    assert "+subnet a 10.0.0.0/24" in done.stdout
