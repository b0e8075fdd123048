"""Charts of answers: who reaches whom, what each entry takes, and how often lines have decided."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from math import log10
from typing import Any, NamedTuple

from crossgate.core.answers.shares import Share
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.accesslist import AccessList, AnyList, Decider
from crossgate.core.model.address import Family
from crossgate.core.model.condition import State
from crossgate.core.model.entry import Action, AnyEntry
from crossgate.draw.canvas import Canvas
from crossgate.draw.columns import LINE
from crossgate.draw.style import MARKS, SMALL, TEXT, Theme, text_width

_MARGIN = 24.0
_TITLE = 17.0

Size = tuple[int, int] | None


# ---- Who reaches whom


class Square(NamedTuple):
    """A cell of the grid: its verdicts by family, and the earlier ones where another plan is
    compared with.
    """

    now: Mapping[Family, Verdict]
    was: Mapping[Family, Verdict] | None = None


def grid_sheet(
    title: str,
    rows: Sequence[str],
    columns: Sequence[str],
    squares: Mapping[tuple[str, str], Square],
    theme: Theme,
    size: Size = None,
    notes: Sequence[str] = (),
) -> Canvas:
    """Draw who reaches whom: senders down, receivers across; a cell's left half is IPv4, its right
    half IPv6, a single family fills it. `notes` are sentences below.
    """
    side = 30.0
    left = _MARGIN + max((text_width(each, TEXT) for each in rows), default=0) + 12
    slant = max((text_width(each, TEXT) for each in columns), default=0) * 0.71
    top = 62 + slant
    width = max(
        left + side * len(columns) + slant + _MARGIN,
        640.0,
        text_width(title, _TITLE, strong=True) + 2 * _MARGIN,
    )
    width = max([width, *(text_width(each, SMALL) + 2 * _MARGIN for each in notes)])
    height = top + side * len(rows) + 78 + LINE * len(notes)
    sheet = Canvas(width, height, theme, size)
    sheet.text(title, _MARGIN, 30, _TITLE, strong=True, gid="title")
    for number, name in enumerate(columns):
        x = left + side * number + side / 2
        sheet.axes.text(
            x - 3,
            top - 8,
            name,
            rotation=45,
            ha="left",
            va="baseline",
            rotation_mode="anchor",
            fontsize=sheet.points(TEXT),
            color=theme.ink,
        )
    for index, row in enumerate(rows):
        y = top + side * index
        sheet.text(row, left - 8, y + side / 2 + 4, TEXT, align="right")
        for number, column in enumerate(columns):
            square = squares.get((row, column))
            if square is None:
                continue
            _draw_square(sheet, left + side * number, y, side, square)
    below = height - LINE * len(notes)
    _verdict_legend(
        sheet,
        _MARGIN,
        below - 42,
        {verdict for each in squares.values() for verdict in each.now.values()},
    )
    told = []
    if any(len(each.now) > 1 for each in squares.values()):
        told.append("left half IPv4, right half IPv6")
    if any(each.was is not None for each in squares.values()):
        told.append("a frame marks what changed, with what was above")
    for index, text in enumerate(("; ".join(told), *notes)):
        sheet.text(text, _MARGIN, below - 20 + LINE * index, SMALL, theme.quiet)
    return sheet


def _draw_square(sheet: Canvas, x: float, y: float, side: float, square: Square) -> None:
    theme = sheet.theme
    families = sorted(square.now)
    part = (side - 3) / max(len(families), 1)
    for place, family in enumerate(families):
        verdict = square.now[family]
        own_x = x + 1.5 + part * place
        fill = theme.of(verdict) if verdict is not Verdict.PERMITTED else theme.paper
        sheet.box(own_x, y + 1.5, part, side - 3, fill, theme.of(verdict))
        color = theme.paper if fill != theme.paper else theme.of(verdict)
        was = None if square.was is None else square.was.get(family)
        changed = was is not None and was is not verdict
        sheet.text(
            MARKS[verdict],
            own_x + part / 2,
            y + side / 2 + (9 if changed else 4),
            TEXT,
            color,
            strong=True,
            align="center",
        )
        if changed and was is not None:
            sheet.text(MARKS[was], own_x + part / 2, y + side / 2 - 2, SMALL, color, align="center")
            sheet.line(
                [
                    (own_x, y),
                    (own_x + part, y),
                    (own_x + part, y + side),
                    (own_x, y + side),
                    (own_x, y),
                ],
                theme.ink,
                2.2,
                above=6,
            )


def _verdict_legend(sheet: Canvas, x: float, y: float, verdicts: set[Verdict]) -> None:
    for verdict in (each for each in MARKS if each in verdicts):
        color = sheet.theme.of(verdict)
        fill = sheet.theme.paper if verdict is Verdict.PERMITTED else color
        sheet.box(x, y - 11, 16, 16, fill, color)
        sheet.text(
            MARKS[verdict],
            x + 8,
            y + 1,
            TEXT,
            color if fill == sheet.theme.paper else sheet.theme.paper,
            strong=True,
            align="center",
        )
        sheet.text(str(verdict), x + 22, y + 1, SMALL, sheet.theme.quiet)
        x += 40 + text_width(str(verdict), SMALL)


# ---- What each entry takes


class LineBar(NamedTuple):
    """A line of a list: its name, its text, how much it takes, whether it permits, and whether
    nothing reaches it; `told` is written beside its bar. Where it takes a part of something, `part`
    is that part, from 0 to 1.
    """

    name: str
    text: str
    amount: float
    permits: bool
    hollow: bool
    told: str
    part: float | None = None


def bars_sheet(
    title: str, below: str, bars: Sequence[LineBar], theme: Theme, size: Size = None
) -> Canvas:
    """Draw lines of a list in reading order, each with a bar for what it takes: a part of something
    inside a box for the whole, a count on a logarithmic scale.
    """
    row = 24.0
    longest = 62
    texts = [
        each.text if len(each.text) <= longest else each.text[: longest - 1] + "…" for each in bars
    ]
    names = max((text_width(each.name, TEXT, strong=True) for each in bars), default=0)
    left = _MARGIN + names + 12 + max((text_width(each, TEXT) for each in texts), default=0) + 18
    room = 420.0
    told = max((text_width(each.told, SMALL) for each in bars), default=0) + 12
    width = max(left + room + told + _MARGIN, text_width(title, _TITLE, strong=True) + 2 * _MARGIN)
    height = 74 + row * len(bars) + 50
    sheet = Canvas(width, height, theme, size)
    sheet.text(title, _MARGIN, 30, _TITLE, strong=True, gid="title")
    sheet.text(below, _MARGIN, 50, SMALL, theme.quiet)
    positive = [each.amount for each in bars if each.amount > 0]
    least, most = min(positive, default=1.0), max(positive, default=1.0)
    spread = max(log10(most) - log10(least), 1e-9)
    for index, (bar, text) in enumerate(zip(bars, texts, strict=True)):
        y = 70 + row * index
        sheet.text(bar.name, _MARGIN, y + 15, TEXT, strong=True)
        sheet.text(
            text, _MARGIN + names + 12, y + 15, TEXT, theme.quiet if bar.hollow else theme.ink
        )
        share = (
            0.0 if bar.amount <= 0 else 0.06 + 0.94 * (log10(bar.amount) - log10(least)) / spread
        )
        length = max(room * min(share, 1.0), 3.0 if bar.amount > 0 else 0.0)
        if bar.part is not None:
            sheet.box(left, y + 5, room, 12, theme.paper, theme.quiet)
            if bar.part > 0:
                whole = (left, y + 5, max(room * bar.part, 3.0), 12)
                draw_bar(sheet, whole, bar.permits, f"bar {bar.name}")
            length = room
        elif bar.hollow:
            sheet.box(left, y + 5, 40, 12, theme.paper, theme.quiet, gid=f"hollow {bar.name}")
            length = 40
        elif length:
            draw_bar(sheet, (left, y + 5, length, 12), bar.permits, f"bar {bar.name}")
        sheet.text(bar.told, left + length + 8, y + 15, SMALL, theme.quiet)
    bars_legend(sheet, _MARGIN, height - 22)
    x, y = _MARGIN + 176, height - 22
    sheet.box(x, y - 9, 20, 11, theme.paper, theme.quiet)
    sheet.text("never reached", x + 26, y, SMALL, theme.quiet)
    return sheet


def draw_bar(
    sheet: Canvas, box: tuple[float, float, float, float], permits: bool, gid: str = ""
) -> None:
    """Draw a bar of what a line permits or denies; `box` is its left, top, width and height."""
    theme = sheet.theme
    color = theme.permit if permits else theme.deny
    sheet.box(*box, color, theme.paper, hatch="" if permits else "////", gid=gid)
    sheet.box(*box, "none", color, above=3)


def bars_legend(sheet: Canvas, x: float, y: float) -> None:
    """Draw the meaning of the two kinds of bars."""
    for permits, what in ((True, "lets by"), (False, "stops")):
        draw_bar(sheet, (x, y - 9, 20, 11), permits)
        sheet.text(what, x + 26, y, SMALL, sheet.theme.quiet)
        x += 92


def tally_bars(access_list: AccessList, hits: Mapping[int | None, int]) -> list[LineBar]:
    """Return a list's lines, by their whole names, with how often each has decided."""
    return [
        _bar(access_list, line.entry, hits.get(line.number, 0), False, "")._replace(name=line.name)
        for line in (Decider(access_list, entry) for entry in (*access_list.entries, None))
    ]


