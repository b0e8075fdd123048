"""Files replaced together: all old or all new, whatever fails or is killed in between."""

from __future__ import annotations

import errno
import json
import os
import random
import shutil
import signal
import stat
import sys
from collections.abc import Callable
from pathlib import Path
from types import FrameType
from typing import Any, NamedTuple

import pytest

from crossgate.core.model.errors import PlanError
from crossgate.formats import disk, replacing
from crossgate.formats.edit_records import EditRecord, half_done, strange_journals
from crossgate.formats.finishing import finish, forget
from crossgate.formats.own_state import taking_turns
from crossgate.formats.replacing import read_settled, replace_files
from tests.crashing import killed_before_moving

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


FILES = [Path("a.gate"), Path("b.gate")]


def edit() -> None:
    with taking_turns(FILES):
        replace_files(Path("a.gate"), OLD, NEW)


def test_all_files_are_replaced_and_nothing_else_is_left(folder: Path) -> None:
    (folder / "a.gate").chmod(0o640)
    (folder / ".a.gate.x7.new").write_bytes(b"a person's own")
    edit()
    assert now(folder) == NEW
    assert {path.name for path in folder.iterdir()} == {*OLD, ".a.gate.x7.new"}
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
def test_what_cannot_be_replaced_without_a_loss_is_refused(
    folder: Path, spoil: Callable[[Path], Any], says: str
) -> None:
    spoil(folder / "b.gate")
    with pytest.raises(PlanError, match=says):
        edit()
    assert (folder / "a.gate").read_bytes() == OLD["a.gate"]


@pytest.mark.parametrize("call", [1, 2, 3, 4])
def test_a_full_disk_leaves_every_file_as_it_was(
    folder: Path, own_state: Path, monkeypatch: pytest.MonkeyPatch, call: int
) -> None:
    """The record, both new files and the journal are each refused once."""
    calls: list[int] = []
    real = os.fsync

    def full(handle: int) -> None:
        calls.append(handle) if stat.S_ISREG(os.fstat(handle).st_mode) else None
        if len(calls) == call:
            raise OSError(errno.ENOSPC, "No space left on device")
        real(handle)

    monkeypatch.setattr(os, "fsync", full)
    with pytest.raises(PlanError, match="No space left on device; everything is as it was"):
        edit()
    assert {path.name: path.read_bytes() for path in folder.iterdir()} == OLD
    assert not list((own_state / "edits").iterdir())


@pytest.mark.parametrize("again", [False, True])
def test_a_move_that_fails_is_undone_or_told(
    folder: Path, monkeypatch: pytest.MonkeyPatch, again: bool
) -> None:
    real = Path.replace

    def refuse(source: Path, target: Path) -> Path:
        if Path(target).name == "b.gate" or (again and source.read_bytes() == OLD["a.gate"]):
            raise PermissionError(errno.EPERM, "Operation not permitted", str(target))
        return real(source, target)

    monkeypatch.setattr(Path, "replace", refuse)
    with pytest.raises(
        PlanError,
        match=r"a.gate has its new text already, the others the old"
        if again
        else "everything is as it was",
    ):
        edit()
    assert now(folder) == (OLD | {"a.gate": NEW["a.gate"]} if again else OLD)


def killed_at(line: int) -> bool:
    """Edit in another process that is killed at the n-th line of the module; False where it came to
    its end.
    """
    child = os.fork()
    if child == 0:
        left = line

        def step(frame: FrameType, event: str, _: object) -> Any:
            nonlocal left
            if frame.f_code.co_filename not in (disk.__file__, replacing.__file__):
                return None
            left -= event == "line"
            if left < 0:
                os.kill(os.getpid(), signal.SIGKILL)
            return step

        sys.settrace(step)
        try:
            edit()
        finally:
            os._exit(0)
    return os.WIFSIGNALED(os.waitpid(child, 0)[1])


