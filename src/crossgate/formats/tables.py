"""Tables as people keep them: CSV of any common kind, or the first sheet of an .xlsx file; columns
are found by their header words.

A row keeps the number that a spreadsheet shows, so that a problem in it can be found again.
"""

from __future__ import annotations

import csv
import io
import re
import warnings
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

from crossgate.core.model.errors import PlanError
from crossgate.formats.bounds import MOST_ROWS, MOST_WORKBOOK, read_document, see_columns

Recognised = Callable[[Sequence[str], Sequence[str]], str]
"""From the words of a header and some values below it to the field that the column has; "" for
none.
"""


class InputRow(NamedTuple):
    """A row: its number, counted from 1 with the header, and its values by field; several columns
    for one field are joined.
    """

    number: int
    values: Mapping[str, str]


class Table(NamedTuple):
    """A table: its file, the header of each field as written, its rows that are not empty, and the
    headers that were not used.
    """

    file: str
    headers: Mapping[str, str]
    rows: Sequence[InputRow]
    unused: Sequence[str]


def read_table(path: Path, recognised: Recognised, needed: Sequence[str], example: str) -> Table:
    """Read a table whose header is the first row with all `needed` fields. Raises `PlanError` for a
    file that cannot be read, and where no row is such a header.
    """
    lines = list(_sheet(path) if path.suffix.lower() in (".xlsx", ".xlsm") else _separated(path))
    for index, (number, cells) in enumerate(lines):
        below = lines[index + 1 :]
        fields = [
            recognised(
                header_words(cell), [row[column] for _, row in below[:20] if column < len(row)]
            )
            for column, cell in enumerate(cells)
        ]
        if all(field in fields for field in needed):
            break
        if number > _LAST_HEADER:
            fields = []
            break
    else:
        fields = []
    if not fields:
        raise PlanError(
            f"{path} has no header with {' and '.join(needed)}; its first row names the columns, "
            f"as: {example}"
        )
    headers: dict[str, str] = {}
    for field, cell in zip(fields, cells, strict=True):
        if field:
            headers[field] = (
                f"{headers[field]} and {cell.strip()}" if field in headers else cell.strip()
            )
    rows = []
    for row_number, row in below:
        values: dict[str, str] = {}
        for field, cell in zip(fields, row, strict=False):
            if field and cell.strip():
                value = unguarded(cell.strip())
                values[field] = f"{values[field]} {value}" if field in values else value
        if values:
            rows.append(InputRow(row_number, values))
    unused = [
        cell.strip()
        for field, cell in zip(fields, cells, strict=True)
        if not field and cell.strip()
    ]
    return Table(str(path), headers, rows, unused)


_LAST_HEADER = 10
"""A header stands among the first rows: what is above it is a title or a remark."""


def header_words(header: str) -> list[str]:
    """Return the words of a header by which its column is found."""
    return re.findall(r"[a-z]+\d*", header.lower())


def _separated(path: Path) -> Iterator[tuple[int, list[str]]]:
    """Yield the rows of a CSV file with their numbers; the separator is the one that its first rows
    use most.
    """
    text = _decoded(path, read_document(path))
    head = re.sub(r'"[^"]*"', "", "\n".join(text.splitlines()[:_LAST_HEADER]))
    separator = max(";\t,", key=head.count)
    try:
        for number, cells in enumerate(
            csv.reader(io.StringIO(text), delimiter=separator, skipinitialspace=True), 1
        ):
            see_columns(cells, str(path))
            yield number, cells
    except csv.Error as error:
        raise PlanError(f"{path} is no table: {error}") from None


def _decoded(path: Path, data: bytes) -> str:
    """Decode what a spreadsheet saved: Unicode with or without a byte order mark, or else
    Windows-1252.
    """
    if data.startswith((b"\xff\xfe", b"\xfe\xff")):
        return data.decode("utf-16", errors="replace")
    if b"\0" in data:
        raise PlanError(f"{path} is a binary file; save the sheet as CSV or as .xlsx")
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError:
        return data.decode("cp1252", errors="replace")


def _sheet(path: Path) -> Iterator[tuple[int, list[str]]]:
    """Yield all rows of a workbook's first sheet with their numbers, whatever the sheet says about
    its size.
    """
    from openpyxl import load_workbook

    _see_workbook(path)
    book = None
    try:
        with warnings.catch_warnings():  # of parts of a workbook that are not read here
            warnings.simplefilter("ignore")
            book = load_workbook(path, read_only=True, data_only=True)
        sheet = book.worksheets[0]
        sheet.reset_dimensions()
        for number, cells in enumerate(sheet.iter_rows(values_only=True), 1):
            if number > MOST_ROWS:
                raise PlanError(
                    f"{path} names a row behind the {MOST_ROWS:,} that a sheet can have"
                )
            see_columns(cells, str(path))
            yield number, [_cell(each) for each in cells]
    except PlanError:
        raise
    except IndexError:
        raise PlanError(f"{path} has no sheet") from None
    except Exception as error:  # openpyxl has no error of its own for what is broken
        raise PlanError(
            f"{path} is no .xlsx workbook that can be read: {' '.join(str(error).split())[:200]}"
        ) from None
    finally:
        if book is not None:
            book.close()


def _see_workbook(path: Path) -> None:
    """Raise `PlanError` for a file that is no packed workbook, and for one whose parts unpack to
    too much.
    """
    from zipfile import BadZipFile, ZipFile

    try:
        with ZipFile(path) as packed:
            unpacked = sum(each.file_size for each in packed.infolist())
    except (BadZipFile, ValueError, NotImplementedError):
        raise PlanError(f"{path} is no .xlsx workbook") from None
    except OSError as error:
        raise PlanError(f"{path} cannot be read: {error.strerror or error}") from None
    if unpacked > MOST_WORKBOOK:
        raise PlanError(
            f"{path} unpacks to {unpacked / (1 << 20):,.0f} MB; workbooks of up to "
            f"{MOST_WORKBOOK >> 20} MB are read"
        )


def _cell(value: object) -> str:
    """Return a cell's value as text; a whole number has no decimals."""
    if value is None:
        return ""
    if isinstance(value, float) and value.is_integer():
        return str(int(value))
    return str(value)


_FORMULA = re.compile(r"'*[=+\-@\t\r]")
"""How a cell begins that a spreadsheet takes for a formula, or that has an apostrophe against that.
"""


def guarded(text: str) -> str:
    """Return a cell with an apostrophe before what a spreadsheet would read as a formula;
    `unguarded` removes it.
    """
    return f"'{text}" if _FORMULA.match(text) else text


def unguarded(text: str) -> str:
    """Return a cell as it was before `guarded`."""
    return text[1:] if text.startswith("'") and _FORMULA.match(text) else text


def named_by(order: Iterable[tuple[str, Sequence[str]]]) -> Callable[[Sequence[str]], str]:
    """Return a function from the words of a column's header to its field: the first field of
    `order` with one of its words in the header; "" for none.
    """
    told = [(field, frozenset(words)) for field, words in order]
    return lambda words: next((field for field, own in told if not own.isdisjoint(words)), "")
