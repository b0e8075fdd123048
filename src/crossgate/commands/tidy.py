"""`crossgate tidy`: the plan in the standard layout, its meaning proved unchanged."""

from __future__ import annotations

from typing import Annotated

import typer

from crossgate.commands.editing import DryRunOption, EditOptions, YesOption, carry_out
from crossgate.commands.shared_options import JsonOption


def tidy(
    context: typer.Context,
    check: Annotated[
        bool,
        typer.Option(
            "--check", help="Write nothing; exit status 1 when there is something to tidy."
        ),
    ] = False,
    yes: YesOption = False,
    dry_run: DryRunOption = False,
    as_json: JsonOption = False,
) -> None:
    """Align columns, normalise addresses and put entries in order; no packet is treated
    differently.
    """
    from crossgate.language.edits import tidy_plan

    proposal = carry_out(
        context,
        tidy_plan,
        EditOptions(yes=yes, dry_run=dry_run or check, as_json=as_json),
        harmless=True,
    )
    if check and proposal.changes:
        raise typer.Exit(1)
