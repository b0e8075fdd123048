"""Answers over whole sites, each command as a process of its own: process time and memory, and how
both grow from S to L.

Times are given as on a machine that does a million steps of a plain loop in 0.14 s of process time;
this one's speed is measured around each run, so that a slow machine and a fast one print the same
figures, and of a few runs the best counts, as neighbours on a machine only ever make it slower. The
reference is `tally` of the same plan, which does nothing but read it. What does not end within the
time allowed is killed, and told.

    whole.py [SIZE [SHAPE [FAMILY [JOB...]]]] [--against COMMIT]

Without a shape it is the site with two cores, where all paths are equal ones, and without a size S,
M and L; `fabric` is a site of leaves and spines, and XL takes its time. With `--against` each job
is run in turn with the program of another commit, which is all that a busy machine tells reliably.
"""

from __future__ import annotations

import argparse
import math
import os
import resource
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, nullcontext
from pathlib import Path
from typing import NamedTuple

sys.path.insert(0, str(Path(__file__).parent))
from crossgate.core.model.address import Family
from sites import FABRIC, FABRIC_SIZE, LARGEST, SHAPES, SIZES, Size, site, translating

EVERY = {**SIZES, **LARGEST}
LOOP = 0.14
"""The seconds that the loop of `speed` takes on the machine that times are given for."""
_STEPS = compile("for number in range(1_000_000):\n    total += number", "steps", "exec")
ALLOWED = 120
"""The seconds of process time that a command may take here."""
RUNS, SPENT = 3, 45
"""How often a command is run, and the seconds of process time within which it is run again."""


class Job(NamedTuple):
    """A command, the seconds it may take at each size, and a command that is run once before."""

    words: tuple[str, ...]
    bounds: dict[str, float]
    before: tuple[str, ...] = ()


def jobs(size: Size) -> dict[str, Job]:
    """Return what is run on a site, by name."""
    entry = (
        "entry",
        "add",
        "gate3",
        "permit tcp/443 s3 to s7",
        "--number",
        "25",
        "--dry-run",
        "--anyway",
    )
    first = [
        word
        for host in range(min(size.hosts, 500))
        for word in ("--from", f"h{host}", "--to", f"h{host}")
    ]
    edited, failing = ("--plan", "edited.gate"), ("--plan", "failing.gate")
    return {
        "read": Job(("tally",), {"L": 1.2, "XL": 6, "fabric": 3}),
        "verify": Job(("verify",), {"M": 1, "L": 4, "XL": 20, "fabric": 10}),
        "compare with itself": Job(("compare", "same.gate"), {"M": 1, "L": 4}),
        "compare, an entry moved": Job(
            ("compare", "moved.gate"), {"M": 1.5, "L": 4, "XL": 20, "fabric": 8}
        ),
        "entry add": Job(entry, {"M": 1, "L": 4, "XL": 20, "fabric": 8}),
        "undo": Job(
            (*edited, "undo", "--dry-run", "--anyway"),
            {"L": 3},
            before=(*edited, *entry[:-2], "--anyway", "--yes"),
        ),
        "mend, a claim": Job((*failing, "mend", "1"), {"M": 2, "L": 8}),
        "check": Job(("check",), {"S": 1, "M": 5, "L": 30, "XL": 200, "fabric": 60}),
        "verify, translated": Job(("--plan", "borders.gate", "verify"), {"M": 1.5}),
        "check, translated": Job(("--plan", "borders.gate", "check"), {"M": 12}),
        "fence": Job(
            ("fence", f"s{size.lists + 1}", "--dry-run", "--anyway"),
            {"S": 1.5, "M": 4, "L": 15, "XL": 60},
        ),
        "points": Job(("points", "h0", "h7"), {"M": 0.6, "L": 2, "XL": 9, "fabric": 4}),
        "trace": Job(("trace", "h0", "h7", "tcp/443"), {"M": 0.4, "L": 0.9, "XL": 6, "fabric": 3}),
        "verify, any one down": Job(("verify", "--any-one-down"), {}),
        "grid": Job(("grid", "tcp/443", *first), {"M": 6}),
    }


def speed() -> float:
    """Return how many times slower this machine is just now than the one that times are given
    for.
    """
    start = time.process_time()
    for _ in range(3):
        exec(_STEPS, {"total": 0})  # as a plain script does them, with global names
    return (time.process_time() - start) / 3 / LOOP


def run(
    folder: Path, words: tuple[str, ...], source: Path | None = None
) -> tuple[float, float, bool]:
    """Run a command, of another `source` of the program where there is one, and return its process
    time in seconds, the memory it took in MB, and whether it ended by itself.
    """
    process = subprocess.Popen(
        [sys.executable, "-m", "crossgate", *words],
        cwd=folder,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
        preexec_fn=lambda: resource.setrlimit(resource.RLIMIT_CPU, (ALLOWED, ALLOWED)),
        env={
            **os.environ,
            "CROSSGATE_PLAN": "site.gate",
            "XDG_STATE_HOME": str(folder / "state"),
            **({} if source is None else {"PYTHONPATH": str(source)}),
        },
    )
    _, status, used = os.wait4(process.pid, 0)
    process.returncode = os.waitstatus_to_exitcode(status)
    return used.ru_utime + used.ru_stime, used.ru_maxrss / 1024, process.returncode >= 0


