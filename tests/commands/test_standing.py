"""`crossgate` alone: how the plan stands in under ten lines, and how to begin where there is
none.
"""

from __future__ import annotations

from pathlib import Path

import pytest

from crossgate.commands import standing
from crossgate.demo import write
from tests.conftest import Run

PLAN = """
title "Two rooms"
subnet here 10.0.0.0/24
subnet far 10.0.1.0/24
router r
    interface a 10.0.0.1/24 on here
    interface b 10.0.1.1/24 on far
window night mon-sun 01:00-01:01
list gates standard ipv4
    10 permit here
    20 off permit far
list spare standard ipv4
    10 permit here during night
place gates inbound on r.a
expect permit ping here to far
expect deny ssh here to far
"""


@pytest.fixture
def folder(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.chdir(tmp_path)
    monkeypatch.delenv("CROSSGATE_PLAN", raising=False)
    return tmp_path


def test_a_plan_is_told_in_under_ten_lines(run: Run, folder: Path) -> None:
    (folder / "rooms.gate").write_text(PLAN)
    told = run()
    assert told.returncode == 1
    assert told.stdout.splitlines() == [
        "Two rooms  rooms.gate",
        "1 device, 2 subnets, 2 lists with 3 entries",
        told.stdout.splitlines()[2],
        "expectations: 1 holds, 1 fails; crossgate verify tells why",
        "stand nowhere: spare",
        "shut now: night",
        "off: gates 20",
    ]
    assert told.stdout.splitlines()[2].startswith("findings: ")
    (folder / "rooms.gate").write_text(PLAN.replace("expect deny ssh here to far\n", ""))
    assert run().returncode == 0


def test_what_takes_long_is_left_to_its_command(
    run: Run, folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (folder / "rooms.gate").write_text(PLAN)
    monkeypatch.setattr(standing, "MOST_ENTRIES", 2)
    monkeypatch.setattr(standing, "MOST_SECONDS", -1)
    told = run()
    assert told.returncode == 0
    assert "findings: not looked at, the plan is large; crossgate check does" in told.stdout
    assert "expectations: 0 hold, 2 not looked at; crossgate verify tells why" in told.stdout


def test_without_a_plan_it_says_how_to_begin(run: Run, folder: Path) -> None:
    told = run()
    assert told.returncode == 2
    assert told.stdout.startswith("There is no plan (*.gate) in this folder. To begin:\n")
    assert all(
        way in told.stdout
        for way in ("crossgate new FILE.gate", "crossgate demo FOLDER", "--plan FILE")
    )
    assert "crossgate import ietf FILE --plan NEW.gate" in told.stdout
    write(folder / "there")
    gangway = str(folder / "there" / "gangway.json")
    assert run("import", "ietf", gangway, "--plan", "began.gate").returncode == 0
    assert run().returncode == 0
    (folder / "began.gate").unlink()
    (folder / "broken.gate").write_text("subnet here 10.0.0.0/33\n")
    broken = run()
    assert (broken.returncode, broken.stdout) == (2, "")
    assert broken.stderr.startswith("broken.gate:1:")
