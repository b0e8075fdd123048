"""When lines of lists decided, hour by hour or day by day."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime, timedelta

from crossgate.core.model.accesslist import Decider
from crossgate.core.model.window import Period
from crossgate.draw.canvas import Canvas
from crossgate.draw.charts import Size, bars_legend, draw_bar
from crossgate.draw.style import SMALL, TEXT, Theme, text_width

_MARGIN = 24.0
_TITLE = 17.0
_ROW = 44.0
_HIGH = 28.0
"""The height of the highest bar of a row."""
_ROOM = 620.0
_LONGEST = 48
_LEAST_LABEL = 62.0
"""The room that the label of a time needs."""


def times_sheet(
    found: Mapping[Decider, Mapping[datetime, int]],
    every: Sequence[datetime],
    by: Period,
    theme: Theme,
    size: Size = None,
) -> Canvas:
    """Draw a row of bars for each line, with a bar for `every` hour or day; the highest bar of a
    row is the largest number of its line.
    """
    names = [each.name for each in found]
    texts = [_text(each) for each in found]
    left = _MARGIN + max(text_width(name, TEXT, strong=True) for name in (*names, *texts)) + 18
    told = [_told(own, by) for own in found.values()]
    width = left + _ROOM + 12 + max(text_width(each, SMALL) for each in told) + _MARGIN
    height = 84 + _ROW * len(found) + 64
    sheet = Canvas(width, height, theme, size)
    sheet.text(f"When lines have decided, by {by}", _MARGIN, 30, _TITLE, strong=True, gid="title")
    below = f"packets; the highest bar of a row is the most of its line in one {by}"
    sheet.text(below, _MARGIN, 50, SMALL, theme.quiet)
    step = _ROOM / len(every)
    bottom = 76 + _ROW * len(found)
    for at, label in _marks(every, by, step):
        sheet.line([(left + at * step, 70), (left + at * step, bottom)], theme.faint, 0.8)
        sheet.text(label, left + at * step + 3, bottom + 14, SMALL, theme.quiet)
    for index, (line, own) in enumerate(found.items()):
        y = 76 + _ROW * index + _HIGH
        sheet.text(names[index], _MARGIN, y - 14, TEXT, strong=True)
        sheet.text(texts[index], _MARGIN, y + 2, SMALL, theme.quiet)
        sheet.line([(left, y), (left + _ROOM, y)], theme.quiet, 0.8)
        _bars(sheet, [own.get(each, 0) for each in every], (left, y), line, names[index])
        sheet.text(told[index], left + _ROOM + 12, y - 4, SMALL, theme.quiet)
    bars_legend(sheet, _MARGIN, height - 22)
    return sheet


def _bars(
    sheet: Canvas, values: Sequence[int], at: tuple[float, float], line: Decider, name: str
) -> None:
    (left, y), step, most = at, _ROOM / len(values), max(values)
    for number, value in enumerate(values):
        if value:
            high = max(_HIGH * value / most, 1.5)
            box = left + number * step, y - high, max(step - 1, 1.0), high
            draw_bar(sheet, box, line.permits, f"bar {name} {number}")


def _text(line: Decider) -> str:
    text = str(line.action) if line.entry is None else line.entry.text
    return text if len(text) <= _LONGEST else text[: _LONGEST - 1] + "…"


def _told(own: Mapping[datetime, int], by: Period) -> str:
    most = max(own, key=lambda each: own[each])
    how = "%a %d %b %H:00" if by is Period.HOUR else "%a %d %b"
    return f"{sum(own.values()):,} in all, {own[most]:,} on {most:{how}}"


def _marks(every: Sequence[datetime], by: Period, step: float) -> Iterator[tuple[int, str]]:
    """Yield the times written below the rows, by number, and how: as many as there is room for."""
    spans = (1, 2, 3, 6, 12, 24, 48, 168) if by is Period.HOUR else (1, 2, 7, 14, 28, 91)
    span = next((each for each in spans if each * step >= _LEAST_LABEL), spans[-1])
    first = every[0]
    for number, each in enumerate(every):
        since = each - first.replace(hour=0)
        nth = since.days if by is Period.DAY else since // timedelta(hours=1)
        if nth % span == 0:
            midnight = by is Period.DAY or each.hour == 0
            yield number, f"{each:%a %d %b}" if midnight else f"{each:%H:%M}"
