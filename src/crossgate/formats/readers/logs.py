"""Log lines as a table of flows: by a pattern that names its parts, or with fields as `key=value`,
as many devices write them.

1. Lines are read in blocks, and each field for a whole block, by RE2, whose time no pattern can
blow up.

2. The head of a line gives its time: RFC 5424 (`<134>1 2026-11-30T19:00:00Z ...`) or RFC 3164
(`<134>Nov 30 19:00:00 ...`), with or without the number in angle brackets. A time without a year is
in the last year in which it is not in the future; one without a zone is wall-clock time.

3. A line without both addresses is about no flow, and is counted; no other line is left out.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta, tzinfo
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from crossgate.core.model.errors import PlanError
from crossgate.core.model.plaintext import numeral
from crossgate.formats.bounds import see_columns
from crossgate.formats.readers.batches import stream
from crossgate.formats.readers.names import TrafficColumn, known_column, plain

GROUPS = (
    "src",
    "dst",
    "proto",
    "sport",
    "dport",
    "time",
    "packets",
    "bytes",
    "flags",
    "action",
    "type",
    "code",
)
"""The groups that a pattern may have."""
_BLOCK = 8 << 20
_SAMPLE = 1_000
"""So many lines tell which keys there are."""
_KEY = re.compile(r"(?:^|[\s,;|])([A-Za-z][\w.-]{0,40})=")
_VALUE = r'(?:^|[\s,;|])(?i:{})=(?:"(?P<quoted>[^"]*)"|(?P<bare>[^\s",;|]*))'
_HEAD = (
    r"^(?:<\d{1,3}>)?(?:1 )?(?:(?P<iso>\d{4}-\d\d-\d\d[T ]\d\d:\d\d:\d\d\S*)|"
    r"(?P<bsd>[A-Z][a-z]{2} [ \d]\d \d\d:\d\d:\d\d))"
)
_MONTHS = ("Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec")
_ICMP = ("type", "code")
_OTHERS = (*_ICMP, "date")
_TIMES = ("time", "timestamp", "eventtime", "rt")
_NO_DATE = re.compile(r"\d\d:\d\d(:\d\d(\.\d+)?)?")


@dataclass(frozen=True)
class LogLines:
    """How lines of a log are read: by a `pattern` with named groups, None for `key=value`; the
    present time in microseconds; and the `zone` of times without one, None for the system's.
    """

    pattern: str | None
    now: int
    zone: tzinfo | None


def pattern_of(text: str) -> str:
    """Return a pattern compiled by RE2. Raises `PlanError` for one that names no addresses, or
    names unknown parts.
    """
    wanted = text.replace("(?<", "(?P<").replace("(?P<=", "(?<=").replace("(?P<!", "(?<!")
    try:
        names = [each.name for each in pc.extract_regex(pa.array([""]), wanted).type]
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError) as error:
        raise PlanError(f"--pattern: {str(error).splitlines()[0]}") from None
    odd = [each for each in names if each not in GROUPS]
    if odd:
        raise PlanError(f"--pattern: no group {odd[0]}; there are {', '.join(GROUPS)}")
    missing = [each for each in ("src", "dst", "proto") if each not in names]
    if missing:
        raise PlanError(
            f"--pattern: no group {missing[0]}; write it as (?P<{missing[0]}>\\S+) where it stands"
        )
    return wanted


def log_batches(
    path: Path, packed: str | None, lines: LogLines, told: Mapping[TrafficColumn, str], name: str
) -> Iterator[Any]:
    """Yield the lines of a log, called `name` in errors, as record batches of pyarrow, a row for
    each. Raises `PlanError` for what cannot be read.
    """
    reader: _Pattern | _Keys | None = None
    for block in _blocks(path, packed, name):
        if reader is None:
            reader = (
                _Keys(block, lines, told, name)
                if lines.pattern is None
                else _Pattern(lines.pattern, lines)
            )
        yield reader.batch(block)


def _blocks(path: Path, packed: str | None, name: str) -> Iterator[Any]:
    """Yield the lines of a file that are not empty, block by block."""
    from pyarrow import csv

    try:
        yield from (
            batch.column(0)
            for batch in csv.open_csv(
                stream(path, packed, name),
                csv.ReadOptions(block_size=_BLOCK, column_names=["line"]),
                # Lines are not parted at this letter, which no log has.
                csv.ParseOptions(
                    delimiter="\x1f", quote_char=False, invalid_row_handler=lambda row: "skip"
                ),
                csv.ConvertOptions(column_types={"line": pa.string()}, check_utf8=False),
            )
            if batch.num_rows
        )
    except (pa.ArrowInvalid, pa.ArrowIOError, OSError) as error:
        if "Empty CSV" not in str(error):
            raise PlanError(f"{name} cannot be read: {str(error).splitlines()[0]}") from None


class _Pattern:
    """Lines that are divided by a pattern."""

    def __init__(self, pattern: str, lines: LogLines) -> None:
        self._pattern, self._lines = pattern, lines

    def batch(self, block: Any) -> Any:
        found = pc.extract_regex(block, self._pattern)
        parts = {each.name: pc.struct_field(found, each.name) for each in found.type}
        return _table(parts, block, self._lines)


class _Keys:
    """Lines whose fields are `key=value`."""

    def __init__(
        self, block: Any, lines: LogLines, told: Mapping[TrafficColumn, str], name: str
    ) -> None:
        self._lines = lines
        keys = dict.fromkeys(
            key for line in block.slice(0, _SAMPLE).to_pylist() for key in _KEY.findall(line or "")
        )
        see_columns(keys, name)
        used: dict[object, list[str]] = {}
        for key in keys:
            what: object = (
                key
                if key in told.values()
                else known_column(key) or (plain(key) if plain(key) in _OTHERS else None)
            )
            if what is not None:
                used.setdefault(what, []).append(re.escape(key))
        self._values = {
            each[0].replace("\\", ""): _VALUE.format("|".join(each)) for each in used.values()
        }

    def batch(self, block: Any) -> Any:
        parts = {}
        for key, value in self._values.items():
            found = pc.extract_regex(block, value)
            quoted, bare = (pc.struct_field(found, each) for each in ("quoted", "bare"))
            parts[key] = pc.if_else(pc.equal(quoted, ""), bare, quoted)
        return _table(parts, block, self._lines)


_COUNTS = (
    TrafficColumn.SOURCE_PORT,
    TrafficColumn.DESTINATION_PORT,
    TrafficColumn.PACKETS,
    TrafficColumn.BYTES,
)


def _counted(values: Any) -> Any:
    """Return text as numbers where all values are numbers; an empty text counts as missing."""
    try:
        return pc.cast(pc.if_else(pc.equal(values, ""), None, values), pa.int64())
    except pa.ArrowInvalid:
        return values  # told with its row where it is read


def _table(parts: dict[str, Any], block: Any, lines: LogLines) -> Any:
    """Return parts of lines as a batch with all columns that a flow needs."""
    columns = {
        name: _counted(values) if known_column(name) in _COUNTS else values
        for name, values in parts.items()
        if plain(name) not in _ICMP
    }
    known = {known_column(name) for name in columns}
    empty = pa.nulls(len(block), pa.string())
    for column, name in (
        (TrafficColumn.PROTOCOL, "proto"),
        (TrafficColumn.SOURCE_PORT, "sport"),
        (TrafficColumn.DESTINATION_PORT, "dport"),
    ):
        if column not in known:
            columns[name] = empty
    message = [next((parts[name] for name in parts if plain(name) == each), None) for each in _ICMP]
    if message[0] is not None:
        columns["icmpTypeCodeIPv4"] = _messages(*message)
    dates = [columns.pop(name) for name in list(columns) if plain(name) == "date"]
    times = [columns.pop(name) for name in list(columns) if plain(name) in _TIMES]
    written = times[0] if times else None
    if dates and written is not None:
        written = pc.binary_join_element_wise(dates[0], written, " ")
    columns["time"] = _times(written, block, lines)
    return pa.RecordBatch.from_arrays(list(columns.values()), list(columns))


def _messages(kinds: Any, codes: Any) -> Any:
    """Return ICMP messages as in IPFIX: 256 times the type, plus the code."""

    def number(text: str | None) -> int:
        return int(text) if text and text.isdecimal() and len(text) <= 3 and int(text) < 256 else 0

    others = [None] * len(kinds) if codes is None else codes.to_pylist()
    return pa.array(
        [
            None if not kind else 256 * number(kind) + number(code)
            for kind, code in zip(kinds.to_pylist(), others, strict=True)
        ],
        pa.int64(),
    )


def _times(written: Any, block: Any, lines: LogLines) -> Any:
    """Return the times of lines in microseconds: from their heads, or else from a part of them."""
    head = pc.extract_regex(block, _HEAD)
    iso, bsd = (pc.struct_field(head, each) for each in ("iso", "bsd"))
    found = pc.if_else(pc.equal(iso, ""), bsd, iso)
    if written is not None:
        found = pc.coalesce(found, written)
    encoded = pc.dictionary_encode(found)
    met = [_moment(each, lines) for each in encoded.dictionary.to_pylist()]
    own = np.array([-1 if each is None else each for each in (*met, None)], np.int64)
    times = own[encoded.indices.fill_null(-1).to_numpy(zero_copy_only=False)]
    # A line without a time was written when the one before it was.
    told = np.maximum.accumulate(np.where(times >= 0, np.arange(len(times)), -1))
    return pa.array(np.where(told >= 0, times[told], lines.now), pa.timestamp("us", "UTC"))


def _moment(text: str, lines: LogLines) -> int | None:
    """Return a time in microseconds since 1970; None for text that is no time."""
    try:
        return _read_moment(text, lines)
    except (ValueError, OverflowError, OSError):
        return None


def _read_moment(text: str, lines: LogLines) -> int | None:
    """Return a time as `_moment` does. Raises `ValueError` and other errors for text that is no
    time.
    """
    now = datetime.fromtimestamp(lines.now / 1_000_000, UTC).astimezone(lines.zone)
    found: datetime | None = None
    if re.fullmatch(r"\d{9,11}(\.\d+)?", text):
        return int(float(text) * 1_000_000)
    if re.fullmatch(r"\d{12,19}", text):
        return int(text) * 1_000 // 10 ** (len(text) - 13) if len(text) > 13 else int(text) * 1_000
    if text[:3] in _MONTHS and len(text) == 15:
        day = _last(text[:6], now.date())
        found = None if day is None else datetime.combine(day, time.fromisoformat(text[7:]))
    elif _NO_DATE.fullmatch(text):
        found = datetime.fromisoformat(f"{now:%Y-%m-%d} {text}")
    else:
        found = datetime.fromisoformat(text)
    return None if found is None else int(_in_zone(found, lines).timestamp() * 1_000_000)


@lru_cache(1 << 10)
def _last(text: str, today: date) -> date | None:
    """Return the latest day for a text like `Nov 30` that is not in the future, except tomorrow,
    since clocks may be fast; None for text that is no day.
    """
    month, day = _MONTHS.index(text[:3]) + 1, numeral(text[4:].strip())
    for year in range(today.year + 1, today.year - 8, -1):
        try:
            found = date(year, month, day or 0)
        except ValueError:
            continue
        if found <= today + timedelta(days=1):
            return found
    return None


def _in_zone(moment: datetime, lines: LogLines) -> datetime:
    if moment.tzinfo is not None:
        return moment
    return moment.replace(tzinfo=lines.zone) if lines.zone else moment.astimezone()


def pattern_words(pattern: str) -> Sequence[str]:
    """Return the names of the groups in a pattern."""
    return [each.name for each in pc.extract_regex(pa.array([""]), pattern).type]
