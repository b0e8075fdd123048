"""Tests of a sheet made for real: against servers on this machine's loopback addresses, and between
machines of a rehearsal.
"""

from __future__ import annotations

import socket
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path
from typing import Any

import pytest

from crossgate.core.answers.sheet import SheetRow, SheetWanted, sheet
from crossgate.core.answers.sheet.tests import Can, SeenInTest
from crossgate.core.model.address import Address, Family, parse_address
from crossgate.core.model.conditions import When
from crossgate.core.network.ways import Network
from crossgate.language.reader import read_plan
from crossgate.live import probing
from crossgate.live.probing import Probed, missing_addresses, probed
from tests.conftest import Run
from tests.core.answers.test_sheet import NOON

pytestmark = pytest.mark.process


@pytest.fixture
def row(demo: Path) -> SheetRow:
    """A connection of the demo's sheet."""
    made = sheet(Network(read_plan(demo / "ternhaven.gate")), When(NOON), SheetWanted())
    return next(each for each in made.rows if each.tried.can is Can.CONNECT)


def toward(
    row: SheetRow, address: str, port: int, can: Can = Can.CONNECT, own: int = 51000
) -> SheetRow:
    """Return a test turned to an address of this machine."""
    tried, target = row.tried, parse_address(address)
    first = tried.conversation.first._replace(
        family=target.family,
        source=target.value,
        destination=target.value,
        destination_port=port,
        source_port=own,
    )
    return row._replace(
        tried=tried._replace(can=can, conversation=tried.conversation._replace(first=first))
    )


@contextmanager
def listening(address: str) -> Iterator[tuple[int, list[int]]]:
    """Listen at a port of an address, and take down from which ports somebody connects."""
    family = socket.AF_INET6 if ":" in address else socket.AF_INET
    heard: list[int] = []
    with closing(socket.socket(family)) as own:
        own.bind((address, 0))
        own.listen(16)

        def accept() -> None:
            try:
                while True:
                    taken, sender = own.accept()
                    heard.append(sender[1])
                    taken.close()
            except OSError:
                return

        threading.Thread(target=accept, daemon=True).start()
        yield own.getsockname()[1], heard
        own.shutdown(socket.SHUT_RDWR)  # else the thread that waits keeps it open


def seen(rows: list[SheetRow], rate: float = 50, bound: bool = True) -> list[SeenInTest]:
    return [each.seen for each in probed(rows, rate, bound, lambda _: None)]


@pytest.mark.parametrize("address", ["127.0.0.1", "::1"])
def test_who_listens_answers_and_who_does_not_refuses(row: SheetRow, address: str) -> None:
    with listening(address) as (port, heard):
        assert seen([toward(row, address, port)]) == [SeenInTest.ANSWERED]
        until = time.monotonic() + 5  # who listens may be told later than who asks
        while not heard and time.monotonic() < until:
            time.sleep(0.01)
        assert len(heard) == 1
    with closing(socket.socket(socket.AF_INET6 if ":" in address else socket.AF_INET)) as taken:
        taken.bind((address, 0))  # so that nobody else listens there
        unheard = taken.getsockname()[1]
        assert seen([toward(row, address, unheard)]) == [SeenInTest.NOBODY_LISTENS]


def test_it_is_sent_from_the_port_that_is_asked_for(row: SheetRow) -> None:
    with closing(socket.socket()) as free:
        free.bind(("127.0.0.1", 0))
        own = free.getsockname()[1]
    with listening("127.0.0.1") as (port, heard):
        assert seen([toward(row, "127.0.0.1", port, own=own)]) == [SeenInTest.ANSWERED]
        assert heard == [own]


def test_a_ping_and_silence(row: SheetRow, monkeypatch: pytest.MonkeyPatch) -> None:
    assert seen([toward(row, "127.0.0.1", 0, Can.PING)]) == [SeenInTest.ANSWERED]
    monkeypatch.setattr(probing, "PATIENCE", 0.2)
    with closing(socket.socket()) as full:
        full.bind(("127.0.0.1", 0))
        full.listen(0)
        waiting = []
        for _ in range(4):  # once its queue is full, nobody answers
            each = socket.socket()
            each.setblocking(False)
            each.connect_ex(full.getsockname())
            waiting.append(each)
        time.sleep(0.1)
        assert seen([toward(row, "127.0.0.1", full.getsockname()[1])]) == [SeenInTest.SILENCE]
        for each in waiting:
            each.close()


