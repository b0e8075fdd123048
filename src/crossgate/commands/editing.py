"""What the commands that edit share: read, change, show what the change does, ask on a terminal, and write it."""

from __future__ import annotations

import sys
from collections.abc import Callable
from inspect import Parameter, Signature, signature
from typing import TYPE_CHECKING, Annotated, Any

import typer

from crossgate.commands.common import JsonOption, clock, meter, plan_file, print_json

if TYPE_CHECKING:
    from crossgate.language.change import Proposal
    from crossgate.language.draft import Draft

AnywayOption = Annotated[
    bool, typer.Option("--anyway", help="Write it even when it breaks an expect or a keep, or brings a new error finding.")
]
DryRunOption = Annotated[bool, typer.Option("--dry-run", help="Show what it would do, and write nothing.")]
YesOption = Annotated[bool, typer.Option("--yes", help="Write it without asking; only a terminal is asked.")]

Change = Callable[["Draft"], str]
"""Edits a draft and says in a sentence what it did (`language.change.Change`)."""


def edit_command(command: Callable[..., Change]) -> Callable[..., None]:
    """Make a command of a function that takes the command's words and returns the change: it has the options that all edits have."""

    def run(
        context: typer.Context,
        *,
        anyway: AnywayOption = False,
        yes: YesOption = False,
        dry_run: DryRunOption = False,
        as_json: JsonOption = False,
        **words: Any,
    ) -> None:
        carry_out(context, command(**words), anyway=anyway, yes=yes, dry_run=dry_run, as_json=as_json)

    own = signature(command, eval_str=True).parameters.values()
    first, *options, _ = signature(run, eval_str=True).parameters.values()
    parameters = [each.replace(kind=Parameter.KEYWORD_ONLY) for each in (first, *own, *options)]
    run.__signature__ = Signature(parameters)  # type: ignore[attr-defined]
    run.__annotations__ = {each.name: each.annotation for each in parameters}
    run.__name__, run.__doc__ = command.__name__, command.__doc__
    return run


def carry_out(
    context: typer.Context,
    change: Change,
    *,
    anyway: bool = False,
    yes: bool = False,
    dry_run: bool = False,
    as_json: bool = False,
    harmless: bool = False,
) -> Proposal:
    """Make a change to the plan: show the proposal, write it unless it is refused, a dry run or not wanted, and return it; see `propose`.

    Exits with 1, the plan untouched, when it is refused or a person at a terminal does not want it.
    """
    from crossgate.formats.disk import locked, recover, replace_files
    from crossgate.formats.json.edit import edit_document
    from crossgate.language.change import propose
    from crossgate.language.reader import read
    from crossgate.show.console import warn, write
    from crossgate.show.edit import outcome, proposal_lines

    path = plan_file(context, "write")
    recover(path)
    with locked([path]):
        reading = read(path)
    with meter("comparing") as tell:
        proposal = propose(reading, change, clock(reading.plan), anyway=anyway, harmless=harmless, tell=tell)
    if not as_json:
        write(proposal_lines(proposal))
        for error in proposal.impact.unaudited if proposal.impact else ():
            warn(f"new findings may be missing: {error.message}")
    writable = bool(proposal.changes and not proposal.refused and not dry_run)
    wanted = writable and (yes or as_json or _wants())
    if wanted:
        replace_files(path, reading.data, proposal.new)
    if as_json:
        print_json(edit_document(proposal, wanted))
    elif proposal.changes:
        write([outcome(proposal, wanted, dry_run)])
    if proposal.refused or wanted is not writable:
        raise typer.Exit(1)
    return proposal


def _wants() -> bool:
    """Ask whether to write, where there is a person to ask: standard input and output are both terminals."""
    if not (sys.stdin and sys.stdin.isatty() and sys.stdout.isatty()):
        return True
    try:
        return typer.confirm("write it?", default=False, prompt_suffix=" ")
    except typer.Abort:
        return False
