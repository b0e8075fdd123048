"""How much of an input file is read: limits on octets, lines, columns and nesting, and their error
messages.

A file of a few octets may unpack to thousands of gigabytes, and a short document may be nested
deeper than any program's stack; neither is traffic or a table that somebody keeps. All readers take
their limits from here.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Collection, Iterable
from contextvars import ContextVar
from pathlib import Path
from typing import IO, Any

from crossgate.core.model.errors import PlanError

MOST_LINE = 16 << 20
"""Octets of one line of a table."""
MOST_UNPACKED = 4 << 30
"""Octets that one packed file may unpack to, unless a person allows more."""
MOST_WORKBOOK = 500 << 20
"""Octets that the parts of a workbook may unpack to."""
MOST_DOCUMENT = 256 << 20
"""Octets of one document that is read whole."""
MOST_COLUMNS = 1_000
MOST_ROWS = 1 << 20
"""Rows of a sheet: the most that a workbook can have (ISO/IEC 29500)."""
MOST_DEPTH = 200
"""Objects and arrays within each other."""

_unpacked: ContextVar[int] = ContextVar("unpacked", default=MOST_UNPACKED)


def allow_unpacked(octets: int) -> None:
    """Set to how many octets every packed file may unpack from now on."""
    _unpacked.set(octets)


def unpacked_most() -> int:
    """Return to how many octets a packed file may unpack."""
    return _unpacked.get()


class Unpacked:
    """A stream of unpacked octets that raises a `PlanError` where they become more than are
    allowed.
    """

    def __init__(self, stream: IO[bytes], name: str) -> None:
        """Read from `stream`; `name` is what errors call the file."""
        self._stream, self._name = stream, name
        self._most = self._left = unpacked_most()
        self.closed = False

    def read(self, size: int = -1) -> bytes:
        """Return the next octets, at most `size`, and at most one beyond the limit. Raises
        `PlanError` beyond it.
        """
        data = self._stream.read(self._left + 1 if size < 0 else min(size, self._left + 1))
        self._left -= len(data)
        if self._left < 0:
            raise PlanError(
                f"{self._name} unpacks to more than {self._most / (1 << 30):g} GB; "
                f"if that is meant, allow more: --unpacked {2 * self._most / (1 << 30):g}"
            )
        return data

    def readable(self) -> bool:
        """Whether it can be read: always."""
        return True

    def writable(self) -> bool:
        """Whether it can be written to: never."""
        return False

    def seekable(self) -> bool:
        """Whether one can go to another place in it: never."""
        return False

    def close(self) -> None:
        """Stop reading."""
        self.closed = True
        self._stream.close()


def read_document(path: Path) -> bytes:
    """Return the contents of a file: a regular one of at most `MOST_DOCUMENT` octets. Raises
    `PlanError`.
    """
    try:
        # What is opened is looked at, not only what the name led to before; a pipe is not waited
        # for.
        with open(
            path,
            "rb",
            opener=lambda name, flags: os.open(name, flags | getattr(os, "O_NONBLOCK", 0)),
        ) as stream:
            if not stat.S_ISREG(os.fstat(stream.fileno()).st_mode):
                raise PlanError(f"{path} is no regular file, so it is not read")
            data = stream.read(MOST_DOCUMENT + 1)
    except (OSError, ValueError) as error:
        raise PlanError(
            f"{path} cannot be read: {getattr(error, 'strerror', None) or error}"
        ) from None
    if len(data) > MOST_DOCUMENT:
        raise PlanError(f"{path} has more than {MOST_DOCUMENT >> 20} MB; no more is read")
    return data


def see_columns(names: Collection[object], name: str) -> None:
    """Raise `PlanError` where a table has too many columns."""
    if len(names) > MOST_COLUMNS:
        raise PlanError(
            f"{name} has {len(names):,} columns; a table of up to {MOST_COLUMNS:,} is read"
        )


def see_depth(value: Any, name: str) -> None:
    """Raise `PlanError` where objects and arrays of a document are nested too deep."""
    level: Iterable[Any] = [value]
    for _ in range(MOST_DEPTH + 1):
        level = [
            inner
            for each in level
            if isinstance(each, (dict, list))
            for inner in (each.values() if isinstance(each, dict) else each)
        ]
        if not level:
            return
    raise PlanError(f"{name} is nested deeper than {MOST_DEPTH} levels")
