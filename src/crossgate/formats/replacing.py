"""The files of an edit replaced together: after a crash the edit can be finished, and only records
that we wrote are trusted.

1. Every edit has a record in the user's own folder: the plan, and the digests of each file before
and after. The new files wait beside the old ones, under names with the record's token, flushed to
the disk.

2. Where several files are to be moved, a copy of the record, the *journal*, is put beside the plan
before the first move and removed after the last. Whoever finds it knows that the edit was left half
done.

3. A journal is trusted only where the record with its token is the same, octet for octet. Nobody
else can write records, so what others put beside a plan is ignored.

4. An edit is finished only by `finish`: each file must be as it was before the edit or as the edit
left it, the names must be those of the plan's own files, and no link may be on the way. Otherwise
nothing is moved.

5. Files that wait without a journal were left by a process that died before its first move. The
next edit of these files removes them, and nothing else: only what its own record names.
"""

from __future__ import annotations

import os
import signal
import stat
import time
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Protocol, TypeVar

from crossgate.core.model.debug import log
from crossgate.core.model.errors import PlanError
from crossgate.formats.disk import flush_folder, write_beside
from crossgate.formats.edit_records import (
    TOKEN_LETTERS,
    EditRecord,
    Replacement,
    bytes_of,
    digest,
    half_done,
    records_of,
)
from crossgate.formats.own_state import own_folder

_BEGUN_SECONDS = 3600
"""After so long an empty record is no longer being written."""
_SETTLING_SECONDS = 2.0
"""How long a reader waits for an edit that is being written; all its moves take less than this."""


