"""What tests share: plans from text, and the program run as a person would, in this process or in
one of its own.
"""

from __future__ import annotations

import gc
import io
import os
import shutil
import signal
import subprocess
import sys
from collections.abc import Callable
from contextvars import copy_context
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, settings

from crossgate.__main__ import main
from crossgate.core.model.plan import Plan
from crossgate.language.reader import read_plan
from tests.documents import checked

# A slow machine is no fault of the code.
settings.register_profile(
    "crossgate",
    max_examples=25,
    deadline=None,
    suppress_health_check=[HealthCheck.too_slow, HealthCheck.function_scoped_fixture],
)
settings.load_profile("crossgate")

# Garbage is collected as seldom as the program itself has it.
gc.set_threshold(100_000)

Ask = Callable[..., Any]
Read = Callable[[str], Plan]
Run = Callable[..., subprocess.CompletedProcess[str]]


def pytest_xdist_auto_num_workers() -> int:
    """Run one worker more than there are processors: tests of processes wait much of their time."""
    return len(os.sched_getaffinity(0)) + 1 if hasattr(os, "sched_getaffinity") else 3


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Mark the tests that start processes, and put them behind all others, those that take long
    before: else one worker does them alone in the end.
    """
    for item in items:
        if "launch" in getattr(item, "fixturenames", ()):
            item.add_marker(pytest.mark.process)
    items.sort(
        key=lambda item: (
            item.get_closest_marker("long") is None,
            item.get_closest_marker("process") is not None,
        )
    )


def pytest_collection_finish() -> None:
    """Leave what lives as long as the tests do out of every collection of garbage."""
    gc.freeze()


@pytest.fixture(autouse=True)
def no_width(monkeypatch: pytest.MonkeyPatch) -> None:
    """Nothing is folded unless a test says how wide the screen is."""
    monkeypatch.delenv("COLUMNS", raising=False)


@pytest.fixture(autouse=True)
def no_flushing(monkeypatch: pytest.MonkeyPatch) -> None:
    """Nothing waits for the disk, unless in a process of its own: no test takes the power away."""
    monkeypatch.setattr(os, "fsync", lambda handle: None)


@pytest.fixture(autouse=True)
def own_state(tmp_path_factory: pytest.TempPathFactory, monkeypatch: pytest.MonkeyPatch) -> Path:
    """What runs leave for each other lies in a folder of the test's own."""
    folder = tmp_path_factory.mktemp("state")
    monkeypatch.setenv("XDG_STATE_HOME", str(folder))
    return folder / "crossgate"


@pytest.fixture
def plan_of(tmp_path: Path) -> Callable[[str], Plan]:
    """Read a plan from its text."""

    def read(text: str) -> Plan:
        path = tmp_path / "test.gate"
        path.write_text(text, encoding="utf-8")
        return read_plan(path)

    return read


@pytest.fixture
def run(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Run:
    """Run crossgate in the temporary folder, within this process; nobody ever sees a fault of the
    program itself.
    """

    def start(*words: str) -> subprocess.CompletedProcess[str]:
        streams = [
            io.TextIOWrapper(io.BytesIO(), encoding="utf-8", write_through=True) for _ in range(2)
        ]
        with monkeypatch.context() as patch:
            patch.chdir(tmp_path)
            patch.setattr(sys, "argv", ["crossgate", *words])
            patch.setattr(sys, "stdout", streams[0])
            patch.setattr(sys, "stderr", streams[1])
            patch.delenv("CROSSGATE_PLAN", raising=False)
            patch.setenv(
                "PYTHONSAFEPATH", ""
            )  # the program sets it for its helpers; this takes it back
            interrupted, threshold = signal.getsignal(signal.SIGINT), gc.get_threshold()
            try:
                with pytest.raises(SystemExit) as left:
                    copy_context().run(main)
            finally:
                signal.signal(signal.SIGINT, interrupted)
                gc.set_threshold(*threshold)
        told, problems = (stream.buffer.getvalue().decode() for stream in streams)
        assert "this is a fault of Cross Gate" not in problems, problems
        return subprocess.CompletedProcess(words, int(left.value.code or 0), told, problems)

    return start


@pytest.fixture
def launch(tmp_path: Path) -> Run:
    """Run crossgate in the temporary folder as a process of its own; nobody ever sees a
    traceback.
    """

    def start(*words: str, **options: Any) -> subprocess.CompletedProcess[str]:
        command = [sys.executable, "-m", "crossgate", *words]
        done = subprocess.run(
            command,
            cwd=tmp_path,
            capture_output=True,
            text=True,
            encoding="utf-8",
            check=False,
            **options,
        )
        assert "Traceback" not in done.stderr, done.stderr
        return done

    return start


@pytest.fixture
def demo(tmp_path: Path) -> Path:
    """Put the demo's plan into the temporary folder."""
    from crossgate.demo import write

    write(tmp_path)
    return tmp_path


@pytest.fixture(scope="session")
def day(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder with the demo's captures and its table of flows, which nobody changes."""
    from crossgate.demo import write_traffic

    folder = tmp_path_factory.mktemp("day")
    write_traffic(folder)
    return folder


@pytest.fixture
def traffic(demo: Path, day: Path) -> Path:
    """Put the demo's captures and flows beside its plan in the temporary folder."""
    for each in day.iterdir():
        shutil.copy(each, demo)
    return demo


@pytest.fixture
def answer(run: Run) -> Callable[..., Any]:
    """Run crossgate with --json and return the document; standard output holds nothing else."""

    def ask(*words: str, status: int = 0) -> Any:
        done = run(*words, "--json")
        assert done.returncode == status, done.stderr + done.stdout
        return checked(done.stdout)

    return ask
