"""Files that others read and write: JUnit, SARIF, the tally."""

from __future__ import annotations

import sqlite3
import threading
import xml.etree.ElementTree as ElementTree
from collections.abc import Callable
from datetime import datetime
from pathlib import Path

import pytest

from crossgate.core.answers.verify import Verifier
from crossgate.core.audit import audit
from crossgate.core.model.accesslist import DeciderKey
from crossgate.core.model.errors import PlanError
from crossgate.core.model.finding import KINDS
from crossgate.core.model.plan import Plan
from crossgate.core.traffic.session import Session
from crossgate.formats.junit import junit_text
from crossgate.formats.sarif import sarif_document
from crossgate.formats.tally import Tally
from crossgate.language.reader import read_plan

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
    suite = ElementTree.fromstring(junit_text(plan, [verifier.verify(each) for each in plan.expectations])).find("testsuite")
    assert suite is not None
    assert (suite.get("name"), suite.get("tests"), suite.get("failures")) == ("Two & more", "2", "1")
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
    rules = {rule["id"]: rule["defaultConfiguration"]["level"] for rule in run["tool"]["driver"]["rules"]}
    assert rules == {name: str(kind.severity) for name, kind in KINDS.items()}
    assert {result["ruleId"] for result in run["results"]} == {finding.name for finding in audited.findings}
    assert {result["level"] for result in run["results"] if result["ruleId"] == "never-reached"} == {"error"}


def test_a_tally_adds_up_by_the_text_of_an_entry(path: Path) -> None:
    plan, tally = read_plan(path), Tally(path)
    assert tally.hits(plan.lists["l"]) == {}
    tally.add(plan, {DeciderKey("l", 10): 2, DeciderKey("l", None): 1})
    tally.add(plan, {DeciderKey("l", 10): 3})
    assert tally.hits(plan.lists["l"]) == {10: 5, 20: 0, None: 1}
    path.write_text(
        PLAN.replace("permit tcp/80 a to b\n    20", "permit tcp/81 a to b\n    20").replace("otherwise deny", "otherwise reject")
    )
    assert Tally(path).hits(read_plan(path).lists["l"]) == {10: 0, 20: 0, None: 0}
    tally.clear()
    path.write_text(PLAN)
    assert Tally(path).hits(read_plan(path).lists["l"]) == {10: 0, 20: 0, None: 0}


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
    (path.parent / ".crossgate" / "tally.sqlite").write_bytes(b"no database at all, but long enough to be read as one" * 30)
    with pytest.raises(PlanError, match="cannot be used"):
        Tally(path).add(plan, {DeciderKey("l", 10): 1})
    with pytest.raises(sqlite3.DatabaseError):
        sqlite3.connect(path.parent / ".crossgate" / "tally.sqlite").execute("SELECT * FROM tally")
