"""The lines of a plan: files decoded, `include`s read in place, blocks gathered under the statement
that opens them.

What a statement means is unknown here. A file that cannot be read, is not UTF-8 text or includes
itself is reported with its place; everything else is read.
"""

from __future__ import annotations

import os
import re
import stat
import unicodedata
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextvars import ContextVar
from pathlib import Path
from typing import NamedTuple

from crossgate.core.model.errors import Place, PlanError
from crossgate.core.model.plaintext import escaped
from crossgate.language.lines import Line, file_lines, split_words
from crossgate.language.listed import SUFFIXES
from crossgate.language.words import Words

INCLUDE_FROM = "CROSSGATE_INCLUDE_FROM"
"""The environment's word for the folders that includes may come from, beside the plan's own."""

_granted: ContextVar[tuple[Path, ...]] = ContextVar("granted", default=())


def allow_includes(folders: Iterable[Path]) -> None:
    """Let plans that are read from now on include files of these folders, wherever the plans
    are.
    """
    _granted.set((*_granted.get(), *(Path(os.path.realpath(each)) for each in folders)))


def _include_folders(plan: Path) -> tuple[Path, ...]:
    """Return the real paths of the folders, with all folders below them, in which a plan's includes
    may be: the plan's own folder, or all of the git repository that it is in, and those that the
    person granted.
    """
    own = Path(os.path.realpath(plan)).parent
    repository = next((each for each in (own, *own.parents) if (each / ".git").exists()), own)
    from_environment = filter(None, os.environ.get(INCLUDE_FROM, "").split(os.pathsep))
    return (
        repository,
        *_granted.get(),
        *(Path(os.path.realpath(each)) for each in from_environment),
    )


class Statement(NamedTuple):
    """A line that begins at the left margin, and the indented lines below it."""

    line: Line
    block: list[Line]


class Source:
    """A plan's statements in order, its files, the tables that its groups are read from, and the
    errors found while gathering them.

    `data` are bytes to use instead of those on disk, by path as files are named here.
    """

    def __init__(self, path: Path, data: Mapping[str, bytes] | None = None) -> None:
        self.files: list[str] = []
        self.data: dict[str, bytes] = {}
        self.tables: dict[str, bytes] = {}
        self.statements: list[Statement] = []
        self.errors: list[PlanError] = []
        self._instead = {} if data is None else data
        self._including: list[_File] = []
        self._known: set[str] = set()
        self._folders = _include_folders(path)
        self._open(path)
        while self._including:
            self._go_on(self._including[-1])

    def _open(self, path: Path) -> None:
        """Begin with a file: the plan itself, or one that it includes."""
        name = str(path)
        data = (
            self._instead[name]
            if name in self._instead
            else read_bytes(path, included=bool(self._including))
        )
        self.files.append(name)
        self.data[name] = data
        real = os.path.realpath(path)
        self._known.add(real)
        self._including.append(_File(path, real, self._lines(path, decode(path, data))))

    def _go_on(self, file: _File) -> None:
        """Gather a file's statements up to its next `include`, or to its end."""
        for line in file.lines:
            if line.text[0] in " \t":
                if file.block is None:
                    self.errors.append(
                        Words(line).error(
                            "this line is indented, but no statement above it opens a block",
                            span=(0, len(line.text)),
                        )
                    )
                else:
                    file.block.append(line)
            elif line.text.split(None, 1)[0] == "include":
                file.block = None
                try:
                    self._include(line, file)
                except PlanError as error:
                    self.errors.append(error)
                    continue
                return
            else:
                file.block = []
                self.statements.append(Statement(line, file.block))
                if line.text.startswith("group") and table_of(line):
                    try:
                        self._table(line)
                    except PlanError as error:
                        self.errors.append(error)
        self._including.pop()

    def _include(self, line: Line, file: _File) -> None:
        """Read `include "FILE"`."""
        words = Words(line)
        words.take("include")
        name = words.text("the file to include, in double quotes")
        words.end()
        target, real = self._beside(words, name, index=1)
        if real in self._known:
            chain = [each.real for each in self._including]
            if real in chain:
                circle = [*(each.path for each in self._including[chain.index(real) :]), target]
                raise words.error(
                    f"include goes round in a circle: {' includes '.join(map(str, circle))}",
                    index=1,
                )
            raise words.error(f"{target} is included twice; include it once", index=1)
        try:
            self._open(target)
        except PlanError as error:
            if error.place is not None:
                raise
            raise words.error(error.message, index=1) from None

    def _beside(self, words: Words, name: str, index: int) -> tuple[Path, str]:
        """Return the path of a file that a line names, as it is named here and as it really is.
        Raises `PlanError`, at a word, for a file outside the folders that may be read.
        """
        target = named_beside(words.line.file, name)
        real = os.path.realpath(target)
        if not any(Path(real).is_relative_to(folder) for folder in self._folders):
            raise words.error(
                f"{target} lies outside the plan's folder {self._folders[0]}, so it is not read; "
                "if you trust it, say so: "
                f"crossgate --include-from {Path(real).parent}, or {INCLUDE_FROM} in the "
                "environment",
                index=index,
            )
        return target, real

    def _table(self, line: Line) -> None:
        """Read the table of `group NAME from "FILE"`."""
        words = Words(line)
        name = table_of(line)
        target, _ = self._beside(words, name, index=3)
        if not target.name.lower().endswith(SUFFIXES):
            raise words.error(
                f"a group is read from a table whose name ends in {', '.join(SUFFIXES)}", index=3
            )
        named = str(target)
        try:
            self.tables[named] = (
                self._instead[named]
                if named in self._instead
                else read_bytes(target, included=True)
            )
        except PlanError as error:
            raise words.error(error.message, index=3) from None

    def _lines(self, path: Path, text: str) -> Iterator[Line]:
        """Yield the lines that are neither blank nor only a comment, with escapes for characters
        that would control a terminal.
        """
        file = str(path)
        if "\r" in text and "\n" not in text.rstrip("\r\n"):
            place = Place(file, 1)
            first = text.split("\r", 1)[0]
            if first != text.rstrip("\r\n"):
                message = (
                    "lines end in carriage returns alone, as files of old did; save the plan "
                    "with line feeds"
                )
                self.errors.append(
                    PlanError(
                        message, place=place, source=escaped(first), column=len(escaped(first)) + 1
                    )
                )
                return
        hostile = escaped(text) != text
        for line in file_lines(file, text):
            first = line.text.lstrip(" \t")[:1]
            odd = first if first.isspace() else ""
            if odd:
                first = line.text.lstrip()[:1]
            if not first or first == "#":
                continue
            if hostile:
                line = line._replace(text=escaped(line.text))
            if not odd:
                yield line
            else:
                name = unicodedata.name(odd, "a control character").lower()
                message = (
                    f"this line begins with {name} (U+{ord(odd):04X}); indent with blanks or "
                    "tabulators"
                )
                self.errors.append(
                    PlanError(message, place=Place(file, line.number), source=line.text, column=1)
                )


