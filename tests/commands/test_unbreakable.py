"""The program under hostile conditions: streams that are full or closed, damaged files, signals,
odd arguments.
"""

from __future__ import annotations

import gzip
import os
import random
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from typer.testing import CliRunner

from crossgate.commands import application
from crossgate.commands.table import COMMANDS
from crossgate.core.model.errors import PlanError
from tests.conftest import Run
from tests.documents import checked

COMMAND = f"{sys.executable} -m crossgate"
_GO_ON = ("demo", "watch", "rehearse", "stand-in")
"""Commands that run others, or go on until they are ended."""


def shell(folder: Path, line: str, **environment: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        line,
        shell=True,
        cwd=folder,
        capture_output=True,
        text=True,
        errors="replace",
        check=False,
        env=os.environ | environment,
    )


@pytest.mark.parametrize("words", ["lists", "check --json", "grid --csv", "--version", "--help"])
@pytest.mark.process
def test_an_answer_that_cannot_be_written_is_told(demo: Path, words: str) -> None:
    done = shell(demo, f"{COMMAND} {words} > /dev/full")
    assert (
        done.returncode,
        "the answer cannot be written: No space left on device" in done.stderr,
    ) == (2, True), done.stderr
    assert "Traceback" not in done.stderr
    closed = shell(demo, f"{COMMAND} {words} >&-")
    assert (closed.returncode, "Traceback" not in closed.stderr) == (2, True)


@pytest.mark.process
@pytest.mark.parametrize("words", ["replay --workers 2 day.pcap", "replay sea.pcap.gz", "check"])
def test_no_python_file_of_the_working_folder_is_run(traffic: Path, words: str) -> None:
    (traffic / "sea.pcap.gz").write_bytes(gzip.compress((traffic / "sea.pcap").read_bytes()))
    for module in ("multiprocessing", "crossgate", "shutil", "gzip", "pickle", "numpy", "runpy"):
        (traffic / module).mkdir()
        (traffic / module / "__init__.py").write_text(
            f"open({str(traffic / 'ran')!r}, 'a').write({module!r})\n"
        )
    program = Path(sys.executable).with_name("crossgate")
    environment = {
        name: value
        for name, value in os.environ.items()
        if name not in ("PYTHONSAFEPATH", "PYTHONPATH")
    }
    done = subprocess.run(
        [program, *words.split()],
        cwd=traffic,
        env=environment,
        capture_output=True,
        text=True,
        check=False,
        timeout=120,
    )
    assert (done.returncode, done.stderr) in ((0, ""), (1, "")), done.stderr
    assert not (traffic / "ran").exists()


@pytest.mark.process
def test_problems_are_never_among_the_answers(demo: Path) -> None:
    done = shell(demo, f"{COMMAND} --plan nope.gate lists 2>&-")
    assert (done.returncode, done.stdout) == (2, "")
    tallied = shell(
        demo,
        (
            f"mkdir .crossgate; echo junk > .crossgate/tally.sqlite; {COMMAND} trace kiosk-1 "
            "manifest "
            "https --tally --json 2>&-"
        ),
    )
    assert checked(tallied.stdout)["schema"] == "crossgate/trace/1"


@pytest.mark.parametrize("option", ["check --sarif", "verify --junit"])
def test_no_output_goes_over_the_plan_or_its_includes(demo: Path, run: Run, option: str) -> None:
    whole = demo / "whole.gate"
    whole.write_text('include "ternhaven.gate"\n')
    (demo / "link.gate").symlink_to("ternhaven.gate")
    before = (demo / "ternhaven.gate").read_bytes()
    for target in ("whole.gate", "ternhaven.gate", "link.gate", "proposal/../ternhaven.gate"):
        done = run("--plan", "whole.gate", *option.split(), target)
        assert (done.returncode, "is part of the plan" in done.stderr) == (2, True), done.stderr
    assert ((demo / "ternhaven.gate").read_bytes(), whole.read_text()) == (
        before,
        'include "ternhaven.gate"\n',
    )
    assert run("--plan", "whole.gate", *option.split(), "out.xml").returncode in (0, 1)


@pytest.mark.parametrize("damage", [b"junk", b"SQLite format 3\0" + b"\0" * 200])
def test_a_damaged_tally_is_told_and_the_answer_given(demo: Path, run: Run, damage: bytes) -> None:
    (demo / ".crossgate").mkdir()
    (demo / ".crossgate" / "tally.sqlite").write_bytes(damage)
    for words in (
        ("lists",),
        ("verify", "--tally"),
        ("trace", "kiosk-1", "manifest", "https", "-4", "--tally"),
    ):
        done = run(*words)
        assert (done.returncode, "is damaged" in done.stderr, "remove the file" in done.stderr) == (
            0,
            True,
            True,
        ), done.stderr
        assert done.stdout
    assert run("tally").returncode == 2


def test_a_word_that_is_no_utf8_is_told(demo: Path) -> None:
    done = shell(demo, COMMAND + " trace $(printf 'kiosk\\377') manifest ping")
    assert (done.returncode, "word 2 of the command line is not UTF-8" in done.stderr) == (2, True)


