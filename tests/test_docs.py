"""What the documentation says is what the program does."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pytest

from crossgate.core.audit.registry import AUDITS
from crossgate.core.model.finding import KINDS

ROOT = Path(__file__).parents[1]


@pytest.mark.process
def test_the_tables_are_those_of_the_program() -> None:
    assert (
        subprocess.run(
            [sys.executable, ROOT / "docs" / "tables.py", "--check"], check=False
        ).returncode
        == 0
    ), "run: make docs"


@pytest.mark.process
def test_the_guide_shows_what_its_commands_print() -> None:
    assert (
        subprocess.run(
            [sys.executable, ROOT / "docs" / "guide.py", "--check"], check=False
        ).returncode
        == 0
    ), "read it, then: make docs"


def test_every_finding_has_a_function_that_finds_it() -> None:
    import crossgate.core.audit  # noqa: F401  (it marks the functions)

    assert KINDS.keys() - AUDITS.keys() == {"accept-unused"}
    assert AUDITS.keys() <= KINDS.keys()
    assert all(kind.meaning and kind.mend and kind.example for kind in KINDS.values())
