"""`crossgate grid`: who reaches whom, for one or several services."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from crossgate.commands.common import (
    circumstances,
    load,
    plan_path,
    print_json,
    progress,
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
    from crossgate.core.answers.grid import Cell
    from crossgate.core.model.conditions import When
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
    from crossgate.core.answers.grid import LeftOut, changes, check_services, default_services
    from crossgate.core.network.ways import Network

    if as_csv and as_json:
        raise PlanError("--csv and --json exclude each other")
    if as_csv and against is not None:
        raise PlanError("--against answers in text or --json")
    plan = load(context)
    other = None if against is None else read_file(against)
    when = circumstances(plan, at, flood, tls, cipher)
    rows, columns = ends_of(plan, sources, hosts, other), ends_of(plan, destinations, hosts, other)
    wanted, untraced = (
        (services, []) if services else default_services(Network(plan), [*rows, *columns])
    )
    check_services(plan, wanted)
    if not rows or not columns:
        raise PlanError(
            f"{plan.files[0]} has no hosts {'there' if plan.hosts else 'and no subnets yet'}; a "
            "grid needs ends"
        )
    hostless = [
        name for words in (sources, destinations) for name in hostless_of(plan, words, hosts)
    ]
    left = LeftOut(tuple(dict.fromkeys(hostless)), tuple(untraced))
    missed: list[TooManyPieces] = []
    found = cells_of(plan, when, rows, columns, wanted, missed)
    if other is not None:
        different = list(changes(found, cells_of(other, when, rows, columns, wanted, missed)))
        if as_json:
            from crossgate.formats.json.grid import changes_document

            print_json(changes_document(plan, other, when.at, different, left))
        else:
            from crossgate.show.console import write
            from crossgate.show.grid import change_lines

            write(change_lines(different, str(plan_path(context)), str(against), left))
        tell_missed(missed)
        raise typer.Exit(1 if different else 0)
    if as_json:
        from crossgate.formats.json.grid import grid_document

        print_json(grid_document(plan, when, found, left))
    elif as_csv:
        from crossgate.formats.csv import write_grid

        write_grid(found)
    else:
        from crossgate.core.wording.sentences import asked_at
        from crossgate.show.console import write
        from crossgate.show.grid import lines

        if told := asked_at(plan, when, plan.asks_for_tls):
            write([told, ""])
        write(lines(rows, columns, wanted, found, left, every))
    tell_missed(missed)


def ends_of(
    plan: Plan, words: list[str] | None, hosts: bool, other: Plan | None = None
) -> list[str]:
    """Return the ends that words name, sets as they are unless their `hosts` are wanted; without
    words every host, or else every subnet.

    With another plan, an end needs to be in only one of the two. Raises `PlanError` for a word that
    names no end.
    """
    from crossgate.core.answers.grid import behind_points, hosts_of

    plans = [plan] if other is None else [plan, other]
    if words and not hosts:
        # A group of points stands for what is behind them, one by one.
        grouped = {name for each in plans for name, group in each.groups.items() if group.points}
        words = [
            name
            for word in words
            for each in plans[:1]
            for name in (behind_points(each, word) if word in grouped else [word])
        ]
    chosen = [each for each in plans if all(is_end(each, word) for word in words or [])] or [plan]
    if hosts or (not words and any(each.hosts for each in plans)):
        return list(dict.fromkeys(name for each in chosen for name in hosts_of(each, words or [])))
    named = list(dict.fromkeys(words or [name for each in plans for name in each.segments]))
    for word in named:
        if not any(is_end(each, word) for each in plans):
            _see_that_it_is_an_end(plan, word)
    return named


def hostless_of(plan: Plan, words: list[str] | None, hosts: bool) -> tuple[str, ...]:
    """Return the names that `ends_of` leaves out because they have no host."""
    from crossgate.core.answers.grid import without_host

    return without_host(plan, words or []) if plan.hosts and (hosts or not words) else ()


def only_in(plan: Plan, other: Plan, names: Iterable[str]) -> Iterator[str]:
    """Yield a sentence for each end that only one of two plans has."""
    from crossgate.core.wording.sentences import first_of
    from crossgate.formats.handed_on import handed_on

    names = list(dict.fromkeys(names))
    for one, beside in ((plan, other), (other, plan)):
        own = [name for name in names if not is_end(beside, name)]
        if own:
            yield f"only in {handed_on(one.files[0])}: {first_of(own)}"


def _see_that_it_is_an_end(plan: Plan, word: str) -> None:
    from crossgate.core.model.address import Family
    from crossgate.core.network.endpoints import endpoint_set

    endpoint_set(plan, word, Family.IPV4)


def is_end(plan: Plan, word: str) -> bool:
    """Whether a word is an end in a plan."""
    try:
        _see_that_it_is_an_end(plan, word)
    except PlanError:
        return False
    return True


def cells_of(
    plan: Plan,
    when: When,
    rows: list[str],
    columns: list[str],
    services: list[str],
    missed: list[TooManyPieces],
) -> list[Cell]:
    """Return the cells of a grid: those between two hosts are traced, those of sets proved; a name
    that the plan does not have has no cells.
    """
    from crossgate.core.answers.grid import cells
    from crossgate.core.answers.set_grid import SetGrid
    from crossgate.core.conversation.packets import Tracer
    from crossgate.core.traffic.session import Session

    rows, columns = ([name for name in names if is_end(plan, name)] for names in (rows, columns))
    session = Session(plan)
    traced = [[name for name in names if name in plan.hosts] for names in (rows, columns)]
    tracer = Tracer(session.network, plan.state_at(when))
    total = sum(source != destination for source in traced[0] for destination in traced[1]) * len(
        services
    )
    found = list(progress(cells(tracer, traced[0], traced[1], services), total, "tracing"))
    sets = SetGrid(session, when, missed)
    pairs = [
        (one, other)
        for one in rows
        for other in columns
        if one not in plan.hosts or other not in plan.hosts
    ]
    found += [
        cell
        for one, other in progress(pairs, len(pairs), "proving")
        for cell in sets.cell(one, other, services)
    ]
    return found
