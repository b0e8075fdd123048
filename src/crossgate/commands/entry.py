"""`crossgate entry`: add, move, change, drop, switch off and on the entries of a list."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from crossgate.commands.common import JsonOption, complete_entry, complete_list
from crossgate.commands.editing import AnywayOption, DryRunOption, carry_out
from crossgate.core.model.errors import PlanError

if TYPE_CHECKING:
    from crossgate.language.draft import Draft

entry = typer.Typer(name="entry", help="Edit the entries of a list, and see first what that does to traffic.", no_args_is_help=True)

ListArgument = Annotated[str, typer.Argument(metavar="LIST", autocompletion=complete_list, help="The list's name or number.")]
NumberArgument = Annotated[int, typer.Argument(metavar="N", autocompletion=complete_entry, help="The entry's number.")]
TextArgument = Annotated[str, typer.Argument(metavar="TEXT", help="The entry as the plan would have it, as 'permit https any to any'.")]
BeforeOption = Annotated[int | None, typer.Option("--before", metavar="N", help="Put it right before this entry.")]
AfterOption = Annotated[int | None, typer.Option("--after", metavar="N", help="Put it right after this entry.")]


@entry.command()
def add(
    context: typer.Context,
    list_name: ListArgument,
    text: TextArgument,
    number: Annotated[int | None, typer.Option("--number", metavar="N", min=0, help="Give it this number.")] = None,
    before: BeforeOption = None,
    after: AfterOption = None,
    anyway: AnywayOption = False,
    dry_run: DryRunOption = False,
    as_json: JsonOption = False,
) -> None:
    """Write a new entry; without a position it goes as far down as it still has an effect."""
    from crossgate.language import edits

    def change(draft: Draft) -> str:
        return edits.insert_entry(draft, edits.find_list(draft.plan, list_name), text, edits.Spot(number, before, after))

    carry_out(context, change, anyway=anyway, dry_run=dry_run, as_json=as_json)


@entry.command()
def move(
    context: typer.Context,
    list_name: ListArgument,
    number: NumberArgument,
    before: BeforeOption = None,
    after: AfterOption = None,
    anyway: AnywayOption = False,
    dry_run: DryRunOption = False,
    as_json: JsonOption = False,
) -> None:
    """Move an entry right before or right after another one; it gets a number that fits."""
    from crossgate.language import edits

    def change(draft: Draft) -> str:
        access_list = edits.find_list(draft.plan, list_name)
        to = edits.move_entry(draft, access_list, edits.find_entry(access_list, number), edits.Spot(None, before, after))
        return f"{access_list.name} {number} becomes {to}"

    carry_out(context, change, anyway=anyway, dry_run=dry_run, as_json=as_json)


@entry.command()
def change(
    context: typer.Context,
    list_name: ListArgument,
    number: NumberArgument,
    text: TextArgument,
    anyway: AnywayOption = False,
    dry_run: DryRunOption = False,
    as_json: JsonOption = False,
) -> None:
    """Write another text for an entry; its number and its comments stay."""
    from crossgate.language import edits

    def rewrite(draft: Draft) -> str:
        access_list = edits.find_list(draft.plan, list_name)
        changed = edits.find_entry(access_list, number)
        edits.given_entry(draft, access_list, text)
        body, own = edits.unnumbered(text)
        if own not in (None, number):
            raise PlanError(f"the text is numbered {own}, and {number} is to be changed; leave the number out, or move the entry")
        edits.change_entry(draft, changed, body)
        return f"{access_list.name} {number} is changed"

    carry_out(context, rewrite, anyway=anyway, dry_run=dry_run, as_json=as_json)


@entry.command()
def drop(
    context: typer.Context,
    list_name: ListArgument,
    number: NumberArgument,
    anyway: AnywayOption = False,
    dry_run: DryRunOption = False,
    as_json: JsonOption = False,
) -> None:
    """Take an entry out of its list and of the plan."""
    from crossgate.language import edits

    def change(draft: Draft) -> str:
        access_list = edits.find_list(draft.plan, list_name)
        edits.drop_entry(draft, access_list, edits.find_entry(access_list, number))
        return f"{access_list.name} {number} goes"

    carry_out(context, change, anyway=anyway, dry_run=dry_run, as_json=as_json)


def _switch(context: typer.Context, list_name: str, number: int, off: bool, anyway: bool, dry_run: bool, as_json: bool) -> None:
    from crossgate.language import edits

    def change(draft: Draft) -> str:
        access_list = edits.find_list(draft.plan, list_name)
        found = edits.find_entry(access_list, number)
        if found.off is not off:
            edits.switch_entry(draft, found, off)
        return f"{access_list.name} {number} is switched {'off' if off else 'on'}"

    carry_out(context, change, anyway=anyway, dry_run=dry_run, as_json=as_json)


@entry.command()
def off(
    context: typer.Context,
    list_name: ListArgument,
    number: NumberArgument,
    anyway: AnywayOption = False,
    dry_run: DryRunOption = False,
    as_json: JsonOption = False,
) -> None:
    """Keep an entry in the file and out of the list."""
    _switch(context, list_name, number, True, anyway, dry_run, as_json)


@entry.command()
def on(
    context: typer.Context,
    list_name: ListArgument,
    number: NumberArgument,
    anyway: AnywayOption = False,
    dry_run: DryRunOption = False,
    as_json: JsonOption = False,
) -> None:
    """Put an entry that is off back into its list."""
    _switch(context, list_name, number, False, anyway, dry_run, as_json)
