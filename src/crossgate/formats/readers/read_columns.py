"""The columns of a batch of records as numbers and addresses."""

from __future__ import annotations

import socket
from collections.abc import Callable, Mapping
from contextlib import suppress
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from crossgate.core.model.address import Family
from crossgate.core.model.errors import PlanError
from crossgate.core.model.packets import Indices, Words, picked
from crossgate.core.traffic.seen import SECOND
from crossgate.formats.readers.known_addresses import KnownAddresses
from crossgate.formats.readers.names import UNITS, TrafficColumn, plain
from crossgate.formats.readers.numbers import flags_in, is_number, number_in, unit_of
from crossgate.formats.readers.said import SAID, said_by

_MOST_KNOWN = 1 << 20
"""So many addresses are remembered as text and number."""
_LATEST = 253_402_300_799 * SECOND
"""The last second of the year 9999."""
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


class ReadColumns:
    """The columns of a batch, `columns` by what they are, of a table that is called `name` in
    errors. `before` is how many rows came before it, and `met` the addresses that they had.
    """

    def __init__(
        self,
        name: str,
        batch: Any,
        columns: Mapping[TrafficColumn, list[str]],
        before: int,
        met: dict[Family | None, KnownAddresses],
    ) -> None:
        self._name, self._batch, self._columns = name, batch, columns
        self._before, self._met = before, met

    def _column(self, column: TrafficColumn) -> Any:
        return self._values(self._columns[column][0], column)

    def _values(self, name: str, column: TrafficColumn) -> Any:
        """Return the values of a column by its name. Raises `PlanError` for an unsupported kind of
        values.
        """
        values = self._batch.column(self._batch.schema.get_field_index(name))
        kind = values.type.value_type if pa.types.is_dictionary(values.type) else values.type
        if not any(usual(kind) for usual in _USUAL) and not (
            column in (TrafficColumn.TIME, TrafficColumn.END) and pa.types.is_timestamp(kind)
        ):
            self.fail(
                0,
                (
                    f"its values are of the kind {kind}; texts, numbers, and for times timestamps "
                    "are "
                    "read"
                ),
                column,
            )
        return values

    def fail(self, row: int, problem: str, column: TrafficColumn | None = None) -> None:
        """Raise a `PlanError` about a row, counted from 0 in this batch."""
        where = f" of column {self._columns[column][0]}" if column else ""
        raise PlanError(f"{self._name} row {self._before + row + 1:,}{where}: {problem}")

    def addresses(self, column: TrafficColumn) -> tuple[Indices, dict[Family, Words]]:
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
            known = self._met.setdefault(told, KnownAddresses())
            if len(known.places) > _MOST_KNOWN:
                known = self._met[told] = KnownAddresses()
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
        self, value: Any, column: TrafficColumn, told: Family | None, places: Indices, place: int
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
            self.fail(
                row,
                f"{value!r} is no address"
                if found is None
                else f"{value} is an {found[0].label} address",
                column,
            )
        return found

    def numbers(
        self, column: TrafficColumn, most: int, words: Mapping[str, int] | None = None
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
                lambda word: number_in(word, words or {}, most),
                f"is no number from 0 to {most:,}",
            )
        found: Indices = pc.fill_null(pc.cast(values, pa.int64(), safe=False), 0).to_numpy(
            zero_copy_only=False
        )
        wrong = np.flatnonzero((found < 0) | (found > most))
        if len(wrong):
            self.fail(
                int(wrong[0]), f"{values[int(wrong[0])]} is no number from 0 to {most:,}", column
            )
        return found

    def said(self) -> Indices:
        """Return the decision that the device reported, 0 for none."""
        values, name = self._column(TrafficColumn.VERDICT), self._columns[TrafficColumn.VERDICT][0]
        if not pa.types.is_dictionary(values.type):
            values = pc.cast(values, pa.string())
        return self._by_word(
            TrafficColumn.VERDICT,
            values,
            lambda word: said_by(name, word),
            f"is no verdict; one is {SAID}",
        )

    def flags(self, column: TrafficColumn) -> Indices:
        """Return a column of TCP flags, 0 where it is empty."""
        values = self._column(column)
        if pa.types.is_integer(values.type):
            numbers: Indices = pc.fill_null(pc.cast(values, pa.int64()), 0).to_numpy(
                zero_copy_only=False
            )
            return numbers & 255
        return self._by_word(
            column, values, flags_in, "is neither a number nor letters of TCP flags (FSRPAUEC)"
        )

    def _by_word(
        self, column: TrafficColumn, values: Any, read: Callable[[str], int | None], problem: str
    ) -> Indices:
        """Return numbers for words, reading each different word once; an empty one gives 0."""
        encoded = values if pa.types.is_dictionary(values.type) else pc.dictionary_encode(values)
        places = encoded.indices.fill_null(-1).to_numpy(zero_copy_only=False).astype(np.int64)
        numbers = []
        for place, word in enumerate(encoded.dictionary.to_pylist()):
            number = 0 if word is None or not str(word).strip() else read(str(word).strip())
            if number is None:
                self.fail(int(np.flatnonzero(places == place)[0]), f"{word!r} {problem}", column)
            numbers.append(number)
        found: Indices = np.array([*numbers, 0], np.int64)[places]
        return found

    def times(self, column: TrafficColumn) -> Indices:
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
            unit = unit_of(numbers) if unit is None else unit
        moments = np.nan_to_num(numbers.astype(np.float64), nan=-1) * (
            -1 / unit if unit < 0 else unit
        )
        wrong = np.flatnonzero((moments < 0) | (moments > _LATEST))
        if len(wrong):
            self.fail(
                int(wrong[0]), f"{numbers[wrong[0]]} is no time after 1970 that there is", column
            )
        found: Indices = (numbers // -unit if unit < 0 else numbers * unit).astype(np.int64)
        return found

    def _written(self, column: TrafficColumn, values: Any) -> Any:
        """Return times that are text, as whole numbers, other numbers, or dates."""
        for kind in (pa.int64(), pa.float64()):
            try:
                return pc.cast(values, kind)
            except pa.ArrowInvalid:
                continue
        return self._moments(column, values)

    def _moments(self, column: TrafficColumn, values: Any) -> Any:
        """Return times that are dates as text; without a zone they are UTC."""
        from datetime import UTC, datetime

        texts = values.to_pylist()
        moments: list[datetime | None] = []
        numbered = any(
            is_number(text) for text in texts
        )  # then they are no moments, and one of them is no number
        for row, text in enumerate(texts):
            moment = None
            if text and not (numbered and is_number(text)):
                with suppress(ValueError):
                    moment = None if numbered else datetime.fromisoformat(text.strip())
                if moment is None:
                    self.fail(
                        row, f"{text!r} is no time: a number, or as 2026-11-26T08:00:00Z", column
                    )
            moments.append(moment.replace(tzinfo=UTC) if moment and not moment.tzinfo else moment)
        return pa.array(moments, pa.timestamp("us", "UTC"))
