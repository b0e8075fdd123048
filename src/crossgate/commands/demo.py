"""`crossgate demo`: writes the demo and tells its story, each command shown before its answer: in
short, a single chapter, or all of it.
"""

from __future__ import annotations

import io
import shlex
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from crossgate.core.model.errors import PlanError

if TYPE_CHECKING:
    from crossgate.demo.story import Chapter, DemoStep


def demo(
    words: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[CHAPTER] [FOLDER]",
            help="The number of a chapter; where to leave the files, a temporary folder if left out.",
        ),
    ] = None,
    every: Annotated[bool, typer.Option("--all", help="Show all chapters whole.")] = False,
) -> None:
    """Write the Ternhaven demo into FOLDER and tell its story, in short or a CHAPTER whole."""
    import tempfile

    from crossgate.demo import PLAN, write, write_traffic

    number, folder = _asked(words or [], every)
    if folder is not None:
        write(folder)
        write_traffic(folder)
        _run(folder, number, every)
        typer.echo(
            f"\nThe files are in {folder}; go on with: cd {shlex.quote(str(folder))} && crossgate "
            "lists"
        )
        return
    with tempfile.TemporaryDirectory() as temporary, _own_state(Path(temporary) / "state"):
        write(Path(temporary))
        write_traffic(Path(temporary))
        _run(Path(temporary), number, every)
    typer.echo(f"\nTo keep {PLAN} and go on with it: crossgate demo FOLDER")


def _asked(words: list[str], every: bool) -> tuple[int | None, Path | None]:
    """Return which chapter is asked for, and the folder, None for none. Raises `PlanError`."""
    from crossgate.demo.chapters import CHAPTERS

    left = list(words)
    number = int(left.pop(0)) if left and left[0].isascii() and left[0].isdigit() else None
    if number is not None and not 1 <= number <= len(CHAPTERS):
        raise PlanError(f"there is no chapter {number}; the demo has chapters 1 to {len(CHAPTERS)}")
    if number is not None and every:
        raise PlanError(f"--all shows every chapter; leave {number} or --all out")
    if len(left) > 1:
        raise PlanError(f"{left[1]} is too much: name a chapter by its number, and one folder")
    return number, Path(left[0]) if left else None


@contextmanager
def _own_state(folder: Path) -> Iterator[None]:
    """Make commands keep the user's own files in a folder of the demo."""
    import os

    before = os.environ.get("XDG_STATE_HOME")
    os.environ["XDG_STATE_HOME"] = str(folder)
    try:
        yield
    finally:
        del os.environ["XDG_STATE_HOME"]
        if before is not None:
            os.environ["XDG_STATE_HOME"] = before


def _run(folder: Path, number: int | None, every: bool) -> None:
    """Run steps of the demo in its folder, as a person would. Exits with 1 when one ends otherwise
    than expected.
    """
    import os
    from contextlib import chdir

    from crossgate.demo import PLAN
    from crossgate.demo.chapters import CHAPTERS

    typer.secho("Ternhaven, a ferry terminal: from a plain-text plan to verdicts", bold=True)
    os.environ.pop("CROSSGATE_PLAN", None)
    with chdir(folder):
        plan = ("--plan", PLAN) if len(list(Path().glob("*.gate"))) > 1 else ()
        for own, chapter in enumerate(CHAPTERS, 1):
            if number in (None, own):
                whole = every or number is not None
                _chapter(own, chapter, whole, plan)
    if number is None and not every:
        typer.echo(
            f"\nThis is the short story; a chapter whole: crossgate demo 1 to {len(CHAPTERS)}; all "
            "of it: crossgate demo --all"
        )


def _chapter(number: int, chapter: Chapter, whole: bool, plan: tuple[str, ...]) -> None:
    from crossgate.demo.chapters import CHAPTERS
    from crossgate.show.console import count

    steps = chapter.steps if whole else chapter.told
    if not steps:  # titles of several stand together
        typer.echo("\n" * bool(CHAPTERS[number - 2].told), nl=False)
        typer.secho(f"{number}  {chapter.title}: crossgate demo {number}", bold=True)
        return
    typer.echo()
    typer.secho(f"{number}  {chapter.title}", bold=True)
    with _played(chapter, plan) as why_not:
        left = 0
        for step in steps:
            typer.echo("\n" * whole, nl=False)
            left_out = why_not or step.left_out
            if left_out:
                typer.secho(f"left out, as {left_out}: {step.shows}", fg="bright_black")
                continue
            typer.secho(step.shows, fg="bright_black")
            typer.secho(f"$ crossgate {shlex.join((*plan, *step.words))}", fg="cyan")
            sys.stdout.flush()
            if whole:
                status = _status((*plan, *step.words))
            else:
                status, rest = _told(step, plan)
                left += rest
            if status != step.status:
                typer.secho(
                    f"this step ended with exit status {status}, not {step.status}",
                    fg="red",
                    err=True,
                )
                raise typer.Exit(1)
    if not whole:
        untold = len(chapter.steps) - len(steps)
        more = [count(left, "line")] * bool(left) + [count(untold, "command")] * bool(untold)
        if more:
            typer.secho(
                f"  and {' and '.join(more)} more: crossgate demo {number}", fg="bright_black"
            )


@contextmanager
def _played(chapter: Chapter, plan: tuple[str, ...]) -> Iterator[str]:
    """Run stand-ins of the plan's devices on this machine while a chapter runs that needs them;
    yield the reason why that is not possible, "" where it is or is not needed.
    """
    import subprocess

    from crossgate.demo.chapters import FIRST_PORT

    why_not = next((each.left_out for each in chapter.steps if each.left_out), "")
    if not chapter.stand_ins or why_not:
        yield ""
        return
    words = [*plan, "stand-in", "--port", str(FIRST_PORT)]
    command = [sys.executable, "-m", "crossgate", *words]
    with subprocess.Popen(
        command, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True
    ) as process:
        try:
            assert process.stdout is not None
            lines = list[str]()
            for line in process.stdout:
                lines.append(line.rstrip())
                if line.startswith("Ask them with"):
                    break
            playing = process.poll() is None
            yield "" if playing else f"no stand-in could be played ({' '.join(lines[-1:])})"
        finally:
            process.kill()


class _Caught(io.StringIO):
    """The output of a command, with the colours that it would have."""

    def isatty(self) -> bool:
        """Whether the output finally goes to a person."""
        return sys.__stdout__ is not None and sys.__stdout__.isatty()


def _told(step: DemoStep, plan: tuple[str, ...]) -> tuple[int, int]:
    """Run a step and print the lines of its answer that matter; return its exit status, and the
    number of the other lines.
    """
    from contextlib import redirect_stderr, redirect_stdout

    from crossgate.show.width import CODES

    caught = _Caught()
    with redirect_stdout(caught), redirect_stderr(caught):
        status = _status((*plan, *step.words))
    lines = caught.getvalue().splitlines()
    told = [each for each in lines if any(word in CODES.sub("", each) for word in step.tells)]
    for each in told if status == step.status else lines:
        typer.echo(each)
    return status, len(lines) - len(told)


_INTERRUPTED = 130


def _status(words: tuple[str, ...]) -> int:
    """Run one command line, and return its exit status."""
    from crossgate.commands import run

    before = sys.argv
    sys.argv = [before[0], *words]  # it is noted with what it writes
    try:
        run(words)
    except SystemExit as leaving:
        if leaving.code == _INTERRUPTED:
            raise
        return leaving.code if isinstance(leaving.code, int) else int(leaving.code is not None)
    finally:
        sys.argv = before
    return 0
