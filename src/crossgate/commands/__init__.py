"""The command line: one module a command, each a few lines that read, ask the core and show.

A run needs one command, so only that one is imported and built; all of them are for help, completion and a word that is
no command.
"""

from __future__ import annotations

import os
from collections.abc import Sequence
from importlib import import_module
from pathlib import Path
from typing import Annotated

import typer

from crossgate import __version__

COMMANDS = {
    "new": "new", "demo": "demo", "check": "check", "lists": "lists", "trace": "trace", "points": "points", "verify": "verify", "grid": "grid",
    "reach": "reach", "compare": "compare", "entry": "entry", "list": "listing", "place": "placement", "lift": "placement",
    "fence": "fence", "tidy": "tidy", "wild": "wild", "tally": "tally",
}  # fmt: skip
"""The module that has each command, in the order in which help shows them."""

_GROUPS = {"entry": "entry", "list": "listing"}


def run(words: Sequence[str]) -> None:
    """Run a command line."""
    app = application(words)
    if any("--plan" in word or word == "-" or word.endswith(".gate") for word in words):
        from crossgate.commands.naming import plan_first

        words = plan_first(words, _command(words), app)
    app(words)


def application(words: Sequence[str]) -> typer.Typer:
    """Return the program for a command line: with the one command that it names, or with all."""
    app = typer.Typer(
        name="crossgate",
        help="Write, place, trace and prove access lists, offline, from one plain-text plan.",
        invoke_without_command=True,
        pretty_exceptions_enable=False,
        context_settings={"help_option_names": ["-h", "--help"]},
    )
    app.callback()(options)
    named = _command(words)
    completes = "_CROSSGATE_COMPLETE" in os.environ
    helps = any(word in ("-h", "--help") for word in words)
    alone = not named and not helps and not completes
    for name in () if alone else [named] if named in COMMANDS and not completes else COMMANDS:
        module = import_module(f"crossgate.commands.{COMMANDS[name]}")
        if name in _GROUPS:
            app.add_typer(getattr(module, _GROUPS[name]))
        else:
            app.command(name)(getattr(module, name))
    return app


def _command(words: Sequence[str]) -> str:
    """Return the first word that is neither an option nor the plan's name."""
    left = iter(words)
    for word in left:
        if word in ("--plan", "--pieces"):
            next(left, None)
        elif not word.startswith("-"):
            return word
    return ""


def _version(wanted: bool) -> None:
    if wanted:
        typer.echo(f"crossgate {__version__}")
        raise typer.Exit


def options(
    context: typer.Context,
    plan: Annotated[
        Path | None, typer.Option(help="The plan file. Default: CROSSGATE_PLAN, else the only *.gate file here.", metavar="FILE")
    ] = None,
    pieces: Annotated[int | None, typer.Option(help="Allow each exact question N pieces (1,000,000).", metavar="N", min=1)] = None,
    version: Annotated[bool, typer.Option("--version", callback=_version, is_eager=True, help="Print the version.")] = False,
) -> None:
    """Write, place, trace and prove access lists, offline, from one plain-text plan."""
    if pieces is not None:
        from crossgate.core.sets.effort import allow

        allow(pieces)
    if context.invoked_subcommand is None:
        from crossgate.commands.standing import standing

        standing(context)
