"""When an entry is in force: weekly hours and one-off windows, and the states that a set of windows
can be in.

Time here is a `datetime` without a zone, the local time of the devices; the commands read the
clock.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import date, datetime, time, timedelta
from enum import StrEnum
from itertools import takewhile
from typing import NamedTuple

from crossgate.core.model.errors import Place, placeless

DAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
DAY_MINUTES = 24 * 60
WEEK_MINUTES = 7 * DAY_MINUTES


class Period(StrEnum):
    """Stretches of time, hours or days, for which sums are made."""

    HOUR = "hour"
    DAY = "day"


def periods(begun: Iterable[datetime], by: Period, most: int) -> list[datetime]:
    """Return the beginning of each hour or day from the first to the last of some times, including
    those without one; at most one more than `most`.
    """
    step = timedelta(hours=1) if by is Period.HOUR else timedelta(days=1)
    begins = sorted(begun)
    every = begins[:1]
    while every and every[-1] < begins[-1] and len(every) <= most:
        every.append(every[-1] + step)
    return every


class Hours(NamedTuple):
    """From `start` to `end`, minutes of a day, on each of `days` (0 is Monday). The end is
    excluded; one that is not after the start is on the next day.
    """

    days: frozenset[int]
    start: int
    end: int

    def spans(self) -> Iterator[tuple[int, int]]:
        """Yield (first, end) in minutes of the week, from Monday 00:00; an end may be in the next
        week.
        """
        length = (self.end - self.start) % DAY_MINUTES or DAY_MINUTES
        for day in sorted(self.days):
            first = day * DAY_MINUTES + self.start
            yield first, first + length


@placeless
class Window(NamedTuple):
    """A named time: weekly hours, or one span from `opens` to `closes` (excluded).

    Hours with `closes` are those before it, and `closes` alone is all time before it: that is what
    `until DATE` makes, of a window or without one (`until_window`).
    """

    name: str
    text: str
    place: Place
    hours: tuple[Hours, ...] = ()
    opens: datetime | None = None
    closes: datetime | None = None

    def is_open(self, moment: datetime) -> bool:
        """Whether the window is open at this moment."""
        if self.opens is not None and moment < self.opens:
            return False
        if self.closes is not None and moment >= self.closes:
            return False
        if not self.hours:
            return True
        minute = minute_of_week(moment)
        return any(
            first <= at < end
            for hours in self.hours
            for first, end in hours.spans()
            for at in (minute, minute + WEEK_MINUTES)
        )

    def turns(self) -> Iterator[int]:
        """Yield the minutes of the week at which the weekly hours open or close."""
        for hours in self.hours:
            for first, end in hours.spans():
                yield first
                yield end % WEEK_MINUTES


_UNTIL = re.compile(r"(?:(\S+) )?until (\d{4}-\d\d-\d\d)")


def until_name(until: date, window: str = "") -> str:
    """Return the name of the window that ends with a day, limited to another window if one is
    named. No window that a plan declares can have such a name.
    """
    return f"{window} until {until}".strip()


def is_past(until: date | None, now: datetime) -> bool:
    """Whether a last day is over."""
    return until is not None and until < now.date()


def last_day(name: str) -> date | None:
    """Return the day that a window of `until_name` ends with, from its name; None for any other
    window.
    """
    found = _UNTIL.fullmatch(name)
    return None if found is None else date.fromisoformat(found[2])


def of_window(name: str) -> str:
    """Return the declared window in a name of `until_name`, "" for none."""
    found = _UNTIL.fullmatch(name)
    return name if found is None else found[1] or ""


def until_window(name: str, windows: Mapping[str, Window]) -> Window:
    """Return the window that a name of `until_name` stands for."""
    until, own = last_day(name), windows.get(of_window(name))
    assert until is not None
    closes = datetime.combine(until, time()) + timedelta(days=1)
    if own is None:
        return Window(name, f"until {until}", Place("", 0), closes=closes)
    if own.closes is not None:
        closes = min(closes, own.closes)
    return own._replace(name=name, text=f"{own.text} until {until}", closes=closes)


def minute_of_week(moment: datetime) -> int:
    """Return the minutes since Monday 00:00."""
    return moment.weekday() * DAY_MINUTES + moment.hour * 60 + moment.minute


def open_at(windows: Iterable[Window], moment: datetime) -> frozenset[str]:
    """Return the names of the windows that are open at this moment."""
    return frozenset(window.name for window in windows if window.is_open(moment))


def changes(windows: Sequence[Window], after: datetime) -> Iterator[datetime]:
    """Yield the moments after a given one at which another set of windows is open, in order;
    endless where one opens and closes every week.
    """
    opened = open_at(windows, after)
    moment = after
    quiet_until = _shifted(after, timedelta(minutes=2 * WEEK_MINUTES))
    while (turn := _next_turn(windows, moment)) is not None:
        moment = turn
        now = open_at(windows, moment)
        if now != opened:
            opened = now
            yield moment
            quiet_until = _shifted(moment, timedelta(minutes=2 * WEEK_MINUTES))
        elif moment > quiet_until and not _spans_left(windows, moment):
            return  # weekly hours alone, and a whole week of them changed nothing


def every_kind_of_moment(windows: Sequence[Window], after: datetime) -> Iterator[datetime]:
    """Yield moments after a given one, in order, that include the first moment of every set of
    windows that is ever open together: after each bound of a one-off window, the changes of one
    week.
    """
    bounds = {bound for each in windows for bound in (each.opens, each.closes) if bound is not None}
    starts = [after, *sorted(bound for bound in bounds if bound > after)]
    for number, start in enumerate(starts):
        if number:
            yield start
        week = _shifted(start, timedelta(minutes=WEEK_MINUTES))
        end = min(week, starts[number + 1]) if number + 1 < len(starts) else week
        yield from takewhile(end.__gt__, changes(windows, start))


def _spans_left(windows: Sequence[Window], moment: datetime) -> bool:
    """Whether some one-off window still opens or closes after a moment."""
    return any(each.closes is not None and each.closes > moment for each in windows)


def _next_turn(windows: Sequence[Window], after: datetime) -> datetime | None:
    """Return the next moment at which some window opens or closes; None where none does again."""
    found = [
        bound
        for each in windows
        for bound in (each.opens, each.closes)
        if bound is not None and bound > after
    ]
    midnight = after.replace(hour=0, minute=0, second=0, microsecond=0)
    monday = midnight - timedelta(days=after.weekday())
    for turn in {turn for each in windows for turn in each.turns()}:
        for week in (0, WEEK_MINUTES):
            moment = _shifted(monday, timedelta(minutes=turn + week))
            if moment > after:
                found.append(moment)
                break
    return min(found, default=None)


def states(windows: Sequence[Window], minute: int | None = None) -> dict[frozenset[str], datetime]:
    """Return every set of windows that can be open together, each with a moment at which it is.
    With `minute`, a minute of the week, only moments at that minute count.
    """
    if not windows:
        return {frozenset(): datetime(2024, 1, 1) + timedelta(minutes=minute or 0)}
    found: dict[frozenset[str], datetime] = {}
    for moment in _moments(windows, minute):
        found.setdefault(open_at(windows, moment), moment)
    return found


def _moments(windows: Sequence[Window], minute: int | None) -> Iterator[datetime]:
    """Yield a moment in every stretch of time during which no window opens or closes.

    Between two turns of one-off windows, before the first and after the last, the weekly pattern is
    gone through for one week, or for the whole stretch when that is shorter.
    """
    bounds = sorted(
        {
            bound
            for window in windows
            for bound in (window.opens, window.closes)
            if bound is not None
        }
    )
    weekly = (
        sorted({0, *(turn for window in windows for turn in window.turns())})
        if minute is None
        else [minute]
    )
    week = timedelta(minutes=WEEK_MINUTES)
    starts = [_shifted(bounds[0] if bounds else datetime(2024, 1, 8), -week), *bounds]
    ends = [*bounds, _shifted(starts[-1], week)]
    for start, end in zip(starts, ends, strict=True):
        if minute is None and start < end:
            yield start
        monday = start.replace(hour=0, minute=0, second=0) - timedelta(days=start.weekday())
        for weeks in (0, 1):
            for turn in weekly:
                moment = _shifted(monday, weeks * week + timedelta(minutes=turn))
                if start <= moment < min(end, _shifted(start, week)):
                    yield moment


def _shifted(moment: datetime, by: timedelta) -> datetime:
    """Return a moment earlier or later, limited to the first and the last possible one."""
    try:
        return moment + by
    except OverflowError:
        return datetime.min if by < timedelta() else datetime.max
