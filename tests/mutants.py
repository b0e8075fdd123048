"""How many changes by one to a line of the core the tests would not notice: `make mutants`.

    python -m tests.mutants [ROOM | ROOM/MODULE.py]... [--share N] [--seed N]

A line is drawn, one thing in it is changed (a comparison, a number, `and` for `or`, ...), and the
tests that come by the line run up to the first that fails: those of its room first, the quick ones
before the slow ones, then those that come by its module, as many as take two minutes. `--share` is
how many lines of each room are drawn. What nobody notices is shown; more than one in ten is too
many. Some changes make no difference to anything that can be seen, and nothing can notice them.
"""

from __future__ import annotations

import argparse
import ast
import os
import random
import re
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from queue import SimpleQueue
from typing import NamedTuple
from xml.etree import ElementTree

from coverage import CoverageData

ROOT = Path(__file__).parents[1]
CORE = Path("crossgate") / "core"
ROOMS = (
    "sets",
    "lists",
    "model",
    "network",
    "conversation",
    "traffic",
    "answers",
    "audit",
    "wording",
    "impact.py",
)
TESTS = ("core", "language", "formats", "commands")
"""The folders of tests that ask the core."""
LEFT_OUT = ("commands/test_demo.py", "commands/test_unbreakable.py")
"""Tests of these that take long and ask for nothing of their own."""
MOST_SECONDS = 120
"""So long the tests of one change take at most."""
SWAPS = {
    ast.Lt: ("<", "<="),
    ast.LtE: ("<=", "<"),
    ast.Gt: (">", ">="),
    ast.GtE: (">=", ">"),
    ast.Eq: ("==", "!="),
    ast.NotEq: ("!=", "=="),
    ast.In: ("in", "not in"),
    ast.NotIn: ("not in", "in"),
    ast.Is: ("is", "is not"),
    ast.IsNot: ("is not", "is"),
    ast.And: ("and", "or"),
    ast.Or: ("or", "and"),
    ast.Add: ("+", "-"),
    ast.Sub: ("-", "+"),
    ast.BitAnd: ("&", "|"),
    ast.BitOr: ("|", "&"),
    ast.LShift: ("<<", ">>"),
    ast.RShift: (">>", "<<"),
}
TUNING = re.compile(r"\b[A-Z_]*(?:FEW|MANY|LEAST|SAMPLE|TRIES|CELLS|BATCH)(?:_[A-Z]+)*\b")
"""Constants by which the faster of two ways to the same answer is chosen: lines with them are left
out, since no answer tells which way was gone.
"""
CALLS = {"min": "max", "max": "min", "any": "all", "all": "any"}


class Change(NamedTuple):
    """What stands in a line from one character to another, and what is put there."""

    line: int
    start: int
    end: int
    new: str


class Mutant(NamedTuple):
    """A module with one change."""

    room: str
    module: Path
    change: Change


def changes(source: str) -> Iterator[Change]:
    """Yield every change of a module's text, but in annotations."""
    lines = source.split("\n")
    tree = ast.parse(source)
    hints = {
        id(inner)
        for node in ast.walk(tree)
        for hint in _annotations(node)
        for inner in ast.walk(hint)
    }

    def at(node: ast.expr) -> int:
        return len(lines[node.lineno - 1].encode()[: node.col_offset].decode())

    def between(left: ast.expr, right: ast.expr, swap: tuple[str, str]) -> Iterator[Change]:
        if left.end_lineno == right.lineno:
            line = lines[right.lineno - 1]
            start = line.find(
                swap[0], len(line.encode()[: left.end_col_offset].decode()), at(right)
            )
            if start >= 0:
                yield Change(right.lineno, start, start + len(swap[0]), swap[1])

    for node in ast.walk(tree):
        if id(node) in hints:
            continue
        if isinstance(node, ast.Compare):
            for left, operator, right in zip(
                [node.left, *node.comparators], node.ops, node.comparators, strict=False
            ):
                yield from between(left, right, SWAPS[type(operator)])
        elif isinstance(node, ast.BoolOp):
            for left, right in zip(node.values, node.values[1:], strict=False):
                yield from between(left, right, SWAPS[type(node.op)])
        elif isinstance(node, ast.BinOp) and type(node.op) in SWAPS:
            yield from between(node.left, node.right, SWAPS[type(node.op)])
        elif isinstance(node, ast.Constant) and isinstance(
            node.value, int
        ):  # true and false are numbers too
            new = str(not node.value) if isinstance(node.value, bool) else str(node.value + 1)
            start = at(node)
            yield Change(
                node.lineno, start, start + (node.end_col_offset or 0) - node.col_offset, new
            )
        elif isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.Not):
            yield Change(node.lineno, at(node), at(node) + 4, "")
        elif (
            isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id in CALLS
        ):
            yield Change(node.lineno, at(node), at(node) + 3, CALLS[node.func.id])


