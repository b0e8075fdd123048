"""The program's log: silent, but where somebody listens."""

from __future__ import annotations

import logging
import subprocess
import sys
from pathlib import Path

import pytest

import crossgate

PLAN = "subnet n 10.0.0.0/24\nhost one 10.0.0.1 on n\nhost two 10.0.0.2 on n\n"


def started(folder: Path, *words: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        [sys.executable, "-m", "crossgate", *words],
        cwd=folder,
        capture_output=True,
        text=True,
        check=False,
    )


def test_debug_tells_beside_the_answer_what_is_done(tmp_path: Path) -> None:
    (tmp_path / "small\x1b[2J.gate").write_text(PLAN + "expect permit ping one to two\n")
    quiet, told = started(tmp_path, "verify"), started(tmp_path, "--debug", "verify")
    assert (quiet.stderr, told.stdout) == ("", quiet.stdout)
    assert "crossgate.language.reader: read small\\x1b[2J.gate: statements 4, devices 0" in (
        told.stderr
    )
    assert "what is sent as from 10.0.0.1 to 10.0.0.1: pieces " in told.stderr
    assert "\x1b" not in told.stderr


def test_debug_shows_the_place_of_a_fault(tmp_path: Path) -> None:
    (tmp_path / "small.gate").write_text(PLAN)
    fault = "import sys; from crossgate.core.answers import verify; del verify.Verifier\n"
    fault += "sys.argv[1:] = {words}; from crossgate.__main__ import main; main()"
    for words, shown in (["verify"], False), (["--debug", "verify"], True):
        done = subprocess.run(
            [sys.executable, "-c", fault.format(words=words)],
            cwd=tmp_path,
            capture_output=True,
            text=True,
            check=False,
        )
        assert done.returncode == 2
        assert "crossgate --debug COMMAND shows more" in done.stderr
        assert ("Traceback" in done.stderr) is shown


def test_a_program_listens_by_logging(caplog: pytest.LogCaptureFixture) -> None:
    with caplog.at_level(logging.DEBUG, "crossgate"):
        crossgate.parse(PLAN)
    assert [each.getMessage() for each in caplog.records if "reader" in each.name] == [
        "read plan.gate: statements 3, devices 0, lists 0, errors 0"
    ]
