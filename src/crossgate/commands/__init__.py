"""The command line: one module a command, each a few lines that read, ask the core and show."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from crossgate import __version__
from crossgate.commands import (
    check,
    compare,
    demo,
    entry,
    fence,
    grid,
    listing,
    lists,
    placement,
    points,
    reach,
    tally,
    tidy,
    trace,
    verify,
    wild,
)

app = typer.Typer(
    name="crossgate",
    help="Write, place, trace and prove access lists, offline, from one plain-text plan.",
    no_args_is_help=True,
    pretty_exceptions_enable=False,
    context_settings={"help_option_names": ["-h", "--help"]},
)


def _version(wanted: bool) -> None:
    if wanted:
        typer.echo(f"crossgate {__version__}")
        raise typer.Exit


@app.callback()
def options(
    plan: Annotated[
        Path | None, typer.Option(help="The plan file. Default: CROSSGATE_PLAN, else the only *.gate file here.", metavar="FILE")
    ] = None,
    version: Annotated[bool, typer.Option("--version", callback=_version, is_eager=True, help="Print the version.")] = False,
) -> None:
    """Write, place, trace and prove access lists, offline, from one plain-text plan."""


for command in (
    demo.demo, check.check, lists.lists, trace.trace, points.points, verify.verify, grid.grid, reach.reach, compare.compare,
    placement.place, placement.lift, fence.fence, tidy.tidy, tally.tally, wild.wild,
):  # fmt: skip
    app.command()(command)
for group in (entry.entry, listing.listing):
    app.add_typer(group)
