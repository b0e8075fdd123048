"""Questions whose words stand in another order than the command has them."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.conftest import Run

PLAN = """subnet hall 10.0.1.0/24
subnet quay 10.0.2.0/24
router r
    interface h 10.0.1.1/24 on hall
    interface q 10.0.2.1/24 on quay
host desk 10.0.1.9
host crane 10.0.2.9
list l extended ipv4
    deny telnet any to any
    otherwise permit
place l inbound on r.h
"""


@pytest.fixture
def plan(tmp_path: Path) -> Path:
    path = tmp_path / "p.gate"
    path.write_text(PLAN)
    return path


@pytest.mark.parametrize("command", ["trace", "reach"])
@pytest.mark.parametrize(
    "words", ["desk crane telnet", "desk to crane telnet", "telnet desk to crane"]
)
def test_a_question_may_be_asked_as_a_plan_has_it(
    run: Run, plan: Path, command: str, words: str
) -> None:
    usual = run(command, "desk", "crane", "telnet")
    asked = run(command, *words.split())
    assert "deny telnet any to any" in usual.stdout
    assert (asked.returncode, asked.stdout) == (usual.returncode, usual.stdout)


@pytest.mark.parametrize(
    ("words", "problem"),
    [
        (
            "trace telnet desk crane",
            "telnet is a service, and who sends comes first: crossgate trace desk crane telnet",
        ),
        (
            "reach tcp/23 desk crane",
            "tcp/23 is a service, and who sends comes first: crossgate reach desk crane tcp/23",
        ),
        ("trace telnet to", "who sends stands before to, and to whom behind it"),
        ("trace a b c to crane", "who sends stands before to"),
        ("reach desk crane telnet ssh", "ask about one service at a time"),
        ("trace desk crane", "say what desk sends to crane"),
    ],
)
def test_words_in_no_order_are_told_with_their_mend(
    run: Run, plan: Path, words: str, problem: str
) -> None:
    done = run(*words.split())
    assert done.returncode == 2
    assert problem in done.stderr


def test_a_name_called_to_stays_a_name(run: Run, plan: Path) -> None:
    plan.write_text(PLAN.replace("host desk", "host to"))
    assert run("trace", "to", "crane", "ssh").returncode == 0
