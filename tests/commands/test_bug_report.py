"""`crossgate bug-report`: what is packed, and that nobody can read the plan in it."""

from __future__ import annotations

import re
import zipfile
from pathlib import Path

import pytest

from tests.conftest import Run


def packed(path: Path) -> dict[str, str]:
    with zipfile.ZipFile(path) as archive:
        return {name: archive.read(name).decode() for name in archive.namelist()}


@pytest.mark.process
def test_a_question_is_asked_again_of_the_replaced_plan(run: Run, demo: Path) -> None:
    before = (demo / "ternhaven.gate").read_bytes()
    done = run(
        "bug-report",
        "--key",
        "key.txt",
        "--",
        "crossgate",
        "--plan",
        "ternhaven.gate",
        "trace",
        "kiosk-1",
        "manifest",
        "booking",
        "--at",
        "mon 12:00",
    )
    assert done.stdout == (
        "crossgate-bug.zip: about.txt, answer.txt, command.txt, plan.gate\ntrace was asked of the "
        "replaced plan: exit status 0\n"
        "nothing is sent; look through it before you hand it on\n"
    )
    found = packed(demo / "crossgate-bug.zip")
    assert (
        found["command.txt"]
        == "crossgate --plan plan.gate trace host2 host1 service1 --at 'mon 12:00'\n"
    )
    assert "permitted" in found["answer.txt"]
    assert found["answer.txt"].endswith("exit status 0\n")
    assert found["about.txt"].startswith("Cross Gate ")
    whole = "".join(found.values())
    assert not re.search(r"kiosk|manifest|10\\.64\\.|Ternhaven|ternhaven", whole)
    assert str(demo) not in whole
    assert str(Path.home()) not in whole or Path.home() == Path("/")
    assert "host2\tkiosk-1\n" in (demo / "key.txt").read_text()
    assert (demo / "ternhaven.gate").read_bytes() == before


def test_an_edit_is_not_made_again_and_no_file_is_written(run: Run, demo: Path) -> None:
    for words in (
        ["entry", "add", "kiosk-fence", "permit ping kiosk-1 to any"],
        ["verify", "--junit", "out.xml"],
    ):
        assert run("bug-report", "--", *words).returncode == 0
        found = packed(demo / "crossgate-bug.zip")
        assert "answer.txt" not in found
        assert not (demo / "out.xml").exists()
    run("bug-report", "--", "entry", "add", "kiosk-fence", "permit ping kiosk-1 to any")
    assert (
        packed(demo / "crossgate-bug.zip")["command.txt"]
        == "crossgate --plan plan.gate entry add list3 'permit ping host2 to any'\n"
    )


def test_a_plan_with_errors_and_includes_is_packed(run: Run, tmp_path: Path) -> None:
    (tmp_path / "parts").mkdir()
    (tmp_path / "parts" / "hall.gate").write_text(
        "subnet hall 10.20.4.0/24\nhost pc 10.20.4.300 on hall\n"
    )
    (tmp_path / "site.gate").write_text(
        'include "parts/hall.gate"\nexpect permit ssh pc to nowhere\n'
    )
    done = run("bug-report")
    assert (done.returncode, done.stderr) == (0, "")
    found = packed(tmp_path / "crossgate-bug.zip")
    assert found["plan.gate"] == 'include "part-1.gate"\nexpect permit ssh host1 to name1\n'
    assert re.fullmatch(
        r"subnet subnet1 10\.\d+\.\d+\.0/24\nhost host1 10\.0\.0\.999 on subnet1\n",
        found["part-1.gate"],
    )
    (tmp_path / "site.gate").write_text("subnet hall 10.0.0.0/8\n")
    assert "IPv4 addresses are as they were: a subnet or a range" in run("bug-report").stdout
    assert "is part of the plan" in run("bug-report", "--out", "site.gate").stderr
    (tmp_path / "site.gate").write_bytes(b"subnet h\xe4ll 10.0.0.0/24\n")
    done = run("bug-report")
    assert (done.returncode, "UTF-8" in done.stderr) == (2, True), done.stderr
