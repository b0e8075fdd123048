"""The user's own folder for what one run keeps for the next, and the locks in it.

Nobody else can write there, so its contents were written by this user on this machine, and no other
user can hold one of its locks. Where the system gives the user no such folder, one under the folder
for temporary files is used, when it belongs to the user.
"""

from __future__ import annotations

import os
import stat
import sys
import time
from collections.abc import Callable, Iterable, Iterator
from contextlib import ExitStack, contextmanager, suppress
from datetime import datetime
from pathlib import Path
from typing import IO

from crossgate.core.model.errors import PlanError

try:
    import fcntl
except ImportError:  # a system without file locks: edits are told when they cross, but do not wait
    fcntl = None  # type: ignore[assignment]

LONGEST_WAIT = 30.0
"""Seconds that a command waits for one and the same holder of a lock."""
_PAUSE = 0.05


def own_folder(name: str) -> Path:
    """Return a folder of the user's own, which is made if necessary. Raises `PlanError` where that
    is not possible.
    """
    reasons = []
    for top in _tops():
        try:
            _make_own(top)
            _make_own(top / name)
            return top / name
        except OSError as error:
            reasons.append(f"{top} ({error.strerror or error})")
    raise PlanError(
        "an edit needs a folder of your own to remember what it does: neither "
        f"{' nor '.join(reasons)} can be used; "
        "set XDG_STATE_HOME to a folder that is yours"
    )


def existing_folder(name: str) -> Path | None:
    """Return a folder of the user's own if it exists, for commands that only read."""
    for top in _tops():
        with suppress(OSError):
            if all(_is_own(os.lstat(each)) for each in (top, top / name)):
                return top / name
    return None


def name_for_file(path: Path) -> str:
    """Return the name under which the user's own folder keeps things for a file."""
    from hashlib import sha256

    return sha256(os.fsencode(path.resolve())).hexdigest()[:24]


def _tops() -> tuple[Path, Path]:
    """Return the possible places of the user's own folder, the best one first."""
    import tempfile

    from platformdirs import user_state_path

    user = os.getuid() if hasattr(os, "getuid") else "user"
    return user_state_path("crossgate", appauthor=False), Path(
        tempfile.gettempdir()
    ) / f"crossgate-{user}"


def _is_own(known: os.stat_result) -> bool:
    """Whether a folder belongs to this user and nobody else can write to it."""
    if not hasattr(os, "getuid"):
        return stat.S_ISDIR(known.st_mode)
    return stat.S_ISDIR(known.st_mode) and known.st_uid == os.getuid() and not known.st_mode & 0o022


def _make_own(folder: Path) -> None:
    """Make a folder that only the user can write to. Raises `OSError` where it belongs to somebody
    else.
    """
    folder.mkdir(mode=0o700, parents=True, exist_ok=True)
    known = os.lstat(folder)
    if stat.S_ISDIR(known.st_mode) and hasattr(os, "getuid") and known.st_uid == os.getuid():
        folder.chmod(0o700)
        known = os.lstat(folder)
    if not _is_own(known):
        raise PermissionError("it is not yours, or a link")
    if not os.access(folder, os.W_OK):
        raise PermissionError("it is write-protected")


@contextmanager
def taking_turns(
    files: Iterable[Path], waiting: Callable[[str], None] = lambda _: None
) -> Iterator[None]:
    """Keep other edits by this user from changing some files while the enclosed code runs.

    It waits while others do, and passes a sentence about that to `waiting` when it takes over a
    second; the time begins anew with each new holder. Raises `PlanError` when one holds a file for
    `LONGEST_WAIT` seconds.
    """
    from hashlib import sha256

    folder = own_folder("locks")
    locks = {
        folder / sha256(os.fsencode(os.path.realpath(each))).hexdigest()[:32]: each
        for each in files
    }
    with ExitStack() as stack:
        for lock in sorted(locks):
            stream = stack.enter_context(
                open(os.open(lock, os.O_RDWR | os.O_CREAT, 0o600), "r+", encoding="utf-8")
            )
            _hold(stream, locks[lock], waiting)
        yield


def _hold(stream: IO[str], file: Path, waiting: Callable[[str], None]) -> None:
    """Take a lock, and write into it who has it."""
    import json

    if fcntl is None:
        return
    holder, since, told = "", time.monotonic(), False
    while True:
        try:
            fcntl.flock(stream, fcntl.LOCK_EX | fcntl.LOCK_NB)
            break
        except BlockingIOError:
            stream.seek(0)
            other = _who(stream.read())
            if other != holder:
                holder, since, told = other, time.monotonic(), False
            waited = time.monotonic() - since
            if waited > 1 and not told:
                told = True
                waiting(f"waiting: {file} is being edited by {other}")
            if waited > LONGEST_WAIT:
                raise PlanError(
                    f"{file} is being edited by {other}, for more than {LONGEST_WAIT:.0f} seconds; "
                    "nothing is written. Let that one end, then run the command again"
                ) from None
            time.sleep(_PAUSE)
    with suppress(OSError):  # on a full disk nobody is told who holds it
        stream.seek(0)
        stream.truncate()
        command = " ".join(["crossgate", *sys.argv[1:]])[:200]
        json.dump(
            {"process": os.getpid(), "since": f"{datetime.now():%H:%M:%S}", "command": command},
            stream,
        )
        stream.flush()


def _who(text: str) -> str:
    """Say who holds a lock, by what its file says."""
    import json

    try:
        told = json.loads(text)
        return f"process {int(told['process'])} since {told['since']} ({told['command']})"
    except (ValueError, KeyError, TypeError):
        return "another process"
