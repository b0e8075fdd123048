"""A plan's files replaced together: whoever reads them, even after a crash, finds all old or all new.

1. While files are read or replaced their folders are locked, so that two edits at once take turns, and nobody reads half.
2. Every new file is written beside the old one and flushed to the disk before the first is moved into place.
3. Where there are several, a journal beside the plan says what is to be moved. After a crash the next command that reads
   the plan finds it and moves the rest; all that is needed for that lies on the disk.
4. Where a move fails, what was moved is put back.
"""

from __future__ import annotations

import json
import os
import shutil
import signal
import stat
import tempfile
from collections.abc import Iterable, Iterator, Mapping
from contextlib import ExitStack, contextmanager, suppress
from pathlib import Path

from crossgate.core.model.errors import PlanError

try:
    import fcntl
except ImportError:  # a system without file locks: single moves are still whole
    fcntl = None  # type: ignore[assignment]

_NEW = ".new"
"""The ending of new files that wait beside the old ones."""


def replace_files(plan: Path, old: Mapping[str, bytes], new: Mapping[str, bytes]) -> None:
    """Put new bytes in the place of files' old ones, all of them or none; permissions and symbolic links stay.

    `plan` is the plan's own file, beside which the journal is kept. Raises `PlanError` when a file is not as it was any
    more, or cannot be written; then all are as they were, or the error says which is not.
    """
    targets = {name: Path(os.path.realpath(name)) for name in new}
    for name, target in targets.items():
        _see_that_it_may_be_replaced(name, target)
    with locked([plan, *targets.values()], alone=True):
        _sweep(targets.values())
        waiting: dict[str, Path] = {}
        try:
            for name, target in targets.items():
                waiting[name] = _write_beside(name, target, new[name])
            for name, target in targets.items():
                if target.read_bytes() != old[name]:
                    raise PlanError(f"{name} has been changed by somebody else meanwhile; nothing is written, run the command again")
            with _undisturbed():
                _move_all(plan, targets, waiting, old)
        except OSError as error:
            raise PlanError(f"{error.filename or plan} cannot be written: {error.strerror}; everything is as it was") from None
        finally:
            for beside in waiting.values():
                beside.unlink(missing_ok=True)


def _see_that_it_may_be_replaced(name: str, target: Path) -> None:
    """Raise `PlanError` for a file that is not to be written, or that cannot be replaced without a loss."""
    try:
        known = os.stat(name)
    except OSError as error:
        raise PlanError(f"{name} cannot be written: {error.strerror}") from None
    if not stat.S_ISREG(known.st_mode):
        raise PlanError(f"{name} is no regular file, so it cannot be edited")
    if not known.st_mode & 0o222 or not os.access(target, os.W_OK):
        raise PlanError(f"{name} is write-protected (mode {stat.S_IMODE(known.st_mode):o}); nothing is written")
    if known.st_nlink > 1:
        raise PlanError(
            f"{name} has {known.st_nlink} hard links, and replacing it would leave the old text under the others; "
            "make it a file of its own, or the others symbolic links"
        )


def _write_beside(name: str, target: Path, data: bytes) -> Path:
    """Write new bytes into a file beside the old one, flushed, with its permissions and owner."""
    handle, beside = tempfile.mkstemp(prefix=f".{target.name}.", suffix=_NEW, dir=target.parent)
    try:
        with os.fdopen(handle, "wb") as stream:
            stream.write(data)
            stream.flush()
            os.fsync(stream.fileno())
        shutil.copymode(target, beside)
        _keep_owner(target, beside)
    except BaseException as error:
        Path(beside).unlink(missing_ok=True)
        if isinstance(error, OSError):
            error.filename = name
        raise
    return Path(beside)


