"""Tables of flows: the columns of each batch of rows, as flow records of both families."""

from __future__ import annotations

import re
import socket
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from crossgate.core.model import iana
from crossgate.core.model.address import Family
from crossgate.core.model.errors import PlanError
from crossgate.core.model.packet import TCP, icmp_of
from crossgate.core.model.packets import PORTED, Indices, Packets, Words, address_words, picked
from crossgate.core.traffic.seen import SECOND, UNTOLD, Seen
from crossgate.formats.bounds import see_columns
from crossgate.formats.readers.batches import batches
from crossgate.formats.readers.kinds import Kind
from crossgate.formats.readers.names import UNITS, Column, columns_of, plain
from crossgate.formats.readers.said import SAID, said_by

_MOST_KNOWN = 1 << 20
"""So many addresses are remembered as text and number."""
_NUMBER = re.compile(r"[+-]?[0-9]{1,18}(\.[0-9]*)?")
_MOST_DIGITS = 40
"""No number of a table has more."""
_LATEST = 253_402_300_799 * SECOND
"""The last second of the year 9999."""
_LETTERS = {"F": 1, "S": 2, "R": 4, "P": 8, "A": 16, "U": 32, "E": 64, "C": 128}


class Known:
    """Addresses that occurred in a table, each parsed once: for each text, its index in columns of
    families and words.
    """

    def __init__(self) -> None:
        self.places: dict[object, int] = {}
        self._met: list[tuple[Family, int] | None] = []
        self._columns: tuple[Indices, dict[Family, Words]] | None = None

    def add(self, value: object, address: tuple[Family, int] | None) -> int:
        """Keep an address, None where a text is none, and return its index."""
        place = self.places[value] = len(self._met)
        self._met.append(address)
        self._columns = None
        return place

    def columns(self) -> tuple[Indices, dict[Family, Words]]:
        """Return the family of each, 0 for none, and for each family the words of its addresses, 0
        for those of the other one.
        """
        if self._columns is None:
            families = np.array([0 if each is None else each[0] for each in self._met], np.int64)
            words = {
                family: address_words(
                    family,
                    [0 if each is None or each[0] is not family else each[1] for each in self._met],
                )
                for family in Family
                if (families == family).any()
            }
            self._columns = families, words
        return self._columns


@dataclass
class TableAccount:
    """What was read of a table: its `rows`, those without an address (`empty`), and whether ICMP
    messages were in the port column.
    """

    rows: int = 0
    empty: int = 0
    icmp_in_port: int = 0
    timeless: bool = False
    in_all: float = 0.0
    """Packets and octets together, about."""
    addresses: dict[Family | None, Known] = field(default_factory=dict)
    used: dict[Column, list[str]] = field(default_factory=dict)


def read_table(
    path: Path, kind: Kind, told: Mapping[Column, str], now: int, account: TableAccount, name: str
) -> Iterator[dict[Family, Seen]]:
    """Yield the records of a table, called `name` in errors, in batches.

    `now` is the time for records of a table without times, in microseconds. Raises `PlanError` for
    what cannot be read, with its row.
    """
    yield from read_batches(batches(path, kind, name), told, now, account, name)
    if not account.used:
        raise PlanError(
            f"{name} is empty: a table of flows has a row of column names, then a row for each flow"
        )


def read_batches(
    found: Iterable[Any], told: Mapping[Column, str], now: int, account: TableAccount, name: str
) -> Iterator[dict[Family, Seen]]:
    """Yield the records of a table that comes in record batches of pyarrow; see `read_table`."""
    columns: dict[Column, list[str]] | None = None
    try:
        for batch in found:
            if columns is None:
                see_columns(batch.schema.names, name)
                columns = account.used = columns_of(batch.schema.names, told, name)
                account.timeless = Column.TIME not in columns
            yield _Rows(name, batch, columns, account, now).seen()
            account.rows += batch.num_rows
    except UnicodeDecodeError:
        raise PlanError(f"{name} behind row {account.rows:,}: text that is not UTF-8") from None


