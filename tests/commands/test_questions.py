"""The questions that edits ask, in a pseudo-terminal: the real program, typed at as a person
would.
"""

from __future__ import annotations

import os
import pty
import signal
import subprocess
import sys
import time
from pathlib import Path
from threading import Thread

import pytest

EDIT = ("lift", "kiosk-port")
ASKED = "write it? [y/N]"


def at_terminal(
    folder: Path, *words: str, typed: str = "", out: int | None = None
) -> tuple[int, str]:
    """Run crossgate with a terminal for all its streams, or another standard output; return its
    exit status and what is shown.

    Where nothing is typed it is interrupted at the question.
    """
    master, slave = pty.openpty()
    os.write(master, typed.encode())
    with subprocess.Popen(
        [sys.executable, "-m", "crossgate", *words],
        cwd=folder,
        stdin=slave,
        stdout=out or slave,
        stderr=slave,
        env={**os.environ, "TERM": "xterm"},
    ) as started:
        os.close(slave)
        shown, interrupting = bytearray(), None
        while True:
            try:
                part = os.read(master, 4096)
            except OSError:  # the other end is closed
                break
            if not part:
                break
            shown += part
            if ASKED.encode() in shown and not typed and interrupting is None:
                interrupting = Thread(target=interrupt, args=(started,))
                interrupting.start()
        status = started.wait(60)
    os.close(master)
    return status, shown.decode().replace("\r\n", "\n")


def interrupt(started: subprocess.Popen[bytes]) -> None:
    """Interrupt a program that asks; and again where that came between its question and its
    reading, when Python takes it up with the answer.
    """
    while started.poll() is None:
        started.send_signal(signal.SIGINT)
        time.sleep(2)


@pytest.mark.process
@pytest.mark.parametrize(
    ("typed", "status", "end"),
    [
        ("y\n", 0, "written"),
        ("n\n", 1, "nothing is written"),
        ("\n", 1, "nothing is written"),
        ("\x04", 1, "nothing is written"),
    ],
)
def test_an_edit_asks_after_its_preview(demo: Path, typed: str, status: int, end: str) -> None:
    plan = demo / "ternhaven.gate"
    before = plan.read_bytes()
    left, shown = at_terminal(demo, *EDIT, typed=typed)
    assert (left, shown.count(ASKED), shown.rstrip().endswith(end)) == (status, 1, True), shown
    assert shown.index("new finding") < shown.index(ASKED)
    assert (plan.read_bytes() == before) is (status == 1)


@pytest.mark.process
@pytest.mark.parametrize(
    ("option", "status", "written"),
    [("--yes", 0, True), ("--dry-run", 0, False), ("--json", 0, True)],
)
def test_what_is_settled_is_not_asked(demo: Path, option: str, status: int, written: bool) -> None:
    plan = demo / "ternhaven.gate"
    before = plan.read_bytes()
    left, shown = at_terminal(demo, *EDIT, option, typed="n\n")
    assert (left, ASKED in shown, plan.read_bytes() != before) == (status, False, written), shown


@pytest.mark.process
def test_a_refused_edit_asks_nothing(demo: Path) -> None:
    left, shown = at_terminal(
        demo, "entry", "add", "duty-only", "deny harbour", "--number", "5", typed="y\n"
    )
    assert (left, ASKED in shown, "refused: it breaks 1 keep" in shown) == (1, False, True), shown


@pytest.mark.process
def test_an_interrupt_at_the_question_writes_nothing(demo: Path) -> None:
    before = (demo / "ternhaven.gate").read_bytes()
    left, _ = at_terminal(demo, *EDIT, typed="")
    assert (left, (demo / "ternhaven.gate").read_bytes() == before) == (130, True)


@pytest.mark.process
def test_where_the_answer_goes_to_a_file_nothing_is_asked(demo: Path) -> None:
    with (demo / "out.txt").open("w") as out:
        left, shown = at_terminal(demo, *EDIT, out=out.fileno())
    assert (left, ASKED in shown, (demo / "out.txt").read_text().rstrip().endswith("written")) == (
        0,
        False,
        True,
    )
