"""What `crossgate replay` does with the traffic, once its options are read."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path
from types import MappingProxyType
from typing import TYPE_CHECKING, NamedTuple

import typer

from crossgate.commands.common import gauge, plan_file, print_json, read_file
from crossgate.commands.sharing import (
    pool_of,
)
from crossgate.commands.tallying import add_to_tally
from crossgate.core.model.errors import PlanError
from crossgate.core.model.network import Direction, stands_at
from crossgate.core.model.window import Period

if TYPE_CHECKING:
    from datetime import tzinfo

    from crossgate.core.answers.replay import Replay, Replayed
    from crossgate.core.answers.sums import UsedLine
    from crossgate.core.model.plan import Plan
    from crossgate.formats.readers.traffic import Traffic
    from crossgate.formats.tally import Times
    from crossgate.formats.verdicts import VerdictTable
    from crossgate.spread.parts import Job


class ReplayOptions(NamedTuple):
    """How conversations are replayed, by the options of `replay`."""

    entered: str | None
    against: Path | None
    out: Path | None
    verdict: str | None
    idle: int
    by: Period | None
    users: int | None
    wall: tzinfo | None
    zone: str
    top: int
    tally: bool
    as_json: bool
    workers: int | None
    cluster: str | None
    trusted: bool


def replay_conversations(
    context: typer.Context, plan: Plan, traffic: Traffic, how: ReplayOptions
) -> None:
    """Send the conversations of some traffic on their way, and tell what becomes of them."""
    from crossgate.core.answers.replay import Replay
    from crossgate.core.network.entrance import entrance
    from crossgate.core.network.ways import Network
    from crossgate.core.traffic.seen import SECOND

    came_in = None if how.entered is None else entrance(plan, how.entered)
    other = None if how.against is None else Network(read_file(how.against))
    idle, users = how.idle * SECOND, how.users is not None
    replayed = Replay(Network(plan), how.wall, idle, came_in, other, how.by, users)
    with _table(how.out, traffic, plan) as table:
        if how.workers is None and how.cluster is None:
            _run(replayed, plan, traffic, table)
        else:
            from crossgate.spread.parts import Job

            job = Job(
                plan,
                None if other is None else other.plan,
                how.entered,
                how.wall,
                idle,
                rows=table is not None,
                by=how.by,
                users=users,
            )
            _spread(replayed, job, traffic, table, how)
    if how.tally:
        lines = [line for _, lines in replayed.lines() for line in lines]
        _add_up(context, plan, lines, _times(replayed))
    where = None if came_in is None else str(came_in.point)
    if how.as_json:
        from crossgate.formats.json.replay import replay_document

        print_json(replay_document(replayed, traffic.told, how.zone, where, how.verdict, how.users))
    else:
        from crossgate.show.console import write
        from crossgate.show.replay import against_lines, replay_lines

        if other is not None:
            write(against_lines(replayed, traffic.told, how.zone, where, how.top))
        else:
            write(
                replay_lines(
                    replayed, traffic.told, how.zone, where, how.top, how.verdict, how.users
                )
            )
    differs = replayed.sums.said.sorts if how.verdict else other and replayed.sums.sorts
    _leave(context, traffic, bool(differs))


@contextmanager
def _table(out: Path | None, traffic: Traffic, plan: Plan) -> Iterator[VerdictTable | None]:
    """Provide the table of verdicts where one is asked for, and close it. Raises `PlanError`."""
    if out is None:
        yield None
        return
    from crossgate.formats.verdicts import verdict_table

    with verdict_table(out, [*traffic.paths, *map(Path, plan.sources)]) as table:
        yield table


def _run(replayed: Replay, plan: Plan, traffic: Traffic, table: VerdictTable | None) -> None:
    """Replay all traffic, and write its verdicts where they are asked for."""
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
    replayed: Replay, job: Job, traffic: Traffic, table: VerdictTable | None, how: ReplayOptions
) -> None:
    """Have all traffic replayed in parts, by processes here or in a cluster."""
    from crossgate.formats.readers.traffic import size
    from crossgate.spread.replay import replay_in_parts

    with (
        pool_of(how.workers, how.cluster, how.trusted) as pool,
        gauge("reading", size(traffic.paths)) as tell,
    ):
        assert pool is not None  # parts are made for one
        replay_in_parts(replayed, job, traffic, pool, table, tell)


def replay_packets(
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
    """Ask one list, or the lists at a place, about each packet of some traffic by itself."""
    from crossgate.core.answers.list_replay import ListReplay
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
    _leave(context, traffic, differs=False)


def _times(replayed: Replay) -> Times:
    """Return how often lines decided in each hour or day, where sums are kept for these."""
    if replayed.by is None:
        return {}
    return {
        (replayed.by, begins): {
            replayed.decider(*line).key: packets
            for line, (_, packets) in stretch.lines.items()
            if packets
        }
        for begins, stretch in replayed.sums.stretches.items()
    }


def _add_up(
    context: typer.Context, plan: Plan, lines: list[UsedLine], times: Times = MappingProxyType({})
) -> None:
    hits = {line.decider.key: line.packets for line in lines if line.packets}
    add_to_tally(context, plan, hits, times)


def _leave(context: typer.Context, traffic: Traffic, differs: bool) -> None:
    """Exit with status 2 where a file could not be read to its end, or else with 1 where something
    differs; the time up to which traffic was looked at is kept where that is wanted.
    """
    from crossgate.show.console import count, warn

    broken = traffic.broken
    for path, where in broken:
        warn(f"{path} could not be read to its end, at {where}; what came before it counts")
    if traffic.after is not None and not broken:
        from crossgate.formats.looks import keep_look

        keep_look(plan_file(context, "remember the last look at"), traffic.latest)
        if traffic.left_out:
            typer.echo(
                f"{count(traffic.left_out, 'row')} of before the last look left out", err=True
            )
    if broken or differs:
        raise typer.Exit(2 if broken else 1)
