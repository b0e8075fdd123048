"""What the pictures of commands show, and how a picture is written to its file."""

from __future__ import annotations

from math import ceil
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

import typer

from crossgate.commands.common import write_file
from crossgate.core.model.address import Address
from crossgate.core.model.errors import PlanError
from crossgate.core.model.window import Period

if TYPE_CHECKING:
    from collections.abc import Iterable, Sequence
    from datetime import datetime

    from crossgate.core.answers.difference import Difference
    from crossgate.core.answers.grid import Cell
    from crossgate.core.conversation.story import Trace
    from crossgate.core.conversation.verdict import Verdict
    from crossgate.core.model.accesslist import AccessList
    from crossgate.core.model.address import Family
    from crossgate.core.model.plan import Plan
    from crossgate.core.sets.effort import TooManyPieces
    from crossgate.draw.canvas import Canvas
    from crossgate.draw.charts import LineBar, Size, Square
    from crossgate.draw.style import Theme
    from crossgate.formats.tally import Tally

_MOST_TIMES = 400
"""More hours or days than these are not drawn."""


def over_time(
    plan: Plan, store: Tally, lists: Iterable[AccessList], by: Period, theme: Theme, size: Size
) -> Canvas:
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


def traced_between(
    plan: Plan, source: str, destination: str, service: str, when: datetime
) -> tuple[Trace, list[str]]:
    """Return the trace of a picture, and a sentence about each leg. Raises `PlanError`."""
    from crossgate.core.answers.traces import TraceLimits, asked, ends
    from crossgate.core.conversation.packets import Tracer
    from crossgate.core.model.window import open_at
    from crossgate.core.network.ways import Network

    network = Network(plan)
    wanted = asked(
        network, ends(plan, source), ends(plan, destination), [service], TraceLimits(None, (), None)
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
    _put(plan, network_sheet(plan, theme_of(dark=False), trace=trace, told=legs_told(trace)), out)


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
    _put(
        plan, network_sheet(plan, theme_of(dark=False), trace=trace, told=told, marked=marked), out
    )


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


def with_alike_as_one(
    rows: list[str], columns: list[str], squares: dict[tuple[str, str], Square]
) -> _Folded:
    """Return a grid in which names that are treated alike are one row or column."""
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
    from crossgate.core.answers.grid_asked import cells_of
    from crossgate.core.model.conditions import When
    from crossgate.draw.charts import Square

    def found(each: Plan) -> dict[tuple[str, str], dict[Family, Verdict]]:
        return {
            (cell.source, cell.destination): _verdicts(cell)
            for cell in cells_of(each, When(when), (rows, columns), [service], missed)
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


def share_bars_of(plan: Plan, list_name: str, when: datetime) -> list[LineBar]:
    """Return the bars of a list's lines."""
    from crossgate.core.answers.shares import shares
    from crossgate.core.model.window import open_at
    from crossgate.draw.charts import share_bars

    access_list = plan.access_list(list_name)
    now = open_at(plan.every_window.values(), when)
    return share_bars(shares(access_list, now), now)


def theme_of(dark: bool) -> Theme:
    """Return the colours of a picture."""
    from crossgate.draw.style import DARK, LIGHT

    return DARK if dark else LIGHT


def size_of(text: str | None) -> tuple[int, int] | None:
    """Return the size that `--size` asks for, in pixels. Raises `PlanError`."""
    from crossgate.draw.canvas import size_given

    return None if text is None else size_given(text)


def save(plan: Plan, sheet: Canvas, out: Path) -> None:
    """Write a picture, and say where it is. Raises `PlanError`."""
    _put(plan, sheet, out)
    typer.echo(str(out))


def _put(plan: Plan, sheet: Canvas, out: Path) -> None:
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
