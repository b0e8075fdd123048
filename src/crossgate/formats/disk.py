"""A file written completely or not at all: beside the old one, flushed to the disk, then moved; and
what tells that one was written since.
"""

from __future__ import annotations

import os
import shutil
import stat
from collections.abc import Iterable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from crossgate.core.model.debug import log
from crossgate.core.model.errors import PlanError

Stamp = tuple[int, int, int] | None
"""What tells whether a file was written since: its time, size and inode; None for no file."""


def put_file(path: Path, data: bytes, *, fresh: bool = False) -> None:
    """Write a file completely or not at all, as `writing` does. Raises `PlanError` when the file
    cannot be written.
    """
    try:
        with writing(path, fresh=fresh) as beside:
            beside.write_bytes(data)
    except OSError as error:
        raise cannot_be_written(path, error) from None


@contextmanager
def writing(path: Path, *, fresh: bool = False) -> Iterator[Path]:
    """Give an empty file beside `path` to write to; it replaces `path` where all goes well, and is
    removed otherwise.

    A symbolic link stays, and its target is replaced; an existing pipe or device is written to
    directly. With `fresh`, an existing file stays. Raises `OSError` as the system does, and
    `PlanError` where the file exists and is to be `fresh`.
    """
    import tempfile

    if not fresh and path.exists() and not path.is_file():
        yield path
        return
    target = path if fresh else Path(os.path.realpath(path))
    if os.path.lexists(path) and fresh:
        raise _there_already(path)
    handle, name = tempfile.mkstemp(
        prefix=f".{target.name[:40]}.", suffix=".new", dir=target.parent
    )
    os.close(handle)
    beside = Path(name)
    try:
        beside.chmod(stat.S_IMODE(target.stat().st_mode) if target.exists() else 0o666 & ~_umask())
        yield beside
        flush_file(beside)
        if fresh:
            _move_to_free_name(beside, path)
        else:
            beside.replace(target)
        flush_folder(target.parent)
        log(__name__, "wrote %s", path)
    finally:
        beside.unlink(missing_ok=True)


def cannot_be_written(path: Path, error: OSError) -> PlanError:
    """Return the error that tells why a file cannot be written."""
    return PlanError(f"{path} cannot be written: {error.strerror or error}")


def _move_to_free_name(beside: Path, path: Path) -> None:
    """Rename a file to a name that no other file has. Raises `PlanError` where one has it,
    `OSError` as the system does.
    """
    try:
        os.link(beside, path)
    except FileExistsError:
        raise _there_already(path) from None
    except OSError:  # a file system without hard links
        if os.path.lexists(path):
            raise _there_already(path) from None
        beside.replace(path)


def _there_already(path: Path) -> PlanError:
    return PlanError(
        f"{path} is there already; name another file or folder, nothing is overwritten"
    )


def _umask() -> int:
    """Return the permissions that new files of this process do not get; the system tells them only
    when they are set.
    """
    mask = os.umask(0o077)
    os.umask(mask)
    return mask


def write_beside(name: str, target: Path, data: bytes, beside: Path) -> None:
    """Write new bytes into a file beside an old one, flushed, with the old one's permissions and
    owner.

    Raises `OSError` with `name` as its file, after removing the new file.
    """
    handle = -1
    try:
        handle = os.open(beside, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        with os.fdopen(handle, "wb") as stream:
            stream.write(data)
            stream.flush()
            os.fsync(stream.fileno())
        shutil.copymode(target, beside)
        _keep_owner(target, beside)
    except BaseException as error:
        if handle >= 0:
            beside.unlink(missing_ok=True)
        if isinstance(error, OSError):
            error.filename = name
        raise


def _keep_owner(target: Path, beside: Path) -> None:
    """Give the new file the old one's owner and group where the system allows it; a normal user's
    file has them anyway.
    """
    known = target.stat()
    if hasattr(os, "chown") and (known.st_uid, known.st_gid) != (os.getuid(), os.getgid()):
        with suppress(PermissionError):
            os.chown(beside, known.st_uid, known.st_gid)


def flush_file(path: Path) -> None:
    """Make the contents of a file survive a crash. Raises `OSError`, as for a full disk."""
    handle = os.open(path, os.O_RDWR)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def flush_folder(folder: Path) -> None:
    """Make moves in a folder survive a crash, on systems where a folder can be flushed."""
    try:
        handle = os.open(folder, os.O_RDONLY)
    except OSError:
        return
    try:
        with suppress(OSError):
            os.fsync(handle)
    finally:
        os.close(handle)


def stamps_of(files: Iterable[str]) -> dict[str, Stamp]:
    """Return the present stamps of files."""
    found: dict[str, Stamp] = {}
    for name in files:
        try:
            status = os.stat(name)
        except OSError:
            found[name] = None
        else:
            found[name] = (status.st_mtime_ns, status.st_size, status.st_ino)
    return found
