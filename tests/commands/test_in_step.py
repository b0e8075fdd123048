"""`import hosts` and `import subnets`: tables as people keep them, into a plan that exists."""

from __future__ import annotations

from pathlib import Path

import pytest
from openpyxl import Workbook

from crossgate.language.reader import read_plan
from tests.conftest import Run

PLAN = """\
subnet hall 10.9.1.0/24
router core
    interface hall 10.9.1.1/24 on hall
host desk-1 10.9.1.10 on hall mac 00:00:5e:00:53:10
list wall extended ipv4
    10 permit ssh desk-1 to any
place wall inbound on core.hall
keep permit ssh desk-1 to core
"""


@pytest.fixture
def plan(tmp_path: Path) -> Path:
    path = tmp_path / "net.gate"
    path.write_text(PLAN)
    return path


def test_a_table_comes_in_once_and_is_taken_back(plan: Path, run: Run) -> None:
    (plan.parent / "hosts.csv").write_text(
        "IP;Machine;Role;MAC address\n10.9.1.10;Desk 1;desks;\n10.9.1.20;Printer (hall);;\n"
    )
    told = run("import", "hosts", "hosts.csv", "--group", "role", "--yes")
    assert told.returncode == 0, told.stderr
    assert told.stdout.startswith("hosts.csv: 1 added (Printer-hall), 1 new group (desks)\n")
    assert 'group desks desk-1  # kept by column "Role" of hosts.csv\n' in plan.read_text()
    again = run("import", "hosts", "hosts.csv", "--group", "role", "--yes")
    assert (again.returncode, again.stdout) == (
        0,
        "hosts.csv: nothing new; nothing is to be written\n",
    )
    assert run("undo", "--yes").returncode == 0
    assert plan.read_text() == PLAN


def test_a_header_writes_no_line_of_its_own(plan: Path, run: Run) -> None:
    (plan.parent / "hosts.csv").write_text(
        'name,address,"role\n1 "" # 2"\ndesk-1,10.9.1.10,"desks, desks"\n'
    )
    told = run("import", "hosts", "hosts.csv", "--group", "role", "--yes")
    assert told.returncode == 0, told.stderr
    (line,) = [each for each in plan.read_text().splitlines() if each.startswith("group")]
    assert line.startswith("group desks desk-1  # kept by column")
    assert plan.read_text().count("\n") == PLAN.count("\n") + 2
    again = run("import", "hosts", "hosts.csv", "--group", "role", "--yes")
    assert again.stdout == "hosts.csv: nothing new; nothing is to be written\n"


def test_a_workbook_of_subnets_and_a_table_of_hosts_in_one_step(plan: Path, run: Run) -> None:
    book = Workbook()
    sheet = book.active
    assert sheet is not None
    for row in (["Subnet", "CIDR", "GW"], ["hall", "10.9.8.0/24", "10.9.8.1"]):
        sheet.append(row)
    book.save(plan.parent / "subnets.xlsx")
    (plan.parent / "hosts.csv").write_text("name,address\ndesk-1,10.9.8.10\n")
    alone = run("import", "subnets", "subnets.xlsx", "--yes")
    assert alone.returncode == 1
    assert "10.9.1.10 is not in hall, which is 10.9.8.0/24" in alone.stdout
    both = run("import", "subnets", "subnets.xlsx", "--hosts", "hosts.csv", "--yes")
    assert both.returncode == 0, both.stdout
    now = read_plan(plan)
    assert str(now.hosts["desk-1"].addresses[0]) == "10.9.8.10"
    assert str(now.devices["core"].interfaces["hall"].addresses[0].address) == "10.9.8.1"


def test_leases_that_have_not_expired(plan: Path, run: Run) -> None:
    (plan.parent / "leases.csv").write_text(
        "address,hardware address,name,expiry\n"
        "10.9.1.77,00-00-5E-00-53-10,laptop,2030-01-01 00:00\n"
        "10.9.1.78,00-00-5E-00-53-11,tablet,1900000000\n"
        "10.9.1.79,00-00-5E-00-53-12,phone,2020/01/01 00:00:00\n"
        "10.9.1.80,00-00-5E-00-53-11,tablet,1800000000\n"
    )
    told = run("import", "hosts", "--from-leases", "leases.csv", "--yes")
    assert told.returncode == 0, told.stderr
    assert "  1 lease has expired\n" in told.stdout
    hosts = {name: str(each.addresses[0]) for name, each in read_plan(plan).hosts.items()}
    assert hosts == {"desk-1": "10.9.1.77", "tablet": "10.9.1.78"}


@pytest.mark.parametrize(
    ("words", "told"),
    [
        ("hosts", "name one table of hosts"),
        ("hosts empty.csv", "empty.csv has a header and no rows"),
        ("hosts hosts.csv --on core", "--on has no meaning for a table of hosts"),
        ("hosts hosts.csv --group shelf", "no column of hosts.csv called shelf; there are"),
        ("subnets hosts.csv --key mac", "subnets have no hardware addresses"),
        ("hosts --from-leases hosts.csv --prune", "leave --prune and --group out"),
        ("hosts --from-leases bad.csv", 'bad.csv:2: column "expiry": soon is no time'),
        ("hosts hosts.csv --prune", "host desk-1 is not in hosts.csv, and lines 6, 8 name it"),
        ("csv hosts.csv --prune", "--prune is for tables"),
        ("csv", "name the file that comes in"),
        ("host hosts.csv", "no format host; there is hosts"),
        ("hosts.csv", "no format hosts.csv; there is hosts"),
    ],
)
def test_what_cannot_be_taken_in_is_told(plan: Path, run: Run, words: str, told: str) -> None:
    (plan.parent / "hosts.csv").write_text("name,address,mac\nnew,10.9.1.11,\n")
    (plan.parent / "empty.csv").write_text("name,address\n")
    (plan.parent / "bad.csv").write_text("address,mac,expiry\n10.9.1.12,00:00:5e:00:53:1,soon\n")
    result = run("import", *words.split(), "--yes")
    assert result.returncode == 2
    assert told in result.stderr
    assert plan.read_text() == PLAN
