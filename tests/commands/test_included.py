"""Plans of several files: how their lines are called, which file is the plan, where new lines
go.
"""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.conftest import Run
from tests.documents import checked

NET = """\
subnet a 10.0.0.0/24
subnet b 10.0.1.0/24
router r
    interface a 10.0.0.1/24
    interface b 10.0.1.1/24
include "lists/own.gate"
include "want.gate"
"""
LISTS = "list l extended ipv4\n    10 permit tcp/22 a to b\nplace l inbound on r.a\n"
WANT = "# what must hold\n\nexpect permit https a to b\n"


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    (tmp_path / "lists").mkdir()
    (tmp_path / "net.gate").write_text(NET)
    (tmp_path / "lists" / "own.gate").write_text(LISTS)
    (tmp_path / "want.gate").write_text(WANT)
    return tmp_path


def test_a_claim_of_an_included_file_is_called_by_file_and_line(folder: Path, run: Run) -> None:
    verified = run("verify")  # the one plan here: the other file is included
    assert verified.returncode == 1
    assert "failed  want.gate:3  expect permit https a to b" in verified.stdout
    answer = checked(run("verify", "--json").stdout)["expectations"][0]
    assert (answer["file"], answer["line"]) == ("want.gate", 3)
    for where in ("want.gate:3", "3"):
        assert "expect permit https a to b  line want.gate:3" in run("mend", where).stdout
    assert "is one in line want.gate:3" in run("mend", "want.gate:9").stderr
    preview = run("mend", "want.gate:3", "--take", "a")
    assert "holds now  want.gate:3  expect permit https a to b" in preview.stdout
    run("report", "--out", "report.html")
    assert '<td class="number">want.gate:3</td>' in (folder / "report.html").read_text()


def test_two_plans_that_do_not_include_each_other_are_two(folder: Path, run: Run) -> None:
    (folder / "other.gate").write_text("subnet c 10.0.2.0/24\n")
    told = run("verify")
    assert told.returncode == 2
    assert "there are 2 plans here (net.gate, other.gate)" in told.stderr
    (folder / "other.gate").write_text('include "net.gate"\n')
    assert run("check").returncode == 0


def test_a_new_list_goes_where_lists_are(folder: Path, run: Run) -> None:
    assert run("list", "new", "web", "extended", "ipv4", "--yes").returncode == 0
    assert run("place", "web", "outbound", "r.b", "--yes", "--anyway").returncode == 0
    own = (folder / "lists" / "own.gate").read_text()
    assert own.split("\n") == [
        *LISTS.split("\n")[:2],
        "",
        "list web extended ipv4",
        "place l   inbound  on r.a",
        "place web outbound on r.b",
        "",
    ]
    assert (folder / "net.gate").read_text() == NET
    again = run("list", "new", "web", "extended", "ipv4")
    assert "there is a list web already (line lists/own.gate:4)" in again.stderr
