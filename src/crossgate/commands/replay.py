"""`crossgate replay`: a capture or a table of flows through the plan."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from crossgate.commands.common import load, plan_file
from crossgate.commands.completing import complete_list, complete_where
from crossgate.commands.replaying import ReplayOptions, replay_conversations, replay_packets
from crossgate.commands.shared_options import IdleOption, JsonOption, UnpackedOption
from crossgate.commands.sharing import (
    ClusterOption,
    TrustedNetworkOption,
    WorkersOption,
    see_who_shares,
)
from crossgate.core.model.errors import PlanError
from crossgate.core.model.network import Direction
from crossgate.core.model.window import Period

if TYPE_CHECKING:
    from datetime import tzinfo


_TOP = 10


def replay(
    context: typer.Context,
    files: Annotated[
        list[Path] | None,
        typer.Argument(
            metavar="FILE...",
            help=(
                "Captures (pcap, pcapng), flows (CSV, JSON lines, Parquet, IPFIX), lines of logs; "
                "also .gz and .zst; - is standard input."
            ),
        ),
    ] = None,
    entered: Annotated[
        str | None,
        typer.Option(
            "--from",
            metavar="POINT",
            autocompletion=complete_where,
            help="Where packets came in; default: where the source is.",
        ),
    ] = None,
    at_point: Annotated[
        str | None,
        typer.Option(
            "--at-point",
            metavar="POINT",
            autocompletion=complete_where,
            help="Ask one place, packet by packet; needs --direction.",
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
            help="Show what OTHER does differently; exit status 1 if any.",
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
            help="The wall clock, as Europe/Lisbon (the plan's).",
        ),
    ] = None,
    column: Annotated[
        list[str] | None,
        typer.Option(
            "--column", metavar="WHAT=NAME", help="Name a column of tables, as source=client_ip."
        ),
    ] = None,
    listen: Annotated[
        str | None,
        typer.Option(
            metavar="ADDRESS:PORT", help="Wait for IPFIX messages over UDP, as 127.0.0.1:4739."
        ),
    ] = None,
    lasting: Annotated[
        str | None,
        typer.Option("--for", metavar="TIME", help="How long, as 10m. Default: until Ctrl-C."),
    ] = None,
    pattern: Annotated[
        str | None,
        typer.Option(
            metavar="REGEX",
            help="Lines of logs by named groups: src, dst, proto, ...",
        ),
    ] = None,
    verdict: Annotated[
        str | None,
        typer.Option(
            metavar="COLUMN",
            help="A column with a device's decisions; exit status 1 if any differs.",
        ),
    ] = None,
    by: Annotated[
        Period | None,
        typer.Option("--by", metavar="STRETCH", help="Add sums by hour or by day."),
    ] = None,
    top: Annotated[
        int,
        typer.Option(
            min=1,
            metavar="N",
            show_default=False,
            help=f"So many lines of what was not permitted ({_TOP}).",
        ),
    ] = _TOP,
    top_permitted: Annotated[
        int | None,
        typer.Option(
            "--top-permitted", min=1, metavar="N", help="Show who uses each permitting line most."
        ),
    ] = None,
    workers: WorkersOption = None,
    cluster: ClusterOption = None,
    trusted_network: TrustedNetworkOption = False,
    unpacked: UnpackedOption = None,
    since_last: Annotated[
        bool,
        typer.Option("--since-last", help="Only what came after the last such look."),
    ] = False,
    tally: Annotated[
        bool,
        typer.Option(
            "--tally",
            help="Add what decided to the tally beside the plan.",
        ),
    ] = False,
    as_json: JsonOption = False,
) -> None:
    """Put captures, tables or logs of traffic through the plan: verdicts, what was stopped by which
    line, what each line decided.
    """
    import time

    from crossgate.formats.readers.names import TrafficColumn, told_columns
    from crossgate.formats.readers.traffic import Traffic

    plan = load(context)
    if (at_point is None) is not (direction is None):
        raise PlanError(
            "--at-point and --direction go together: the place, and which way packets cross it"
        )
    if at_point is not None and list_name is not None:
        raise PlanError("--at-point and --list exclude each other: both say which list is asked")
    see_who_shares(workers, cluster)
    if verdict is not None and against is not None:
        raise PlanError(
            "--verdict and --against exclude each other: what a device decided, or another plan"
        )
    columns = told_columns(column or [])
    if verdict is not None:
        columns[TrafficColumn.VERDICT] = verdict
    wall, zone_name = _zone(zone or plan.zone or None)
    if not files and listen is None:
        raise PlanError("name a file of traffic, or --listen ADDRESS:PORT")
    if lasting is not None and listen is None:
        raise PlanError("--for says how long is listened; say where with --listen ADDRESS:PORT")
    traffic = Traffic(files or [], columns, int(time.time() * 1_000_000), zone=wall)
    if listen is not None:
        from crossgate.formats.readers.listening import listening

        traffic.listening = listening(listen, lasting)
    if pattern is not None:
        from crossgate.formats.readers.logs import pattern_of, pattern_words

        traffic.pattern = pattern_of(pattern)
        if verdict is None and "action" in pattern_words(traffic.pattern) and against is None:
            columns[TrafficColumn.VERDICT] = verdict = "action"
    if since_last:
        from crossgate.formats.looks import last_look
        from crossgate.formats.readers.traffic import STANDARD_INPUT

        if STANDARD_INPUT in traffic.paths:
            raise PlanError("--since-last knows files by their names, and standard input has none")
        traffic.after = last_look(plan_file(context, "remember the last look at"))
    if at_point is None and list_name is None:
        if cluster is not None and not (zone or plan.zone) and plan.every_window:
            raise PlanError(
                "--cluster needs --zone for this plan: it has windows, and machines of a cluster "
                "may have clocks of other zones"
            )
        how = ReplayOptions(
            entered,
            against,
            out,
            verdict,
            idle,
            by,
            top_permitted,
            wall,
            zone_name,
            top,
            tally,
            as_json,
            workers,
            cluster,
            trusted_network,
        )
        replay_conversations(context, plan, traffic, how)
        return
    options = {
        "--from": entered,
        "--against": against,
        "--verdict": verdict,
        "--by": by,
        "--top-permitted": top_permitted,
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
    replay_packets(
        context, plan, traffic, at_point, direction, list_name, wall, top, tally, as_json
    )


def _zone(name: str | None) -> tuple[tzinfo | None, str]:
    """Return the zone of the wall clock, None for the system's, and its name. Raises
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