def test_a_kill_at_any_line_leaves_all_old_or_all_new(folder: Path, own_state: Path) -> None:
    """An edit is killed at every second line of it, the odd ones or the even ones."""
    found, line, killed = {"old": 0, "new": 0, "finished": 0}, random.randrange(2), True
    while killed:
        begin_anew(folder)
        killed = killed_at(line)
        line += 2
        for left in half_done(FILES):
            found["finished"] += 1
            finish(left, FILES)
        assert now(folder) in (OLD, NEW)
        found["old" if now(folder) == OLD else "new"] += 1
        assert not list(folder.glob(".*.edit"))
        restore(folder)
        for path in (own_state / "edits").glob("*"):
            if (
                not path.stat().st_size
            ):  # it was killed while it wrote its record: known to be so after an hour
                os.utime(path, (0, 0))
        edit()
        assert {path.name for path in folder.iterdir()} == set(OLD)
        assert not list((own_state / "edits").iterdir())
    assert min(found.values()) > 5
    assert line > 150


def begin_anew(folder: Path) -> None:
    """Make the folder and what is remembered as if there had never been an edit."""
    shutil.rmtree(Path(os.environ["XDG_STATE_HOME"]) / "crossgate", ignore_errors=True)
    for path in folder.iterdir():
        path.unlink()
    restore(folder)


def left_half_done(folder: Path) -> EditRecord:
    """Kill an edit when its first file has its new text and its second one has not."""
    killed_before_moving("b.gate", edit)
    assert now(folder) == {"a.gate": NEW["a.gate"], "b.gate": OLD["b.gate"]}
    (found,) = half_done(FILES)
    return found


def test_an_edit_left_half_done_is_known_by_each_of_its_files(folder: Path) -> None:
    left = left_half_done(folder)
    (folder / "c.gate").write_bytes(b"another plan")
    assert half_done([Path("b.gate"), Path("c.gate")]) == [left]
    assert half_done([Path("c.gate")]) == []
    assert not strange_journals(Path("a.gate"))
    with (
        taking_turns(FILES),
        pytest.raises(
            PlanError, match=r"left half done \(b.gate still to be replaced\); finish it first"
        ),
    ):
        replace_files(Path("b.gate"), {"b.gate": OLD["b.gate"]}, {"b.gate": b"newer b"})
    assert finish(left, FILES) == [folder / "b.gate"]
    assert now(folder) == NEW
    assert {path.name for path in folder.iterdir()} == {*OLD, "c.gate"}


@pytest.mark.parametrize("name", ["a.gate", "b.gate"])
def test_what_was_written_since_a_crash_stays(folder: Path, name: str) -> None:
    left = left_half_done(folder)
    (folder / name).write_bytes(b"written by a person since")
    before = {path.name: path.read_bytes() for path in folder.iterdir()}
    with pytest.raises(PlanError, match=f"{name} has been changed since .* nothing is moved"):
        finish(left, FILES)
    assert {path.name: path.read_bytes() for path in folder.iterdir()} == before
    assert forget(left) == [folder / left.waiting(folder / "b.gate").name]
    assert {path.name for path in folder.iterdir()} == set(OLD)
    assert not half_done(FILES)


def test_what_waits_is_moved_only_as_it_was_written(folder: Path) -> None:
    left = left_half_done(folder)
    left.waiting(folder / "b.gate").write_bytes(b"put there by somebody else")
    with pytest.raises(PlanError, match="is not what that edit had written"):
        finish(left, FILES)
    assert now(folder)["b.gate"] == OLD["b.gate"]


def test_a_file_that_is_none_of_the_plans_or_behind_a_link_is_never_replaced(folder: Path) -> None:
    left = left_half_done(folder)
    with pytest.raises(PlanError, match="is no file of"):
        finish(left, FILES[:1])
    (folder / "b.gate").rename(folder / "kept.gate")
    (folder / "b.gate").symlink_to("kept.gate")
    with pytest.raises(PlanError, match="or is reached over a link"):
        finish(left, FILES)


def journal_text(folder: Path, token: str, source: str, target: str) -> str:
    files = [{"file": str(folder / target), "old": "0" * 64, "new": "0" * 64}]
    return json.dumps(
        {"token": token, "plan": str(folder / "a.gate"), "files": files, "from": source}, indent=1
    )


