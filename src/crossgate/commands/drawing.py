"""`crossgate draw`: pictures of the network, of who reaches whom, of the week, of a list and of the
tally.
"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from crossgate.commands.asked_order import ends_and_services
from crossgate.commands.common import examples, load, moment, plan_file, read_file, tell_missed
from crossgate.commands.completing import (
    complete_device,
    complete_hosts,
    complete_list,
    complete_service,
    complete_week,
)
from crossgate.commands.pictures import (
    entries_by_window,
    over_time,
    save,
    share_bars_of,
    size_of,
    squares_of,
    theme_of,
    traced_between,
    with_alike_as_one,
)
from crossgate.commands.shared_options import AtOption
from crossgate.core.model.errors import PlanError, unknown
from crossgate.core.model.window import Period
from crossgate.formats.handed_on import handed_on

if TYPE_CHECKING:
    from collections.abc import Sequence
    from datetime import datetime

    from crossgate.core.model.plan import Plan
    from crossgate.core.sets.effort import TooManyPieces
    from crossgate.draw.canvas import Canvas
    from crossgate.draw.charts import LineBar

draw = typer.Typer(
    name="draw",
    help="Draw the network, who reaches whom, the week, a list, the tally: SVG, PNG or PDF.",
    no_args_is_help=True,
)

OutOption = Annotated[
    Path | None,
    typer.Option(
        metavar="FILE",
        help="The picture: .svg, .png or .pdf. Default: named after what it shows, .svg.",
    ),
]
SizeOption = Annotated[
    str | None,
    typer.Option("--size", metavar="WIDTHxHEIGHT", help="The size in pixels, such as 1280x800."),
]
DarkOption = Annotated[bool, typer.Option("--dark", help="Light on dark paper.")]


@draw.command(
    epilog=examples(
        "draw network",
        "draw network --path kiosk-1 crane-2 ping --out why.png",
        "draw network --list guest-fence --dark",
    )
)
def network(
    context: typer.Context,
    path: Annotated[
        tuple[str, str, str] | None,
        typer.Option(
            "--path",
            metavar="FROM TO SERVICE",
            help="A conversation over it, leg by leg, to the gate that stops it.",
        ),
    ] = None,
    list_name: Annotated[
        str | None,
        typer.Option(
            "--list",
            metavar="LIST",
            autocompletion=complete_list,
            help="Only the gates of one list.",
        ),
    ] = None,
    device: Annotated[
        str | None,
        typer.Option(
            "--device",
            metavar="DEVICE",
            autocompletion=complete_device,
            help="Only one device and those that it is joined with.",
        ),
    ] = None,
    at: AtOption = None,
    out: OutOption = None,
    size: SizeOption = None,
    dark: DarkOption = False,
) -> None:
    """Draw devices, subnets, machines and cables, with a gate wherever a list stands."""
    from crossgate.draw.network import network_sheet

    plan = load(context)
    if list_name is not None:
        plan.access_list(list_name)
    if device is not None and device not in plan.devices:
        raise PlanError(unknown("device", device, list(plan.devices)))
    if not plan.devices and not plan.segments:
        raise PlanError(f"{plan.files[0]} has no network to draw yet")
    trace, told = (None, []) if path is None else traced_between(plan, *path, moment(at, plan))
    sheet = network_sheet(
        plan,
        theme_of(dark),
        trace=trace,
        told=told,
        only_list=list_name,
        around=device,
        size=size_of(size),
    )
    save(plan, sheet, out or Path("network.svg"))


@draw.command(
    epilog=examples(
        "draw grid booking", "draw grid ping --against proposal/ternhaven.gate --out changes.png"
    )
)
def grid(
    context: typer.Context,
    service: Annotated[
        str | None,
        typer.Argument(metavar="[SERVICE]", autocompletion=complete_service, help="Default: ping."),
    ] = None,
    sources: Annotated[
        list[str] | None,
        typer.Option(
            "--from",
            metavar="NAME",
            autocompletion=complete_hosts,
            help="A host or a set; may be repeated.",
        ),
    ] = None,
    destinations: Annotated[
        list[str] | None,
        typer.Option(
            "--to",
            metavar="NAME",
            autocompletion=complete_hosts,
            help="A host or a set; may be repeated.",
        ),
    ] = None,
    against: Annotated[
        Path | None,
        typer.Option(metavar="OTHER", help="Mark what another plan treats differently."),
    ] = None,
    at: AtOption = None,
    out: OutOption = None,
    size: SizeOption = None,
    dark: DarkOption = False,
) -> None:
    """Draw who reaches whom, a mark a verdict, both families."""
    from crossgate.commands.grid import only_in
    from crossgate.core.answers.grid import LeftOut, check_services
    from crossgate.core.answers.grid_asked import ends_of, hostless_of
    from crossgate.draw.charts import grid_sheet

    plan = load(context)
    when = moment(at, plan)
    wanted = service or "ping"
    check_services(plan, [wanted])
    other = None if against is None else read_file(against)
    ends = (sources or [], destinations or [])
    rows, columns = (ends_of(plan, each, False, other) for each in ends)
    if not rows or not columns:
        raise PlanError(f"{plan.files[0]} has no hosts and no subnets; a grid needs ends")
    missed: list[TooManyPieces] = []
    squares = squares_of(plan, when, rows, columns, wanted, other, missed)
    title = (
        f"Who reaches whom by {wanted}"
        + (f", {handed_on(plan.files[0])} against {handed_on(str(against))}" if against else "")
        + (f", at {when:%a %H:%M}" if plan.windows else "")
    )
    hostless = dict.fromkeys(name for words in ends for name in hostless_of(plan, words, False))
    notes = [
        LeftOut(tuple(hostless)).sentence,
        *(() if other is None else only_in(plan, other, [*rows, *columns])),
    ]
    folded = with_alike_as_one(rows, columns, squares)
    notes += folded.told
    sheet = grid_sheet(
        title,
        folded.rows,
        folded.columns,
        folded.squares,
        theme_of(dark),
        size_of(size),
        [each for each in notes if each],
    )
    save(plan, sheet, out or Path("grid.svg"))
    tell_missed(missed)


@draw.command(
    epilog=examples(
        "draw week", "draw week night --at 'mon 23:00'", "draw week duty crane-1 ssh --out week.png"
    )
)
def week(
    context: typer.Context,
    words: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[WINDOW... | FROM TO SERVICE]",
            autocompletion=complete_week,
            help="Windows, or a conversation. Default: every window of the plan.",
        ),
    ] = None,
    at: AtOption = None,
    out: OutOption = None,
    size: SizeOption = None,
    dark: DarkOption = False,
) -> None:
    """Draw when windows are open, and which entries are in force then; or how the verdict on a
    conversation changes over the week.
    """
    plan, given = load(context), words or []
    now = moment(at, plan)
    if len(given) > 2 and not all(each in plan.windows for each in given):
        source, destination, asked = ends_and_services(
            plan, "draw week", given[0], given[1], given[2:]
        )
        if len(asked) != 1:
            raise PlanError("the week of a conversation is drawn for one service: FROM TO SERVICE")
        sheet = _hours_sheet(plan, (source, destination, asked[0]), now, dark, size)
    else:
        sheet = _windows_sheet(plan, given, now, dark, size)
    save(plan, sheet, out or Path("week.svg"))


def _windows_sheet(
    plan: Plan, names: Sequence[str], now: datetime, dark: bool, size: str | None
) -> Canvas:
    """Return the picture of when windows are open, all where none is named. Raises `PlanError`."""
    from crossgate.draw.week import week_sheet

    for name in names:
        if name not in plan.windows:
            raise PlanError(
                f"{unknown('window', name, list(plan.windows))}; a conversation is three words: "
                "FROM TO SERVICE"
            )
    chosen = [plan.windows[name] for name in dict.fromkeys(names or plan.windows)]
    if not chosen:
        raise PlanError(
            f"{plan.files[0]} has no windows; one is as: window night daily 22:00-05:30"
        )
    return week_sheet(chosen, entries_by_window(plan), now, theme_of(dark), size_of(size))


def _hours_sheet(
    plan: Plan, asked: tuple[str, str, str], now: datetime, dark: bool, size: str | None
) -> Canvas:
    """Return the picture of the verdicts over the week on the conversations of a source, a
    destination and a service. Raises `PlanError`.
    """
    from crossgate.core.answers.hours import WEEK, hours
    from crossgate.core.answers.traces import TraceLimits
    from crossgate.core.answers.traces import asked as conversations_of
    from crossgate.core.model.conditions import When
    from crossgate.core.network.ways import Network
    from crossgate.draw.week import hours_sheet, week_of

    network, monday = Network(plan), week_of(now)
    source, destination, service = asked
    found = [
        hours(network, each, When(monday), monday + WEEK)
        for wanted in conversations_of(network, [source], [destination], [service], TraceLimits())
        for each in wanted.conversations
    ]
    return hours_sheet(found, now, theme_of(dark), size_of(size))


@draw.command(name="list", epilog=examples("draw list guest-fence", "draw list 110 --out 110.png"))
def one_list(
    context: typer.Context,
    list_name: Annotated[
        str,
        typer.Argument(
            metavar="LIST", autocompletion=complete_list, help="The list's name or number."
        ),
    ],
    at: AtOption = None,
    out: OutOption = None,
    size: SizeOption = None,
    dark: DarkOption = False,
) -> None:
    """Draw how much of what each line of a list asks for comes to it, in the order read."""
    from crossgate.draw.charts import bars_sheet

    plan = load(context)
    access_list = plan.access_list(list_name)
    bars = share_bars_of(plan, list_name, moment(at, plan))
    title = f"List {list_name}: what comes to each line"
    below = (
        f"of the {access_list.family.label} packets that a line asks for, each kind counted once; "
        "lines above take the rest"
    )
    save(
        plan,
        bars_sheet(title, below, bars, theme_of(dark), size_of(size)),
        out or Path(f"list-{list_name}.svg"),
    )


@draw.command(epilog=examples("draw tally kiosk-fence"))
def tally(
    context: typer.Context,
    lists: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[LIST...]",
            autocompletion=complete_list,
            help="Default: every list that has decided.",
        ),
    ] = None,
    by: Annotated[
        Period | None,
        typer.Option(
            "--by",
            metavar="STRETCH",
            help="When they did, by hour or by day, in runs of replay with --by and --tally.",
        ),
    ] = None,
    out: OutOption = None,
    size: SizeOption = None,
    dark: DarkOption = False,
) -> None:
    """Draw how often each line has decided in runs with --tally, or when."""
    from crossgate.draw.charts import bars_sheet, tally_bars
    from crossgate.formats.tally import Tally

    plan = load(context)
    store = Tally(plan_file(context, "keep a tally beside"))
    named = [plan.access_list(name) for name in lists or plan.lists]
    if by is not None:
        sheet = over_time(plan, store, named, by, theme_of(dark), size_of(size))
        save(plan, sheet, out or Path(f"tally-{by}.svg"))
        return
    bars: list[LineBar] = []
    for each in named:
        hits = store.hits(each)
        if lists or any(hits.values()):
            bars += tally_bars(each, hits)
    if not bars:
        raise PlanError(
            f"no line of {plan.files[0]} has decided yet; trace, verify and replay count with "
            "--tally"
        )
    save(
        plan,
        bars_sheet(
            "What has decided",
            "packets, on a logarithmic scale",
            bars,
            theme_of(dark),
            size_of(size),
        ),
        out or Path("tally.svg"),
    )
