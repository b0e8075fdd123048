"""Workbooks as they are saved, and as nobody would save them."""

from __future__ import annotations

import zipfile
from pathlib import Path

import pytest
from openpyxl import Workbook

from crossgate.core.model.errors import PlanError
from crossgate.formats.tables import Table, read_table

SHEET = "xl/worksheets/sheet1.xml"


@pytest.fixture
def book(tmp_path: Path) -> Path:
    path = tmp_path / "book.xlsx"
    work = Workbook()
    assert work.active is not None
    for row in (("name", "prefix"), ("a", "10.0.0.0/24"), (), ("b", "10.0.1.0/24")):
        work.active.append(row)
    work.save(path)
    return path


def changed(book: Path, name: str, old: str, new: str) -> None:
    """Put another text into a part of a workbook, or (an empty `old`) in its place."""
    with zipfile.ZipFile(book) as packed:
        parts = {each: packed.read(each) for each in packed.namelist()}
    assert old in parts[name].decode()
    parts[name] = (parts[name].decode().replace(old, new, 1) if old else new).encode()
    with zipfile.ZipFile(book, "w", zipfile.ZIP_DEFLATED) as packed:
        for each, data in parts.items():
            packed.writestr(each, data)


def read(book: Path) -> Table:
    return read_table(
        book, lambda words, _: words[0] if words else "", ("name", "prefix"), "name,prefix"
    )


@pytest.mark.parametrize("dimension", ["A1", "A1:B2", "A1:A1048576", "nonsense"])
def test_a_sheet_is_read_to_its_last_row_whatever_it_says_of_its_size(
    book: Path, dimension: str
) -> None:
    changed(book, SHEET, 'ref="A1:B4"', f'ref="{dimension}"')
    if dimension == "nonsense":
        with pytest.raises(PlanError, match=r"is no \.xlsx workbook that can be read"):
            read(book)
        return
    assert [(row.number, row.values["name"]) for row in read(book).rows] == [(2, "a"), (4, "b")]


@pytest.mark.parametrize(
    ("name", "old", "new", "problem"),
    [
        (SHEET, "</row>", "</wor>", "is no .xlsx workbook that can be read"),
        (SHEET, 'r="B4"', 'r="4B"', "is no .xlsx workbook that can be read|has no header|"),
        (SHEET, '<row r="4"', '<row r="99999999999"', "behind the 1,048,576 that a sheet can have"),
        (SHEET, "", "", "is no .xlsx workbook that can be read"),
        (
            "xl/workbook.xml",
            "",
            "<workbook/>",
            "has no sheet|is no .xlsx workbook that can be read",
        ),
        ("[Content_Types].xml", "", "<Types/>", "is no .xlsx workbook that can be read"),
    ],
)
def test_a_broken_workbook_is_told(book: Path, name: str, old: str, new: str, problem: str) -> None:
    changed(book, name, old, new)
    with pytest.raises(PlanError, match=problem):
        read(book)


def test_a_workbook_whose_packing_is_broken_is_told(book: Path) -> None:
    data = bytearray(book.read_bytes())
    with zipfile.ZipFile(book) as packed:
        start = packed.getinfo(SHEET).header_offset + 40 + len(SHEET)
    data[start : start + 40] = bytes(40)
    book.write_bytes(data)
    with pytest.raises(PlanError, match=r"is no \.xlsx workbook"):
        read(book)


def test_a_workbook_that_unpacks_to_gigabytes_is_told(book: Path) -> None:
    with (
        zipfile.ZipFile(book, "a", zipfile.ZIP_DEFLATED) as packed,
        packed.open("xl/sharedStrings.xml", "w") as part,
    ):
        for _ in range(600):
            part.write(bytes(1 << 20))
    with pytest.raises(PlanError, match="unpacks to 600 MB; workbooks of up to 500 MB are read"):
        read(book)
