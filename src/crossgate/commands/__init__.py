"""The command line: a module for each command, with a few lines that read, ask the core and show
the answer. `program` builds each command when it is asked for.
"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Annotated

import typer

from crossgate import __version__
from crossgate.commands.program import Program


def run(words: Sequence[str]) -> None:
    """Run a command line, or answer a shell that asks for completions of the one being typed."""
    application()(words, prog_name="crossgate")


def application() -> typer.Typer:
    """Return the program."""
    app = typer.Typer(
        name="crossgate",
        cls=Program,
        help="Write, place, trace and prove access lists, offline, from one plain-text plan.",
        invoke_without_command=True,
        pretty_exceptions_enable=False,
        rich_markup_mode=None,
        context_settings={"help_option_names": ["-h", "--help"]},
    )
    app.callback()(options)
    return app


def _version(wanted: bool) -> None:
    if wanted:
        typer.echo(f"crossgate {__version__}")
        raise typer.Exit


def options(
    context: typer.Context,
    plan: Annotated[
        Path | None,
        typer.Option(
            help="The plan file. Default: CROSSGATE_PLAN, else the only *.gate file here.",
            metavar="FILE",
        ),
    ] = None,
    pieces: Annotated[
        int | None,
        typer.Option(help="Allow each exact question N pieces (1,000,000).", metavar="N", min=1),
    ] = None,
    include_from: Annotated[
        list[Path] | None,
        typer.Option(
            help=(
                "Trust the files of this folder as includes. Default: those of the plan's folder "
                "or repository."
            ),
            metavar="DIR",
        ),
    ] = None,
    debug: Annotated[
        bool, typer.Option("--debug", help="Tell on standard error what is done, and when.")
    ] = False,
    version: Annotated[
        bool, typer.Option("--version", callback=_version, is_eager=True, help="Print the version.")
    ] = False,
) -> None:
    """Write, place, trace and prove access lists, offline, from one plain-text plan."""
    if debug:
        from crossgate.show.debug import listen

        listen()
    if pieces is not None:
        from crossgate.core.sets.effort import allow

        allow(pieces)
    if include_from:
        from crossgate.language.source import allow_includes

        allow_includes(include_from)
    if context.invoked_subcommand is None:
        from crossgate.commands.standing import standing

        standing(context)
