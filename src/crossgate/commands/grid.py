"""`crossgate grid`: who reaches whom, for one or several services."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from crossgate.commands.common import AtOption, JsonOption, load, moment, plan_path, print_json, progress, read_file
from crossgate.commands.completing import complete_hosts, complete_service
from crossgate.core.model.errors import PlanError

if TYPE_CHECKING:
    from datetime import datetime

    from crossgate.core.answers.grid import Cell
    from crossgate.core.model.plan import Plan


def grid(
    context: typer.Context,
    services: Annotated[
        list[str] | None,
        typer.Argument(metavar="[SERVICE]...", autocompletion=complete_service, help="Default: those the plan expects, and ping."),
    ] = None,
    sources: Annotated[
        list[str] | None,
        typer.Option("--from", metavar="NAME", autocompletion=complete_hosts, help="A host, group or subnet; may be repeated."),
    ] = None,
    destinations: Annotated[
        list[str] | None,
        typer.Option("--to", metavar="NAME", autocompletion=complete_hosts, help="A host, group or subnet; may be repeated."),
    ] = None,
    against: Annotated[Path | None, typer.Option(metavar="OTHER", help="Show only what differs in this other plan.")] = None,
    at: AtOption = None,
    as_csv: Annotated[bool, typer.Option("--csv", help="Print comma-separated values: one line a cell and family.")] = False,
    as_json: JsonOption = False,
) -> None:
    """Show who reaches whom: sources down, destinations across, a letter a verdict."""
    from crossgate.core.answers.grid import changes, check_services, default_services, hosts_of
    from crossgate.core.network.itineraries import Network

    if as_csv and as_json:
        raise PlanError("--csv and --json exclude each other")
    when = moment(at)
    plan = load(context)
    rows, columns = hosts_of(plan, sources or []), hosts_of(plan, destinations or [])
    wanted = services or default_services(Network(plan))
    check_services(plan, wanted)
    if not rows or not columns:
        raise PlanError(f"{plan.files[0]} has no hosts {'there' if plan.hosts else 'yet'}; a grid needs two")
    found = _cells(plan, when, rows, columns, wanted)
    if against is not None:
        other = read_file(against)
        there = [[name for name in names if name in other.hosts] for names in (rows, columns)]
        different = list(changes(found, _cells(other, when, there[0], there[1], wanted)))
        if as_json:
            from crossgate.formats.json.grid import changes_document

            print_json(changes_document(plan, other, when, different))
        elif as_csv:
            raise PlanError("--against answers in text or --json")
        else:
            from crossgate.show.console import write
            from crossgate.show.grid import change_lines

            write(change_lines(different, str(plan_path(context)), str(against)))
        raise typer.Exit(1 if different else 0)
    if as_json:
        from crossgate.formats.json.grid import grid_document

        print_json(grid_document(plan, when, found))
    elif as_csv:
        from crossgate.formats.csv import write_grid

        write_grid(found)
    else:
        from crossgate.show.console import write
        from crossgate.show.grid import lines

        if plan.windows:
            write([f"at {when:%a %Y-%m-%d %H:%M}", ""])
        write(lines(rows, columns, wanted, found))


def _cells(plan: Plan, when: datetime, rows: list[str], columns: list[str], services: list[str]) -> list[Cell]:
    from crossgate.core.answers.grid import cells
    from crossgate.core.model.window import open_at
    from crossgate.core.network.itineraries import Network
    from crossgate.core.traffic.trace import Tracer

    network = Network(plan)
    tracer = Tracer(network, open_at(plan.windows.values(), when))
    total = sum(source != destination for source in rows for destination in columns) * len(services)
    return list(progress(cells(network, tracer, rows, columns, services), total, "tracing"))
