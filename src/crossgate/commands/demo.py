"""`crossgate demo`: writes the demo and runs the whole job on it, each command shown before its
output.
"""

from __future__ import annotations

import shlex
from pathlib import Path
from typing import Annotated

import typer


def demo(
    folder: Annotated[
        Path | None,
        typer.Argument(
            metavar="[FOLDER]", help="Where to leave the files. Default: a temporary folder."
        ),
    ] = None,
) -> None:
    """Write the Ternhaven demo into FOLDER and run the whole job on it."""
    import tempfile

    from crossgate.demo import PLAN, write, write_traffic

    if folder is not None:
        write(folder)
        write_traffic(folder)
        _run(folder)
        typer.echo(
            f"\nThe files are in {folder}; go on with: cd {shlex.quote(str(folder))} && crossgate "
            "lists"
        )
        return
    with tempfile.TemporaryDirectory() as temporary:
        write(Path(temporary))
        write_traffic(Path(temporary))
        _run(Path(temporary))
    typer.echo(f"\nTo keep {PLAN} and go on with it: crossgate demo FOLDER")


def _run(folder: Path) -> None:
    """Run the demo's steps in its folder, as a person would. Exits with 1 when one ends otherwise
    than it should.
    """
    import os
    import sys
    from contextlib import chdir

    from crossgate.demo import PLAN, STEPS

    typer.secho("Ternhaven, a ferry terminal: from a plain-text plan to verdicts", bold=True)
    os.environ.pop("CROSSGATE_PLAN", None)
    with chdir(folder):
        plan = ("--plan", PLAN) if len(list(Path().glob("*.gate"))) > 1 else ()
        for step in STEPS:
            typer.echo()
            left_out = step.left_out
            if left_out:
                typer.secho(f"left out, as {left_out}: {step.shows}", fg="bright_black")
                continue
            typer.secho(step.shows, fg="bright_black")
            typer.secho(f"$ crossgate {shlex.join((*plan, *step.words))}", fg="cyan")
            sys.stdout.flush()
            status = _status((*plan, *step.words))
            if status != step.status:
                typer.secho(
                    f"this step ended with exit status {status}, not {step.status}",
                    fg="red",
                    err=True,
                )
                raise typer.Exit(1)


_INTERRUPTED = 130


def _status(words: tuple[str, ...]) -> int:
    """Run one command line, and return its exit status."""
    from crossgate.commands import run

    try:
        run(words)
    except SystemExit as leaving:
        if leaving.code == _INTERRUPTED:
            raise
        return leaving.code if isinstance(leaving.code, int) else int(leaving.code is not None)
    return 0
