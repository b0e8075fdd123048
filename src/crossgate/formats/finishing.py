"""A half-done edit finished, or left as it is (`replacing`)."""

from __future__ import annotations

import os
from collections.abc import Iterable
from dataclasses import dataclass, replace
from pathlib import Path

from crossgate.core.model.errors import PlanError
from crossgate.formats.disk import flush_folder
from crossgate.formats.edit_records import (
    EditRecord,
    Replacement,
    bytes_of,
    digest,
)
from crossgate.formats.own_state import own_folder


@dataclass(frozen=True)
class FileState:
    """The present state of a file of a half-done edit; `problem` tells why the edit cannot be
    finished.
    """

    target: Path
    replaced: bool
    waiting: Path
    problem: str = ""


def states(edit: EditRecord, files: Iterable[Path]) -> list[FileState]:
    """Return the states of the files of an edit; `files` are those of its plan."""
    own = {Path(os.path.realpath(each)) for each in files}
    return [_state(edit, each, own) for each in edit.replacements]


def _state(edit: EditRecord, each: Replacement, own: set[Path]) -> FileState:
    waiting = edit.waiting(each.target)
    found = FileState(each.target, False, waiting)
    if each.target not in own or Path(os.path.realpath(each.target)) != each.target:
        return replace(
            found, problem=f"{each.target} is no file of {edit.plan}, or is reached over a link"
        )
    now, new = bytes_of(each.target), bytes_of(waiting)
    if now is not None and digest(now) == each.new:
        return replace(found, replaced=True)
    if now is None or digest(now) != each.old:
        waits = f"; its new text waits in {waiting}" if new is not None else ""
        return replace(
            found,
            problem=f"{each.target} has been changed since the edit that was left half done{waits}",
        )
    if new is None or digest(new) != each.new:
        return replace(
            found, problem=f"{waiting} is not what that edit had written for {each.target}"
        )
    return found


def finish(edit: EditRecord, files: Iterable[Path]) -> list[Path]:
    """Move the waiting files of a half-done edit into place, and return those that were moved;
    `files` are those of its plan.

    Call it inside `taking_turns` for all of them. Raises `PlanError`, and moves nothing, where any
    file is neither as it was before the edit nor as the edit leaves it, does not belong to the
    plan, or is reached over a link.
    """
    found = states(edit, files)
    for each in found:
        if each.problem:
            raise PlanError(
                f"{each.problem}; nothing is moved. See what belongs there, then end it with: "
                "crossgate recover --forget"
            )
    left = [each for each in found if not each.replaced]
    try:
        for each in left:
            each.waiting.replace(each.target)
        for folder in {each.target.parent for each in left}:
            flush_folder(folder)
        remove_record(edit)
    except OSError as error:
        raise PlanError(
            f"{error.filename or edit.plan} cannot be written: {error.strerror}; run crossgate "
            "recover again"
        ) from None
    return [each.target for each in left]


def forget(edit: EditRecord) -> list[Path]:
    """Leave every file of a half-done edit as it is now; return the waiting files that are
    removed.
    """
    removed = [
        edit.waiting(each.target)
        for each in edit.replacements
        if edit.waiting(each.target).is_file()
    ]
    try:
        for each in removed:
            each.unlink()
        remove_record(edit)
    except OSError as error:
        raise PlanError(
            f"{error.filename or edit.plan} cannot be removed: {error.strerror}"
        ) from None
    return removed


def remove_record(edit: EditRecord) -> None:
    """Remove the journal of an edit that has ended, and its record. Raises `OSError`."""
    edit.journal.unlink(missing_ok=True)
    flush_folder(edit.plan.parent)
    (own_folder("edits") / edit.token).unlink(missing_ok=True)
