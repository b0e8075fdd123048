"""The document of `recover`: edits that were left half done, and what became of them."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from typing import Literal, TypedDict

from crossgate.formats.edit_records import EditRecord
from crossgate.formats.finishing import FileState


class FileStateDocument(TypedDict):
    """A file of an edit: the new text waits in another file, has replaced the old one, or cannot,
    which is a problem.
    """

    file: str
    state: Literal["waiting", "replaced", "problem"]
    waiting: str
    problem: str | None


class HalfDoneDocument(TypedDict):
    """An edit that was left half done, and whether it is no longer."""

    plan: str
    files: list[FileStateDocument]
    ended: bool


class RecoverDocument(TypedDict):
    """Edits that were left half done, and records of edits that are not one's own."""

    schema: Literal["crossgate/recover/1"]
    plan: str
    edits: list[HalfDoneDocument]
    not_ours: list[str]


def recover_document(
    plan: Path, edits: Iterable[HalfDoneDocument], strange: Iterable[Path]
) -> RecoverDocument:
    """Return `crossgate/recover/1`: what became of each edit of a plan, and the records of others
    that are left alone.
    """
    return {
        "schema": "crossgate/recover/1",
        "plan": str(plan),
        "edits": list(edits),
        "not_ours": [str(each) for each in strange],
    }


def half_done_document(
    edit: EditRecord, found: Iterable[FileState], ended: bool
) -> HalfDoneDocument:
    """Return an edit that was left half done, and the state of each of its files."""
    return {"plan": str(edit.plan), "files": [_state(each) for each in found], "ended": ended}


def _state(found: FileState) -> FileStateDocument:
    return {
        "file": str(found.target),
        "state": "problem" if found.problem else "replaced" if found.replaced else "waiting",
        "waiting": str(found.waiting),
        "problem": found.problem or None,
    }