def replace_files(plan: Path, old: Mapping[str, bytes], new: Mapping[str, bytes]) -> None:
    """Replace the bytes of files, all of them or none; permissions and symbolic links stay.

    `old` are all the files that were read. Call it inside `taking_turns` for all of them. Raises
    `PlanError` when a file has changed since, or cannot be written; then all are as they were, or
    the error says which is not.
    """
    import secrets

    targets = {name: Path(os.path.realpath(name)) for name in new}
    for name, target in targets.items():
        _see_that_it_may_be_replaced(name, target)
    records = own_folder("edits")
    _sweep(records, set(targets.values()))
    replacements = [
        Replacement(target, digest(old[name]), digest(new[name]))
        for name, target in targets.items()
    ]
    token = secrets.token_hex(TOKEN_LETTERS // 2)
    edit = EditRecord(token, Path(os.path.realpath(plan)), tuple(replacements))
    _write_record(records, edit)
    try:
        for name, target in targets.items():
            write_beside(name, target, new[name], edit.waiting(target))
        for name, data in old.items():
            if Path(name).read_bytes() != data:
                raise PlanError(
                    f"{name} has been changed by somebody else meanwhile; nothing is written, run "
                    "the command again"
                )
        with _undisturbed():
            _move_all(edit, targets, old)
        log(__name__, "replaced %s by the journal %s", ", ".join(targets), edit.token)
    except OSError as error:
        raise PlanError(
            f"{error.filename or plan} cannot be written: {error.strerror}; everything is as it was"
        ) from None
    finally:
        for target in targets.values():
            edit.waiting(target).unlink(missing_ok=True)
        (records / edit.token).unlink(missing_ok=True)


def _see_that_it_may_be_replaced(name: str, target: Path) -> None:
    """Raise `PlanError` for a file that may not be written, or whose replacement would lose
    something.
    """
    try:
        known = os.stat(name)
    except OSError as error:
        raise PlanError(f"{name} cannot be written: {error.strerror}") from None
    if not stat.S_ISREG(known.st_mode):
        raise PlanError(f"{name} is no regular file, so it cannot be edited")
    if not known.st_mode & 0o222 or not os.access(target, os.W_OK):
        raise PlanError(
            f"{name} is write-protected (mode {stat.S_IMODE(known.st_mode):o}); nothing is written"
        )
    if known.st_nlink > 1:
        raise PlanError(
            f"{name} has {known.st_nlink} hard links, and replacing it would leave the old text "
            "under the others; "
            "make it a file of its own, or the others symbolic links"
        )


def _write_record(records: Path, edit: EditRecord) -> None:
    """Write an edit's record into the user's own folder, flushed. Raises `PlanError` when it cannot
    be written.
    """
    try:
        _write_new(records / edit.token, edit.data())
    except OSError as error:
        (records / edit.token).unlink(missing_ok=True)
        raise PlanError(
            f"{records} cannot be written: {error.strerror}; everything is as it was"
        ) from None


def _write_new(path: Path, data: bytes) -> None:
    """Write a file that nobody else may read or write, flushed. Raises `OSError`, as when one of
    that name exists.
    """
    with open(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as stream:
        stream.write(data)
        stream.flush()
        os.fsync(stream.fileno())
    flush_folder(path.parent)


def _move_all(edit: EditRecord, targets: Mapping[str, Path], old: Mapping[str, bytes]) -> None:
    """Move the waiting files into place; where one cannot be moved, put back those that were."""
    folders = {target.parent for target in targets.values()}
    if len(targets) > 1:
        for (
            folder
        ) in folders:  # a file that waits must be there after a crash that the journal outlives
            flush_folder(folder)
        try:
            _write_new(edit.coming_journal, edit.data())
            edit.coming_journal.replace(edit.journal)
        except OSError:
            edit.coming_journal.unlink(missing_ok=True)
            raise
        flush_folder(edit.plan.parent)
    moved: list[str] = []
    try:
        for name, target in targets.items():
            edit.waiting(target).replace(target)
            moved.append(name)
    except OSError as error:
        _put_back(edit, moved, targets, old, error)
        raise
    finally:
        for folder in folders:
            flush_folder(folder)
        edit.journal.unlink(missing_ok=True)


def _put_back(
    edit: EditRecord,
    moved: Iterable[str],
    targets: Mapping[str, Path],
    old: Mapping[str, bytes],
    error: OSError,
) -> None:
    lost = []
    for name in moved:
        try:
            write_beside(name, targets[name], old[name], edit.waiting(targets[name]))
            edit.waiting(targets[name]).replace(targets[name])
        except OSError:
            lost.append(name)
    if lost:
        raise PlanError(
            f"{error.filename} cannot be written: {error.strerror}; {', '.join(lost)} has its new "
            "text already, the others the old"
        )


def _sweep(records: Path, targets: set[Path]) -> None:
    """Remove what edits of these files left that died before their first move.

    Raises `PlanError` where one was left half done. A living edit would hold the lock that the
    caller holds now.
    """
    for edit in records_of(records, targets):
        if bytes_of(edit.journal) == edit.data():
            raise PlanError(f"{edit.text()}; finish it first: crossgate --plan {edit.plan} recover")
        with suppress(OSError):
            for waiting in [
                edit.coming_journal,
                *(edit.waiting(each.target) for each in edit.replacements),
            ]:
                if waiting.is_file() and not waiting.is_symlink():
                    waiting.unlink()
            (records / edit.token).unlink()
    with suppress(OSError):  # a record that was begun and never ended names nothing that could wait
        for path in records.iterdir():
            if not path.stat().st_size and time.time() - path.stat().st_mtime > _BEGUN_SECONDS:
                path.unlink()


class HasFiles(Protocol):
    """Something that was read from files, with their bytes by name."""

    @property
    def data(self) -> Mapping[str, bytes]:
        """The bytes of each file, by the name under which it was read."""


Read = TypeVar("Read", bound=HasFiles)


def read_settled(read: Callable[[], Read]) -> Read:
    """Read a plan of several files so that all are from before an edit or all from after it,
    without a lock.

    While files are moved, their journal is beside the plan. So if there is none after reading, and
    no file has changed since, nothing was moved in between.
    """
    until = time.monotonic() + _SETTLING_SECONDS
    while True:
        found = read()
        if len(found.data) < 2 or time.monotonic() > until:
            return found
        if not half_done(map(Path, found.data)) and all(
            _unchanged(name, data) for name, data in found.data.items()
        ):
            return found
        time.sleep(0.02)


def _unchanged(name: str, data: bytes) -> bool:
    try:
        return Path(name).read_bytes() == data
    except OSError:
        return False


@contextmanager
def _undisturbed() -> Iterator[None]:
    """Delay Ctrl-C until the moves are made or undone."""
    if not hasattr(signal, "pthread_sigmask"):
        yield
        return
    before = signal.pthread_sigmask(signal.SIG_BLOCK, {signal.SIGINT})
    try:
        yield
    finally:
        signal.pthread_sigmask(signal.SIG_SETMASK, before)
