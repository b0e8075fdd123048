"""`crossgate draw`: pictures of the network, of who reaches whom, of the week, of a list and of the
tally.
"""

from __future__ import annotations

from math import ceil
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, NamedTuple

import typer

from crossgate.commands.common import (
    AtOption,
    examples,
    load,
    moment,
    plan_file,
    read_file,
    tell_missed,
    write_file,
)
from crossgate.commands.completing import (
    complete_device,
    complete_hosts,
    complete_list,
    complete_service,
    complete_week,
)
from crossgate.core.model.address import Address
from crossgate.core.model.errors import PlanError, unknown
from crossgate.core.model.window import Period
from crossgate.formats.handed_on import handed_on

if TYPE_CHECKING:
    from collections.abc import Iterable, Sequence
    from datetime import datetime

    from crossgate.core.answers.compare import Difference
    from crossgate.core.answers.grid import Cell
    from crossgate.core.conversation.story import Trace
    from crossgate.core.conversation.verdict import Verdict
    from crossgate.core.model.accesslist import AccessList
    from crossgate.core.model.address import Family
    from crossgate.core.model.plan import Plan
    from crossgate.core.sets.effort import TooManyPieces
    from crossgate.draw.canvas import Sheet
    from crossgate.draw.charts import Bar, Size, Square
    from crossgate.draw.style import Theme
    from crossgate.formats.tally import Tally

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
    trace, told = (None, []) if path is None else _traced(plan, *path, moment(at, plan))
    sheet = network_sheet(
        plan,
        _theme(dark),
        trace=trace,
        told=told,
        only_list=list_name,
        around=device,
        size=_size(size),
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
    from crossgate.commands.grid import ends_of, hostless_of, only_in
    from crossgate.core.answers.grid import LeftOut, check_services
    from crossgate.draw.charts import grid_sheet

    plan = load(context)
    when = moment(at, plan)
    wanted = service or "ping"
    check_services(plan, [wanted])
    other = None if against is None else read_file(against)
    rows, columns = ends_of(plan, sources, False, other), ends_of(plan, destinations, False, other)
    if not rows or not columns:
        raise PlanError(f"{plan.files[0]} has no hosts and no subnets; a grid needs ends")
    missed: list[TooManyPieces] = []
    squares = squares_of(plan, when, rows, columns, wanted, other, missed)
    title = (
        f"Who reaches whom by {wanted}"
        + (f", {handed_on(plan.files[0])} against {handed_on(str(against))}" if against else "")
        + (f", at {when:%a %H:%M}" if plan.windows else "")
    )
    hostless = dict.fromkeys(
        name for words in (sources, destinations) for name in hostless_of(plan, words, False)
    )
    notes = [
        LeftOut(tuple(hostless)).sentence,
        *(() if other is None else only_in(plan, other, [*rows, *columns])),
    ]
    folded = _folded(rows, columns, squares)
    notes += folded.told
    sheet = grid_sheet(
        title,
        folded.rows,
        folded.columns,
        folded.squares,
        _theme(dark),
        _size(size),
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
    if len(given) == 3 and not all(each in plan.windows for each in given):
        sheet = _hours_sheet(plan, (given[0], given[1], given[2]), now, dark, size)
    else:
        sheet = _windows_sheet(plan, given, now, dark, size)
    save(plan, sheet, out or Path("week.svg"))


def _windows_sheet(
    plan: Plan, names: Sequence[str], now: datetime, dark: bool, size: str | None
) -> Sheet:
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
    return week_sheet(chosen, entries_by_window(plan), now, _theme(dark), _size(size))


def _hours_sheet(
    plan: Plan, asked: tuple[str, str, str], now: datetime, dark: bool, size: str | None
) -> Sheet:
    """Return the picture of the verdicts over the week on the conversations of a source, a
    destination and a service. Raises `PlanError`.
    """
    from crossgate.core.answers.hours import WEEK, hours
    from crossgate.core.answers.traces import Choice
    from crossgate.core.answers.traces import asked as conversations_of
    from crossgate.core.model.conditions import When
    from crossgate.core.network.ways import Network
    from crossgate.draw.week import hours_sheet, week_of

    network, monday = Network(plan), week_of(now)
    source, destination, service = asked
    found = [
        hours(network, each, When(monday), monday + WEEK)
        for wanted in conversations_of(network, [source], [destination], [service], Choice())
        for each in wanted.conversations
    ]
    return hours_sheet(found, now, _theme(dark), _size(size))


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
        bars_sheet(title, below, bars, _theme(dark), _size(size)),
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
        sheet = _over_time(plan, store, named, by, _theme(dark), _size(size))
        save(plan, sheet, out or Path(f"tally-{by}.svg"))
        return
    bars: list[Bar] = []
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
            "What has decided", "packets, on a logarithmic scale", bars, _theme(dark), _size(size)
        ),
        out or Path("tally.svg"),
    )


