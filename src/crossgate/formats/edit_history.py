"""The last edits of a plan that the program itself wrote, so that they can be undone.

They are kept in the user's own folder, with the bytes of each file before and after, by their
digests: no file beside a plan is trusted, so nobody else can decide what an undo brings back. An
edit that is undone is kept, to be made again, until another one is made.
"""

from __future__ import annotations

import json
import os
from collections.abc import Iterable, Mapping, Sequence
from contextlib import suppress
from dataclasses import asdict, dataclass
from datetime import datetime
from hashlib import sha256
from pathlib import Path

from crossgate.core.model.errors import PlanError
from crossgate.formats.bounds import MOST_DOCUMENT
from crossgate.formats.disk import put_file
from crossgate.formats.own_state import existing_folder, name_for_file, own_folder

_SCHEMA = "crossgate/edit-history/1"
MOST_EDITS = 50
"""So many edits of a plan can be undone."""
_FOLDER = "edits"


@dataclass(frozen=True)
class FileEdit:
    """A file of an edit by its real path, and the digests of its bytes before and after."""

    file: str
    old: str
    new: str


@dataclass(frozen=True)
class Edit:
    """An edit that was written: when, by which command, and its files."""

    made: str
    command: str
    files: tuple[FileEdit, ...]


@dataclass(frozen=True)
class Edits:
    """The edits of a plan, the oldest first; the last `undone` of them are undone."""

    every: tuple[Edit, ...] = ()
    undone: int = 0

    @property
    def done(self) -> tuple[Edit, ...]:
        """The edits that are in effect, the oldest first."""
        return self.every[: len(self.every) - self.undone]

    @property
    def taken_back(self) -> tuple[Edit, ...]:
        """The edits that are undone, in the order in which they were made."""
        return self.every[len(self.every) - self.undone :]


class History:
    """The edits of one plan."""

    def __init__(self, plan: Path) -> None:
        self._name = name_for_file(plan)

    def read(self) -> Edits:
        """Return the edits; none where there are none. Raises `PlanError` for a file that the
        program did not write.
        """
        folder = existing_folder(_FOLDER)
        path = None if folder is None else folder / f"{self._name}.json"
        if path is None or not path.exists():
            return Edits()
        try:
            if path.stat().st_size > MOST_DOCUMENT:
                raise ValueError
            said = json.loads(path.read_text(encoding="utf-8"))
            if said["schema"] != _SCHEMA:
                raise ValueError
            every = tuple(
                Edit(
                    str(each["made"]),
                    str(each["command"]),
                    tuple(
                        FileEdit(*(str(one[name]) for name in ("file", "old", "new")))
                        for one in each["files"]
                    ),
                )
                for each in said["every"]
            )
            undone = int(said["undone"])
        except (OSError, ValueError, KeyError, TypeError, RecursionError):
            raise PlanError(
                f"{path} is no history of edits; look what it is, and take it away"
            ) from None
        if not 0 <= undone <= len(every):
            raise PlanError(f"{path} is no history of edits; look what it is, and take it away")
        return Edits(every, undone)

    def add(
        self,
        command: str,
        made: datetime,
        old: Mapping[str, bytes],
        new: Mapping[str, bytes],
    ) -> None:
        """Keep an edit; those that were undone are forgotten. Raises `PlanError`."""
        before = self.read()
        files = tuple(
            FileEdit(os.path.realpath(name), self._keep(old[name]), self._keep(data))
            for name, data in new.items()
        )
        every = (*before.done, Edit(made.isoformat(timespec="seconds"), command, files))
        self.write(Edits(every[-MOST_EDITS:], 0))

    def write(self, edits: Edits) -> None:
        """Write the edits, and delete the bytes that none of them needs any more."""
        folder = own_folder(_FOLDER)
        said = {"schema": _SCHEMA, **asdict(edits)}
        put_file(folder / f"{self._name}.json", json.dumps(said, indent=1).encode())
        needed = {name for each in edits.every for one in each.files for name in (one.old, one.new)}
        for path in folder.glob(f"{self._name}.*.kept"):
            if path.name.split(".")[1] not in needed:
                with suppress(OSError):
                    path.unlink()

    def _keep(self, data: bytes) -> str:
        digest = sha256(data).hexdigest()
        path = own_folder(_FOLDER) / f"{self._name}.{digest}.kept"
        if not path.exists():
            put_file(path, data)
        return digest

    def bytes_of(self, digest: str) -> bytes:
        """Return the bytes with a digest. Raises `PlanError` where they are not kept, or are
        damaged.
        """
        folder = existing_folder(_FOLDER)
        try:
            data = b"" if folder is None else (folder / f"{self._name}.{digest}.kept").read_bytes()
        except OSError:
            data = b""
        if sha256(data).hexdigest() != digest:
            raise PlanError("what the plan was before is not kept any more, so nothing is done")
        return data


def back(edits: Sequence[Edit]) -> dict[str, tuple[str, str]]:
    """Return by real path the digests that files must have now, and those that they had before some
    consecutive edits, the oldest first.

    Raises `PlanError` where a file was changed by hand between two of the edits.
    """
    found: dict[str, tuple[str, str]] = {}
    for each in reversed(edits):
        for one in each.files:
            now, before = found.get(one.file, (one.new, one.new))
            if before != one.new:
                raise PlanError(
                    f"{Path(one.file).name} was changed by hand after {each.command!r}, so that "
                    "cannot be undone together with what came later"
                )
            found[one.file] = now, one.old
    return found


def forward(edits: Iterable[Edit]) -> dict[str, tuple[str, str]]:
    """Return the digests that files must have now, and those after making some undone edits
    again.
    """
    found: dict[str, tuple[str, str]] = {}
    for each in edits:
        for one in each.files:
            now, after = found.get(one.file, (one.old, one.old))
            if after != one.old:
                raise PlanError(
                    f"{Path(one.file).name} was changed by hand before {each.command!r}"
                )
            found[one.file] = now, one.new
    return found
