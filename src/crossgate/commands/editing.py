"""What the commands that edit share: read, change, show what the change does, and write it unless it breaks something."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from typing import TYPE_CHECKING, Annotated

import typer

from crossgate.commands.common import meter, plan_path, print_json
from crossgate.core.model.errors import PlanError, PlanErrors

if TYPE_CHECKING:
    from crossgate.language.draft import Draft

AnywayOption = Annotated[bool, typer.Option("--anyway", help="Write it even when it breaks an expect or a keep.")]
DryRunOption = Annotated[bool, typer.Option("--dry-run", help="Show what it would do, and write nothing.")]


def carry_out(
    context: typer.Context, change: Callable[[Draft], str], *, anyway: bool, dry_run: bool, as_json: bool, harmless: bool = False
) -> None:
    """Make a change to the plan: `change` edits the draft and says what it did.

    Exits with 1, the plan untouched, when the change breaks an expectation that held, or leaves a plan with errors. One
    that is to be `harmless` may not change traffic at all.
    """
    from crossgate.core.impact import review
    from crossgate.core.traffic.session import Session
    from crossgate.formats.disk import locked, recover, replace_files
    from crossgate.formats.json.edit import edit_document
    from crossgate.language.draft import Draft
    from crossgate.language.reader import read
    from crossgate.show.console import write
    from crossgate.show.edit import diff_lines, painted, review_lines

    path = plan_path(context)
    recover(path)
    with locked([path]):
        reading = read(path)
    draft = Draft(reading)
    said = change(draft)
    changed = draft.result()
    diff = list(diff_lines(reading.data, changed))
    if not as_json:
        write([said, *map(painted, diff)] if changed else [f"{said}; nothing is to be written"])
    try:
        new = read(path, {**reading.data, **changed}).plan
    except PlanErrors as errors:
        refused = "the plan would have errors"
        if as_json:
            print_json(edit_document(reading.plan, said, diff, None, [str(each) for each in errors.errors], refused, False))
        else:
            write([str(errors), f"refused: {refused}; nothing is written"])
        raise typer.Exit(1) from None
    with meter("comparing") as tell:
        found = review(Session(reading.plan), Session(new), datetime.now(), tell)
    broken = found.broken
    refused = _why_refused(sum(each.expectation.keep for each in broken), len(broken)) if broken and not anyway else ""
    if found.missed and not anyway:
        refused = refused or f"what it does is not known: {found.missed[0].message}"
    if harmless and found.differences:
        refused = "traffic would be treated otherwise, which must not be; please report this plan"
    done = bool(changed) and not refused and not dry_run
    if done:
        replace_files(path, reading.data, changed)
    if as_json:
        print_json(edit_document(new, said, diff, found, [], refused, done))
    elif changed:
        write(review_lines(new, found))
        last = (
            f"refused: {refused}; nothing is written, --anyway writes it"
            if refused
            else "written"
            if done
            else "nothing is written: this was a dry run"
        )
        write([last])
    if refused:
        raise typer.Exit(1)


def _why_refused(keeps: int, all_broken: int) -> str:
    parts = [f"{number} {word}{'s' if number > 1 else ''}" for number, word in ((keeps, "keep"), (all_broken - keeps, "expect")) if number]
    return f"it breaks {' and '.join(parts)}"


def one_of(**options: object) -> str | None:
    """Return the one option that is given, by its name, or None. Raises `PlanError` when several are."""
    given = [name for name, value in options.items() if value is not None]
    if len(given) > 1:
        raise PlanError(f"--{given[0]} and --{given[1]} exclude each other")
    return given[0] if given else None
