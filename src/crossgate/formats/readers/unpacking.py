"""The contents of a packed file as a stream. Run as a program, it writes them to standard output,
for a reader that takes a pipe.

libpcap blocks the interpreter while it waits for octets, so a thread could not unpack for it.
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
    """Return the contents of a packed file (`gzip`, `zstd`) or of standard input (`stdin`) as a
    stream. Raises one of `FAULTS`.
    """
    if kind == "stdin":
        return sys.stdin.buffer
    if kind == "gzip":
        return gzip.open(path)  # type: ignore[return-value]
    import pyarrow

    stream: IO[bytes] = pyarrow.CompressedInputStream(pyarrow.OSFile(str(path)), "zstd")
    return stream


def unpack_into(path: Path, kind: str, name: str, whole: IO[bytes]) -> None:
    """Write the whole contents of a packed file. Raises `PlanError`, with `name` for the file,
    where it cannot be unpacked or is too large.
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
    """Start a process that writes the contents of a packed file into a pipe, and errors to its
    standard error.
    """
    command = [sys.executable, "-P", "-m", __name__, str(path), kind, name, str(unpacked_most())]
    return subprocess.Popen(command, stdin=subprocess.DEVNULL, stdout=into, stderr=subprocess.PIPE)


def main() -> None:
    """Unpack the file named on the command line to standard output, and stay until everything has
    been read.
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
    """Wait until what was written has been read: a pipe with octets and no writer can no longer be
    opened.
    """
    nobody_reads = select.poll()
    nobody_reads.register(sys.stdout, 0)
    while _left_in(sys.stdout) and not nobody_reads.poll(10):
        pass


def _left_in(pipe: IO[str]) -> int:
    """Return how many octets in a pipe have not been read."""
    import fcntl
    import termios

    return int.from_bytes(fcntl.ioctl(pipe, termios.FIONREAD, bytes(4)), sys.byteorder)


if __name__ == "__main__":
    main()