def _annotations(node: ast.AST) -> Iterator[ast.AST]:
    for name in ("annotation", "returns"):
        hint = getattr(node, name, None)
        if hint is not None:
            yield hint


def drawn(room: str, share: int, chance: random.Random) -> list[Mutant]:
    """Return a change in each of some lines of a room."""
    by_line: dict[tuple[Path, int], list[Change]] = {}
    own = ROOT / "src" / CORE / room
    for path in sorted(own.rglob("*.py")) if own.is_dir() else [own]:
        source = path.read_text(encoding="utf-8")
        lines = source.split("\n")
        for change in changes(source):
            if not TUNING.search(lines[change.line - 1]):
                by_line.setdefault((path.relative_to(ROOT / "src"), change.line), []).append(change)
    chosen = chance.sample(sorted(by_line), min(share, len(by_line)))
    return [
        Mutant(room.split("/")[0], path, chance.choice(by_line[path, line]))
        for path, line in chosen
    ]


class Seen(NamedTuple):
    """The seconds that each test takes, by its name for pytest, and the tests that come by a line
    of a module.
    """

    times: dict[str, float]
    visits: dict[tuple[Path, int], set[str]]

    def nearest(self, mutant: Mutant) -> list[str]:
        """Return the tests that are to notice a change."""
        found, left = list[str](), float(MOST_SECONDS)
        own = f"tests/core/{mutant.room}/"
        visits = self.visits.get((mutant.module, mutant.change.line), set())
        # Others meet what the line did for these, where its answers are kept.
        every = (tests for (path, _), tests in self.visits.items() if path == mutant.module)
        for test in sorted(
            {test for tests in every for test in tests},
            key=lambda each: (each not in visits, own not in each, self.times.get(each, 0)),
        ):
            found.append(test)
            left -= self.times.get(test, 0)
            if left < 0:
                break
        return found


