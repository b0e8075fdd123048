"""The plan is named before the command, after it, as a word by itself or on standard input; all are
the same.
"""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

PLAN = """
subnet here 10.0.0.0/24
subnet far 10.0.1.0/24
router r
    interface a 10.0.0.1/24 on here
    interface b 10.0.1.1/24 on far
host one 10.0.0.7 on here
list gates standard ipv4
    10 permit here
place gates inbound on r.a
expect permit ping here to far
"""


def crossgate(folder: Path, *words: str, given: str = "") -> subprocess.CompletedProcess[str]:
    environment = {name: value for name, value in os.environ.items() if name != "CROSSGATE_PLAN"}
    command = [sys.executable, "-m", "crossgate", *words]
    return subprocess.run(
        command,
        cwd=folder,
        input=given,
        capture_output=True,
        text=True,
        env=environment,
        check=False,
        timeout=60,
    )


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    (tmp_path / "office.gate").write_text(PLAN)
    (tmp_path / "other.gate").write_text(PLAN.replace("permit here", "deny any"))
    return tmp_path


@pytest.mark.process
@pytest.mark.parametrize(
    "words",
    [
        ("--plan", "office.gate", "verify", "--json"),
        ("verify", "--plan", "office.gate", "--json"),
        ("verify", "--json", "--plan=office.gate"),
        ("verify", "office.gate", "--json"),
        ("verify", "--json", "--without", "r.b", "office.gate"),
    ],
)
def test_every_way_of_naming_the_plan_is_the_same(folder: Path, words: tuple[str, ...]) -> None:
    told = crossgate(folder, *words)
    assert told.stderr == ""
    assert '"schema": "crossgate/verify/1"' in told.stdout.replace('":"', '": "')
    assert told.returncode == (1 if "--without" in words else 0)


@pytest.mark.process
def test_a_plan_from_standard_input_is_read_and_never_written(folder: Path) -> None:
    assert crossgate(folder, "check", "-", given=PLAN).returncode == 0
    assert (
        "list gates  standard ipv4  -:8"
        in crossgate(folder, "--plan", "-", "lists", given=PLAN).stdout
    )
    broken = crossgate(folder, "check", "-", given="subnet here 10.0.0.0/33\n")
    assert broken.returncode == 2
    assert broken.stderr.startswith("-:1:")
    for words in (
        ("tidy", "-"),
        ("--plan", "-", "entry", "add", "gates", "permit any"),
        ("--plan", "-", "tally"),
    ):
        refused = crossgate(folder, *words, given=PLAN)
        assert (refused.returncode, refused.stdout) == (2, "")
        assert "comes from standard input, so there is no file to" in refused.stderr


@pytest.mark.process
def test_the_value_of_an_option_is_no_plan_and_two_plans_are_one_too_many(folder: Path) -> None:
    compared = crossgate(
        folder,
        "grid",
        "ping",
        "office.gate",
        "--against",
        "other.gate",
        "--from",
        "one",
        "--to",
        "far",
    )
    assert "office.gate" in compared.stdout + compared.stderr
    assert "named twice" not in compared.stderr
    twice = crossgate(folder, "check", "office.gate", "--plan", "other.gate")
    assert twice.returncode == 2
    assert "the plan is named twice, as other.gate and as office.gate; name one" in twice.stderr
    without = crossgate(folder, "check")
    assert "choose one with --plan FILE, or set CROSSGATE_PLAN" in without.stderr