def share_bars(found: Sequence[Share], state: State) -> list[LineBar]:
    """Return a list's lines with the part of what each asks for that comes to it in one state of
    the windows; the otherwise line asks for what is left.
    """
    bars = []
    for each in found:
        entry = each.decider.entry
        part, hollow = each.reaching, not each.taken
        if entry is None:
            part = 1.0 if each.taken else 0.0
            told = "what no line takes" if each.taken else "nothing is left for it"
        elif each.taken:
            much = "nearly all" if part >= 0.9995 else _part(part)
            told = "all of it" if part == 1 else f"{much} of it; lines above take the rest"
        elif entry.off:
            told = "is off"
        else:
            told = "nothing reaches it" if entry.in_force(state) else "not in force now"
        bar = _bar(each.decider.access_list, entry, each.taken, hollow, told)
        bars.append(bar if hollow else bar._replace(part=part))
    return bars


def _bar(
    access_list: AnyList[Any], entry: AnyEntry | None, amount: float, hollow: bool, told: str
) -> LineBar:
    action = access_list.otherwise.action if entry is None else entry.action
    text = str(action) if entry is None else ("off " if entry.off else "") + entry.text
    return LineBar(
        "otherwise" if entry is None else str(entry.number),
        text,
        amount,
        action is Action.PERMIT,
        hollow,
        told or f"{amount:,.0f}",
    )


def _part(part: float) -> str:
    return (
        f"{part:.0%}"
        if part >= 0.1
        else f"{part:.1%}"
        if part >= 0.001
        else f"{part:.0e}".replace("e-0", "e-")
    )