_INCLUDES = re.compile(rb'^include[ \t]+"([^"\n]*)"', re.MULTILINE)


def not_included(plans: Sequence[Path]) -> list[Path]:
    """Return those of some plan files that no other one of them includes."""
    included = set[str]()
    for each in plans:
        try:
            data = read_bytes(each, included=True)
        except PlanError:
            continue
        names = (match[1].decode("utf-8", "replace") for match in _INCLUDES.finditer(data))
        included.update(os.path.realpath(named_beside(str(each), name)) for name in names)
    return [each for each in plans if os.path.realpath(each) not in included]


def named_beside(file: str, name: str) -> Path:
    """Return the path of a file that a line of another one names."""
    return Path(os.path.normpath(Path(file).parent / name))


def table_of(line: Line) -> str:
    """Return the name of the table that a group's line reads its addresses from, "" for none."""
    words = line.text.split(None, 3)
    if words[0] != "group" or words[2:3] != ["from"] or words[3:4] == []:
        return ""
    name = next(iter(split_words(words[3])), "")
    return name[1:].removesuffix('"') if name.startswith('"') else ""


class _File:
    """A file that is being read: its path, its real path, the remaining lines, and the open
    block.
    """

    def __init__(self, path: Path, real: str, lines: Iterator[Line]) -> None:
        self.path = path
        self.real = real
        self.lines = lines
        self.block: list[Line] | None = None


MOST_BYTES = 256 * 1024 * 1024
"""No plan that people write is larger; a file that is was named by mistake."""


def read_bytes(path: Path, included: bool = False) -> bytes:
    """Return a plan file's bytes; only the plan itself may be a pipe. Raises `PlanError`."""
    try:
        waits = not included and stat.S_ISFIFO(path.stat().st_mode)
        # What is opened is looked at, not only what the name led to before; and no other pipe is
        # waited for.
        flags = 0 if waits else getattr(os, "O_NONBLOCK", 0)
        with open(path, "rb", opener=lambda name, usual: os.open(name, usual | flags)) as stream:
            if not waits and not stat.S_ISREG(os.fstat(stream.fileno()).st_mode):
                raise PlanError(f"{path} is no regular file, so it cannot be a plan")
            data = stream.read(MOST_BYTES + 1)
    except IsADirectoryError:
        raise PlanError(f"{path} is a folder; name the plan file in it") from None
    except FileNotFoundError:
        raise PlanError(f"there is no file {path}") from None
    except (OSError, ValueError) as error:
        raise PlanError(
            f"{path} cannot be read: {getattr(error, 'strerror', None) or error}"
        ) from None
    if len(data) > MOST_BYTES:
        raise PlanError(f"{path} is larger than {MOST_BYTES // 1024**2} MB, so it is hardly a plan")
    return data


def decode(path: Path, data: bytes) -> str:
    """Decode a plan file, which is UTF-8. Raises `PlanError` with the place of the first byte that
    is not.
    """
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
