"""The week: when windows are open, and the verdicts on conversations."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import date, datetime, timedelta
from typing import NamedTuple

from crossgate.core.answers.hours import ConversationHours
from crossgate.core.conversation.opening import service_label
from crossgate.core.model.window import DAY_MINUTES, DAYS, WEEK_MINUTES, Window
from crossgate.core.wording.sentences import decision
from crossgate.draw.canvas import Canvas
from crossgate.draw.charts import Size
from crossgate.draw.style import MARKS, SMALL, TEXT, Theme, text_width

_YEAR = 365
"""Over so many days dates are told by month and year."""
_MARGIN = 24.0
_TITLE = 17.0
_HOUR = 24.0
_DAY_ROW = 20.0


def week_sheet(
    windows: Sequence[Window],
    entries: Mapping[str, Sequence[str]],
    now: datetime,
    theme: Theme,
    size: Size = None,
    title: str = "When windows are open",
) -> Canvas:
    """Draw the hours of a week for each window, dated ones as a calendar, with the entries that are
    in force then, and the present time.
    """
    left = _MARGIN + 46
    width = left + 24 * _HOUR + 380
    heights = [_DAY_ROW * 7 + 62 if _weekly(each) else 110.0 for each in windows]
    height = 58 + sum(heights) + 26
    sheet = Canvas(width, height, theme, size)
    sheet.text(title, _MARGIN, 30, _TITLE, strong=True, gid="title")
    y = 58.0
    for window, own in zip(windows, heights, strict=True):
        sheet.text(window.name, _MARGIN, y + 12, TEXT + 2, strong=True, gid=f"window {window.name}")
        _entries_beside(sheet, entries.get(window.name, ()), left + 24 * _HOUR + 20, y + 34)
        if _weekly(window):
            _draw_days(
                sheet,
                [
                    [_Bar(start, end, theme.permit) for start, end in _open_minutes(window, day)]
                    for day in range(7)
                ],
                now,
                (left, y + 34),
                f"open {window.name}",
            )
        else:
            _draw_dates(sheet, window, now, left, y + 34)
        y += own
    return sheet


def hours_sheet(
    found: Sequence[ConversationHours], now: datetime, theme: Theme, size: Size = None
) -> Canvas:
    """Draw the verdicts on conversations, each asked about from Monday on, in the week of `now`: a
    part of a day has the colour of the verdict, and the lines that decide are written beside it.
    """
    left = _MARGIN + 46
    width = left + 24 * _HOUR + 380
    own_height = _DAY_ROW * 7 + 62
    height = 58 + own_height * len(found) + 44
    sheet = Canvas(width, height, theme, size)
    monday = week_of(now)
    title = f"The week from {monday:%a %Y-%m-%d} on"
    sheet.text(title, _MARGIN, 30, _TITLE, strong=True, gid="title")
    y = 58.0
    for each in found:
        label = (
            f"{service_label(each.told.first)}  {each.told.source.name} to "
            f"{each.told.destination.name}  {each.told.first.family.label}"
        )
        sheet.text(label, _MARGIN, y + 12, TEXT + 2, strong=True, gid=label)
        _fates_beside(sheet, each, left + 24 * _HOUR + 20, y + 34)
        days = [_fates_of(each, monday + timedelta(days=day), theme) for day in range(7)]
        _draw_days(sheet, days, now, (left, y + 34), label)
        y += own_height
    x = _MARGIN
    verdicts = {stretch.fares for each in found for stretch in each.stretches}
    for verdict in (each for each in MARKS if each in verdicts):
        sheet.box(x, height - 35, 16, 16, theme.of(verdict))
        sheet.text(
            MARKS[verdict], x + 8, height - 23, TEXT, theme.paper, strong=True, align="center"
        )
        sheet.text(str(verdict), x + 22, height - 23, SMALL, theme.quiet)
        x += 40 + text_width(str(verdict), SMALL)
    return sheet


def week_of(moment: datetime) -> datetime:
    """Return the beginning of the week of a moment: its Monday at midnight."""
    midnight = moment.replace(hour=0, minute=0, second=0, microsecond=0)
    return midnight - timedelta(days=moment.weekday())


def _fates_of(hours: ConversationHours, day: datetime, theme: Theme) -> list[_Bar]:
    """Return the verdicts on a conversation in the parts of a day."""
    found = []
    for each in hours.stretches:
        start = max(each.start, day)
        end = min(each.end or datetime.max, day + timedelta(days=1))
        if start < end:
            first, last = ((at - day).total_seconds() / 60 for at in (start, end))
            found.append(_Bar(int(first), int(last), theme.of(each.fares), MARKS[each.fares]))
    return found


def _fates_beside(sheet: Canvas, hours: ConversationHours, x: float, y: float) -> None:
    """Write each verdict with the lines that decide, and what is next."""
    told = {
        f"{stretch.fares}: {decision(stretch.trace) or 'no list on the way'}": None
        for stretch in hours.stretches
    }
    lines = [*told]
    if hours.then is not None and len(hours.stretches) == 1:
        lines.append(f"next change {hours.then.start:%a %Y-%m-%d %H:%M}: {hours.then.fares}")
    for index, text in enumerate(lines[:7]):
        short = text if len(text) <= 64 else text[:63] + "…"
        sheet.text(short, x, y + 4 + index * 15, SMALL)


def _weekly(window: Window) -> bool:
    return window.opens is None


def _entries_beside(sheet: Canvas, entries: Sequence[str], x: float, y: float) -> None:
    sheet.text(
        "in force then" if entries else "no entry uses it", x, y + 4, SMALL, sheet.theme.quiet
    )
    for index, each in enumerate(entries[:7]):
        text = each if len(each) <= 64 else each[:63] + "…"
        if index == 6 and len(entries) > 7:
            text = f"and {len(entries) - 6} more"
        sheet.text(text, x, y + 20 + index * 15, SMALL)


class _Bar(NamedTuple):
    """A part of a day, in minutes from midnight, its colour, and the mark in it, "" for none."""

    start: int
    end: int
    colour: str
    mark: str = ""


def _draw_days(
    sheet: Canvas,
    days: Sequence[Sequence[_Bar]],
    now: datetime,
    corner: tuple[float, float],
    gid: str,
) -> None:
    """Draw the seven days of a week, Monday first, each with its parts, and the present time."""
    theme, (left, y) = sheet.theme, corner
    for hour in range(0, 25, 3):
        sheet.text(f"{hour:02d}", left + hour * _HOUR, y - 4, SMALL, theme.quiet, align="center")
    for day, (name, bars) in enumerate(zip(DAYS, days, strict=True)):
        top = y + day * _DAY_ROW
        sheet.text(name, left - 10, top + 14, SMALL, theme.quiet, align="right")
        sheet.box(left, top + 3, 24 * _HOUR, _DAY_ROW - 6, theme.faint)
        for bar in bars:
            sheet.box(
                left + bar.start / 60 * _HOUR,
                top + 3,
                (bar.end - bar.start) / 60 * _HOUR,
                _DAY_ROW - 6,
                bar.colour,
                gid=f"{gid} {name}",
            )
            middle = left + (bar.start + bar.end) / 120 * _HOUR
            sheet.text(bar.mark, middle, top + 14, SMALL, theme.paper, strong=True, align="center")
    for hour in range(3, 24, 3):
        sheet.line(
            [(left + hour * _HOUR, y + 3), (left + hour * _HOUR, y + 7 * _DAY_ROW - 3)],
            theme.paper,
            1,
            above=3,
        )
    x, top = left + (now.hour + now.minute / 60) * _HOUR, y + now.weekday() * _DAY_ROW
    sheet.line([(x, top), (x, top + _DAY_ROW)], theme.paper, 5.2, above=4)
    sheet.line([(x, top), (x, top + _DAY_ROW)], theme.ink, 2.6, above=5)
    sheet.box(x + 4, top + 4, text_width("now", SMALL) + 8, _DAY_ROW - 8, theme.paper, above=5)
    sheet.text("now", x + 7, top + 14, SMALL, theme.ink, strong=True)


def _open_minutes(window: Window, day: int) -> list[tuple[int, int]]:
    """Return when a weekly window is open on a day, in minutes from midnight."""
    found = []
    for hours in window.hours:
        for first, end in hours.spans():
            for week in (0, WEEK_MINUTES):
                low, high = (
                    max(first - week, day * DAY_MINUTES),
                    min(end - week, (day + 1) * DAY_MINUTES),
                )
                if low < high:
                    found.append((low - day * DAY_MINUTES, high - day * DAY_MINUTES))
    return found


def _draw_dates(sheet: Canvas, window: Window, now: datetime, left: float, y: float) -> None:
    theme = sheet.theme
    start, end = window.opens or now, window.closes or now
    first, last = (
        min(start.date(), now.date()) - timedelta(days=1),
        max(end.date(), now.date()) + timedelta(days=2),
    )
    days = max((last - first).days, 1)
    wide = 24 * _HOUR

    def at(moment: datetime) -> float:
        return (
            left
            + wide
            * (moment - datetime.combine(first, datetime.min.time())).total_seconds()
            / 86_400
            / days
        )

    sheet.box(left, y + 12, wide, 22, theme.faint)
    sheet.box(at(start), y + 12, at(end) - at(start), 22, theme.permit, gid=f"open {window.name}")
    step = max(1, round(days / 8))
    for number in range(0, days, step):
        day: date = first + timedelta(days=number)
        x = at(datetime.combine(day, datetime.min.time()))
        sheet.line([(x, y + 8), (x, y + 34)], theme.quay, 1, above=3)
        told = f"{day:%d %b}" if days < _YEAR else f"{day:%b %Y}"
        if x + 3 + text_width(told, SMALL) <= left + wide:  # what else is told is beside it
            sheet.text(told, x + 3, y + 6, SMALL, theme.quiet)
    sheet.text(f"{start:%a %Y-%m-%d %H:%M} to {end:%a %Y-%m-%d %H:%M}", left, y + 50, SMALL)
    sheet.line([(at(now), y + 8), (at(now), y + 38)], theme.ink, 2.6, above=5)
    sheet.text("now", at(now) + 5, y + 28, SMALL, theme.ink, strong=True)
