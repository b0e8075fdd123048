"""What the commands that edit share: read, change, show what the change does, and write it unless it breaks something."""

from __future__ import annotations

from datetime import datetime
from typing import TYPE_CHECKING, Annotated

import typer

from crossgate.commands.common import meter, plan_file, print_json

if TYPE_CHECKING:
    from crossgate.language.change import Change, Proposal

AnywayOption = Annotated[bool, typer.Option("--anyway", help="Write it even when it breaks an expect or a keep.")]
DryRunOption = Annotated[bool, typer.Option("--dry-run", help="Show what it would do, and write nothing.")]


def carry_out(context: typer.Context, change: Change, *, anyway: bool, dry_run: bool, as_json: bool, harmless: bool = False) -> Proposal:
    """Make a change to the plan: show the proposal, write it unless it is refused or a dry run, and return it; see `propose`.

    Exits with 1, the plan untouched, when it is refused.
    """
    from crossgate.formats.disk import locked, recover, replace_files
    from crossgate.formats.json.edit import edit_document
    from crossgate.language.change import propose
    from crossgate.language.reader import read
    from crossgate.show.console import warn, write
    from crossgate.show.edit import lines

    path = plan_file(context, "write")
    recover(path)
    with locked([path]):
        reading = read(path)
    with meter("comparing") as tell:
        proposal = propose(path, reading, change, datetime.now(), anyway=anyway, harmless=harmless, tell=tell)
    written = proposal.changes and not proposal.refused and not dry_run
    if written:
        replace_files(path, reading.data, proposal.new)
    if as_json:
        print_json(edit_document(proposal, written))
    else:
        write(lines(proposal, written))
        for error in proposal.impact.unaudited if proposal.impact else ():
            warn(f"new findings may be missing: {error.message}")
    if proposal.refused:
        raise typer.Exit(1)
    return proposal