def test_no_more_begin_in_a_second_than_is_said(row: SheetRow) -> None:
    with listening("127.0.0.1") as (port, heard):
        begun = time.monotonic()
        told: list[Probed] = []
        probed([toward(row, "127.0.0.1", port)] * 5, 20, True, told.append)
        assert time.monotonic() - begun >= 4 / 20
        assert (len(told), len(heard)) == (5, 5)


def test_which_addresses_this_machine_has() -> None:
    here = Address(Family.IPV4, 0x7F000001)
    there = parse_address("192.0.2.77")
    assert missing_addresses([here, there]) == [there]


def test_a_machine_that_is_another_is_refused(demo: Path, run: Run) -> None:
    done = run("probe", "--as", "kiosk-1")
    assert done.returncode == 2
    assert "this machine does not have the addresses of kiosk-1 (10.64.9.21, " in done.stderr
    assert "--as: no host kiosk-9" in run("probe", "--as", "kiosk-9").stderr
    assert "--as: it names no host" in run("probe").stderr
    shown = run(
        "probe", "--as", "kiosk-1", "--dry-run", "--can", "ping", "--at", "2026-11-30 12:00"
    )
    assert shown.returncode == 0
    assert "ping -c 3 10.64.16.11" in shown.stdout
    assert "curl" not in shown.stdout


def rehearsed(folder: Path, *words: str) -> subprocess.CompletedProcess[str]:
    done = subprocess.run(
        [sys.executable, "-m", "crossgate", "--plan", "ternhaven.gate", "rehearse", *words],
        cwd=folder,
        capture_output=True,
        text=True,
        check=False,
        timeout=120,
    )
    if "user namespaces" in done.stderr:
        pytest.skip(done.stderr.strip())
    return done


def test_a_machine_of_a_rehearsal_sees_what_the_sheet_says(
    demo: Path, run: Run, answer: Any
) -> None:
    at = ("--at", "2026-11-30 12:00")
    probe = [sys.executable, "-m", "crossgate", "--plan", "ternhaven.gate", "probe"]
    done = rehearsed(
        demo, "kiosk-1", "--", *probe, "--as", "kiosk-1", "--rate", "50", "--out", "seen.csv", *at
    )
    assert done.returncode == 0, done.stderr + done.stdout
    tests = answer("sheet", "--from", "kiosk-1", "--results", "seen.csv", *at)["tests"]
    told = {each["agreement"] for each in tests}
    assert told == {"agrees", "nobody listens"}
    expected = {each["expected"] for each in tests if each["agreement"] == "agrees"}
    assert expected == {"silence", "refused"}


def test_a_list_that_is_turned_shows_in_the_probe(demo: Path) -> None:
    plan = (demo / "ternhaven.gate").read_text()
    turned = plan.replace(
        "place kiosk-fence  inbound  on lighthouse.v80",
        "place kiosk-fence outbound on lighthouse.v80",
    )
    assert turned != plan
    (demo / "meant.gate").write_text(plan)
    (demo / "ternhaven.gate").write_text(
        "\n".join(line for line in turned.splitlines() if "by kiosk-fence" not in line) + "\n"
    )
    probe = [sys.executable, "-m", "crossgate", "--plan", "meant.gate", "probe", "--as", "kiosk-1"]
    done = rehearsed(demo, "kiosk-1", "--", *probe, "--rate", "50", "--at", "2026-11-30 12:00")
    assert done.returncode == 1, done.stderr + done.stdout
    assert "differs from the plan" in done.stdout


def test_the_whole_sheet_is_rehearsed_and_counters_agree(demo: Path) -> None:
    done = rehearsed(demo, "--sheet", "--at", "2026-11-30 12:00")
    assert done.returncode == 0, done.stderr + done.stdout
    last = done.stdout.splitlines()[-1].split()
    assert last[0] == last[2]
    assert int(last[0]) > 40
    assert "tests seen as the plan says, and the counters of" in done.stdout
