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
        ("reach desk, crane", "to whom does desk, crane send?"),
        ("reach desk,, hall to crane", "an address or a name is missing beside a comma"),
        ("points desk to crane telnet", "so telnet is one word too many"),
    ],
)
def test_words_in_no_order_are_told_with_their_mend(
    run: Run, plan: Path, words: str, problem: str
) -> None:
    done = run(*words.split())
    assert done.returncode == 2
    assert problem in done.stderr


@pytest.mark.parametrize(
    ("words", "as_one"),
    [
        ("desk, 10.0.1.7 to quay telnet", "desk, 10.0.1.7"),
        ("desk , 10.0.1.7 quay telnet", "desk , 10.0.1.7"),
        ("telnet desk,10.0.1.7 to quay", "desk,10.0.1.7"),
        ("hall but desk quay telnet", "hall but desk"),
        ("telnet 10.0.1.0 wild 0.0.0.7,desk to quay", "10.0.1.0 wild 0.0.0.7,desk"),
        ("telnet leases of hall,desk to quay", "leases of hall,desk"),
    ],
)
def test_an_end_may_be_several_words(run: Run, plan: Path, words: str, as_one: str) -> None:
    plan.write_text(f"{PLAN}leases 10.0.1.100-10.0.1.120 on hall by r\n")
    asked, usual = run("reach", *words.split()), run("reach", as_one, "quay", "telnet")
    assert "deny telnet any to any" in usual.stdout
    assert asked.stdout == usual.stdout


def test_points_takes_the_order_of_a_claim(run: Run, plan: Path) -> None:
    assert run("points", "desk", "to", "crane").stdout == run("points", "desk", "crane").stdout


@pytest.mark.parametrize(
    "words", ["desk crane telnet, ssh", "telnet , ssh desk to crane", "desk to crane telnet ,ssh"]
)
def test_services_may_have_commas_between_them(run: Run, plan: Path, words: str) -> None:
    told = run("trace", *words.split()).stdout
    assert told == run("trace", "desk", "crane", "telnet", "ssh").stdout
    assert told.splitlines()[-1] == "1 denied, 1 permitted"


def test_names_that_begin_as_several_words_do_stay_names(run: Run, plan: Path) -> None:
    plan.write_text(PLAN.replace("host desk", "host leases").replace("host crane", "host off"))
    assert run("trace", "leases", "off", "ssh").returncode == 0


def test_a_name_called_to_stays_a_name(run: Run, plan: Path) -> None:
    plan.write_text(PLAN.replace("host desk", "host to"))
    assert run("trace", "to", "crane", "ssh").returncode == 0
