"""Whatever a table or a workbook holds, a plan is begun from it or its fault is told."""

from __future__ import annotations

import csv
import io
import os
import random
import time
import zipfile
from pathlib import Path

from openpyxl import Workbook

from crossgate.core.model.errors import PlanError
from crossgate.formats.tables import named_by, read_table
from crossgate.language.beginning import from_tables
from crossgate.language.table_rows import TableRow
from tests.formats.readers.test_hostile import mutated

SUBNETS = [
    ["name", "prefix", "vlan", "gateway", "device"],
    ["hall", "10.64.8.0/24", "8", "10.64.8.1", "core"],
    ["quay", "10.64.9.0/24", "9", "10.64.9.1", "core"],
]
FIELDS = named_by([(each, (each,)) for each in SUBNETS[0]])
CELLS = [
    "",
    '"',
    "#",
    "a\nb",
    "=1",
    "-1",
    "9" * 5_000,
    "10.0.0.0/33",
    "::/0",
    "é\u2028",
    "\x00",
    "core",
    " ",
    "10.64.8.0/24 10.64.9.0/24",
]


def workbook(rows: list[list[str]]) -> bytes:
    book, data = Workbook(), io.BytesIO()
    assert book.active is not None
    for row in rows:
        book.active.append(
            [each.replace("\x00", "") for each in row]
        )  # a character that no workbook may hold
    book.save(data)
    return data.getvalue()


def repacked(data: bytes, chance: random.Random) -> bytes:
    """Change octets inside of one part of a workbook."""
    with zipfile.ZipFile(io.BytesIO(data)) as packed:
        parts = {each: packed.read(each) for each in packed.namelist()}
    name = chance.choice(sorted(parts))
    parts[name] = mutated(parts[name], chance)
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as packed:
        for each, own in parts.items():
            packed.writestr(each, own)
    return out.getvalue()


def test_mutated_tables_begin_a_plan_or_are_told(tmp_path: Path) -> None:
    """Seeded mutations of CSV files and workbooks; CROSSGATE_FUZZ says for how many seconds, else
    there are some hundred.
    """
    seconds = float(os.environ.get("CROSSGATE_FUZZ", "0"))
    chance, start, count, begun = (
        random.Random(33 if not seconds else time.time_ns()),
        time.monotonic(),
        0,
        0,
    )
    while count < 400 or time.monotonic() - start < seconds:
        count += 1
        rows = [list(row) for row in SUBNETS]
        for _ in range(chance.randrange(4)):
            row = chance.choice(rows)
            row[chance.randrange(len(row))] = chance.choice(CELLS)
        if chance.random() < 0.5:
            text = io.StringIO()
            csv.writer(text, delimiter=chance.choice(",;\t")).writerows(rows)
            path, data = tmp_path / "t.csv", text.getvalue().encode()
            data = mutated(data, chance) if chance.random() < 0.5 else data
        else:
            path, data = tmp_path / "t.xlsx", workbook(rows)
            kind = chance.random()
            data = (
                repacked(data, chance)
                if kind < 0.4
                else mutated(data, chance)
                if kind < 0.6
                else data
            )
        path.write_bytes(data)
        try:
            table = read_table(
                path, lambda words, _: FIELDS(words), ("name", "prefix"), "name,prefix"
            )
            sources = [
                TableRow(table.file, row.number, table.headers, row.values) for row in table.rows
            ]
            plan = from_tables(tmp_path / "p.gate", "t", sources, []).plan
        except PlanError:
            continue
        assert len(plan.segments) == len(sources)
        assert not plan.every_list
        assert not plan.hosts
        begun += 1
    assert begun > count // 10
