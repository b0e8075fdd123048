"""What tests share: plans from text, and the built program run as a process."""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, settings

from crossgate.core.model.plan import Plan
from crossgate.language.reader import read_plan

# A slow machine is no fault of the code.
settings.register_profile("crossgate", deadline=None, suppress_health_check=[HealthCheck.too_slow, HealthCheck.function_scoped_fixture])
settings.load_profile("crossgate")

Run = Callable[..., subprocess.CompletedProcess[str]]


@pytest.fixture
def plan_of(tmp_path: Path) -> Callable[[str], Plan]:
    """Read a plan from its text."""

    def read(text: str) -> Plan:
        path = tmp_path / "test.gate"
        path.write_text(text, encoding="utf-8")
        return read_plan(path)

    return read


@pytest.fixture
def run(tmp_path: Path) -> Run:
    """Run crossgate in the temporary folder, and check that nobody ever sees a traceback."""

    def start(*words: str, **options: Any) -> subprocess.CompletedProcess[str]:
        command = [sys.executable, "-m", "crossgate", *words]
        done = subprocess.run(command, cwd=tmp_path, capture_output=True, text=True, encoding="utf-8", check=False, **options)
        assert "Traceback" not in done.stderr, done.stderr
        return done

    return start


@pytest.fixture
def demo(run: Run, tmp_path: Path) -> Path:
    """Put the demo's plan into the temporary folder."""
    from crossgate.demo import write

    write(tmp_path)
    return tmp_path


@pytest.fixture
def answer(run: Run) -> Callable[..., Any]:
    """Run crossgate with --json and return the document; standard output holds nothing else."""

    def ask(*words: str, status: int = 0) -> Any:
        done = run(*words, "--json")
        assert done.returncode == status, done.stderr + done.stdout
        return json.loads(done.stdout)

    return ask