def measured(folder: Path, words: tuple[str, ...]) -> tuple[float, float, bool]:
    """Return the same of the best of a few runs, as many as `SPENT` allows, with the time as on the
    machine that times are given for.
    """
    pace, runs, spent = speed(), list[tuple[float, float, bool]](), 0.0
    while not runs or (len(runs) < RUNS and spent * (1 + 1 / len(runs)) < SPENT):
        seconds, memory, ended = run(folder, words)
        before, pace = pace, speed()
        runs.append((seconds / (before + pace) * 2, memory, ended))
        spent += seconds
    return min(runs)


def moved(text: str) -> str:
    """Return a plan with the entries 30 and 40 of a list in the other order."""
    lines = text.splitlines()
    start = lines.index(next(line for line in lines if line.startswith("list gate1 ")))
    lines[start + 3], lines[start + 4] = (
        lines[start + 4].replace("    40 ", "    30 ", 1),
        lines[start + 3].replace("    30 ", "    40 ", 1),
    )
    return "\n".join(lines) + "\n"


def plans_of(text: str, family: str) -> dict[str, str]:
    """Return the plans that the jobs of a site are about, by name."""
    bare = [line for line in text.splitlines() if not line.startswith("expect")]
    new = "expect deny tcp/4444 s0 to s1"
    plans = {
        "site": text,
        "same": text,
        "edited": text,
        "moved": moved(text),
        "failing": "\n".join([new, *bare]) + "\n",
    }
    if family == "4" and "router r2\n" in text:
        plans["borders"] = translating(text)
    return plans


def told(name: str, points: Sequence[tuple[int, float]]) -> str:
    """Say how a job's cost grows with the entries of a site, as the exponent between the smallest
    and the largest one.
    """
    (least, first), (most, last) = points[0], points[-1]
    exponent = math.log(last / first) / math.log(most / least)
    return f"{name:<24} grows with entries to the power of {exponent:.2f}"


def compared(folder: Path, source: Path, words: tuple[str, ...]) -> str:
    """Say how long a command takes here beside what it takes with another source, both in turn."""
    here, there = [], []
    for _ in range(RUNS):
        here.append(run(folder, words)[0])
        there.append(run(folder, words, source)[0])
    return f"{min(here):.2f} s, {min(here) / min(there):.2f} of {min(there):.2f} s there"


@contextmanager
def checked_out(commit: str) -> Iterator[Path]:
    """Give the source of a commit of this repository, in a working tree that goes again."""
    root = Path(__file__).resolve().parent.parent
    with tempfile.TemporaryDirectory() as temporary:
        tree = Path(temporary) / "there"
        subprocess.run(
            ["git", "-C", root, "worktree", "add", "--detach", tree, commit],
            check=True,
            capture_output=True,
        )
        try:
            yield tree / "src"
        finally:
            subprocess.run(["git", "-C", root, "worktree", "remove", "--force", tree], check=True)


def main() -> None:
    """Run every command on the sites named, or those that stand for all."""
    parser = argparse.ArgumentParser(description=__doc__.split("\n\n", 1)[0])
    parser.add_argument("size", nargs="?", choices=[*EVERY, "fabric"])
    parser.add_argument("shape", nargs="?", choices=SHAPES, default="two cores")
    parser.add_argument("family", nargs="?", choices=["4", "6"])
    parser.add_argument("jobs", nargs="*", metavar="JOB")
    parser.add_argument("--against", metavar="COMMIT", help="Run each in turn with that commit.")
    asked = parser.parse_args()
    families = [asked.family] if asked.family else ["4", "6"]
    sizes = [asked.size] if asked.size else [*SIZES]
    with checked_out(asked.against) if asked.against else nullcontext() as source:
        for family in families:
            grown: dict[str, list[tuple[int, float]]] = {}
            for size in sizes:
                measure(size, asked.shape, family, asked.jobs, source, grown)
            for name, points in grown.items():
                if len(points) > 1:
                    print(f"IPv{family} {told(name, points)}")


def measure(
    size: str,
    shape: str,
    family: str,
    chosen: Sequence[str],
    source: Path | None,
    grown: dict[str, list[tuple[int, float]]],
) -> None:
    """Run the jobs of one site, or those that are `chosen`, and print what each took; `grown` gets
    that beside the entries of the site. With a `source` each is run in turn with it.
    """
    own, shape = (FABRIC_SIZE, FABRIC) if size == "fabric" else (EVERY[size], shape)
    with tempfile.TemporaryDirectory() as temporary:
        folder = Path(temporary)
        text = site(own, shape, Family(int(family)))
        entries = text.count("\n    ")
        plans = plans_of(text, family)
        for name, content in plans.items():
            (folder / f"{name}.gate").write_text(content)
        reading = 0.0
        for name, job in jobs(own).items():
            left_out = name == "grid" and size not in ("S", "M")
            if (chosen and name not in (*chosen, "read")) or left_out:
                continue
            if "borders.gate" in job.words and "borders" not in plans:
                continue
            if job.before:
                run(folder, job.before)
            head = f"{size} {shape:<10} IPv{family} {name:<24}"
            if source is not None:
                print(f"{head} {compared(folder, source, job.words)}", flush=True)
                continue
            took, memory, ended = measured(folder, job.words)
            reading = reading or took
            grown.setdefault(name, []).append((entries, took))
            bound = f" (at most {job.bounds[size]:g})" if size in job.bounds else ""
            end = f"{took:6.2f} s{bound}" if ended else f"not within {took:.0f} s{bound}"
            print(
                f"{head} {end:<26} {memory:5.0f} MB, {took / reading:6.1f} times reading",
                flush=True,
            )


if __name__ == "__main__":
    main()
