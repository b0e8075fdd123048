"""Files replaced in one step: whoever reads one, even after a crash, finds the old or the new whole."""

from __future__ import annotations

import os
import shutil
import tempfile
from pathlib import Path

from crossgate.core.errors import PlanError


def replace_file(path: Path, old: bytes, new: bytes) -> None:
    """Put new bytes in the place of a file's old ones; permissions and symbolic links stay.

    The new file is written beside the old one, flushed to the disk and then moved into place. Raises `PlanError` when
    the file is not as it was any more, or cannot be written; then it is untouched.
    """
    target = path.resolve()
    beside: str | None = None
    try:
        handle, beside = tempfile.mkstemp(prefix=f".{target.name}.", suffix=".new", dir=target.parent)
        with os.fdopen(handle, "wb") as stream:
            stream.write(new)
            stream.flush()
            os.fsync(stream.fileno())
        shutil.copymode(target, beside)
        _keep_owner(target, beside)
        if target.read_bytes() != old:
            raise PlanError(f"{path} has been changed by somebody else meanwhile; nothing is written, run the command again")
        os.replace(beside, target)
        beside = None
        _flush_folder(target.parent)
    except OSError as error:
        raise PlanError(f"{path} cannot be written: {error.strerror}; it is as it was") from None
    finally:
        if beside is not None:
            Path(beside).unlink(missing_ok=True)


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