class Workshop:
    """A copy of the sources, in which one change at a time is made and the tests are run."""

    def __init__(self, folder: Path) -> None:
        self.source = folder / "src"
        shutil.copytree(ROOT / "src", self.source)
        shutil.copytree(ROOT / "tests", folder / "tests")
        for each in ROOT.iterdir():
            if each.name not in ("src", "tests", ".git"):
                (folder / each.name).symlink_to(each)
        self.folder = folder

    def seen(self) -> Seen:
        """Run the tests, and return how long each takes and which come by each line of the core.

        One that fails as it is, or that does here, can notice nothing: it is named and left out.
        """
        data, times = self.folder / "coverage", self.folder / "times.xml"
        asked = [
            "--cov=crossgate.core",
            "--cov-context=test",
            "--cov-report=",
            f"--junitxml={times}",
        ]
        tests = [f"tests/{each}" for each in TESTS]
        tests += [f"--ignore=tests/{each}" for each in LEFT_OUT]
        self.passes([*tests, *asked, "-n", "auto"], None, COVERAGE_FILE=str(data))
        cases = {
            f"{case.get('classname', '').replace('.', '/')}.py::{case.get('name')}": case
            for case in ElementTree.parse(times).iter("testcase")
        }
        failed = {
            name
            for name, case in cases.items()
            if case.find("failure") is not None or case.find("error") is not None
        }
        for name in sorted(failed):
            print(f"left out, for it fails as it is: {name}", flush=True)
        found = CoverageData(str(data))
        found.read()
        return Seen(
            {name: float(case.get("time", 0)) for name, case in cases.items()},
            {
                (Path(path).relative_to(self.source), line): {
                    test.rpartition("|")[0] for test in tests if test
                }
                - failed
                for path in found.measured_files()
                for line, tests in found.contexts_by_lineno(path).items()
            },
        )

    def passes(self, tests: Sequence[str], most: float | None, **environment: str) -> bool:
        """Whether tests pass, in at most so many seconds."""
        command = [sys.executable, "-m", "pytest", "-q", "-p", "no:cacheprovider", *tests]
        environment = os.environ | {
            "PYTHONPATH": str(self.source),
            "PYTHONDONTWRITEBYTECODE": "1",
            "HYPOTHESIS_STORAGE_DIRECTORY": str(self.folder / "hypothesis"),
            **environment,
        }
        try:
            done = subprocess.run(
                command,
                cwd=self.folder,
                env=environment,
                capture_output=True,
                text=True,
                timeout=most,
                check=False,
            )
        except subprocess.TimeoutExpired:
            return False
        assert "ERROR: not found" not in done.stdout + done.stderr, done.stdout
        return not done.returncode

    def notices(self, mutant: Mutant, seen: Seen) -> bool:
        """Whether some test fails, or does not come to an end, with a change."""
        tests = seen.nearest(mutant)
        path = self.source / mutant.module
        before = path.read_text(encoding="utf-8")
        for compiled in (path.parent / "__pycache__").glob(f"{path.stem}.*"):
            compiled.unlink()
        lines = before.split("\n")
        line = lines[mutant.change.line - 1]
        lines[mutant.change.line - 1] = (
            line[: mutant.change.start] + mutant.change.new + line[mutant.change.end :]
        )
        path.write_text("\n".join(lines), encoding="utf-8")
        try:
            return bool(tests) and not self.passes(["-x", *tests], 4 * MOST_SECONDS)
        finally:
            path.write_text(before, encoding="utf-8")


def main() -> int:
    """Draw, change and tell; exit status 1 where more than one in ten of all goes unnoticed."""
    parser = argparse.ArgumentParser(prog="python -m tests.mutants")
    parser.add_argument("rooms", nargs="*", default=ROOMS, metavar="ROOM")
    parser.add_argument("--share", type=int, default=10)
    parser.add_argument("--seed", type=int, default=random.randrange(1_000_000))
    given = parser.parse_args()
    print(f"seed {given.seed}", flush=True)
    unnoticed = total = 0
    with tempfile.TemporaryDirectory() as folder:
        workshops: SimpleQueue[Workshop] = SimpleQueue()
        for number in range(os.cpu_count() or 1):
            (Path(folder) / str(number)).mkdir()
            workshops.put(Workshop(Path(folder) / str(number)))
        workshop = workshops.get()
        seen = workshop.seen()
        workshops.put(workshop)

        def noticed(mutant: Mutant) -> bool:
            own = workshops.get()
            try:
                return own.notices(mutant, seen)
            finally:
                workshops.put(own)

        for room in given.rooms:
            mutants = drawn(room, given.share, random.Random(given.seed))
            with ThreadPoolExecutor(os.cpu_count() or 1) as pool:
                missed = [
                    mutant
                    for mutant, found in zip(mutants, pool.map(noticed, mutants), strict=True)
                    if not found
                ]
            for mutant in missed:
                line = (
                    (ROOT / "src" / mutant.module)
                    .read_text(encoding="utf-8")
                    .split("\n")[mutant.change.line - 1]
                )
                old = line[mutant.change.start : mutant.change.end]
                print(
                    f"  {mutant.module}:{mutant.change.line}:{mutant.change.start + 1}  {old} -> "
                    f"{mutant.change.new or 'nothing'}\n    {line.strip()}"
                )
            print(f"{room}: {len(mutants) - len(missed)} of {len(mutants)} noticed", flush=True)
            unnoticed, total = unnoticed + len(missed), total + len(mutants)
    print(f"{unnoticed} of {total} go unnoticed")
    return int(10 * unnoticed > total)


if __name__ == "__main__":
    sys.exit(main())
