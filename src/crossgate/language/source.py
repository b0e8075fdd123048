"""The lines of a plan: files decoded, `include`s read in place, blocks gathered under the statement that opens them.

Nothing here knows what a statement means. A file that cannot be read, is not UTF-8 text or includes itself is told
with its place; everything else goes on.
"""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import NamedTuple

from crossgate.core.errors import Place, PlanError
from crossgate.language.words import Line, Words


class Statement(NamedTuple):
    """A line that starts at the left margin, and the indented lines below it."""

    line: Line
    block: list[Line]


class Source:
    """A plan's statements in order, its files, and the errors met while gathering them.

    `data` are bytes to read instead of those on disk, by path as the files are named here.
    """

    def __init__(self, path: Path, data: Mapping[str, bytes] | None = None) -> None:
        self.files: list[str] = []
        self.data: dict[str, bytes] = {}
        self.statements: list[Statement] = []
        self.errors: list[PlanError] = []
        self._instead = data or {}
        self._gather(path, [])

    def _gather(self, path: Path, including: list[Path]) -> None:
        self.files.append(str(path))
        name = str(path)
        self.data[name] = self._instead[name] if name in self._instead else read_bytes(path)
        text = decode(path, self.data[name])
        block: list[Line] | None = None
        for line in _lines(str(path), text):
            if line.text[0] in " \t":
                if block is None:
                    self.errors.append(
                        Words(line).error("this line is indented, but no statement above it opens a block", span=(0, len(line.text)))
                    )
                else:
                    block.append(line)
            elif line.text.split(None, 1)[0] == "include":
                block = None
                try:
                    self._include(line, path, including)
                except PlanError as error:
                    self.errors.append(error)
            else:
                block = []
                self.statements.append(Statement(line, block))

    def _include(self, line: Line, path: Path, including: list[Path]) -> None:
        """Read `include "FILE"`."""
        words = Words(line)
        words.take("include")
        name = words.text("the file to include, in double quotes")
        words.end()
        target = Path(os.path.normpath(path.parent / name))
        chain = [*including, path]
        resolved = [parent.resolve() for parent in chain]
        if target.resolve() in resolved:
            circle = [*chain[resolved.index(target.resolve()) :], target]
            raise words.error(f"include goes round in a circle: {' includes '.join(map(str, circle))}", index=1)
        if target.resolve() in [Path(file).resolve() for file in self.files]:
            raise words.error(f"{target} is included twice; include it once", index=1)
        try:
            self._gather(target, chain)
        except PlanError as error:
            if error.place is not None:
                raise
            raise words.error(error.message, index=1) from None


def _lines(file: str, text: str) -> Iterator[Line]:
    """Yield the lines that are not blank and not only a comment."""
    for number, line in enumerate(text.split("\n"), 1):
        if line.endswith("\r"):
            line = line[:-1]
        stripped = line.lstrip()
        if stripped and stripped[0] != "#":
            yield Line(file, number, line)


def read_bytes(path: Path) -> bytes:
    """Return a plan file's bytes. Raises `PlanError`."""
    try:
        return path.read_bytes()
    except IsADirectoryError:
        raise PlanError(f"{path} is a folder; name the plan file in it") from None
    except FileNotFoundError:
        raise PlanError(f"there is no file {path}") from None
    except OSError as error:
        raise PlanError(f"{path} cannot be read: {error.strerror}") from None


def decode(path: Path, data: bytes) -> str:
    """Decode a plan file, which is UTF-8. Raises `PlanError` with the place of the first byte that is not."""
    if data.startswith((b"\xff\xfe", b"\xfe\xff")):
        raise PlanError(f"{path} is UTF-16 text; save it as UTF-8")
    if b"\0" in data:
        raise PlanError(f"{path} is a binary file, not a plan; a plan is UTF-8 text")
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line_start = data.rfind(b"\n", 0, error.start) + 1
        place = Place(str(path), data.count(b"\n", 0, error.start) + 1)
        source = data[line_start:].split(b"\n", 1)[0].decode("latin-1").rstrip("\r")
        raise PlanError(
            f"byte 0x{data[error.start]:02x} is not UTF-8; save the plan as UTF-8",
            place=place,
            source=source,
            column=error.start - line_start + 1,
        ) from None
