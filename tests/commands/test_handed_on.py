"""What goes out to others: it does no harm where it is opened, and says nothing of the machine it
comes from.
"""

from __future__ import annotations

import base64
import csv
import hashlib
import io
import json
import re
from pathlib import Path
from xml.etree import ElementTree

import pytest

from tests.conftest import Run

PLAN = """title "quay \ufffe\uffff \u6e2f 1"
subnet hall 10.64.8.0/24
subnet quay 10.64.9.0/24
router core
    interface v_1 10.64.8.1/24 on hall
    interface v_2 10.64.9.1/24 on quay
list web extended ipv4
    note "+SUM(1+1) \uffff"
    10 permit tcp/80 hall to any "=HYPERLINK(1)"
    20 permit tcp/81 hall to any "'@already"
    30 permit tcp/81 hall to any
place web inbound on core.v_1
expect permit http hall to quay
"""


@pytest.fixture
def plan(tmp_path: Path) -> Path:
    path = tmp_path / "a b & c.gate"
    path.write_text(PLAN, encoding="utf-8")
    return path


def test_cells_that_a_spreadsheet_would_run_are_quoted_and_come_back(plan: Path, run: Run) -> None:
    text = run("export", "csv").stdout
    comments = [row["comment"] for row in csv.DictReader(io.StringIO(text))]
    assert comments[:3] == ["'+SUM(1+1) \\uffff", "'=HYPERLINK(1)", "''@already"]
    assert not any(
        re.match(r"[=+\-@\t\r]", cell) for row in csv.reader(io.StringIO(text)) for cell in row
    )
    raw = [
        row["comment"] for row in csv.DictReader(io.StringIO(run("export", "csv", "--raw").stdout))
    ]
    assert raw[1:3] == ["=HYPERLINK(1)", "'@already"]
    (plan.parent / "again.csv").write_text(text, encoding="utf-8")
    assert run("import", "csv", "again.csv", "--replace", "--yes", "--anyway").returncode == 0
    assert run("export", "csv").stdout == text


@pytest.mark.parametrize(
    "words",
    [
        ("draw", "network", "--out", "n.svg"),
        ("verify", "--junit", "n.svg"),
        ("export", "ietf-acl", "--xml", "--approximate", "--out", "n.svg"),
    ],
)
def test_xml_has_no_character_that_it_forbids(plan: Path, run: Run, words: tuple[str, ...]) -> None:
    done = run(*words)
    text = (plan.parent / "n.svg").read_text(encoding="utf-8")
    ElementTree.fromstring(text)
    assert "\ufffe" not in text
    assert "\uffff" not in text
    assert ("DejaVu Sans has no 港: in n.svg a box stands in the place of each" in done.stderr) is (
        words[0] == "draw"
    )
    assert "Glyph" not in done.stderr
    assert "Warning" not in done.stderr


def test_nothing_handed_on_says_where_it_lies(plan: Path, run: Run, tmp_path: Path) -> None:
    plan.write_text(PLAN.split("\n", 1)[1], encoding="utf-8")
    for words in (
        ("check", "--sarif", "out"),
        ("verify", "--junit", "out"),
        ("report", "--out", "out"),
        ("draw", "network", "--out", "out.svg"),
    ):
        run("--plan", str(plan), *words)
        text = (tmp_path / words[-1]).read_text(encoding="utf-8")
        assert str(tmp_path) not in text
        assert "a b &" in text or "a%20b" in text
    sarif = json.loads(
        (tmp_path / "out").read_text()
        if run("--plan", str(plan), "check", "--sarif", "out")
        else ""
    )
    uris = {
        each["locations"][0]["physicalLocation"]["artifactLocation"]["uri"]
        for each in sarif["runs"][0]["results"]
    }
    assert uris == {"a%20b%20%26%20c.gate"}
    (tmp_path / "new.gate").write_text(plan.read_text().replace("tcp/80 ", "tcp/82 "))
    told = run("compare", str(plan), str(tmp_path / "new.gate"), "--markdown").stdout
    assert told.startswith(r"## Traffic: a b \& c.gate against new.gate")


def test_the_report_lets_nothing_run_but_its_own(plan: Path, run: Run, tmp_path: Path) -> None:
    run("report", "--out", "r.html")
    text = (tmp_path / "r.html").read_text(encoding="utf-8")
    policy = re.search(r'http-equiv="Content-Security-Policy" content="([^"]*)"', text)
    assert policy is not None
    allowed = policy[1].replace("&#39;", "'")
    assert "default-src 'none'" in allowed
    for element, word in (("script", "script-src"), ("style", "style-src-elem")):
        (own,) = re.findall(rf"<{element}>(.*?)</{element}>", text, re.DOTALL)
        digest = base64.b64encode(hashlib.sha256(own.encode()).digest()).decode()
        assert f"{word} 'sha256-{digest}'" in allowed
    assert f"<{'script'} " not in text
    ids = re.findall(r'\bid="([^"]*)"', text)
    assert [each for each in ids if " " in each] == []
    assert len([each for each in ids if each.startswith("gate-")]) == 1


def test_markdown_means_nothing_that_was_not_meant(plan: Path, run: Run) -> None:
    text = run("export", "markdown").stdout
    assert r"inbound on core.v\_1" in text
