"""Tables as CSV, JSON lines and Parquet, read by pyarrow in batches, so that a table of any length
can be read.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from crossgate.core.model.errors import PlanError
from crossgate.formats.bounds import MOST_DEPTH, MOST_LINE, Unpacked, see_columns
from crossgate.formats.readers.kinds import FileKind

_BLOCK = 8 << 20
"""Octets of text that are read at once."""
_ROWS = 1 << 18
"""Rows of a Parquet file that are read at once."""
_KEY = re.compile(rb'"((?:[^"\\]|\\.)*)"\s*:')


def batches(path: Path, kind: FileKind, name: str) -> Iterator[Any]:
    """Yield the rows of a table, called `name`, as record batches of pyarrow. Raises `PlanError`
    for what cannot be read.
    """
    yield from {"csv": _csv, "json": _json, "parquet": _parquet}[kind.kind](path, kind.packed, name)


def stream(path: Path, packed: str | None, name: str) -> Any:
    """Open a file for pyarrow, unpacking it where it is compressed."""
    source = pa.OSFile(str(path))
    return (
        pa.PythonFile(Unpacked(pa.CompressedInputStream(source, packed), name), "r")
        if packed
        else source
    )


def _csv(path: Path, packed: str | None, name: str) -> Iterator[Any]:
    from pyarrow import csv

    def reader(types: Mapping[str, Any]) -> Any:
        return csv.open_csv(
            stream(path, packed, name),
            csv.ReadOptions(block_size=_BLOCK),
            csv.ParseOptions(delimiter=delimiter),
            csv.ConvertOptions(column_types=types, strings_can_be_null=True),
        )

    try:
        header = stream(path, packed, name).read(_BLOCK).partition(b"\n")[0]
        delimiter = _delimiter(header)
        see_columns(range(header.count(delimiter.encode()) + 1), name)
        names = reader({}).schema.names
        # Every column is text here: what a word in a column of numbers means is told with its row.
        every = reader(dict.fromkeys(names, pa.string()))
        yield pa.RecordBatch.from_pylist([], every.schema)
        yield from every
    except (pa.ArrowInvalid, pa.ArrowIOError, OSError, UnicodeDecodeError) as error:
        if "Empty CSV" in str(error):
            return
        raise PlanError(f"{name} cannot be read as CSV: {_first_line(error)}") from None


def _delimiter(header: bytes) -> str:
    head = header[: 1 << 14].decode("utf-8", "replace")
    return max(",;\t|", key=head.count)


def _json(path: Path, packed: str | None, name: str) -> Iterator[Any]:
    from pyarrow import json

    source, left, rows = stream(path, packed, name), b"", 0
    while True:
        try:
            block = source.read(_BLOCK)
        except (pa.ArrowInvalid, OSError) as error:
            raise PlanError(f"{name} behind row {rows:,}: {_first_line(error)}") from None
        whole, newline, left = (left + block).rpartition(b"\n") if block else (left, b"\n", b"")
        if len(left) > MOST_LINE:
            raise PlanError(
                f"{name} behind row {rows:,}: a line of more than {MOST_LINE >> 20} MB; JSON "
                "lines have a record in each"
            )
        if whole.strip():
            _see_shape(whole, f"{name} behind row {rows:,}")
            try:
                table = json.read_json(
                    pa.BufferReader(whole + newline), json.ReadOptions(block_size=len(whole) + 1)
                )
            except (pa.ArrowInvalid, pa.ArrowNotImplementedError, pa.ArrowKeyError) as error:
                raise PlanError(
                    f"{name} behind row {rows:,}: not JSON lines of one shape: {_first_line(error)}"
                ) from None
            rows += table.num_rows
            yield from table.combine_chunks().to_batches()
        if not block:
            return


def _see_shape(lines: bytes, where: str) -> None:
    """Raise `PlanError` where JSON lines are nested too deep, or have too many different names.

    pyarrow's parser has no limit on the depth, and makes a column of every name for every row. Both
    are first counted in a way that never gives too little; only lines that fail this quick count
    are looked at closely.
    """
    opening = lines.count(b"{") + lines.count(b"[")
    if opening - lines.count(b"\n{") > MOST_DEPTH and any(
        _depth(line) > MOST_DEPTH for line in lines.split(b"\n")
    ):
        raise PlanError(f"{where}: nested deeper than {MOST_DEPTH} levels")
    usual = {*_KEY.findall(lines[: 1 << 16].partition(b"\n")[0])}
    see_columns(usual, where)
    named = sum(lines.count(b'"%b":' % each) for each in usual)
    if named != lines.count(b'":') or b"\\" in lines or re.search(rb'"\s+:', lines):
        see_columns({*_KEY.findall(lines)}, where)


def _depth(line: bytes) -> int:
    """Return a lower limit for how deep the brackets of a line are nested, without parsing its
    texts.
    """
    if line.count(b"{") + line.count(b"[") <= MOST_DEPTH:
        return 0
    brackets = np.frombuffer(re.sub(rb'"(?:[^"\\]|\\.)*"', b"", line), np.uint8)
    steps = np.isin(brackets, np.frombuffer(b"{[", np.uint8)).astype(np.int64) - np.isin(
        brackets, np.frombuffer(b"}]", np.uint8)
    )
    return int(np.cumsum(steps).max(initial=0))


def _parquet(path: Path, packed: str | None, name: str) -> Iterator[Any]:
    from pyarrow import parquet

    try:
        schema = parquet.read_schema(str(path))
        see_columns(schema.names, name)
        texts = [
            each.name
            for each in schema
            if pa.types.is_string(each.type) or pa.types.is_binary(each.type)
        ]
        yield from parquet.ParquetFile(str(path), read_dictionary=texts).iter_batches(
            batch_size=_ROWS
        )
    except (pa.ArrowInvalid, pa.ArrowIOError, OSError) as error:
        raise PlanError(f"{name} cannot be read as Parquet: {_first_line(error)}") from None


def _first_line(error: Exception) -> str:
    return str(error).splitlines()[0]