# ---- What is drawn


_MOST_TIMES = 400
"""More hours or days than these are not drawn."""


def _over_time(
    plan: Plan, store: Tally, lists: Iterable[AccessList], by: Period, theme: Theme, size: Size
) -> Sheet:
    """Return the picture of when lines decided. Raises `PlanError` where the times are unknown, and
    for too many hours.
    """
    from crossgate.core.model.accesslist import Decider
    from crossgate.core.model.window import periods
    from crossgate.draw.over_time import times_sheet

    found = {
        Decider(own, entry): own_times
        for own in lists
        for times in [store.times(own, by)]
        for entry in (*own.entries, None)
        if (own_times := times.get(None if entry is None else entry.number))
    }
    if not found:
        raise PlanError(
            f"no line of {plan.files[0]} is known to have decided in any {by}; crossgate replay "
            f"FILE --by {by} --tally tells when lines do"
        )
    every = periods({each for own in found.values() for each in own}, by, _MOST_TIMES)
    if len(every) > _MOST_TIMES:
        other = "--by day draws days" if by is Period.HOUR else "clear the tally to begin anew"
        raise PlanError(
            f"there are more than {_MOST_TIMES} {by}s from the first to the last; {other}"
        )
    return times_sheet(found, every, by, theme, size)


def _traced(
    plan: Plan, source: str, destination: str, service: str, when: datetime
) -> tuple[Trace, list[str]]:
    from crossgate.core.answers.traces import Choice, asked, ends
    from crossgate.core.conversation.packets import Tracer
    from crossgate.core.model.window import open_at
    from crossgate.core.network.ways import Network

    network = Network(plan)
    wanted = asked(
        network, ends(plan, source), ends(plan, destination), [service], Choice(None, (), None)
    )
    conversations = [one for each in wanted for one in each.conversations]
    if not conversations:
        raise PlanError(f"--path: {source} and {destination} share no address family")
    trace = Tracer(network, open_at(plan.every_window.values(), when)).trace(conversations[0])
    return trace, legs_told(trace)


def draw_trace(plan: Plan, trace: Trace, out: Path) -> None:
    """Draw a traced conversation over the network. Raises `PlanError`."""
    from crossgate.draw.canvas import kind_of_file
    from crossgate.draw.network import network_sheet

    kind_of_file(out)
    _put(plan, network_sheet(plan, _theme(dark=False), trace=trace, told=legs_told(trace)), out)


def draw_differences(plan: Plan, found: Sequence[Difference], out: Path) -> None:
    """Draw the network with the places that decide differently than before, and the way of a packet
    that is treated differently. Raises `PlanError`.
    """
    from crossgate.core.conversation.opening import Conversation
    from crossgate.core.conversation.packets import Tracer
    from crossgate.core.model.condition import State
    from crossgate.core.model.tls import settled
    from crossgate.core.model.window import open_at
    from crossgate.core.network.endpoints import at_address
    from crossgate.core.network.ways import Network
    from crossgate.draw.canvas import kind_of_file
    from crossgate.draw.network import network_sheet

    kind_of_file(out)
    marked = frozenset(
        fate.decided.crossing.point
        for each in found
        for fate in (each.was, each.now)
        if fate.decided is not None
    )
    trace, told = None, [f"{len(found)} differences" if len(found) != 1 else "one difference"]
    if found:
        packet, moment_of = found[0].packet, found[0].moment
        network = Network(plan)
        ends = [
            at_address(network, Address(packet.family, value))
            for value in (packet.source, packet.destination)
        ]
        opened: State = (
            frozenset() if moment_of is None else open_at(plan.every_window.values(), moment_of)
        )
        state = settled(
            opened | (found[0].exceeded or frozenset()), (found[0].spoken or (None,))[0]
        )
        trace = Tracer(network, state).trace(Conversation(ends[0], ends[1], packet))
        told = legs_told(trace)
    _put(plan, network_sheet(plan, _theme(dark=False), trace=trace, told=told, marked=marked), out)


def legs_told(trace: Trace) -> list[str]:
    """Return a sentence about each leg of a trace."""
    told = []
    for number, leg in enumerate(trace.legs, 1):
        names = [trace.conversation.source.name, trace.conversation.destination.name]
        one, other = names[::-1] if leg.leg.returns else names
        stopped = leg.asked[-1] if leg.asked and not leg.asked[-1].permits else None
        end = "arrives"
        if stopped is not None and stopped.decider is not None:
            end = f"is stopped by {stopped.decider.name}, {stopped.crossing.where}"
        elif not leg.path.arrived:
            end = leg.path.reason or "does not arrive"
        told.append(f"{number}  {leg.leg} from {one} to {other} {end}")
    return told