class _Rows:
    """One batch of records of a table."""

    def __init__(
        self,
        name: str,
        batch: Any,
        columns: Mapping[Column, list[str]],
        account: TableAccount,
        now: int,
    ) -> None:
        self._name, self._batch, self._columns, self._account, self._now = (
            name,
            batch,
            columns,
            account,
            now,
        )
        self._before = account.rows

    def seen(self) -> dict[Family, Seen]:
        """Return the records of each family."""
        count = self._batch.num_rows
        ends = [self._addresses(column) for column in (Column.SOURCE, Column.DESTINATION)]
        families = [each[0] for each in ends]
        mixed = np.flatnonzero((families[0] != families[1]) & (families[0] > 0) & (families[1] > 0))
        if len(mixed):
            self._fail(
                int(mixed[0]), "its source is of one address family and its destination of another"
            )
        self._account.empty += int(((families[0] == 0) | (families[1] == 0)).sum())
        numbers = {
            column: self._numbers(column, most)
            for column, most in _MOST.items()
            if column in self._columns
        }
        numbers[Column.PROTOCOL] = self._numbers(Column.PROTOCOL, 255, iana.protocols())
        if Column.VERDICT in self._columns:
            numbers[Column.VERDICT] = self._said()
        flags = {
            column: self._flags(column)
            for column in (Column.FLAGS, Column.BACK_FLAGS)
            if column in self._columns
        }
        first = (
            self._times(Column.TIME) if Column.TIME in self._columns else np.full(count, self._now)
        )
        last = self._times(Column.END) if Column.END in self._columns else first
        found = {}
        for family in Family:
            rows = np.flatnonzero((families[0] == family) & (families[1] == family))
            if len(rows):
                whole = len(rows) == count
                words = [
                    each[1][family] if whole else picked(each[1][family], rows) for each in ends
                ]
                found[family] = self._of_family(
                    family,
                    slice(0, count) if whole else rows,
                    words,
                    numbers,
                    flags,
                    first,
                    np.maximum(first, last),
                )
        return found

    def _of_family(
        self,
        family: Family,
        rows: Indices | slice,
        words: list[Words],
        numbers: dict[Column, Indices],
        flags: dict[Column, Indices],
        first: Indices,
        last: Indices,
    ) -> Seen:
        count = words[0].shape[1]

        def column(which: Column, otherwise: int) -> Indices:
            return numbers[which][rows] if which in numbers else np.full(count, otherwise)

        protocol, ports = (
            column(Column.PROTOCOL, 0),
            [column(Column.SOURCE_PORT, 0), column(Column.DESTINATION_PORT, 0)],
        )
        icmp, ported = protocol == icmp_of(family), PORTED[protocol]
        if Column.ICMP in numbers:
            message = column(Column.ICMP, 0)
        else:
            message = ports[1]
            self._account.icmp_in_port += int((icmp & (message != 0)).sum())
        ports = [
            np.where(ported, ports[0], 0),
            np.where(icmp, message, np.where(ported, ports[1], 0)),
        ]
        both = [
            np.where(protocol == TCP, flags[which][rows], 0)
            if which in flags
            else np.zeros(count, np.int64)
            for which in (Column.FLAGS, Column.BACK_FLAGS)
        ]
        octets = [each.astype(np.uint8) for each in (protocol, both[0], column(Column.DSCP, 0))]
        packets = Packets(
            family,
            words[0],
            words[1],
            octets[0],
            ports[0].astype(np.uint16),
            ports[1].astype(np.uint16),
            octets[1],
            np.zeros(count, np.bool_),
            octets[2],
        )
        counts = np.stack([column(Column.PACKETS, 1), column(Column.BACK_PACKETS, 0)])
        sizes = np.stack([column(Column.BYTES, 0), column(Column.BACK_BYTES, 0)])
        self._account.in_all += float(counts.sum(dtype=np.float64) + sizes.sum(dtype=np.float64))
        if self._account.in_all > _MOST_IN_ALL:
            raise PlanError(
                f"{self._name} behind row {self._before:,}: its packets and bytes come to more "
                f"than {_MOST_IN_ALL:,}, which cannot be"
            )
        none = np.zeros(count, np.int64)
        return Seen(
            packets,
            first[rows],
            last[rows],
            counts,
            sizes,
            np.stack(both).astype(np.uint8),
            none.astype(np.uint16),
            none.astype(np.bool_),
            none.astype(np.uint64),
            np.full(count, UNTOLD, np.uint64),
            column(Column.VERDICT, 0).astype(np.uint8),
        )

    # Columns

    def _column(self, column: Column) -> Any:
        return self._values(self._columns[column][0], column)

    def _values(self, name: str, column: Column) -> Any:
        """Return the values of a column by its name. Raises `PlanError` for an unsupported kind of
        values.
        """
        values = self._batch.column(self._batch.schema.get_field_index(name))
        kind = values.type.value_type if pa.types.is_dictionary(values.type) else values.type
        if not any(usual(kind) for usual in _USUAL) and not (
            column in (Column.TIME, Column.END) and pa.types.is_timestamp(kind)
        ):
            self._fail(
                0,
                (
                    f"its values are of the kind {kind}; texts, numbers, and for times timestamps "
                    "are "
                    "read"
                ),
                column,
            )
        return values

    def _fail(self, row: int, problem: str, column: Column | None = None) -> None:
        where = f" of column {self._columns[column][0]}" if column else ""
        raise PlanError(f"{self._name} row {self._before + row + 1:,}{where}: {problem}")

    def _addresses(self, column: Column) -> tuple[Indices, dict[Family, Words]]:
        """Return the family of each row's address, 0 for none, and the addresses as words of each
        family.
        """
        count = self._batch.num_rows
        families = np.zeros(count, np.int64)
        words: dict[Family, Words] = {}
        for name in self._columns[column]:
            values = self._values(name, column)
            told = (
                Family.IPV4
                if "ipv4" in plain(name)
                else Family.IPV6
                if "ipv6" in plain(name)
                else None
            )
            encoded = (
                values if pa.types.is_dictionary(values.type) else pc.dictionary_encode(values)
            )
            places = encoded.indices.fill_null(-1).to_numpy(zero_copy_only=False).astype(np.int64)
            known = self._account.addresses.setdefault(told, Known())
            if len(known.places) > _MOST_KNOWN:
                known = self._account.addresses[told] = Known()
            values_met = encoded.dictionary.to_pylist()
            met = [known.places.get(each) for each in values_met]
            for place, value in enumerate(values_met if None in met else ()):
                if met[place] is None:
                    met[place] = known.add(value, self._address(value, column, told, places, place))
            empty = known.places[None] if None in known.places else known.add(None, None)
            whose = np.array([*met, empty], np.int64)[places]
            of, values_of = known.columns()
            for family, own in values_of.items():
                rows = np.flatnonzero((of[whose] == family) & (families == 0))
                if len(rows) == count:
                    words[family], families = picked(own, whose), np.full(count, int(family))
                elif len(rows):
                    words.setdefault(family, np.zeros((len(own), count), np.uint64))[:, rows] = (
                        picked(own, whose[rows])
                    )
                    families[rows] = family
        return families, words

    def _address(
        self, value: Any, column: Column, told: Family | None, places: Indices, place: int
    ) -> tuple[Family, int] | None:
        """Return an address as its family and number, from text, an integer, or octets; None for an
        empty one.
        """
        found: tuple[Family, int] | None = None
        text = value.strip() if isinstance(value, str) else value
        if text in (None, "", b""):
            return None
        try:
            if isinstance(text, str):
                family = Family.IPV6 if ":" in text else Family.IPV4
                found = (
                    family,
                    int.from_bytes(
                        socket.inet_pton(
                            socket.AF_INET6 if family is Family.IPV6 else socket.AF_INET, text
                        )
                    ),
                )
            elif isinstance(text, bytes) and len(text) in (4, 16):
                found = (Family.IPV4 if len(text) == 4 else Family.IPV6), int.from_bytes(text)
            elif isinstance(text, int) and 0 <= text <= Family.IPV4.mask:
                found = Family.IPV4, text
        except (OSError, ValueError):
            pass
        if found is None or (told is not None and found[0] is not told):
            row = int(np.flatnonzero(places == place)[0])
            self._fail(
                row,
                f"{value!r} is no address"
                if found is None
                else f"{value} is an {found[0].label} address",
                column,
            )
        return found

    def _numbers(
        self, column: Column, most: int, words: Mapping[str, int] | None = None
    ) -> Indices:
        """Return a column of whole numbers, 0 where it is empty; `words` are texts that stand for
        numbers.
        """
        values = self._column(column)
        if (
            pa.types.is_string(values.type)
            or pa.types.is_large_string(values.type)
            or pa.types.is_dictionary(values.type)
        ):
            return self._by_word(
                column,
                values,
                lambda word: _number(word, words or {}, most),
                f"is no number from 0 to {most:,}",
            )
        found: Indices = pc.fill_null(pc.cast(values, pa.int64(), safe=False), 0).to_numpy(
            zero_copy_only=False
        )
        wrong = np.flatnonzero((found < 0) | (found > most))
        if len(wrong):
            self._fail(
                int(wrong[0]), f"{values[int(wrong[0])]} is no number from 0 to {most:,}", column
            )
        return found

    def _said(self) -> Indices:
        """Return the decision that the device reported, 0 for none."""
        values, name = self._column(Column.VERDICT), self._columns[Column.VERDICT][0]
        if not pa.types.is_dictionary(values.type):
            values = pc.cast(values, pa.string())
        return self._by_word(
            Column.VERDICT,
            values,
            lambda word: said_by(name, word),
            f"is no verdict; one is {SAID}",
        )

    def _flags(self, column: Column) -> Indices:
        values = self._column(column)
        if pa.types.is_integer(values.type):
            numbers: Indices = pc.fill_null(pc.cast(values, pa.int64()), 0).to_numpy(
                zero_copy_only=False
            )
            return numbers & 255
        return self._by_word(
            column, values, _flag_number, "is neither a number nor letters of TCP flags (FSRPAUEC)"
        )

    def _by_word(
        self, column: Column, values: Any, read: Callable[[str], int | None], problem: str
    ) -> Indices:
        """Return numbers for words, reading each different word once; an empty one gives 0."""
        encoded = values if pa.types.is_dictionary(values.type) else pc.dictionary_encode(values)
        places = encoded.indices.fill_null(-1).to_numpy(zero_copy_only=False).astype(np.int64)
        numbers = []
        for place, word in enumerate(encoded.dictionary.to_pylist()):
            number = 0 if word is None or not str(word).strip() else read(str(word).strip())
            if number is None:
                self._fail(int(np.flatnonzero(places == place)[0]), f"{word!r} {problem}", column)
            numbers.append(number)
        found: Indices = np.array([*numbers, 0], np.int64)[places]
        return found

    def _times(self, column: Column) -> Indices:
        """Return times in microseconds since 1970-01-01 UTC, from a timestamp, a number in the unit
        that its column's name gives, or text.
        """
        values, name = self._column(column), plain(self._columns[column][0])
        if pa.types.is_dictionary(values.type):
            values = values.dictionary_decode()
        unit = next((factor for word, factor in UNITS.items() if name.endswith(word)), None)
        if pa.types.is_string(values.type) or pa.types.is_large_string(values.type):
            values = self._written(column, values)
        if pa.types.is_timestamp(values.type):
            exact = pc.cast(pc.cast(values, pa.timestamp("us"), safe=False), pa.int64())
            numbers, unit = pc.fill_null(exact, 0).to_numpy(zero_copy_only=False), 1
        else:
            numbers = pc.fill_null(values, 0).to_numpy(zero_copy_only=False)
            unit = _unit(numbers) if unit is None else unit
        moments = np.nan_to_num(numbers.astype(np.float64), nan=-1) * (
            -1 / unit if unit < 0 else unit
        )
        wrong = np.flatnonzero((moments < 0) | (moments > _LATEST))
        if len(wrong):
            self._fail(
                int(wrong[0]), f"{numbers[wrong[0]]} is no time after 1970 that there is", column
            )
        found: Indices = (numbers // -unit if unit < 0 else numbers * unit).astype(np.int64)
        return found

    def _written(self, column: Column, values: Any) -> Any:
        """Return times that are text, as whole numbers, other numbers, or dates."""
        for kind in (pa.int64(), pa.float64()):
            try:
                return pc.cast(values, kind)
            except pa.ArrowInvalid:
                continue
        return self._moments(column, values)

    def _moments(self, column: Column, values: Any) -> Any:
        """Return times that are dates as text; without a zone they are UTC."""
        from datetime import UTC, datetime

        texts = values.to_pylist()
        moments: list[datetime | None] = []
        numbered = any(
            _is_number(text) for text in texts
        )  # then they are no moments, and one of them is no number
        for row, text in enumerate(texts):
            moment = None
            if text and not (numbered and _is_number(text)):
                with suppress(ValueError):
                    moment = None if numbered else datetime.fromisoformat(text.strip())
                if moment is None:
                    self._fail(
                        row, f"{text!r} is no time: a number, or as 2026-11-26T08:00:00Z", column
                    )
            moments.append(moment.replace(tzinfo=UTC) if moment and not moment.tzinfo else moment)
        return pa.array(moments, pa.timestamp("us", "UTC"))


_USUAL = (
    pa.types.is_integer,
    pa.types.is_floating,
    pa.types.is_decimal,
    pa.types.is_string,
    pa.types.is_large_string,
    pa.types.is_binary,
    pa.types.is_large_binary,
    pa.types.is_fixed_size_binary,
    pa.types.is_null,
)
"""The kinds of values that a column may have."""
_MOST_IN_ALL = 1 << 56
"""Packets and octets of one table together: far more than there can be, and far from what a sum of
64 bits holds.
"""
_MOST = {
    Column.SOURCE_PORT: 65_535,
    Column.DESTINATION_PORT: 65_535,
    Column.ICMP: 65_535,
    Column.PACKETS: 1 << 62,
    Column.BYTES: 1 << 62,
    Column.DSCP: 63,
    Column.BACK_PACKETS: 1 << 62,
    Column.BACK_BYTES: 1 << 62,
}


def _number(word: str, words: Mapping[str, int], most: int) -> int | None:
    if word.lower() in words:
        return words[word.lower()]
    if word.isascii() and word.isdigit():
        return int(word) if len(word) <= _MOST_DIGITS and int(word) <= most else None
    try:
        number = float(word)
    except ValueError:
        return None
    return int(number) if number.is_integer() and 0 <= number <= most else None


def _is_number(text: str | None) -> bool:
    return text is not None and _NUMBER.fullmatch(text) is not None


def _flag_number(word: str) -> int | None:
    if word.lower().startswith("0x"):
        try:
            return int(word, 16) & 255
        except ValueError:
            return None
    if word.isascii() and word.isdigit():
        return int(word) & 255 if len(word) <= _MOST_DIGITS else None
    letters = word.upper().replace(".", "").replace("-", "").replace(" ", "").replace(",", "")
    return sum({_LETTERS[each] for each in letters}) if set(letters) <= _LETTERS.keys() else None


def _unit(numbers: NDArray[Any]) -> int:
    """Return how many microseconds the unit of some times has, from their size: seconds up to the
    year 5138, milliseconds, and so on.
    """
    most = abs(float(numbers.max(initial=0)))
    return SECOND if most < 1e11 else 1_000 if most < 1e14 else 1 if most < 1e17 else -1_000
