"""Windows and moments: `window` lines, and the times after `at`."""

from __future__ import annotations

import re
from datetime import datetime

from crossgate.core.model.claim import Moment
from crossgate.core.model.plaintext import numeral
from crossgate.core.model.window import DAY_MINUTES, DAYS, Hours, Window
from crossgate.language.names import Names
from crossgate.language.words import Words

_DAY_WORDS = {
    "daily": frozenset(range(7)),
    "weekdays": frozenset(range(5)),
    "weekends": frozenset((5, 6)),
    **{day: frozenset((number,)) for number, day in enumerate(DAYS)},
}
_IN_FULL = {
    day: day[:3]
    for day in ("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday")
}
_WHOLE_HOURS = re.compile(r"([01]?\d|2[0-4])(:\d\d)?-([01]?\d|2[0-4])(:\d\d)?", re.ASCII)
"""Hours as people write them without minutes, as 8-17."""
_EXPECTED_DAYS = (
    "daily, weekdays, weekends, a day (mon to sun), days (mon-fri) or a date (2026-12-01)"
)


def window(words: Words, names: Names) -> None:
    """Read a `window` statement."""
    words.keyword("window")
    name = words.name("a window")
    start = words.index
    if ":" in words.peek():
        hours_alone = words.take(_EXPECTED_DAYS)
        raise words.error(
            f"expected days before the hours; write daily {hours_alone}",
            near=f"daily {hours_alone}",
        )
    if words.peek()[:1].isdigit():
        opens = _date_and_time(words)
        words.keyword("to")
        closes = _date_and_time(words)
        if closes <= opens:
            raise words.error_from(
                start, f"the window closes before it opens: it runs from {opens} to {closes}"
            )
        words.end()
        names.plan.windows[name] = Window(
            name, " ".join(words.words[start:]), words.place, opens=opens, closes=closes
        )
        return
    hours = [_hours(words)]
    while words.accept(","):
        hours.append(_hours(words))
    words.end()
    text = " ".join(words.words[start:]).replace(" ,", ",")
    names.plan.windows[name] = Window(name, text, words.place, hours=tuple(hours))


def _hours(words: Words) -> Hours:
    """Take days and hours, as `mon-fri 08:00-17:30`."""
    days = _days(words)
    word = words.take("hours, as 22:00-05:30")
    first, hyphen, last = word.partition("-")
    if words.peek() in ("-", "to", "until"):
        words.take("a hyphen")
        text = f"{word}-{words.take('the time at which the hours end')}"
        raise words.mended_from(words.index - 3, f"hours are written {text}", text)
    if not hyphen:
        raise words.error(f"expected hours, as 22:00-05:30, not {word}")
    whole = _WHOLE_HOURS.fullmatch(word)
    if whole and not (whole[2] and whole[4]):
        opens, closes = (f"{whole[each]:0>2}{whole[each + 1] or ':00'}" for each in (1, 3))
        raise words.mended_from(
            words.index - 1, f"hours are written {opens}-{closes}", f"{opens}-{closes}"
        )
    start, end = _minute(words, first, 0), _minute(words, last, len(first) + 1)
    return Hours(days, start % DAY_MINUTES, end % DAY_MINUTES)


def _days(words: Words) -> frozenset[int]:
    """Take `daily`, `weekdays`, `weekends`, a day, or a first and a last one (`mon-fri`)."""
    word = words.take(_EXPECTED_DAYS).lower()
    if word in _DAY_WORDS:
        return _DAY_WORDS[word]
    first, _, last = word.partition("-")
    if first in DAYS and last in DAYS:
        start, length = DAYS.index(first), (DAYS.index(last) - DAYS.index(first)) % 7
        return frozenset((start + step) % 7 for step in range(length + 1))
    short = "-".join(_IN_FULL.get(each, "") for each in word.split("-"))
    near = short if len(short) in (3, 7) else ""
    raise words.error(
        f"expected {_EXPECTED_DAYS}, not {word}" + (f"; write {near}" if near else ""), near=near
    )


def _minute(words: Words, text: str, offset: int = 0) -> int:
    """HH:MM, from 00:00 to 24:00."""
    hour, colon, minute = text.partition(":")
    hours, minutes = numeral(hour), numeral(minute)
    if not colon or len(minute) != 2 or hours is None or minutes is None:
        raise words.error(
            f"expected a time as 08:30, not {text or 'nothing'}", span=(offset, offset + len(text))
        )
    value = hours * 60 + minutes
    if minutes > 59 or value > DAY_MINUTES:
        raise words.error(
            f"{text} is no time of day: 00:00 to 24:00", span=(offset, offset + len(text))
        )
    return value


def _date_and_time(words: Words) -> datetime:
    """Take a day and a time of it, as `2026-12-01 06:00`."""
    start = words.index
    date = words.take("a date, as 2026-12-01")
    time = words.take("a time, as 08:30")
    try:
        return datetime.strptime(f"{date} {time}", "%Y-%m-%d %H:%M")
    except ValueError:
        raise words.error_from(
            start, f"{date} {time} is no date and time: write as 2026-12-01 08:30"
        ) from None


def moment(words: Words) -> Moment:
    """Read a moment: `mon 23:00`, `2026-12-01 23:00` with its day of the week or without, or
    `2026-12-01T23:00:00`; days in any case.
    """
    word = words.take("a time, as mon 23:00 or 2026-12-01 23:00")
    day = word.lower()
    if day in DAYS and "-" in words.peek():
        start = words.index - 1
        date = _date_and_time(words)
        if DAYS[date.weekday()] != day:
            raise words.error_from(
                start,
                (
                    f"{date:%Y-%m-%d} is a {date:%A}; write {date:%a %Y-%m-%d %H:%M}, or leave the "
                    "day out"
                ),
            )
        return Moment(f"{date:%Y-%m-%d %H:%M}", date=date)
    if day in DAYS:
        word, clock = day, words.take("a time, as 23:00")
        minute = DAYS.index(word) * DAY_MINUTES + _minute(words, clock) % DAY_MINUTES
        return Moment(f"{word} {clock}", minute=minute)
    if "T" in word:
        try:
            return Moment(word, date=datetime.fromisoformat(word).replace(tzinfo=None))
        except ValueError:
            raise words.error(f"{word} is no date and time: write as 2026-12-01T08:30") from None
    if word[:1].isdigit():
        if ":" in word:
            raise words.error(
                f"{word} is a time without a day; write one before it, as mon {word} or "
                f"2026-12-01 {word}"
            )
        words.index -= 1
        date = _date_and_time(words)
        return Moment(f"{date:%Y-%m-%d %H:%M}", date=date)
    raise words.error(f"expected a time, as mon 23:00 or 2026-12-01 23:00, not {word}")
