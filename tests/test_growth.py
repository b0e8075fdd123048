"""Adding a statement, a finding or a command takes what CONTRIBUTING says and nothing else."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from pathlib import Path
from types import ModuleType

import pytest
import typer

from crossgate.commands import COMMANDS, Listed
from crossgate.core.audit.context import Case
from crossgate.core.audit.registry import AUDITS, finds
from crossgate.core.model.finding import KINDS, Fault, Finding, FindingKind, Severity
from crossgate.language.cells import named_cells
from crossgate.language.names import Names
from crossgate.language.row import Row
from crossgate.language.syntax import STATEMENTS
from crossgate.language.words import Words
from tests.conftest import Ask, Run


def motto(words: Words, names: Names) -> None:
    """MOTTO = "motto" NAME TEXT."""
    words.keyword("motto")
    words.name("a motto")
    names.plan.title = words.text("the motto, in double quotes")
    words.end()


def test_a_new_statement_is_a_row_and_a_reading_function(monkeypatch: pytest.MonkeyPatch, run: Run, tmp_path: Path) -> None:
    plan = tmp_path / "p.gate"
    plan.write_text('motto  a   "first"\nmotto long "second"\nlist l standard ipv4\n')
    assert "no statement motto" in run("lists").stderr
    monkeypatch.setitem(STATEMENTS, "motto", Row("motto", motto, named_cells))
    assert run("lists").stdout.startswith("second")
    assert run("tidy").returncode == 0
    assert plan.read_text().startswith('motto a    "first"\nmotto long "second"\n')
    plan.write_text("mottto a\n")
    assert "there is motto" in run("lists").stderr
    plan.write_text("motto a\n")
    assert "expected the motto, in double quotes here" in run("lists").stderr


def test_a_new_finding_is_a_row_and_a_marked_function(monkeypatch: pytest.MonkeyPatch, answer: Ask, run: Run, tmp_path: Path) -> None:
    monkeypatch.setitem(KINDS, "nameless", FindingKind(Severity.ERROR, "a plan without a title", "write one", 'title "x"'))
    monkeypatch.setitem(AUDITS, "nameless", AUDITS["unplaced"])

    @finds("nameless")
    def nameless(case: Case) -> Iterator[Finding]:
        for each in case.plan.lists.values():
            yield Finding("nameless", each.place, each.name, None, Fault("it has no title", "write one"))

    plan = tmp_path / "p.gate"
    plan.write_text("subnet a 10.0.0.0/24\nlist l standard ipv4\n    permit a\n")
    found = {each["finding"]: each for each in answer("check", status=1)["findings"]}
    assert (found["nameless"]["message"], found["nameless"]["severity"]) == ("it has no title; write one", "error")
    plan.write_text(plan.read_text() + 'accept nameless in l "we know"\n')
    assert [each["finding"] for each in answer("check")["accepted"]] == ["nameless"]
    assert run("check", "--sarif", "out.sarif").returncode == 0
    assert '"id": "nameless"' in (tmp_path / "out.sarif").read_text()


def test_a_new_command_is_a_module_and_its_name(monkeypatch: pytest.MonkeyPatch, run: Run) -> None:
    module = ModuleType("crossgate.commands.greet")

    def greet(name: str) -> None:
        """Greet."""
        typer.echo(f"ahoy, {name}")

    module.greet = greet  # type: ignore[attr-defined]
    monkeypatch.setitem(sys.modules, "crossgate.commands.greet", module)
    monkeypatch.setitem(COMMANDS, "greet", Listed("greet", "greet", "Ask", ("greet",)))
    assert run("greet", "Ternhaven").stdout == "ahoy, Ternhaven\n"
    assert "greet" in run("--help").stdout
