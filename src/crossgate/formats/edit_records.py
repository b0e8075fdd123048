"""The records of edits, and which of them were left half done; what it is about is told in
`replacing`.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Iterable
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from crossgate.formats.own_state import existing_folder

_MOST_OCTETS = 256 * 1024 * 1024
"""No plan is larger, and no record."""
_NAME_LETTERS = 40
"""How much of a file's name goes into the name of one beside it, which must not become too long."""
TOKEN_LETTERS = 24


@dataclass(frozen=True)
class Replacement:
    """A file that an edit replaces, by its real path, and the digests of its bytes before and
    after.
    """

    target: Path
    old: str
    new: str


@dataclass(frozen=True)
class EditRecord:
    """An edit as its record describes it: a token that nobody can guess, the plan's real path, and
    the replaced files.
    """

    token: str
    plan: Path
    replacements: tuple[Replacement, ...]

    @property
    def journal(self) -> Path:
        """Where the copy of the record is while files are moved."""
        return self.plan.with_name(f".{self.plan.name[:_NAME_LETTERS]}.{self.token}.edit")

    @property
    def coming_journal(self) -> Path:
        """Where the journal is written before it gets its name."""
        return self.journal.with_suffix(".edit-new")

    def waiting(self, target: Path) -> Path:
        """Return where the new bytes of a file wait."""
        number = [each.target for each in self.replacements].index(target)
        return target.with_name(f".{target.name[:_NAME_LETTERS]}.{self.token}.{number}.new")

    def data(self) -> bytes:
        """Return the record as bytes."""
        import json

        moves = [
            {"file": str(each.target), "old": each.old, "new": each.new}
            for each in self.replacements
        ]
        return json.dumps(
            {"token": self.token, "plan": str(self.plan), "files": moves}, indent=1
        ).encode()

    def text(self) -> str:
        """Say which plan the edit is for, and which of its files still have their old text."""
        left = [
            each.target.name
            for each in self.replacements
            if os.path.lexists(self.waiting(each.target))
        ]
        return (
            f"an edit of {self.plan} was left half done ({', '.join(left) or 'no file'} still "
            "to be replaced)"
        )


def _record(data: bytes) -> EditRecord | None:
    """Return the record in some bytes, None where there is none."""
    import json

    try:
        told = json.loads(data)
        replacements = [
            Replacement(Path(each["file"]), str(each["old"]), str(each["new"]))
            for each in told["files"]
        ]
        found = EditRecord(str(told["token"]), Path(told["plan"]), tuple(replacements))
    except (ValueError, KeyError, TypeError, RecursionError):
        return None
    return found if found.data() == data else None


def half_done(files: Iterable[Path]) -> list[EditRecord]:
    """Return the edits by this user, of this plan or of others, that were left half done and
    concern any of some files.
    """
    wanted = {Path(os.path.realpath(each)) for each in files}
    records = existing_folder("edits")
    return (
        [each for each in records_of(records, wanted) if bytes_of(each.journal) == each.data()]
        if records
        else []
    )


def strange_journals(plan: Path) -> list[Path]:
    """Return the journals beside a plan that this user did not write on this machine: they are
    ignored.
    """
    real = Path(os.path.realpath(plan))
    start = f".{real.name[:_NAME_LETTERS]}."
    with suppress(OSError), os.scandir(real.parent) as entries:
        found = sorted(
            real.parent / each.name
            for each in entries
            if each.name.startswith(start) and each.name.endswith(".edit")
        )
        return [each for each in found if not _is_ours(each)]
    return []


def _is_ours(journal: Path) -> bool:
    """Whether a journal equals the record with its token in the user's own folder."""
    data = bytes_of(journal)
    edit = _record(data) if data is not None else None
    records = existing_folder("edits")
    if records is None or edit is None or edit.journal != journal or not _is_token(edit.token):
        return False
    return bytes_of(records / edit.token) == data


def records_of(records: Path, targets: set[Path]) -> list[EditRecord]:
    """Return the recorded edits that concern any of some files."""
    found = []
    with suppress(OSError):
        for path in sorted(records.iterdir()):
            data = bytes_of(path)
            edit = _record(data) if data is not None else None
            if edit is not None and edit.token == path.name and _is_token(edit.token):
                found += [edit] if any(each.target in targets for each in edit.replacements) else []
    return found


def _is_token(word: str) -> bool:
    return len(word) == TOKEN_LETTERS and all(letter in "0123456789abcdef" for letter in word)


def bytes_of(path: Path) -> bytes | None:
    """Return the bytes of a regular file that is no link, None where there is none."""
    try:
        known = os.lstat(path)
        if not stat.S_ISREG(known.st_mode) or known.st_size > _MOST_OCTETS:
            return None
        return path.read_bytes()
    except (OSError, ValueError):
        return None


def digest(data: bytes) -> str:
    """Return the SHA-256 digest of some bytes, in hexadecimal."""
    from hashlib import sha256

    return sha256(data).hexdigest()
