"""`crossgate export`: lists and networks in open formats."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from crossgate.commands.common import load, tallied, write_file
from crossgate.commands.completing import complete_device, complete_list
from crossgate.core.model.errors import PlanError, unknown
from crossgate.core.model.network import Direction
from crossgate.formats.exchange.registry import FORMATS, format_named

if TYPE_CHECKING:
    from crossgate.core.model.accesslist import AnyList
    from crossgate.core.model.network import Placement
    from crossgate.core.model.plan import Plan
    from crossgate.formats.exchange.asked import Written


_LIMIT = 256


def complete_format(incomplete: str) -> Iterator[str]:
    """Offer the formats that go out."""
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
            help="Only what stands on one device, its interfaces by their own names.",
        ),
    ] = None,
    unplaced: Annotated[
        bool, typer.Option("--unplaced", help="Only the lists, not where they stand.")
    ] = False,
    approximate: Annotated[
        bool,
        typer.Option("--approximate", help="Leave out what the format cannot say, and list it."),
    ] = False,
    limit: Annotated[
        int, typer.Option(min=1, metavar="N", help="Write a wildcard as at most so many prefixes.")
    ] = _LIMIT,
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
    from crossgate.formats.exchange.asked import Wanted

    found = format_named(format_name, writing=True)
    xml = xml or (out is not None and out.suffix.lower() == ".xml" and "xml" in found.takes)
    given_options = {
        "xml": xml,
        "tally": tally,
        "limit": limit != _LIMIT,
        "direction": direction,
        "bytes": as_bytes,
        "raw": raw,
    }
    for option, given in given_options.items():
        if given and option not in found.takes:
            raise PlanError(f"--{option} has no meaning for {format_name}")
    plan = load(context)
    chosen, places = _chosen(plan, lists or [], on, bare=format_name == "ietf")
    hits = tallied(context, chosen) if tally else None
    written = found.write(
        Wanted(
            plan, chosen, [] if unplaced else places, on, hits, direction, limit, xml, as_bytes, raw
        )
    )
    _leave(written, approximate, out, plan)


def _chosen(
    plan: Plan, names: list[str], device: str | None, bare: bool
) -> tuple[list[AnyList[Any]], list[Placement]]:
    """Return the lists that are meant, and where they stand; none only for a format that tells of a
    device without any. Raises `PlanError`.
    """
    if device is not None and device not in plan.devices:
        raise PlanError(unknown("device", device, list(plan.devices)))
    places = [
        each for each in plan.every_placement if device is None or each.point.device == device
    ]
    standing = {each.access_list for each in places}
    chosen = [plan.any_list(name) for name in dict.fromkeys(names)]
    if not names:
        chosen = [
            each for each in plan.every_list.values() if device is None or each.name in standing
        ]
        if not chosen and not (bare and device is not None):
            raise PlanError(f"no list stands on {device}" if device else "the plan has no lists")
    meant = {each.name for each in chosen}
    return chosen, [each for each in places if each.access_list in meant]


def _leave(written: Written, approximate: bool, out: Path | None, plan: Plan) -> None:
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
