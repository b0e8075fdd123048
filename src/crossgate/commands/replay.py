"""`crossgate replay`: a capture or a table of flows through the plan."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from contextlib import closing, contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from crossgate.commands.common import (
    IdleOption,
    JsonOption,
    UnpackedOption,
    add_to_tally,
    gauge,
    load,
    print_json,
    read_file,
)
from crossgate.commands.completing import complete_list, complete_where
from crossgate.core.model.errors import PlanError
from crossgate.core.model.network import Direction, stands_at

if TYPE_CHECKING:
    from datetime import tzinfo

    from crossgate.core.answers.replay import Replay, Replayed
    from crossgate.core.answers.sums import Line
    from crossgate.core.model.plan import Plan
    from crossgate.formats.readers.traffic import Traffic
    from crossgate.formats.verdicts import VerdictTable
    from crossgate.spread.parts import Job

_TOP = 10


def replay(
    context: typer.Context,
    files: Annotated[
        list[Path],
        typer.Argument(
            metavar="FILE...",
            help=(
                "Captures (pcap, pcapng), tables of flows (CSV, JSON lines, Parquet), also .gz "
                "and .zst; - is standard input."
            ),
        ),
    ],
    entered: Annotated[
        str | None,
        typer.Option(
            "--from",
            metavar="POINT",
            autocompletion=complete_where,
            help=(
                "Where the packets came in, whatever their source. Default: where the source "
                "address sits."
            ),
        ),
    ] = None,
    at_point: Annotated[
        str | None,
        typer.Option(
            "--at-point",
            metavar="POINT",
            autocompletion=complete_where,
            help="Ask the list at one place, packet by packet; needs --direction.",
        ),
    ] = None,
    direction: Annotated[
        Direction | None,
        typer.Option(
            "--direction", metavar="DIRECTION", help="inbound, outbound or within, for --at-point."
        ),
    ] = None,
    list_name: Annotated[
        str | None,
        typer.Option(
            "--list",
            metavar="LIST",
            autocompletion=complete_list,
            help="Ask one list, packet by packet.",
        ),
    ] = None,
    against: Annotated[
        Path | None,
        typer.Option(
            metavar="OTHER",
            help="Show only what fares otherwise in another plan; exit status 1 if anything does.",
        ),
    ] = None,
    out: Annotated[
        Path | None,
        typer.Option(metavar="FILE", help="Write a row for each conversation: .parquet or .csv."),
    ] = None,
    idle: IdleOption = 300,
    zone: Annotated[
        str | None,
        typer.Option(
            metavar="ZONE",
            help=(
                "The wall clock of windows, as Europe/Lisbon. Default: the plan's, else the "
                "system's."
            ),
        ),
    ] = None,
    column: Annotated[
        list[str] | None,
        typer.Option(
            "--column", metavar="WHAT=NAME", help="Name a column of tables, as source=client_ip."
        ),
    ] = None,
    verdict: Annotated[
        str | None,
        typer.Option(
            metavar="COLUMN",
            help=(
                "Hold the plan's verdicts against a column of tables that says what the device "
                "decided; exit status 1 if any differs."
            ),
        ),
    ] = None,
    top: Annotated[
        int, typer.Option(min=1, metavar="N", help="Show so many lines of what was not permitted.")
    ] = _TOP,
    workers: Annotated[
        int | None,
        typer.Option(
            min=1, metavar="N", help="Share the work among so many processes of this machine."
        ),
    ] = None,
    cluster: Annotated[
        str | None,
        typer.Option(
            metavar="ADDRESS",
            help="Share the work among the workers of a Dask scheduler, as tcp://192.0.2.10:8786.",
        ),
    ] = None,
    trusted_network: Annotated[
        bool,
        typer.Option("--trusted-network", help="Let --cluster go to another machine without TLS."),
    ] = False,
    unpacked: UnpackedOption = None,
    tally: Annotated[
        bool,
        typer.Option("--tally", help="Add the entries that decided to the tally beside the plan."),
    ] = False,
    as_json: JsonOption = False,
) -> None:
    """Put captures or tables of flows through the plan: verdicts, what was stopped by which line,
    what each line decided.
    """
    import time

    from crossgate.formats.readers.names import Column, told_columns
    from crossgate.formats.readers.traffic import Traffic

    plan = load(context)
    if (at_point is None) is not (direction is None):
        raise PlanError(
            "--at-point and --direction go together: the place, and which way packets cross it"
        )
    if at_point is not None and list_name is not None:
        raise PlanError("--at-point and --list exclude each other: both say which list is asked")
    if workers is not None and cluster is not None:
        raise PlanError(
            "--workers and --cluster exclude each other: processes of this machine, or those of a "
            "cluster"
        )
    if verdict is not None and against is not None:
        raise PlanError(
            "--verdict and --against exclude each other: what a device decided, or another plan"
        )
    columns = told_columns(column or [])
    if verdict is not None:
        columns[Column.VERDICT] = verdict
    traffic = Traffic(files, columns, int(time.time() * 1_000_000))
    wall, zone_name = _zone(zone or plan.zone or None)
    if at_point is None and list_name is None:
        if cluster is not None and not (zone or plan.zone) and plan.windows:
            raise PlanError(
                "--cluster needs --zone for this plan: it has windows, and machines of a cluster "
                "may have clocks of other zones"
            )
        _conversations(
            context,
            plan,
            traffic,
            entered,
            against,
            out,
            verdict,
            idle,
            wall,
            zone_name,
            top,
            tally,
            as_json,
            workers,
            cluster,
            trusted_network,
        )
        return
    options = {
        "--from": entered,
        "--against": against,
        "--verdict": verdict,
        "--out": out,
        "--workers": workers,
        "--cluster": cluster,
    }
    for option, given in options.items():
        if given is not None:
            raise PlanError(
                f"{option} is about conversations on their way, and packets are asked one by one "
                "here; leave one of them out"
            )
    _packets(context, plan, traffic, at_point, direction, list_name, wall, top, tally, as_json)


def _zone(name: str | None) -> tuple[tzinfo | None, str]:
    """Return the zone of the wall clock, None for the system's, and what it is called. Raises
    `PlanError`.
    """
    if name is None:
        return None, "on this system's clock"
    from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

    try:
        return ZoneInfo(name), name
    except (ZoneInfoNotFoundError, ValueError, OSError):
        raise PlanError(
            f"--zone {name}: no such time zone; name one of the IANA database, as Europe/Lisbon "
            "or UTC"
        ) from None


def _conversations(
    context: typer.Context,
    plan: Plan,
    traffic: Traffic,
    entered: str | None,
    against: Path | None,
    out: Path | None,
    verdict: str | None,
    idle: int,
    wall: tzinfo | None,
    zone: str,
    top: int,
    tally: bool,
    as_json: bool,
    workers: int | None,
    cluster: str | None,
    trusted: bool,
) -> None:
    from crossgate.core.answers.replay import Replay
    from crossgate.core.network.entrance import entrance
    from crossgate.core.network.ways import Network
    from crossgate.core.traffic.seen import SECOND

    came_in = None if entered is None else entrance(plan, entered)
    other = None if against is None else Network(read_file(against))
    replayed = Replay(Network(plan), wall, idle * SECOND, came_in, other)
    with _table(out, traffic, plan) as table:
        if workers is None and cluster is None:
            _run(replayed, plan, traffic, table)
        else:
            from crossgate.spread.parts import Job

            job = Job(
                plan,
                None if other is None else other.plan,
                entered,
                wall,
                idle * SECOND,
                rows=table is not None,
            )
            _spread(replayed, job, traffic, table, workers, cluster, trusted)
    if tally:
        _add_up(context, plan, [line for _, lines in replayed.lines() for line in lines])
    where = None if came_in is None else str(came_in.point)
    if as_json:
        from crossgate.formats.json.replay import replay_document

        print_json(replay_document(replayed, traffic.told, zone, where, verdict))
    else:
        from crossgate.show.console import write
        from crossgate.show.replay import against_lines, replay_lines

        if other is not None:
            write(against_lines(replayed, traffic.told, zone, where, top))
        else:
            write(replay_lines(replayed, traffic.told, zone, where, top, verdict))
    differs = replayed.sums.said.sorts if verdict else other and replayed.sums.sorts
    _leave(traffic, bool(differs))


@contextmanager
def _table(out: Path | None, traffic: Traffic, plan: Plan) -> Iterator[VerdictTable | None]:
    """Give the table of verdicts where one is asked for, and end it. Raises `PlanError`."""
    if out is None:
        yield None
        return
    from crossgate.formats.verdicts import verdict_table

    with verdict_table(out, [*traffic.paths, *map(Path, plan.files)]) as table:
        yield table


def _run(replayed: Replay, plan: Plan, traffic: Traffic, table: VerdictTable | None) -> None:
    """Put all traffic through, and write its verdicts where they are asked for."""
    from crossgate.formats.readers.traffic import size

    def keep(ended: Iterable[Replayed]) -> None:
        for each in ended:
            if table is not None:
                from crossgate.formats.verdicts import verdict_rows

                table.write(verdict_rows(each, replayed.tracer))

    with gauge("replaying", size(traffic.paths)) as tell:
        for seen, flows in traffic.batches():
            for family, each in seen.items():
                keep(replayed.add(family, each, plan.client_ports if flows else None))
            tell(traffic.rows, traffic.octets)
        keep(replayed.rest())


def _spread(
    replayed: Replay,
    job: Job,
    traffic: Traffic,
    table: VerdictTable | None,
    workers: int | None,
    cluster: str | None,
    trusted: bool,
) -> None:
    """Have all traffic replayed in parts, by processes here or by those of a cluster."""
    from crossgate.formats.readers.traffic import size
    from crossgate.spread.pools import ClusterPool, LocalPool
    from crossgate.spread.replay import replay_in_parts

    with (
        closing(
            LocalPool(workers) if workers is not None else ClusterPool(cluster or "", trusted)
        ) as pool,
        gauge("reading", size(traffic.paths)) as tell,
    ):
        replay_in_parts(replayed, job, traffic, pool, table, tell)


def _packets(
    context: typer.Context,
    plan: Plan,
    traffic: Traffic,
    at_point: str | None,
    direction: Direction | None,
    list_name: str | None,
    wall: tzinfo | None,
    top: int,
    tally: bool,
    as_json: bool,
) -> None:
    from crossgate.core.answers.replay import ListReplay
    from crossgate.core.network.entrance import place_named
    from crossgate.core.network.ways import Network
    from crossgate.formats.readers.traffic import size

    network = Network(plan)
    place = (
        None if at_point is None or direction is None else (place_named(plan, at_point), direction)
    )
    if place is None:
        assert list_name is not None
        lists = [plan.access_list(list_name)]
    else:
        lists = [each for (point, way, _), each in plan.placed.items() if (point, way) == place]
        if not lists:
            raise PlanError(
                f"no list stands {stands_at(place[1], place[0])}; crossgate lists shows where they do"
            )
    asked = [ListReplay(network, each, wall) for each in lists]
    with gauge("replaying", size(traffic.paths)) as tell:
        for seen, _ in traffic.batches():
            for family, each in seen.items():
                for own in asked:
                    own.add(family, each)
            tell(traffic.rows, traffic.octets)
    if tally:
        _add_up(context, plan, [line for own in asked for line in own.lines()])
    if as_json:
        from crossgate.formats.json.replay import list_replay_document

        print_json(
            list_replay_document(
                asked, plan, traffic.told, place and (str(place[0]), str(place[1]))
            )
        )
    else:
        from crossgate.show.console import write
        from crossgate.show.replay import list_replay_lines

        where = "" if place is None else f", {place[1]} on {place[0]}"
        write(list_replay_lines(asked, plan, traffic.told, where, top))
    _leave(traffic, differs=False)


def _add_up(context: typer.Context, plan: Plan, lines: list[Line]) -> None:
    add_to_tally(context, plan, {line.decider.key: line.packets for line in lines if line.packets})


def _leave(traffic: Traffic, differs: bool) -> None:
    """Leave with exit status 2 where a file could not be read to its end, else with 1 where
    something differs.
    """
    from crossgate.show.console import warn

    broken = [each for each in traffic.told if each.capture is not None and each.capture.broken]
    for each in broken:
        assert each.capture is not None
        warn(
            f"{each.path} could not be read to its end, at {each.capture.broken}; what came "
            "before it counts"
        )
    if broken or differs:
        raise typer.Exit(2 if broken else 1)