def _move_all(plan: Path, targets: Mapping[str, Path], waiting: Mapping[str, Path], old: Mapping[str, bytes]) -> None:
    """Move the waiting files into place; where one cannot be moved, put back those that were."""
    journal = _journal(plan)
    if len(waiting) > 1:
        moves = [{"from": str(waiting[name]), "to": str(target)} for name, target in targets.items()]
        beside = journal.with_name(f"{journal.name}{_NEW}")
        with beside.open("w", encoding="utf-8") as stream:
            json.dump(moves, stream)
            stream.flush()
            os.fsync(stream.fileno())
        beside.replace(journal)
        _flush_folder(journal.parent)
    moved: list[str] = []
    try:
        for name, target in targets.items():
            waiting[name].replace(target)
            moved.append(name)
    except OSError as error:
        _put_back(moved, targets, old, error)
        raise
    finally:
        for folder in {target.parent for target in targets.values()}:
            _flush_folder(folder)
        journal.unlink(missing_ok=True)


def _put_back(moved: Iterable[str], targets: Mapping[str, Path], old: Mapping[str, bytes], error: OSError) -> None:
    lost = []
    for name in moved:
        try:
            _write_beside(name, targets[name], old[name]).replace(targets[name])
        except OSError:
            lost.append(name)
    if lost:
        raise PlanError(
            f"{error.filename} cannot be written: {error.strerror}; {', '.join(lost)} has its new text already, the others the old"
        )


def recover(plan: Path) -> None:
    """Put right what an edit that was ended in between has left: move the rest of its files into place. Raises `PlanError`."""
    journal = _journal(plan)
    if not journal.exists():
        return
    with locked([plan], alone=True):
        try:
            moves = [(Path(move["from"]), Path(move["to"])) for move in json.loads(journal.read_text(encoding="utf-8"))]
            for source, target in moves:
                if source.exists():
                    source.replace(target)
            journal.unlink()
        except FileNotFoundError:
            return
        except (OSError, ValueError, KeyError, TypeError) as error:
            raise PlanError(
                f"{journal} tells of an edit that was ended in between and cannot be finished ({error}); see that the plan is whole, then remove it"
            ) from None


def _journal(plan: Path) -> Path:
    real = Path(os.path.realpath(plan))
    return real.with_name(f".{real.name}.edit")


def _sweep(targets: Iterable[Path]) -> None:
    """Remove new files that runs which are no more have left; a live one would hold the lock."""
    for target in targets:
        for left in target.parent.glob(f".{_literally(target.name)}.*{_NEW}"):
            with suppress(OSError):
                left.unlink()


def _literally(name: str) -> str:
    """Return a name as a pattern that only it matches."""
    return "".join(f"[{letter}]" if letter in "*?[" else letter for letter in name)


@contextmanager
def _undisturbed() -> Iterator[None]:
    """Let Ctrl-C wait until the moves are made or put back."""
    if not hasattr(signal, "pthread_sigmask"):
        yield
        return
    before = signal.pthread_sigmask(signal.SIG_BLOCK, {signal.SIGINT})
    try:
        yield
    finally:
        signal.pthread_sigmask(signal.SIG_SETMASK, before)


@contextmanager
def locked(paths: Iterable[Path], alone: bool = False) -> Iterator[None]:
    """Hold the folders of some files, with others that read or `alone`; where the system has no such locks, do nothing."""
    with ExitStack() as stack:
        for folder in sorted({os.path.dirname(os.path.realpath(path)) for path in paths}):
            try:
                handle = os.open(folder, os.O_RDONLY)
            except OSError:
                continue
            stack.callback(os.close, handle)
            if fcntl is not None:
                with suppress(OSError):
                    fcntl.flock(handle, fcntl.LOCK_EX if alone else fcntl.LOCK_SH)
        yield


def _keep_owner(target: Path, beside: str) -> None:
    """Give the new file the old one's owner and group where the system lets us; a plain user's file has them anyway."""
    known = target.stat()
    if hasattr(os, "chown") and (known.st_uid, known.st_gid) != (os.getuid(), os.getgid()):
        try:
            os.chown(beside, known.st_uid, known.st_gid)
        except PermissionError:
            return


def _flush_folder(folder: Path) -> None:
    """Make the move itself last through a crash, on systems where a folder can be flushed."""
    try:
        handle = os.open(folder, os.O_RDONLY)
    except OSError:
        return
    try:
        os.fsync(handle)
    except OSError:
        return
    finally:
        os.close(handle)
