"""`since`: which commits turned a verdict, in a repository of the test's own."""

from __future__ import annotations

import os
import subprocess
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import Run

NET = (
    "subnet a 10.0.0.0/24\nsubnet b 10.0.1.0/24\nrouter r\n    interface a 10.0.0.1/24 on a\n"
    "    interface b 10.0.1.1/24 on b\nhost h 10.0.0.2 on a\nhost k 10.0.1.2 on b\n"
    "expect permit ssh h to k\n"
)
SSH = "list l extended ipv4\n    permit ssh h to k\nplace l inbound on r.a\n"
NO_SSH = "list l extended ipv4\n    permit ping h to k\nplace l inbound on r.a\n"


@pytest.fixture
def commit(tmp_path: Path) -> Callable[..., None]:
    """Write files and commit them, an hour after the commit before."""
    made = [0]

    def git(*words: str, at: int = 0) -> None:
        time = f"@{1_700_000_000 + at * 3600} +0000"
        subprocess.run(
            ["git", "-c", "user.name=A. Keeper", "-c", "user.email=a@example.org", *words],
            cwd=tmp_path,
            check=True,
            capture_output=True,
            env={**os.environ, "GIT_AUTHOR_DATE": time, "GIT_COMMITTER_DATE": time},
        )

    def write(subject: str, **files: str) -> None:
        for name, text in files.items():
            (tmp_path / f"{name}.gate").write_text(text)
        if not made[0]:
            git("init", "-q")
        made[0] += 1
        git("add", "-A")
        git("commit", "-q", "-m", subject, at=made[0])

    return write


def history_of_an_opening(commit: Callable[..., None]) -> None:
    commit("a network", plan=NET)
    commit("a list", plan=NET + NO_SSH)
    commit("a remark", plan=NET + NO_SSH + "# so it is\n")
    commit("broken", plan=NET + NO_SSH + "not a line\n")
    commit("open ssh", plan=NET + SSH)
    for number in range(6):
        commit(f"remark {number}", plan=NET + SSH + f"# {number}\n")


def test_the_commits_that_turned_it(commit: Callable[..., None], run: Run, answer: Any) -> None:
    history_of_an_opening(commit)
    (told,) = answer("since", "h", "k", "ssh")["answers"]
    assert told["asked"] == "tcp/22 IPv4"
    assert told["today"] == {"verdict": "permitted", "why": "l 10", "line": "permit ssh h to k"}
    first, second = told["changes"]
    assert (first["commit"]["subject"], first["commit"]["author"]) == ("open ssh", "A. Keeper")
    assert (first["before"]["verdict"], first["skipped"]) == ("denied", 1)
    assert (second["commit"]["subject"], second["before"]["verdict"]) == ("a list", "permitted")
    assert told["oldest"]["subject"] == "a network"
    assert answer("since", "ssh", "h", "to", "k")["answers"] == [told]
    shown = run("since", "h", "k", "ssh").stdout
    assert "A. Keeper  open ssh" in shown
    assert "or one of 1 commit before it with errors" in shown
    assert "before  denied     l otherwise, inbound on r.a" in shown
    assert answer("since", "h", "k", "ssh", "--every")["answers"] == [told]


def test_what_is_not_committed_yet(commit: Callable[..., None], run: Run, tmp_path: Path) -> None:
    history_of_an_opening(commit)
    (tmp_path / "plan.gate").write_text(NET + NO_SSH)
    shown = run("since", "h", "k", "ssh").stdout
    assert shown.index("now: it is not committed yet") < shown.index("open ssh")
    assert "today   denied" in shown


def test_a_claim_and_a_name_that_was_not_there(
    commit: Callable[..., None], run: Run, answer: Any
) -> None:
    history_of_an_opening(commit)
    (told,) = answer("since", "--claim", "8")["answers"]
    assert [each["commit"]["subject"] for each in told["changes"]] == ["open ssh", "a list"]
    assert (told["today"]["verdict"], told["changes"][0]["before"]["verdict"]) == ("holds", "fails")
    commit("a machine", plan=NET + SSH + "host m 10.0.0.9 on a\n")
    (told,) = answer("since", "m", "k", "ping")["answers"]
    (change,) = told["changes"]
    assert change["commit"]["subject"] == "a machine"
    assert change["before"] == {
        "verdict": "not there",
        "why": "no host m; there are h, k, r",
        "line": None,
    }
    assert "always, as far back as git knows" in run("since", "k", "r.b", "ssh").stdout


def test_a_long_history_is_searched_by_halves(commit: Callable[..., None], answer: Any) -> None:
    for number in range(25):
        commit(f"shut {number}", plan=NET + NO_SSH + f"# {number}\n")
    for number in range(25):
        commit(f"open {number}", plan=NET + SSH + f"# {number}\n")
    (told,) = answer("since", "h", "k", "ssh")["answers"]
    assert [each["commit"]["subject"] for each in told["changes"]] == ["open 0"]


def test_includes_have_a_history_too(commit: Callable[..., None], answer: Any) -> None:
    commit("both", plan=f'include "lists.gate"\n{NET}', lists=NO_SSH)
    commit("the included one", lists=SSH)
    commit("a remark", plan=f'include "lists.gate"\n{NET}# so\n')
    (told,) = answer("since", "h", "k", "ssh", "--plan", "plan.gate")["answers"]
    assert [each["commit"]["subject"] for each in told["changes"]] == ["the included one"]


def test_what_cannot_be_asked(commit: Callable[..., None], run: Run, tmp_path: Path) -> None:
    (tmp_path / "plan.gate").write_text(NET)
    assert "does not lie in a git repository with commits" in run("since", "h", "k", "ssh").stderr
    history_of_an_opening(commit)
    for words, message in (
        (("h", "k"), "since takes FROM TO SERVICE, or --claim LINE"),
        (("h", "nobody", "ssh"), "no host nobody"),
        (("h", "k", "ssh", "ping"), "since asks about one service"),
        (("ssh", "h", "k"), "who sends comes first: crossgate since h k ssh"),
        (
            ("--claim", "3"),
            "--claim: no expect or keep line stands in 3; there is one in line 8",
        ),
        (("h", "--claim", "8"), "leave FROM, TO and SERVICE out"),
    ):
        done = run("since", *words)
        assert (done.returncode, message in done.stderr) == (2, True), done.stderr
    (tmp_path / "other.gate").write_text(NET)
    done = run("--plan", "other.gate", "since", "h", "k", "ssh")
    assert "other.gate was never committed" in done.stderr