def test_arguments_and_file_names_steer_no_terminal(demo: Path, run: Run) -> None:
    done = run("trace", "kio\x1b[2Jsk", "manifest", "ping")
    assert (done.returncode, "kio\\x1b[2Jsk" in done.stderr, "\x1b" in done.stderr) == (
        2,
        True,
        False,
    )
    odd = demo / "od\x07d\u202e.gate"
    odd.write_text('title "x"\nlist l standard ipv4\n    permit any "\x1b[2J"\n')
    for words in (
        ("lists",),
        ("check",),
        ("lists", "--json"),
        ("list", "renumber", "l", "--start", "5"),
    ):
        done = run("--plan", str(odd), *words)
        assert not {"\x07", "\x1b", "\u202e"} & set(done.stdout + done.stderr), words
    assert "\x1b[2J" in odd.read_text()


@pytest.mark.process
def test_ctrl_c_ends_with_130(demo: Path) -> None:
    program = (
        "import signal, sys; from crossgate.__main__ import main; import crossgate.commands as c\n"
        "c.application = lambda: (lambda words, prog_name: "
        "signal.raise_signal(signal.SIGINT))\nsys.argv = ['x', 'check']\nmain()"
    )
    done = subprocess.run(
        [sys.executable, "-c", program], capture_output=True, text=True, check=False, cwd=demo
    )
    assert (done.returncode, done.stderr) == (130, "")
    for wait in (0.06, 0.12, 0.2):
        running = subprocess.Popen(
            [*COMMAND.split(), "fence", "berth-2"],
            cwd=demo,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        )
        time.sleep(wait)
        running.send_signal(signal.SIGINT)
        told, problems = running.communicate()
        if running.returncode == 0:
            assert told.rstrip().endswith(
                "written"
            )  # on a loaded machine the wait was longer than the command, and all of it is done
            break
        if running.returncode == 1 and "crossgate" not in problems:
            continue  # Python itself was still starting, on a loaded machine
        assert running.returncode in (130, -signal.SIGINT)
        assert running.returncode == -signal.SIGINT or "Traceback" not in problems


@pytest.mark.process
def test_what_nobody_foresaw_is_an_apology(demo: Path) -> None:
    program = (
        "import sys; from crossgate.__main__ import main; import crossgate.commands as c\n"
        "c.application = lambda: (lambda words, prog_name: [][1])\nsys.argv = ['x', 'check']\nmain()"
    )
    done = subprocess.run(
        [sys.executable, "-c", program], capture_output=True, text=True, check=False, cwd=demo
    )
    assert done.returncode == 2
    assert "sorry, this is a fault of Cross Gate" in done.stderr
    assert "IndexError" in done.stderr
    assert "Traceback" not in done.stderr


@pytest.mark.process
def test_a_plan_may_come_through_a_pipe_and_is_not_edited_there(demo: Path) -> None:
    done = subprocess.run(
        ["bash", "-c", f"{COMMAND} --plan <(cat ternhaven.gate) verify"],
        cwd=demo,
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode == 0, done.stderr
    edited = subprocess.run(
        ["bash", "-c", f"{COMMAND} --plan <(cat ternhaven.gate) entry off 12 20 --anyway"],
        cwd=demo,
        capture_output=True,
        text=True,
        check=False,
    )
    assert (edited.returncode, "no regular file" in edited.stderr) == (2, True), edited.stderr


WORDS = [
    "kiosk-1",
    "manifest",
    "tickets",
    "internet",
    "any",
    "10.64.9.21",
    "10.64.8.0/22",
    "fe80::1",
    "ff02::1",
    "127.0.0.1",
    "lighthouse",
    "lighthouse.v80",
    "lighthouse.1",
    "12",
    "kiosk-fence",
    "10",
    "ping",
    "https",
    "tcp/1-9",
    "nonsense",
    "",
    "-",
    "--json",
    "--at",
    "mon 12:00",
    "99999999999999999999",
    "²",
    "inbound",
    "subnet",
    "itself",
    "permit any",
    "permit tcp/80 any to any",
    "--dry-run",
    "--all",
    "--strays",
    "-4",
    "--as",
    "cover",
    "has",
    "add",
    "new",
]


def test_any_command_line_is_answered_or_told(
    demo: Path, monkeypatch: pytest.MonkeyPatch, capfd: pytest.CaptureFixture[str]
) -> None:
    """Seeded command lines, in this process; CROSSGATE_FUZZ says for how many seconds, else there
    are some dozens.
    """
    monkeypatch.chdir(demo)
    seconds = float(os.environ.get("CROSSGATE_FUZZ", "0"))
    chance, start, count = random.Random(64 if not seconds else time.time_ns()), time.monotonic(), 0
    names = [name for name in COMMANDS if name not in _GO_ON]
    while count < 60 or time.monotonic() - start < seconds:
        count += 1
        words = [
            "--plan",
            "ternhaven.gate",
            chance.choice(names),
            *(chance.choice(WORDS) for _ in range(chance.randint(0, 5))),
        ]
        words += (
            ["--dry-run"] if words[2] in ("entry", "list", "place", "lift", "fence", "tidy") else []
        )
        assert outcome(words) in (0, 1, 2), words


def outcome(words: list[str]) -> int:
    """Return the exit status of a command line; an error of ours is 2."""
    done = CliRunner().invoke(application(), words)
    if isinstance(done.exception, PlanError):
        return 2
    if done.exception is not None and not isinstance(done.exception, SystemExit):
        raise AssertionError(words) from done.exception
    return int(done.exit_code)


def test_the_reader_of_json_gets_one_document(answer: Callable[..., Any], demo: Path) -> None:
    assert answer("lists")["schema"] == "crossgate/lists/1"
