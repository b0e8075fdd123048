"""One file written whole or not at all."""

from __future__ import annotations

import errno
import os
import stat
from pathlib import Path

import pytest

from crossgate.core.model.errors import PlanError
from crossgate.formats.disk import put_file
from tests.conftest import Run

WRITES = [
    ("new", "out.gate"),
    ("report", "--out", "out.html"),
    ("draw", "network", "--out", "out.svg"),
    ("export", "csv", "--out", "out.csv"),
    ("check", "--sarif", "out.sarif"),
    ("verify", "--junit", "out.xml"),
    ("replay", "sea.pcap", "--zone", "UTC", "--out", "out.parquet"),
    ("replay", "sea.pcap", "--zone", "UTC", "--out", "out.csv"),
    ("demo", "out"),
]


@pytest.fixture
def full(traffic: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """The demo's folder on a disk to which no file can be flushed."""

    def refuse(handle: int) -> None:
        if stat.S_ISREG(os.fstat(handle).st_mode):
            raise OSError(errno.ENOSPC, "No space left on device")

    monkeypatch.setattr(os, "fsync", refuse)
    return traffic


@pytest.mark.parametrize("words", WRITES, ids=lambda words: " ".join(words))
def test_a_full_disk_leaves_nothing(run: Run, full: Path, words: tuple[str, ...]) -> None:
    before = {path: path.read_bytes() for path in full.rglob("*") if path.is_file()}
    done = run("--plan", "ternhaven.gate", *words)
    assert done.returncode == 2
    assert "No space left on device" in done.stderr
    assert {path: path.read_bytes() for path in full.rglob("*") if path.is_file()} == before


def test_a_file_is_replaced_with_its_permissions_and_links_stay(tmp_path: Path) -> None:
    (tmp_path / "own").write_text("old")
    (tmp_path / "own").chmod(0o640)
    (tmp_path / "link").symlink_to("own")
    put_file(tmp_path / "link", b"new")
    assert (tmp_path / "link").is_symlink()
    assert (tmp_path / "own").read_text() == "new"
    assert stat.S_IMODE((tmp_path / "own").stat().st_mode) == 0o640
    put_file(tmp_path / "another", b"x")
    assert stat.S_IMODE((tmp_path / "another").stat().st_mode) == 0o666 & ~current_umask()


def current_umask() -> int:
    mask = os.umask(0)
    os.umask(mask)
    return mask


@pytest.mark.parametrize("there", ["file", "folder", "dangling"])
def test_what_is_there_is_never_replaced_by_what_is_to_be_new(tmp_path: Path, there: str) -> None:
    path = tmp_path / "plan.gate"
    if there == "folder":
        path.mkdir()
    elif there == "file":
        path.write_text("mine")
    else:
        path.symlink_to("nowhere")
    with pytest.raises(PlanError, match="is there already"):
        put_file(path, b"new", fresh=True)
    assert {each.name for each in tmp_path.iterdir()} == {"plan.gate"}


def test_a_pipe_is_written_to(tmp_path: Path) -> None:
    os.mkfifo(tmp_path / "pipe")
    reading = os.open(tmp_path / "pipe", os.O_RDONLY | os.O_NONBLOCK)
    put_file(tmp_path / "pipe", b"through")
    assert os.read(reading, 100) == b"through"
    os.close(reading)
