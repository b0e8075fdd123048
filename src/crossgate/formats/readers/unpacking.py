"""What a packed file holds, as a stream; run as a program it writes that to standard output, for a
reader that takes a pipe.

libpcap keeps the interpreter to itself while it waits for octets, so no thread could unpack for it
meanwhile.
"""

from __future__ import annotations

import gzip
import select
import shutil
import subprocess
import sys
import zlib
from contextlib import closing
from pathlib import Path
from typing import IO

from crossgate.core.model.errors import PlanError
from crossgate.formats.bounds import Unpacked, allow_unpacked, unpacked_most

FAULTS = (OSError, EOFError, ValueError, zlib.error)
"""What unpackers raise for what they cannot unpack."""


def unpacking(path: Path, kind: str) -> IO[bytes]:
    """Return what a packed file (`gzip`, `zstd`) or standard input (`stdin`) holds, as a stream.
    Raises one of `FAULTS`.
    """
    if kind == "stdin":
        return sys.stdin.buffer
    if kind == "gzip":
        return gzip.open(path)  # type: ignore[return-value]
    import pyarrow

    stream: IO[bytes] = pyarrow.CompressedInputStream(pyarrow.OSFile(str(path)), "zstd")
    return stream


def unpack_into(path: Path, kind: str, name: str, whole: IO[bytes]) -> None:
    """Write all that a packed file holds. Raises `PlanError`, which calls the file `name`, where it
    cannot be unpacked or is too much.
    """
    try:
        with closing(Unpacked(unpacking(path, kind), name)) as source:
            shutil.copyfileobj(source, whole, 1 << 20)
        whole.flush()
    except BrokenPipeError:
        return
    except FAULTS as error:
        raise PlanError(f"{name} cannot be unpacked: {error}") from None


def started(path: Path, kind: str, name: str, into: int) -> subprocess.Popen[bytes]:
    """Start a process that writes what a packed file holds into a pipe, and why it could not to its
    standard error.
    """
    command = [sys.executable, "-P", "-m", __name__, str(path), kind, name, str(unpacked_most())]
    return subprocess.Popen(command, stdin=subprocess.DEVNULL, stdout=into, stderr=subprocess.PIPE)


def main() -> None:
    """Unpack the file that the command line names to standard output, and stay until all of it was
    read.
    """
    path, kind, name, most = sys.argv[1:]
    allow_unpacked(int(most))
    try:
        unpack_into(Path(path), kind, name, sys.stdout.buffer)
    except PlanError as error:
        sys.exit(error.message)
    finally:
        _read_by_the_other_end()


def _read_by_the_other_end() -> None:
    """Wait until what was written is read: a pipe that has octets but no writer is one that nobody
    can open any more.
    """
    nobody_reads = select.poll()
    nobody_reads.register(sys.stdout, 0)
    while _left_in(sys.stdout) and not nobody_reads.poll(10):
        pass


def _left_in(pipe: IO[str]) -> int:
    """Return how many octets of a pipe nobody has read."""
    import fcntl
    import termios

    return int.from_bytes(fcntl.ioctl(pipe, termios.FIONREAD, bytes(4)), sys.byteorder)


if __name__ == "__main__":
    main()
