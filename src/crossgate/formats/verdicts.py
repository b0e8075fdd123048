"""Verdicts on conversations written as a table, Parquet or CSV: a row for each; those of a family
in the order in which they ended.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray
from pyarrow import csv, parquet

from crossgate.core.answers.replay import Replayed
from crossgate.core.model.address import Family, format_address
from crossgate.core.model.errors import PlanError
from crossgate.core.model.packets import Words
from crossgate.core.traffic.bulk import BulkTracer
from crossgate.core.traffic.fates import NO_PLACE, VERDICTS
from crossgate.formats.disk import writing

_ENDINGS = {".parquet": "parquet", ".csv": "csv"}
_SCHEMA = pa.schema(
    [
        ("source", pa.string()),
        ("destination", pa.string()),
        ("protocol", pa.uint8()),
        ("source_port", pa.uint16()),
        ("destination_port", pa.uint16()),
        ("packets", pa.int64()),
        ("bytes", pa.int64()),
        ("first", pa.timestamp("us", "UTC")),
        ("last", pa.timestamp("us", "UTC")),
        ("verdict", pa.string()),
        ("list", pa.string()),
        ("entry", pa.string()),
        ("point", pa.string()),
    ]
)


NO_VERDICTS = _SCHEMA.empty_table()
"""A table of verdicts without rows."""


class VerdictTable:
    """A table to which rows are added during a replay."""

    def __init__(self, path: Path, writer: Any) -> None:
        """Make it with what writes its rows, and the path for errors."""
        self._path = path
        self._writer = writer

    def write(self, rows: pa.Table) -> None:
        """Write some rows, as `verdict_rows` returns them. Raises `PlanError` when they cannot be
        written.
        """
        try:
            self._writer.write_table(rows)
        except OSError as error:
            raise _failed(self._path, error) from None


@contextmanager
def verdict_table(path: Path, inputs: Sequence[Path]) -> Iterator[VerdictTable]:
    """Provide a table to write to; the file exists only if all went well. Raises `PlanError` for an
    unknown file ending, and where the file is an input or cannot be written.
    """
    kind = _ENDINGS.get(path.suffix.lower())
    if kind is None:
        raise PlanError(
            f"--out {path}: the ending says what is written; name a file that ends in "
            f"{' or '.join(_ENDINGS)}"
        )
    if any(path.exists() and each.exists() and path.samefile(each) for each in inputs):
        raise PlanError(f"--out {path} is a file that is read; name another one")
    try:
        with writing(path) as beside:
            opened = parquet.ParquetWriter if kind == "parquet" else csv.CSVWriter
            with opened(str(beside), _SCHEMA) as writer:
                yield VerdictTable(path, writer)
    except OSError as error:
        raise _failed(path, error) from None


def _failed(path: Path, error: OSError) -> PlanError:
    # Arrow says what the system did in the text of its errors.
    _, found, reason = str(error).partition("[errno ")
    return PlanError(
        f"{path} cannot be written: "
        f"{reason.partition('] ')[2] if found else error.strerror or error}"
    )


def verdict_rows(replayed: Replayed, tracer: BulkTracer) -> pa.Table:
    """Return a row for each of some conversations, with the result of a tracer."""
    seen, fates = replayed.seen, replayed.fates
    packets = seen.packets
    places = [each.where for each in tracer.places]
    listed = fates.list != NO_PLACE
    columns = [
        _addresses(packets.family, packets.source),
        _addresses(packets.family, packets.destination),
        packets.protocol,
        packets.source_port,
        packets.destination_port,
        seen.counts.sum(axis=0),
        seen.octets.sum(axis=0),
        pa.array(seen.first, pa.timestamp("us", "UTC")),
        pa.array(seen.last, pa.timestamp("us", "UTC")),
        _words([*(str(each) for each in VERDICTS), "nowhere"], fates.verdict),
        _words([*(each.name for each in tracer.asked.lists), ""], fates.list),
        pa.array(
            [
                _entry(tracer, fates.list[row], fates.entry[row]) if listed[row] else ""
                for row in range(len(listed))
            ]
        ),
        _words([*places, ""], fates.crossing),
    ]
    return pa.Table.from_arrays([pa.array(each) for each in columns], schema=_SCHEMA)


def _entry(tracer: BulkTracer, number: int, entry: int) -> str:
    return "otherwise" if entry < 0 else str(tracer.asked.lists[number].entries[entry].number)


def _words(words: Sequence[str], places: NDArray[Any]) -> Any:
    """Return a column of words by their indices; -1 stands for the last word."""
    found = np.where(places < 0, len(words) - 1, places).astype(np.int32)
    return pa.DictionaryArray.from_arrays(pa.array(found), pa.array(words)).cast(pa.string())


def _addresses(family: Family, words: Words) -> Any:
    """Return addresses as text, formatting each different one once."""
    whole, inverse = np.unique(words, axis=1, return_inverse=True)
    texts = []
    for column in whole.T.tolist():
        value = 0
        for word in column:
            value = value << 64 | word
        texts.append(format_address(family, value))
    return pa.DictionaryArray.from_arrays(
        pa.array(inverse.reshape(-1).astype(np.int32)), pa.array(texts)
    ).cast(pa.string())
