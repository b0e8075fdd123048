"""`new`: plans from tables as people keep them, and the small plan for who has none."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from openpyxl import Workbook

from crossgate.language.reader import read_plan
from tests.conftest import Run

Ask = Callable[..., Any]

SUBNETS = [
    ["name", "prefix", "vlan", "gateway", "device"],
    ["hall", "10.64.8.0/22 2001:db8:64:8::/64", "80", "10.64.8.1 2001:db8:64:8::1", "lighthouse"],
    ["cargo", "10.64.16.0/24", "160", "10.64.16.1", "lighthouse"],
    ["berth-1", "10.64.32.0/24", "", "10.64.32.1/24", "pier"],
    ["harbour", "10.64.20.0/24", "200", "", ""],
]
HOSTS = [
    ["name", "address", "subnet", "mac"],
    ["kiosk-1", "10.64.9.21, 2001:db8:64:8::21", "hall", "00:00:5e:00:53:21"],
    ["crane-1", "10.64.16.11", "", ""],
]


def table(rows: list[list[str]], separator: str = ",") -> str:
    return "".join(
        separator.join(f'"{cell}"' if separator in cell else cell for cell in row) + "\n"
        for row in rows
    )


def plan_text(folder: Path) -> str:
    return (folder / "net.gate").read_text().partition("\n")[2]


def test_the_small_plan_runs_is_tidy_and_holds(run: Run, answer: Ask) -> None:
    begun = answer("new", "office.gate", "--title", 'The "office"')
    assert begun == {
        "schema": "crossgate/new/1",
        "plan": "office.gate",
        "subnets": 1,
        "devices": 1,
        "hosts": 1,
        "renamed": [],
        "unused": [],
    }
    assert answer("check")["findings"] == []
    assert [each["held"] for each in answer("verify")["expectations"]] == [True, True]
    assert run("tidy", "--check").returncode == 0
    assert run().stdout.startswith("The 'office'  office.gate\n")


@pytest.mark.parametrize("separator", [",", ";", "\t"])
@pytest.mark.parametrize(
    ("mark", "encoding"), [(b"", "utf-8"), (b"\xef\xbb\xbf", "utf-8"), (b"\xff\xfe", "utf-16-le")]
)
def test_tables_of_every_kind_are_the_same_plan(
    run: Run, answer: Ask, tmp_path: Path, separator: str, mark: bytes, encoding: str
) -> None:
    (tmp_path / "s.csv").write_bytes(mark + table(SUBNETS, separator).encode(encoding))
    (tmp_path / "h.csv").write_bytes(mark + table(HOSTS, separator).encode(encoding))
    begun = answer("new", "net.gate", "--subnets", "s.csv", "--hosts", "h.csv")
    assert (
        begun["subnets"],
        begun["devices"],
        begun["hosts"],
        begun["renamed"],
        begun["unused"],
    ) == (4, 2, 2, [], [])
    plan = read_plan(tmp_path / "net.gate")
    assert [str(each) for each in plan.segments["hall"].prefixes] == [
        "10.64.8.0/22",
        "2001:db8:64:8::/64",
    ]
    assert {
        name: [str(own.address) for own in each.addresses]
        for name, each in plan.devices["lighthouse"].interfaces.items()
    } == {
        "v80": ["10.64.8.1", "2001:db8:64:8::1"],
        "v160": ["10.64.16.1"],
    }
    assert list(plan.devices["pier"].interfaces) == ["berth-1"]
    assert (plan.hosts["kiosk-1"].on, plan.hosts["crane-1"].on, plan.segments["harbour"].vlan) == (
        "hall",
        "cargo",
        200,
    )
    assert " mac 00:00:5e:00:53:21" in plan_text(tmp_path)
    assert "# mac" not in plan_text(tmp_path)
    # No table says how the devices are joined, and one subnet has no gateway: that is told, and
    # nothing else.
    assert {each["finding"] for each in answer("check")["findings"]} == {"parts-apart"}
    assert run("tidy", "--check").returncode == 0


def test_a_workbook_is_the_same_plan_as_its_csv(answer: Ask, tmp_path: Path) -> None:
    (tmp_path / "s.csv").write_text(table(SUBNETS))
    (tmp_path / "h.csv").write_text(table(HOSTS))
    for name, rows in (("s.xlsx", SUBNETS), ("h.xlsx", HOSTS)):
        book = Workbook()
        for row in rows:
            book.active.append([int(cell) if cell.isdigit() else cell or None for cell in row])  # type: ignore[union-attr]
        book.save(tmp_path / name)
    answer("new", "net.gate", "--subnets", "s.csv", "--hosts", "h.csv")
    by_csv = plan_text(tmp_path)
    (tmp_path / "net.gate").unlink()
    answer("new", "net.gate", "--subnets", "s.xlsx", "--hosts", "h.xlsx")
    assert plan_text(tmp_path) == by_csv


def test_headers_are_known_by_their_words_in_any_order(run: Run, tmp_path: Path) -> None:
    (tmp_path / "s.csv").write_text(
        "Networks of the terminal\n\nRemark,Default gateway,Subnet name,IPv4 network,Subnet "
        "mask,IPv6 prefix,VLAN ID,Core switch\n"
        'old,10.64.8.1,"Ticket Hall, north",10.64.8.0,255.255.252.0,,80,Lighthouse 1\n\n,,3rd '
        "floor,10.64.16.0/24,,2001:db8:64:16::/64,,\n"
    )
    (tmp_path / "h.csv").write_text(
        'MAC address;Network;IP;Host name\n;"Ticket Hall, north";10.64.9.21;Kiosk 1\n'
    )
    done = run("new", "net.gate", "--subnets", "s.csv", "--hosts", "h.csv")
    assert done.returncode == 0, done.stderr
    assert "  Ticket Hall, north is named Ticket-Hall-north\n" in done.stdout
    assert "  3rd floor is named n-3rd-floor\n" in done.stdout
    assert 'not needed: column "Remark" of s.csv' in done.stdout
    plan = read_plan(tmp_path / "net.gate")
    assert [str(each) for each in plan.segments["Ticket-Hall-north"].prefixes] == ["10.64.8.0/22"]
    assert [str(each) for each in plan.segments["n-3rd-floor"].prefixes] == [
        "10.64.16.0/24",
        "2001:db8:64:16::/64",
    ]
    assert list(plan.devices["Lighthouse-1"].interfaces) == ["v80"]
    assert plan.hosts["Kiosk-1"].on == "Ticket-Hall-north"


def test_a_column_headed_subnet_is_what_it_holds(answer: Ask, tmp_path: Path) -> None:
    (tmp_path / "s.csv").write_text("name,subnet\nhall,10.64.8.0/22\n")
    assert answer("new", "one.gate", "--subnets", "s.csv")["subnets"] == 1
    (tmp_path / "s.csv").write_text("subnet,range\nhall,10.64.8.0/22\n")
    assert answer("new", "two.gate", "--subnets", "s.csv")["subnets"] == 1


def test_every_problem_is_told_at_its_row_and_column_and_nothing_is_written(
    run: Run, tmp_path: Path
) -> None:
    (tmp_path / "s.csv").write_text(
        "name,prefix,gateway,vlan\nhall,10.0.0.0/24,10.0.1.1,5\nhall,10.0.2.0/24,,\nb,10.0.3.0/33,,\nc,10.0.4.1/24,,\n,10.0.5.0/24,,\nd,,,\n"
        "e,10.0.0.128/25,,\nf,10.0.7.0/24,10.0.7.1,5000\ng,10.0.8.0/24,300.1.1.1,\nh,10.0.9.0,,\n???,10.0.10.0/24,,\n"
    )
    (tmp_path / "h.csv").write_text(
        "name,address,subnet\none,10.9.9.9,hall\ntwo,10.0.0.5,nowhere\nthree,,\nhall,10.0.0.7,hall\nfour,10.0.0.9x,\n"
    )
    done = run("new", "net.gate", "--subnets", "s.csv", "--hosts", "h.csv")
    assert (done.returncode, done.stdout, (tmp_path / "net.gate").exists()) == (2, "", False)
    for told in (
        's.csv:2: column "gateway": 10.0.1.1 is not in 10.0.0.0/24',
        's.csv:3: column "name": hall is the name in row 2 already',
        's.csv:4: column "prefix": /33 is no IPv4 prefix length',
        (
            's.csv:5: column "prefix": 10.0.4.1/24 has bits set behind its prefix length; write '
            "10.0.4.0/24"
        ),
        's.csv:6: column "name": a name is missing',
        's.csv:7: column "prefix": a subnet needs a prefix',
        's.csv:9: column "vlan": 5000 is too large',
        's.csv:10: column "gateway": 300.1.1.1 is no IPv4 address',
        's.csv:11: column "prefix": 10.0.9.0 has no prefix length; write it as 10.0.9.0/24',
        's.csv:12: column "name": ??? has no letter or digit',
        'h.csv:2: column "address": 10.9.9.9 is not in hall',
        'h.csv:3: column "subnet": no subnet nowhere',
        'h.csv:4: column "address": a host needs an address',
        'h.csv:5: column "name": hall is the name in s.csv row 2 already',
        'h.csv:6: column "address": 10.0.0.9x is no IPv4 address',
    ):
        assert told in done.stderr, done.stderr


@pytest.mark.parametrize(
    ("files", "words", "told"),
    [
        ({}, ("net.txt",), "name it net.gate"),
        ({"net.gate": ""}, ("net.gate",), "is there already"),
        (
            {"h.csv": "name,address\n"},
            ("net.gate", "--hosts", "h.csv"),
            "give the table of subnets too",
        ),
        ({}, ("net.gate", "--subnets", "no.csv"), "no.csv cannot be read: No such file"),
        ({}, ("net.gate", "--subnets", "no.xlsx"), "no.xlsx cannot be read: No such file"),
        (
            {"s.csv": ""},
            ("net.gate", "--subnets", "s.csv"),
            "s.csv has no header with name and prefix",
        ),
        (
            {"s.csv": "a,b\n1,2\n"},
            ("net.gate", "--subnets", "s.csv"),
            "its first row names the columns, as: name,prefix,vlan,gateway,device",
        ),
        (
            {"s.xlsx": "name,prefix\n"},
            ("net.gate", "--subnets", "s.xlsx"),
            "s.xlsx is no .xlsx workbook",
        ),
        (
            {"s.csv": "\0\0"},
            ("net.gate", "--subnets", "s.csv"),
            "save the sheet as CSV or as .xlsx",
        ),
        ({}, ("no/folder/net.gate",), "cannot be written"),
    ],
)
def test_what_cannot_be_begun_is_told(
    run: Run, tmp_path: Path, files: dict[str, str], words: tuple[str, ...], told: str
) -> None:
    for name, text in files.items():
        (tmp_path / name).write_text(text)
    done = run("new", *words)
    assert (done.returncode, told in done.stderr) == (2, True), done.stderr


def test_a_thousand_rows(answer: Ask, run: Run, tmp_path: Path) -> None:
    subnets = [["name", "prefix", "gateway", "device"]]
    hosts = [["name", "address"]]
    for number in range(1000):
        net = f"10.{number // 250}.{number % 250}"
        subnets.append([f"net {number}", f"{net}.0/24", f"{net}.1", f"router-{number % 20}"])
        hosts.append([f"host {number}", f"{net}.10"])
        if number % 100 == 0:
            subnets.append(["", "", "", ""])
    (tmp_path / "s.csv").write_text(table(subnets))
    (tmp_path / "h.csv").write_text(table(hosts))
    begun = answer("new", "net.gate", "--subnets", "s.csv", "--hosts", "h.csv")
    assert (begun["subnets"], begun["devices"], begun["hosts"], len(begun["renamed"])) == (
        1000,
        20,
        1000,
        2000,
    )
    subnets[501][1] = "10.9.9.9/24"
    (tmp_path / "s.csv").write_text(table(subnets))
    assert (
        's.csv:502: column "prefix": 10.9.9.9/24 has bits set'
        in run("new", "two.gate", "--subnets", "s.csv").stderr
    )


@pytest.mark.parametrize(
    ("text", "written"),
    [
        ("0000.5E00.5321", "mac 00:00:5e:00:53:21"),
        ("00-00-5e-00-53-21", "mac 00:00:5e:00:53:21"),
        ("01:00:5e:00:53:21", " # mac 01:00:5e:00:53:21"),
        ("unknown", " # mac unknown"),
    ],
)
def test_a_hardware_address_in_any_form_is_the_hosts_own(
    run: Run, tmp_path: Path, text: str, written: str
) -> None:
    (tmp_path / "subnets.csv").write_text("name,prefix\noffice,192.168.10.0/24\n")
    (tmp_path / "hosts.csv").write_text(f"name,address,mac\ndesk,192.168.10.21,{text}\n")
    assert run("new", "x.gate", "--subnets", "subnets.csv", "--hosts", "hosts.csv").returncode == 0
    assert f"host desk 192.168.10.21 {written}\n" in (tmp_path / "x.gate").read_text()
