"""What a crash leaves, what others put beside a plan, and edits at once."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

import pytest

from tests.conftest import Ask, Run
from tests.crashing import killed_before_moving

MAIN = """title "two files"
include   "lists.gate"
subnet a   10.64.8.0/24
subnet b 10.64.9.0/24
router r
    interface a 10.64.8.1/24
    interface b 10.64.9.1/24
place la inbound on r.a
"""
LISTS = "list la extended ipv4\n    10 deny   tcp/23 any to any\n    otherwise permit\n"


@pytest.fixture
def two_files(tmp_path: Path) -> Path:
    (tmp_path / "main.gate").write_text(MAIN)
    (tmp_path / "lists.gate").write_text(LISTS)
    return tmp_path


@pytest.fixture
def crashed(two_files: Path, run: Run) -> Path:
    """Both files were tidied, and the power went between the two moves."""
    killed_before_moving("lists.gate", lambda: run("--plan", "main.gate", "tidy", "--yes"))
    assert 'include "lists.gate"' in (two_files / "main.gate").read_text()
    assert (two_files / "lists.gate").read_text() == LISTS
    return two_files


def files(folder: Path) -> dict[str, bytes]:
    return {path.name: path.read_bytes() for path in folder.iterdir()}


def test_a_journal_that_came_with_the_plan_moves_nothing(two_files: Path, run: Run) -> None:
    """The old form, which named any two files, and one in today's form whose token nobody here has
    given out.
    """
    (two_files / "payload").write_text("#!/bin/sh\n")
    moves = [{"from": str(two_files / "payload"), "to": str(two_files / "hook")}]
    (two_files / ".main.gate.edit").write_text(json.dumps(moves))
    token = "0" * 24
    told = {
        "token": token,
        "plan": str(two_files / "main.gate"),
        "files": [{"file": "hook", "old": "", "new": ""}],
    }
    (two_files / f".main.gate.{token}.edit").write_text(json.dumps(told))
    before = files(two_files)
    done = run("--plan", "main.gate", "check")
    assert done.returncode == 0
    assert done.stderr.count("was not written by you on this machine, so it is left alone") == 2
    assert files(two_files) == before
    assert run("--plan", "main.gate", "entry", "drop", "la", "10", "--yes").returncode == 0
    assert (two_files / ".main.gate.edit").exists()
    assert not (two_files / "hook").exists()


@pytest.mark.parametrize(
    "words", [("verify",), ("check",), ("lists",), ("recover", "--dry-run"), ("tidy", "--check")]
)
def test_what_only_reads_tells_of_a_half_done_edit_and_writes_nothing(
    crashed: Path, run: Run, own_state: Path, words: tuple[str, ...]
) -> None:
    before, state = files(crashed), sorted(own_state.rglob("*"))
    done = run("--plan", "main.gate", *words)
    assert "an edit of" in done.stdout + done.stderr
    assert "was left half done (lists.gate still to be replaced)" in done.stdout + done.stderr
    assert files(crashed) == before
    assert sorted(own_state.rglob("*")) == state


def test_recover_shows_what_it_does_and_finishes_the_edit(crashed: Path, run: Run) -> None:
    done = run("--plan", "main.gate", "recover")
    assert done.returncode == 0
    assert "main.gate has its new text already" in done.stdout
    assert "+    10 deny tcp/23 any to any" in done.stdout
    assert done.stdout.endswith("finished\n")
    assert set(files(crashed)) == {"main.gate", "lists.gate"}
    assert run("--plan", "main.gate", "verify").returncode == 0
    assert run("--plan", "main.gate", "recover").stdout == "no edit of yours was left half done\n"


def test_the_next_edit_finishes_the_one_before(crashed: Path, run: Run) -> None:
    done = run("--plan", "main.gate", "entry", "drop", "la", "10", "--yes")
    assert done.returncode == 0
    assert "left half done is finished" in done.stderr
    assert (crashed / "lists.gate").read_text() == "list la extended ipv4\n    otherwise permit\n"


def test_what_a_person_wrote_since_stays(crashed: Path, run: Run, answer: Ask) -> None:
    (crashed / "lists.gate").write_text("# mine\n")
    before = files(crashed)
    edit = run("--plan", "main.gate", "entry", "drop", "la", "10", "--yes")
    assert edit.returncode == 2
    assert "has been changed since" in edit.stderr
    told = answer("--plan", "main.gate", "recover", status=1)["edits"][0]
    assert [each["state"] for each in told["files"]] == ["replaced", "problem"]
    assert not told["ended"]
    assert files(crashed) == before
    assert answer("--plan", "main.gate", "recover", "--forget")["edits"][0]["ended"]
    assert files(crashed) == {
        name: data for name, data in before.items() if not name.startswith(".")
    }


def test_another_plan_with_the_same_include_knows_of_it(crashed: Path, run: Run) -> None:
    (crashed / "other.gate").write_text('include "lists.gate"\n')
    before = files(crashed)
    assert "main.gate was left half done" in run("--plan", "other.gate", "lists").stderr
    edit = run("--plan", "other.gate", "entry", "drop", "la", "10", "--yes")
    assert edit.returncode == 2
    assert "finish it first: crossgate --plan" in edit.stderr
    assert files(crashed) == before


def test_edits_at_once_all_land(two_files: Path) -> None:
    """Eight processes add an entry each."""
    started = [
        subprocess.Popen(
            [
                sys.executable,
                "-m",
                "crossgate",
                "--plan",
                "main.gate",
                "entry",
                "add",
                "la",
                f"deny tcp/{port} any to any",
                "--yes",
            ],
            cwd=two_files,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
        )
        for port in range(1_000, 1_008)
    ]
    problems = [each.communicate()[1].decode() for each in started]
    assert [each.returncode for each in started] == [0] * 8, problems
    text = (two_files / "lists.gate").read_text()
    assert all(f"tcp/{port} " in text for port in range(1_000, 1_008))


def test_who_holds_a_plan_for_too_long_is_told(
    two_files: Path, run: Run, monkeypatch: pytest.MonkeyPatch
) -> None:
    from crossgate.formats import own_state

    monkeypatch.setattr(own_state, "LONGEST_WAIT", 0.3)
    with own_state.taking_turns([two_files / "lists.gate"]):
        done = run("--plan", "main.gate", "entry", "drop", "la", "10", "--yes")
        assert done.returncode == 2
        assert f"lists.gate is being edited by process {os.getpid()} since" in done.stderr
        assert run("--plan", "main.gate", "verify").returncode == 0
        assert run("--plan", "main.gate", "entry", "drop", "la", "10", "--dry-run").returncode == 0
    assert run("--plan", "main.gate", "entry", "drop", "la", "10", "--yes").returncode == 0
