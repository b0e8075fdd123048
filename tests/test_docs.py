"""What the documentation says is what the program does."""

from __future__ import annotations

import re
import subprocess
import sys
from datetime import datetime
from pathlib import Path

import pytest

from crossgate import library
from crossgate.core.audit.registry import AUDITS
from crossgate.core.model.finding_kinds import KINDS, Severity

ROOT = Path(__file__).parents[1]
NOW = datetime(2026, 12, 1, 12)


@pytest.mark.process
def test_the_tables_are_those_of_the_program() -> None:
    assert (
        subprocess.run(
            [sys.executable, ROOT / "docs" / "tables.py", "--check"], check=False
        ).returncode
        == 0
    ), "run: make docs"


PAGES = [
    "guide.md",
    "meet.md",
    "trouble.md",
    "mistakes.md",
    *sorted(each.name for each in (ROOT / "docs" / "formats").glob("*.md")),
]


@pytest.mark.long
@pytest.mark.process
@pytest.mark.parametrize("page", PAGES)
def test_a_page_shows_what_its_commands_print(page: str) -> None:
    assert (
        subprocess.run(
            [sys.executable, ROOT / "docs" / "guide.py", "--check", page], check=False
        ).returncode
        == 0
    ), "read it, then: make docs"


def test_every_mistake_has_its_finding_and_what_was_meant_has_not() -> None:
    text = (ROOT / "docs" / "mistakes.md").read_text()
    files = dict(re.findall(r"^```gate (\S+)\n(.*?)^```$", text, re.MULTILINE | re.DOTALL))
    nets = {name: files.pop(name).encode() for name in ("net.gate", "net6.gate")}
    told = re.findall(r"^`([a-z6-]+)`\. What was meant:$", text, re.MULTILINE)
    assert len(told) >= 30
    for number, finding in enumerate(told, 1):
        found = []
        for name in (f"{number}.gate", f"{number}-meant.gate"):
            plan = library.read(name, {name: files[name].encode(), **nets})
            found.append({each.name: each.severity for each in library.check(plan, NOW)})
        assert finding in found[0], number
        assert finding not in found[1], number
        assert Severity.ERROR not in found[1].values(), number


def test_every_finding_has_a_function_that_finds_it() -> None:
    import crossgate.core.audit  # noqa: F401  (it marks the functions)

    assert KINDS.keys() - AUDITS.keys() == {"accept-unused"}
    assert AUDITS.keys() <= KINDS.keys()
    assert all(kind.meaning and kind.mend and kind.example for kind in KINDS.values())
