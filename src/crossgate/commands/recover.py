"""`crossgate recover`: an edit that a crash or a power cut left half done is finished or given
up.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from contextlib import nullcontext
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from crossgate.commands.common import plan_file, plan_files, print_json, strange_journal
from crossgate.commands.editing import DryRunOption, YesOption, in_turn, wants
from crossgate.commands.shared_options import JsonOption

if TYPE_CHECKING:
    from crossgate.formats.edit_records import EditRecord
    from crossgate.formats.finishing import FileState
    from crossgate.formats.json.recover import HalfDoneDocument


def recover(
    context: typer.Context,
    forget: Annotated[
        bool,
        typer.Option(
            "--forget",
            help="Let every file stay as it is, and remove what was still to be written.",
        ),
    ] = False,
    yes: YesOption = False,
    dry_run: DryRunOption = False,
    as_json: JsonOption = False,
) -> None:
    """Finish an edit that a crash has left half done, or with --forget give it up; exit status 1
    while it is left so.
    """
    from crossgate.formats.edit_records import half_done, strange_journals
    from crossgate.formats.finishing import finish, states
    from crossgate.formats.finishing import forget as give_up
    from crossgate.formats.json.recover import half_done_document, recover_document
    from crossgate.show.console import write

    path = plan_file(context, "recover")
    strange = strange_journals(path)
    rows: list[HalfDoneDocument] = []
    for edit in half_done(plan_files(path)):
        files = plan_files(edit.plan)
        with nullcontext() if dry_run else in_turn(files):
            found = states(edit, files)
            if not as_json:
                write(_lines(edit, found, forget))
            finishes = forget or not any(each.problem for each in found)
            ends = (
                finishes
                and not dry_run
                and (yes or as_json or wants("give it up?" if forget else "finish it?"))
            )
            if ends and forget:
                give_up(edit)
            elif ends:
                finish(edit, files)
        rows.append(half_done_document(edit, found, ends))
        if not as_json:
            write(
                ["given up: every file is as it was" if forget else "finished"]
                if ends
                else ["nothing is written"]
            )
    if as_json:
        print_json(recover_document(path, rows, strange))
    else:
        write(strange_journal(each, path) for each in strange)
        if not rows:
            write(["no edit of yours was left half done"])
    raise typer.Exit(0 if all(row["ended"] for row in rows) else 1)


def _lines(edit: EditRecord, found: Iterable[FileState], forget: bool) -> Iterator[str]:
    """Yield what becomes of each file of an edit."""
    yield edit.text()
    for each in found:
        if each.problem:
            yield f"  {each.problem}"
        elif each.replaced:
            yield f"  {each.target} has its new text already"
        elif forget:
            yield f"  {each.target} keeps its old text; {each.waiting.name} is removed"
        else:
            yield f"  {each.target} is replaced by {each.waiting.name}:"
            yield from (f"    {line}" for line in _diff(each.target, each.waiting))


def _diff(old: Path, new: Path) -> Iterator[str]:
    from difflib import unified_diff

    was, becomes = (
        each.read_bytes().decode("utf-8", "replace").splitlines() for each in (old, new)
    )
    lines = unified_diff(was, becomes, lineterm="", n=1)
    return (line for line in lines if not line.startswith(("---", "+++")))