class _Folded(NamedTuple):
    """A grid of many names in which those that are treated alike are one, and which these are."""

    rows: list[str]
    columns: list[str]
    squares: dict[tuple[str, str], Square]
    told: list[str]


def _folded(rows: list[str], columns: list[str], squares: dict[tuple[str, str], Square]) -> _Folded:
    from textwrap import wrap

    from crossgate.core.answers.alike import example_of, names_alike

    def told(one: str, other: str) -> object:
        square = squares.get((one, other))
        if square is None:
            return None
        return tuple(square.now.items()), square.was and tuple(square.was.items())

    here, far = names_alike(rows, columns, told)
    return _Folded(
        [each.label for each in here],
        [each.label for each in far],
        {
            (one.label, other.label): square
            for one in here
            for other in far
            if (square := squares.get(example_of(one, other))) is not None
        },
        [
            line
            for each in dict.fromkeys((*here, *far))
            if len(each.names) > 1
            for line in wrap(f"{each.label}: {', '.join(each.names)}", _NAMES_WIDE)
        ],
    )


_NAMES_WIDE = 110


def squares_of(
    plan: Plan,
    when: datetime,
    rows: list[str],
    columns: list[str],
    service: str,
    other: Plan | None,
    missed: list[TooManyPieces],
) -> dict[tuple[str, str], Square]:
    """Return the squares of a grid: who reaches whom by a service, and the verdicts of this plan
    where another one is drawn against it.
    """
    from crossgate.commands.grid import cells_of
    from crossgate.core.model.conditions import When
    from crossgate.draw.charts import Square

    def found(each: Plan) -> dict[tuple[str, str], dict[Family, Verdict]]:
        return {
            (cell.source, cell.destination): _verdicts(cell)
            for cell in cells_of(each, When(when), rows, columns, [service], missed)
        }

    own = found(plan)
    if other is None:
        return {key: Square(verdicts) for key, verdicts in own.items() if verdicts}
    there = found(other)
    both = {
        key: Square(there.get(key) or verdicts, verdicts if there.get(key) else None)
        for key, verdicts in own.items()
        if verdicts
    }
    return both | {
        key: Square(verdicts) for key, verdicts in there.items() if verdicts and key not in both
    }


def _verdicts(cell: Cell) -> dict[Family, Verdict]:
    from crossgate.core.conversation.verdict import Verdict

    return {
        family: several[0] if len(several) == 1 else Verdict.SOME
        for family, several in cell.verdicts().items()
        if several
    }


def entries_by_window(plan: Plan) -> dict[str, list[str]]:
    """Return, for each window, the texts of the entries that it puts in force."""
    found: dict[str, list[str]] = {}
    for access_list in plan.every_list.values():
        for entry in access_list.entries:
            if entry.window is not None:
                found.setdefault(entry.window, []).append(
                    f"{access_list.name} {entry.number}  {entry.text}"
                )
    return found


def share_bars_of(plan: Plan, list_name: str, when: datetime) -> list[Bar]:
    """Return the bars of a list's lines."""
    from crossgate.core.answers.shares import shares
    from crossgate.core.model.window import open_at
    from crossgate.draw.charts import share_bars

    access_list = plan.access_list(list_name)
    now = open_at(plan.every_window.values(), when)
    return share_bars(shares(access_list, now), now)


# ---- The sheet


def _theme(dark: bool) -> Theme:
    from crossgate.draw.style import DARK, LIGHT

    return DARK if dark else LIGHT


def _size(text: str | None) -> tuple[int, int] | None:
    from crossgate.draw.canvas import size_given

    return None if text is None else size_given(text)


def save(plan: Plan, sheet: Sheet, out: Path) -> None:
    """Write a picture, and say where it is. Raises `PlanError`."""
    _put(plan, sheet, out)
    typer.echo(str(out))


def _put(plan: Plan, sheet: Sheet, out: Path) -> None:
    """Write a picture; characters that its font does not have are reported. Raises `PlanError`."""
    from crossgate.draw.canvas import kind_of_file
    from crossgate.draw.style import FONT, LEGIBLE, SMALL
    from crossgate.show.console import warn

    if kind_of_file(out) == "png" and sheet.scale * SMALL < LEGIBLE:  # others can be enlarged
        least = [ceil(each * LEGIBLE / SMALL) for each in (sheet.width, sheet.height)]
        warn(
            f"at this size its small letters are {sheet.scale * SMALL:.1f} pixels high; they can "
            f"be read from --size {least[0]}x{least[1]} on"
        )
    write_file(out, sheet.bytes(kind_of_file(out)), plan.sources)
    if sheet.unknown:
        warn(
            f"{FONT} has no {', '.join(sheet.unknown)}: in {out} a box stands in the place of each"
        )