STRANGE: list[Callable[[Path, str], object]] = [
    lambda folder, text: (folder / ".a.gate.edit").write_text('[{"from": "evil", "to": "hook"}]'),
    lambda folder, text: (folder / ".a.gate.edit").write_text("[{]"),
    lambda folder, text: (folder / f".a.gate.{'0' * 24}.edit").write_text(
        text.replace("b.gate", "hook")
    ),
    lambda folder, text: (folder / ".a.gate.copy.edit").write_text(text),
    lambda folder, text: (folder / ".a.gate.x.edit").write_text("[" * 100_000),
    lambda folder, text: os.mkfifo(folder / ".a.gate.pipe.edit"),
    lambda folder, text: (folder / ".a.gate.link.edit").symlink_to("a.gate"),
]


@pytest.mark.parametrize("put", STRANGE)
def test_a_journal_that_we_did_not_write_is_left_alone(
    folder: Path, put: Callable[[Path, str], object]
) -> None:
    left = left_half_done(folder)
    text = left.journal.read_text()
    left.journal.unlink()
    restore(folder)
    (folder / "hook").write_bytes(b"harmless")
    (folder / "evil").write_bytes(b"evil")
    put(folder, text)
    before = {path.name for path in folder.iterdir()}
    assert not half_done(FILES)
    assert len(strange_journals(Path("a.gate"))) == 1
    read_settled(lambda: Data(now(folder)))
    assert {path.name for path in folder.iterdir()} == before
    assert (folder / "hook").read_bytes() == b"harmless"


def test_a_journal_whose_record_differs_is_left_alone(folder: Path, own_state: Path) -> None:
    left = left_half_done(folder)
    left.journal.write_text(left.journal.read_text().replace("b.gate", "c.gate"))
    assert not half_done(FILES)
    assert strange_journals(Path("a.gate")) == [left.journal]
    (own_state / "edits").chmod(0o777)  # others may write there now, so nothing in it is believed
    assert not half_done(FILES)


class Data(NamedTuple):
    data: dict[str, bytes]


def test_a_reader_waits_while_files_are_moved_and_reads_on_when_that_does_not_end(
    folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    reads: list[Data] = []

    def read() -> Data:
        found = Data(now(folder))
        reads.append(found)
        if len(reads) == 1:
            edit()  # after the reader has read, before it looks again
        return found

    assert read_settled(read).data == NEW
    assert len(reads) == 2
    restore(folder)
    left_half_done(folder)
    monkeypatch.setattr(replacing, "_SETTLING_SECONDS", 0.05)
    assert read_settled(lambda: Data(now(folder))).data == {
        "a.gate": NEW["a.gate"],
        "b.gate": OLD["b.gate"],
    }


def test_the_folder_of_an_include_elsewhere_is_flushed_before_the_journal_is_written(
    folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (folder / "shared").mkdir()
    (folder / "shared" / "b.gate").write_bytes(b"old b")
    flushed: list[Path] = []
    real = disk.flush_folder

    def flush(path: Path) -> None:
        if path == folder / "shared" and not list(folder.glob(".*.edit")):
            flushed.append(path)
        real(path)

    monkeypatch.setattr(replacing, "flush_folder", flush)
    with taking_turns([Path("a.gate"), Path("shared/b.gate")]):
        old, new = (
            {"a.gate": which["a.gate"], "shared/b.gate": which["b.gate"]} for which in (OLD, NEW)
        )
        replace_files(Path("a.gate"), old, new)
    assert flushed


def test_two_edits_at_once_take_turns(folder: Path) -> None:
    """Eight processes append a letter each, anew when they are told that the file has changed
    meanwhile; no letter is lost.
    """
    children = []
    for letter in b"abcdefgh":
        child = os.fork()
        if child == 0:
            path = Path("a.gate")
            while True:
                with taking_turns([path]):
                    data = path.read_bytes()
                    replace_files(path, {"a.gate": data}, {"a.gate": data + bytes([letter])})
                    os._exit(0)
        children.append(child)
    assert [os.waitpid(child, 0)[1] for child in children] == [0] * 8
    assert sorted((folder / "a.gate").read_bytes()[len(OLD["a.gate"]) :]) == sorted(b"abcdefgh")
