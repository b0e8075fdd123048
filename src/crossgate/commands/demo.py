"""`crossgate demo`: writes the demo and runs the whole job on it, each command shown before its output."""

from __future__ import annotations

import shlex
from pathlib import Path
from typing import Annotated

import typer


def demo(
    folder: Annotated[
        Path | None, typer.Argument(metavar="[FOLDER]", help="Where to leave the files. Default: a temporary folder.")
    ] = None,
) -> None:
    """Write the Ternhaven demo into FOLDER and run the whole job on it."""
    import tempfile

    from crossgate.demo import PLAN, write

    if folder is not None:
        write(folder)
        _run(folder)
        typer.echo(f"\nThe files are in {folder}; go on with: cd {shlex.quote(str(folder))} && crossgate lists")
        return
    with tempfile.TemporaryDirectory() as temporary:
        write(Path(temporary))
        _run(Path(temporary))
    typer.echo(f"\nTo keep {PLAN} and go on with it: crossgate demo FOLDER")


def _run(folder: Path) -> None:
    """Run the demo's steps as a person would, one process each. Exits with 1 when one ends otherwise than it should."""
    import os
    import subprocess
    import sys

    from crossgate.demo import STEPS

    typer.secho("Ternhaven, a ferry terminal: from a plain-text plan to verdicts", bold=True)
    environment = {name: value for name, value in os.environ.items() if name != "CROSSGATE_PLAN"} | {"PYTHONSAFEPATH": "1"}
    for step in STEPS:
        typer.echo()
        typer.secho(step.shows, fg="bright_black")
        typer.secho(f"$ crossgate {shlex.join(step.words)}", fg="cyan")
        sys.stdout.flush()
        done = subprocess.run([sys.executable, "-m", "crossgate", *step.words], cwd=folder, env=environment, check=False)
        if done.returncode != step.status:
            typer.secho(f"this step ended with exit status {done.returncode}, not {step.status}", fg="red", err=True)
            raise typer.Exit(1)
