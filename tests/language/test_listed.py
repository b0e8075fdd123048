"""Groups whose addresses come from a table beside the plan."""

from __future__ import annotations

import random
import re
import zipfile
from ipaddress import IPv4Network, collapse_addresses
from pathlib import Path

import pytest

from crossgate.core.model.address import Family
from crossgate.core.model.errors import PlanError, PlanErrors
from crossgate.language.listed import listed
from crossgate.language.reader import read
from tests.conftest import Run

PLAN = """\
subnet a 10.0.0.0/24
router r
    interface a 10.0.0.1/24 on a
host h 10.0.0.5
group bad from "feeds/bad.csv"
list l extended ipv4
    10 deny ip bad to any
    otherwise permit
place l inbound on r.a
"""


@pytest.fixture
def table(tmp_path: Path) -> Path:
    (tmp_path / "net.gate").write_text(PLAN)
    (tmp_path / "feeds").mkdir()
    path = tmp_path / "feeds" / "bad.csv"
    path.write_text("ip,since\n10.0.0.5,2026\n192.0.2.0/25,2025\n192.0.2.128/25,2025\n")
    return path


@pytest.mark.parametrize(
    "text",
    [
        "10.0.0.5\n192.0.2.0-192.0.2.255\n",
        "# who is banned\n\n10.0.0.5 # kiosk\n192.0.2.0/24\n",
        '"who";"IP address"\nx;"10.0.0.5, 192.0.2.0/24"\n',
        "\ufeffname\tnetwork\nx\t192.0.2.0/24\ny\t10.0.0.5\nz\t\n",
        "x,10.0.0.5\ny,192.0.2.0/24\n",
    ],
)
def test_tables_of_any_common_kind(text: str) -> None:
    found = listed("t.csv", text.encode())
    assert [str(each) for each in found[Family.IPV4]] == ["10.0.0.5", "192.0.2.0/24"]


def test_a_column_that_is_named(table: Path) -> None:
    two = b"source address,seen\n10.0.0.5,192.0.2.9\n"
    assert [str(each) for each in listed("t", two, "Seen")[Family.IPV4]] == ["192.0.2.9"]
    with pytest.raises(PlanError, match='no column of t is headed "sean"'):
        listed("t", two, "sean")
    with pytest.raises(PlanError, match='headed address; name the one that has them: from "t" col'):
        listed("t", b"who,where\nx,10.0.0.1\n")


@pytest.mark.parametrize("seed", range(20))
def test_as_few_prefixes_as_have_just_these_addresses(seed: int) -> None:
    chance = random.Random(seed)
    sizes = chance.choices(range(5), k=40)
    blocks = [
        IPv4Network((0x0A000000 + (chance.randrange(512) >> size << size), 32 - size))
        for size in sizes
    ]
    found = listed("t", "\n".join(map(str, blocks)).encode())[Family.IPV4]
    wanted = [each.with_prefixlen for each in collapse_addresses(blocks)]
    assert [f"{each}" if each.wildcard else f"{each}/32" for each in found] == wanted


def test_errors_are_told_at_their_rows_and_show_nothing_else(table: Path) -> None:
    table.write_text("ip\n10.0.0.5\n10.0.0.500\nmy password is swordfish\n")
    with pytest.raises(PlanErrors) as errors:
        read(table.parents[1] / "net.gate")
    told = [str(each) for each in errors.value.errors]
    assert [each.partition(" ")[0] for each in told] == [f"{table}:3:", f"{table}:4:"]
    assert "swordfish" not in "".join(told)


@pytest.mark.parametrize(
    ("name", "told"),
    [
        ("../bad.csv", "lies outside the plan's folder"),
        ("feeds/none.csv", "there is no file"),
        ("net.gate", "a table whose name ends in .csv, .tsv, .txt"),
        ("feeds/empty.csv", "feeds/empty.csv is empty"),
    ],
)
def test_what_is_no_table_of_the_plan_is_told_in_its_line(
    table: Path, name: str, told: str
) -> None:
    path = table.parents[1] / "net.gate"
    (table.parent / "empty.csv").write_text("\n\n")
    path.write_text(PLAN.replace("feeds/bad.csv", name))
    with pytest.raises(PlanErrors) as errors:
        read(path)
    (error,) = errors.value.errors
    assert told in error.message
    assert error.place is not None
    assert error.place.line == 5


def test_another_table_is_another_plan(table: Path, run: Run) -> None:
    refused = run("group", "add", "bad", "h")
    assert "its members are those of feeds/bad.csv (line 5); edit the table" in refused.stderr
    trace = ("trace", "h", "10.0.0.1", "ping")
    assert "denied" in run(*trace).stdout
    path = table.parents[1] / "net.gate"
    before = read(path)
    table.write_text("ip\n192.0.2.9\n")
    assert "permitted" in run(*trace).stdout
    after = read(path, kept=before.names.kept)
    entries = [each.plan.lists["l"].entries[0].source.patterns for each in (before, after)]
    assert entries[0] != entries[1]
    # An edit does not look at the table again: it is of the plan that was read.
    assert before.changed({}).plan.lists["l"].entries[0].source.patterns == entries[0]


def test_a_report_of_a_fault_has_the_addresses_in_disguise(table: Path, run: Run) -> None:
    made = run("bug-report", "--", "check")
    assert made.returncode == 0, made.stderr
    with zipfile.ZipFile(table.parents[1] / "crossgate-bug.zip") as packed:
        text = packed.read("plan.gate").decode()
    (group,) = [line for line in text.splitlines() if line.startswith("group ")]
    assert re.fullmatch(r"group group1 10\.[0-9.]+, 192\.[0-9.]+0/24", group)
    assert "feeds" not in text
    assert run("tidy", "--check").returncode == 0
