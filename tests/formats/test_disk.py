"""Files replaced together: all old or all new, whatever fails or is killed in between."""

from __future__ import annotations

import errno
import os
import signal
import stat
import sys
from collections.abc import Callable
from pathlib import Path
from types import FrameType
from typing import Any

import pytest

from crossgate.core.model.errors import PlanError
from crossgate.formats import disk
from crossgate.formats.disk import recover, replace_files

OLD, NEW = {"a.gate": b"old a", "b.gate": b"old b"}, {"a.gate": b"new a", "b.gate": b"new b"}


@pytest.fixture
def folder(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.chdir(tmp_path)
    restore(tmp_path)
    return tmp_path


def restore(folder: Path) -> None:
    for name, data in OLD.items():
        (folder / name).write_bytes(data)


def now(folder: Path) -> dict[str, bytes]:
    return {name: (folder / name).read_bytes() for name in OLD}


def edit() -> None:
    replace_files(Path("a.gate"), OLD, NEW)


def test_all_files_are_replaced_and_nothing_else_is_left(folder: Path) -> None:
    (folder / "a.gate").chmod(0o640)
    (folder / ".a.gate.x7.new").write_bytes(b"left by a run that was killed")
    edit()
    assert now(folder) == NEW
    assert {path.name for path in folder.iterdir()} == set(OLD)
    assert stat.S_IMODE((folder / "a.gate").stat().st_mode) == 0o640


def test_a_file_changed_meanwhile_is_not_overwritten(folder: Path) -> None:
    (folder / "b.gate").write_bytes(b"changed")
    with pytest.raises(PlanError, match=r"b.gate has been changed by somebody else meanwhile"):
        edit()
    assert now(folder) == OLD | {"b.gate": b"changed"}
    assert {path.name for path in folder.iterdir()} == set(OLD)


def pipe(path: Path) -> None:
    path.unlink()
    os.mkfifo(path)


@pytest.mark.parametrize(
    ("spoil", "says"),
    [
        (lambda path: path.chmod(0o444), r"b.gate is write-protected \(mode 444\)"),
        (lambda path: os.link(path, "other.gate"), r"b.gate has 2 hard links"),
        (pipe, r"b.gate is no regular file"),
        (lambda path: path.unlink(), r"b.gate cannot be written: No such file"),
    ],
)
def test_what_cannot_be_replaced_without_a_loss_is_refused(folder: Path, spoil: Callable[[Path], Any], says: str) -> None:
    spoil(folder / "b.gate")
    with pytest.raises(PlanError, match=says):
        edit()
    assert (folder / "a.gate").read_bytes() == OLD["a.gate"]


@pytest.mark.parametrize("call", [1, 2, 3])
def test_a_full_disk_leaves_every_file_as_it_was(folder: Path, monkeypatch: pytest.MonkeyPatch, call: int) -> None:
    calls: list[int] = []
    real = os.fsync

    def full(handle: int) -> None:
        calls.append(handle)
        if len(calls) == call:
            raise OSError(errno.ENOSPC, "No space left on device")
        real(handle)

    monkeypatch.setattr(os, "fsync", full)
    with pytest.raises(PlanError, match="No space left on device; everything is as it was"):
        edit()
    assert now(folder) == OLD


@pytest.mark.parametrize("again", [False, True])
def test_a_move_that_fails_is_undone_or_told(folder: Path, monkeypatch: pytest.MonkeyPatch, again: bool) -> None:
    real = Path.replace

    def refuse(source: Path, target: Path) -> Path:
        if Path(target).name == "b.gate" or (again and source.read_bytes() == OLD["a.gate"]):
            raise PermissionError(errno.EPERM, "Operation not permitted", str(target))
        return real(source, target)

    monkeypatch.setattr(Path, "replace", refuse)
    with pytest.raises(PlanError, match=r"a.gate has its new text already, the others the old" if again else "everything is as it was"):
        edit()
    assert now(folder) == (OLD | {"a.gate": NEW["a.gate"]} if again else OLD)


def killed_at(line: int) -> bool:
    """Edit in another process that is killed at the n-th line of the module; False where it came to its end."""
    child = os.fork()
    if child == 0:
        left = line

        def step(frame: FrameType, event: str, _: object) -> Any:
            nonlocal left
            if frame.f_code.co_filename != disk.__file__:
                return None
            left -= event == "line"
            if left < 0:
                os.kill(os.getpid(), signal.SIGKILL)
            return step

        sys.settrace(step)
        edit()
        os._exit(0)
    return os.WIFSIGNALED(os.waitpid(child, 0)[1])


def test_a_kill_at_any_line_leaves_all_old_or_all_new(folder: Path) -> None:
    """200 kills that land inside the write: at every line of it, and again until there are as many."""
    found, kills, line = {"old": 0, "new": 0}, 0, 0
    while kills < 200:
        restore(folder)
        if not killed_at(line):
            line = 0
            continue
        kills, line = kills + 1, line + 1
        recover(Path("a.gate"))
        assert now(folder) in (OLD, NEW)
        found["old" if now(folder) == OLD else "new"] += 1
        assert not list(folder.glob(".*.edit"))
    restore(folder)
    edit()
    assert {path.name for path in folder.iterdir()} == set(OLD)
    assert min(found.values()) > 20


def test_a_journal_that_is_none_is_told(folder: Path) -> None:
    (folder / ".a.gate.edit").write_text("[{]")
    with pytest.raises(PlanError, match="an edit that was ended in between and cannot be finished"):
        recover(Path("a.gate"))


def test_two_edits_at_once_take_turns(folder: Path) -> None:
    """Eight processes append a letter each, anew when they are told that the file has changed meanwhile; no letter is lost."""
    children = []
    for letter in b"abcdefgh":
        child = os.fork()
        if child == 0:
            path = Path("a.gate")
            while True:
                data = path.read_bytes()
                try:
                    replace_files(path, {"a.gate": data}, {"a.gate": data + bytes([letter])})
                    os._exit(0)
                except PlanError:
                    continue
        children.append(child)
    assert [os.waitpid(child, 0)[1] for child in children] == [0] * 8
    assert sorted((folder / "a.gate").read_bytes()[len(OLD["a.gate"]) :]) == sorted(b"abcdefgh")
