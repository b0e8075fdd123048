"""`crossgate export`: lists and networks in open formats."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from crossgate.commands.common import load, write_file
from crossgate.commands.completing import complete_device, complete_list
from crossgate.commands.tallying import tallied
from crossgate.core.model.errors import PlanError
from crossgate.core.model.network import Direction
from crossgate.formats.exchange.registry import FORMATS, MOST_PREFIXES, format_named

if TYPE_CHECKING:
    from crossgate.core.model.plan import Plan
    from crossgate.formats.exchange.asked import ExportedDocument


def complete_format(incomplete: str) -> Iterator[str]:
    """Offer the formats that can be written."""
    return (name for name, each in FORMATS.items() if each.writing and name.startswith(incomplete))


def export(
    context: typer.Context,
    format_name: Annotated[
        str,
        typer.Argument(
            metavar="FORMAT", autocompletion=complete_format, help=f"One of {', '.join(FORMATS)}."
        ),
    ],
    lists: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[LIST...]",
            autocompletion=complete_list,
            help="The lists. Default: all of them, or with --on those that stand on that device.",
        ),
    ] = None,
    on: Annotated[
        str | None,
        typer.Option(
            "--on",
            metavar="DEVICE",
            autocompletion=complete_device,
            help="Only lists placed on one device, its interfaces by their own names.",
        ),
    ] = None,
    unplaced: Annotated[
        bool, typer.Option("--unplaced", help="Only the lists, not their places.")
    ] = False,
    approximate: Annotated[
        bool,
        typer.Option("--approximate", help="Leave out what the format cannot say, and list it."),
    ] = False,
    limit: Annotated[
        int, typer.Option(min=1, metavar="N", help="Write a wildcard as at most so many prefixes.")
    ] = MOST_PREFIXES,
    xml: Annotated[
        bool,
        typer.Option(
            "--xml", help="XML in the place of JSON; also by a name of --out that ends in .xml."
        ),
    ] = False,
    direction: Annotated[
        Direction | None,
        typer.Option(
            "--direction",
            metavar="DIRECTION",
            help=(
                "Which way the rules of an unplaced list are: inbound, from the terminal, or "
                "outbound."
            ),
        ),
    ] = None,
    as_bytes: Annotated[
        bool, typer.Option("--bytes", help="RADIUS attributes as bytes; goes to a file.")
    ] = False,
    raw: Annotated[
        bool,
        typer.Option(
            "--raw",
            help=(
                "Write cells that a spreadsheet would take for formulas without an apostrophe "
                "before them."
            ),
        ),
    ] = False,
    tally: Annotated[
        bool, typer.Option("--tally", help="Write how often each line has decided, too.")
    ] = False,
    out: Annotated[
        Path | None, typer.Option(metavar="FILE", help="Write to a file. Default: standard output.")
    ] = None,
) -> None:
    """Write lists in an open format; what it cannot say exactly is refused, never dropped in
    silence.
    """
    from crossgate import library

    found = format_named(format_name, writing=True)
    xml = xml or (out is not None and out.suffix.lower() == ".xml" and "xml" in found.takes)
    plan = load(context)
    written = library.export(
        plan,
        format_name,
        lists or (),
        on=on,
        unplaced=unplaced,
        limit=limit,
        xml=xml,
        direction=direction,
        as_bytes=as_bytes,
        raw=raw,
        hits=tallied(context, plan.every_list.values()) if tally else None,
    )
    _leave(written, approximate, out, plan)


def _leave(written: ExportedDocument, approximate: bool, out: Path | None, plan: Plan) -> None:
    from crossgate.show.console import count, silence, warn

    for each in written.unsaid:
        warn(each)
    if written.unsaid and not approximate:
        it = "it" if len(written.unsaid) == 1 else "them"
        warn(
            f"nothing is written: {count(len(written.unsaid), 'line')} cannot be said exactly; "
            f"--approximate leaves {it} out"
        )
        raise typer.Exit(1)
    for each in written.told:
        warn(each)
    if out is not None:
        write_file(out, written.text, plan.files)
        return
    if isinstance(written.text, bytes):
        raise PlanError("--bytes goes to a file; name it with --out")
    try:
        sys.stdout.write(written.text)
        sys.stdout.flush()
    except BrokenPipeError:
        silence()
