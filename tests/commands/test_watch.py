"""`watch`: the real program waits, and each save of the plan is told."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from queue import Queue

import pytest

from tests.documents import checked


class Watched:
    """A watch that runs in a folder; its lines can be waited for."""

    def __init__(self, folder: Path, *words: str) -> None:
        self.process = subprocess.Popen(
            [sys.executable, "-m", "crossgate", "watch", *words],
            cwd=folder,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
        )
        self.lines: Queue[str] = Queue()
        threading.Thread(target=self._read, daemon=True).start()

    def _read(self) -> None:
        assert self.process.stdout is not None
        for line in self.process.stdout:
            self.lines.put(line)

    def until(self, text: str) -> str:
        """Return all that is shown up to a line with a text."""
        shown, end = "", time.monotonic() + 60
        while text not in shown:
            shown += self.lines.get(timeout=max(end - time.monotonic(), 0.1))
        return shown

    def end(self) -> int:
        return self.process.wait(60)


@pytest.fixture
def watched(demo: Path) -> Iterator[Watched]:
    found = Watched(demo)
    found.until("watching 1 file")
    yield found
    found.process.kill()


@pytest.mark.process
def test_each_save_is_told_against_the_last_plan_without_errors(
    demo: Path, watched: Watched
) -> None:
    plan = demo / "ternhaven.gate"
    text = plan.read_text()
    broken = text.replace(
        "    10 permit domain guests to resolver\n    20 deny   ip     any    to terminal",
        "    20 deny   ip     any    to terminal",
        1,
    )
    assert broken != text
    plan.write_text(text.replace("subnet quay ", "subnte quay "))
    told = watched.until("what the next save does")
    assert "1 error" in told or "errors" in told
    assert "no statement subnte; there is subnet" in told
    # As an editor does that writes beside and renames.
    beside = demo / "ternhaven.gate~"
    beside.write_text(broken)
    os.replace(beside, plan)
    assert "was permitted by guest-fence 10" in watched.until("packet: ")
    plan.write_text(text + "expect permit ssh kiosk-1 to manifest over ipv4\n")
    told = watched.until("is  permitted by guest-fence 10")
    assert "saved: 28 hold, 1 fails" in told
    assert "breaks  220  expect permit ssh kiosk-1 to manifest over ipv4" in told
    watched.process.send_signal(signal.SIGINT)
    assert watched.end() == 130


@pytest.mark.process
def test_an_include_is_watched_from_the_save_that_brings_it(demo: Path, watched: Watched) -> None:
    names = demo / "names.gate"
    names.write_text("group officers duty\n")
    (demo / "ternhaven.gate").write_text(
        (demo / "ternhaven.gate").read_text() + 'include "names.gate"\n'
    )
    watched.until("no packet with a true source address is treated otherwise")
    names.write_text("group officers duty\nlist 13 standard ipv4\n    10 permit duty\n")
    assert "warning unplaced in list 13" in watched.until("place 13 inbound")
    names.write_text("group officers duty\n")
    assert "1 finding gone: unplaced in list 13" in watched.until("gone")
    # Once it is no part of the plan it is not watched, and nothing is told again and again.
    plan = demo / "ternhaven.gate"
    plan.write_text(plan.read_text().replace('include "names.gate"\n', ""))
    watched.until("no packet with a true source address is treated otherwise")
    names.write_text("nonsense\n")
    time.sleep(1.5)
    assert watched.lines.empty()


@pytest.mark.process
@pytest.mark.parametrize(
    ("change", "status"),
    [
        ("expect deny ping kiosk-1 to crane-1\n", 0),
        ("expect permit ping kiosk-1 to crane-1\n", 1),
        ("nonsense\n", 1),
    ],
)
def test_once_ends_with_what_the_save_brings(demo: Path, change: str, status: int) -> None:
    found = Watched(demo, "--once", "--json", "ternhaven.gate")
    first = checked(found.until("}\n"))
    assert (first["schema"], first["held"], first["failed"], first["expectations"]) == (
        "crossgate/watch/1",
        28,
        0,
        [],
    )
    (demo / "ternhaven.gate").write_text((demo / "ternhaven.gate").read_text() + change)
    second = checked(found.until("}\n"))
    assert bool(second["errors"]) is (change == "nonsense\n")
    assert found.end() == status


@pytest.mark.process
def test_what_cannot_be_watched_is_told(demo: Path) -> None:
    for words, told in (
        (("nope.gate",), "there is no file nope.gate"),
        (("-",), "there is no file to watch"),
    ):
        done = subprocess.run(
            [sys.executable, "-m", "crossgate", "watch", *words],
            cwd=demo,
            capture_output=True,
            text=True,
            timeout=60,
            check=False,
        )
        assert (done.returncode, told in done.stderr) == (2, True), done.stderr
