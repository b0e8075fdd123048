"""`crossgate grid`: who reaches whom, for one or several services."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from crossgate.commands.common import (
    circumstances,
    load,
    meter,
    plan_path,
    print_json,
    read_file,
    tell_missed,
)
from crossgate.commands.completing import complete_hosts, complete_service
from crossgate.commands.shared_options import (
    AtOption,
    CipherOption,
    FloodOption,
    JsonOption,
    PiecesOption,
    TlsOption,
)
from crossgate.core.model.errors import PlanError

if TYPE_CHECKING:
    from crossgate.core.model.plan import Plan
    from crossgate.core.sets.effort import TooManyPieces


_ENDS = "A host, or a subnet, group, device, outside or prefix as a whole; may be repeated."


def grid(
    context: typer.Context,
    services: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[SERVICE]...",
            autocompletion=complete_service,
            help="Default: those the plan expects, and ping.",
        ),
    ] = None,
    sources: Annotated[
        list[str] | None,
        typer.Option("--from", metavar="NAME", autocompletion=complete_hosts, help=_ENDS),
    ] = None,
    destinations: Annotated[
        list[str] | None,
        typer.Option("--to", metavar="NAME", autocompletion=complete_hosts, help=_ENDS),
    ] = None,
    hosts: Annotated[
        bool,
        typer.Option("--hosts", help="Take the hosts of subnets, groups and outsides one by one."),
    ] = False,
    against: Annotated[
        Path | None,
        typer.Option(metavar="OTHER", help="Show only what differs in this other plan."),
    ] = None,
    at: AtOption = None,
    flood: FloodOption = False,
    tls: TlsOption = None,
    cipher: CipherOption = None,
    every: Annotated[
        bool, typer.Option("--every", help="Show equal rows of many names each by itself.")
    ] = False,
    as_csv: Annotated[
        bool,
        typer.Option("--csv", help="Print comma-separated values: one line a cell and family."),
    ] = False,
    pieces: PiecesOption = None,
    as_json: JsonOption = False,
) -> None:
    """Show who reaches whom: sources down, destinations across, a letter a verdict; a set's is
    proved for all of it.
    """
    from crossgate.core.answers.grid import changes
    from crossgate.core.answers.grid_asked import GridEnds, cells_of, grid_of

    if as_csv and as_json:
        raise PlanError("--csv and --json exclude each other")
    if as_csv and against is not None:
        raise PlanError("--against answers in text or --json")
    plan = load(context)
    other = None if against is None else read_file(against)
    when = circumstances(plan, at, flood, tls, cipher)
    missed: list[TooManyPieces] = []
    ends = GridEnds(sources or (), destinations or (), hosts)
    with meter("cells") as tell:
        found = grid_of(plan, when, services or (), ends, other, missed, tell)
        there = (
            []
            if other is None
            else cells_of(
                other, when, (found.sources, found.destinations), found.services, missed, tell
            )
        )
    if other is not None:
        different = list(changes(found.cells, there))
        if as_json:
            from crossgate.formats.json.grid import changes_document

            print_json(changes_document(plan, other, when.at, different, found.left))
        else:
            from crossgate.show.console import write
            from crossgate.show.grid import change_lines

            write(change_lines(different, str(plan_path(context)), str(against), found.left))
        tell_missed(missed)
        raise typer.Exit(1 if different else 0)
    if as_json:
        from crossgate.formats.json.grid import grid_document

        print_json(grid_document(plan, when, found.cells, found.left))
    elif as_csv:
        from crossgate.formats.csv import write_grid

        write_grid(found.cells)
    else:
        from crossgate.core.wording.sentences import asked_at
        from crossgate.show.console import write
        from crossgate.show.grid import lines

        if told := asked_at(plan, when, plan.asks_for_tls):
            write([told, ""])
        write(
            lines(found.sources, found.destinations, found.services, found.cells, found.left, every)
        )
    tell_missed(missed)


def only_in(plan: Plan, other: Plan, names: Iterable[str]) -> Iterator[str]:
    """Yield a sentence for each end that only one of two plans has."""
    from crossgate.core.answers.grid_asked import is_end
    from crossgate.core.wording.sentences import first_of
    from crossgate.formats.handed_on import handed_on

    names = list(dict.fromkeys(names))
    for one, beside in ((plan, other), (other, plan)):
        own = [name for name in names if not is_end(beside, name)]
        if own:
            yield f"only in {handed_on(one.files[0])}: {first_of(own)}"
