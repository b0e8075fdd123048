"""`crossgate entry`: add, move, change, drop, switch off and on the entries of a list."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from crossgate.commands.common import examples
from crossgate.commands.completing import complete_entry, complete_list
from crossgate.commands.editing import Change, edit_command
from crossgate.core.model.accesslist import line_name
from crossgate.core.model.errors import PlanError

if TYPE_CHECKING:
    from crossgate.language.draft import Draft

entry = typer.Typer(
    name="entry",
    help="Edit the entries of a list, and see first what that does to traffic.",
    no_args_is_help=True,
)

ListArgument = Annotated[
    str,
    typer.Argument(metavar="LIST", autocompletion=complete_list, help="The list's name or number."),
]
NumberArgument = Annotated[
    int, typer.Argument(metavar="N", autocompletion=complete_entry, help="The entry's number.")
]
TextArgument = Annotated[
    list[str],
    typer.Argument(
        metavar="TEXT",
        help="The entry as the plan would have it, as 'permit https any to any'; the quotes may be "
        "left out.",
    ),
]
BeforeOption = Annotated[
    int | None, typer.Option("--before", metavar="N", help="Put it right before this entry.")
]
AfterOption = Annotated[
    int | None, typer.Option("--after", metavar="N", help="Put it right after this entry.")
]


def given_text(words: list[str]) -> str:
    """Return an entry that was given as one word or as several; a word with blanks was quoted by
    itself, and is its comment.
    """
    if len(words) == 1:
        return words[0]
    return " ".join(f'"{each}"' if " " in each else each for each in words)


@entry.command(
    epilog=examples(
        'entry add guest-fence "permit ntp guests to manifest"',
        'entry add 12 "deny gate-3" --before 20',
    )
)
@edit_command
def add(
    list_name: ListArgument,
    text: TextArgument,
    number: Annotated[
        int | None, typer.Option("--number", metavar="N", min=0, help="Give it this number.")
    ] = None,
    before: BeforeOption = None,
    after: AfterOption = None,
    effective: Annotated[
        bool, typer.Option("--effective", help="Put it as far down as it still has an effect.")
    ] = False,
) -> Change:
    """Write a new entry, at the end unless you say where; what the lines above take of it is told."""
    from crossgate.commands.editing import wants_instead
    from crossgate.language import edits
    from crossgate.language.inserting import insert_entry

    def change(draft: Draft) -> str:
        spot = edits.Spot(number, before, after, effective or None)
        return insert_entry(
            draft,
            edits.find_list(draft.plan, list_name),
            given_text(text),
            spot,
            lambda asked: wants_instead(draft.remarks, asked),
        )

    return change


@entry.command(
    epilog=examples("entry move guest-fence 30 --before 20", "entry move 12 30 --after 10")
)
@edit_command
def move(
    list_name: ListArgument,
    number: NumberArgument,
    before: BeforeOption = None,
    after: AfterOption = None,
) -> Change:
    """Move an entry right before or right after another one; it gets a number that fits."""
    from crossgate.language import edits

    def change(draft: Draft) -> str:
        access_list = edits.find_list(draft.plan, list_name)
        to = edits.move_entry(
            draft,
            access_list,
            edits.find_entry(access_list, number),
            edits.Spot(None, before, after),
        )
        return f"{line_name(access_list.name, number)} becomes {to}"

    return change


@entry.command(epilog=examples('entry change kiosk-fence 20 "permit udp/53 tickets to resolver"'))
@edit_command
def change(
    list_name: ListArgument,
    number: NumberArgument,
    text: TextArgument,
) -> Change:
    """Write another text for an entry; its number and its comments stay."""
    from crossgate.language import edits

    def rewrite(draft: Draft) -> str:
        access_list = edits.find_list(draft.plan, list_name)
        changed = edits.find_entry(access_list, number)
        written = given_text(text)
        edits.given_entry(draft, access_list, written)
        body, own = edits.unnumbered(written)
        if own not in (None, number):
            raise PlanError(
                f"the text is numbered {own}, and {number} is to be changed; leave the number "
                "out, or move the entry"
            )
        edits.change_entry(draft, changed, body)
        return f"{line_name(access_list.name, number)} is changed"

    return rewrite


@entry.command(epilog=examples("entry drop kiosk-fence 40"))
@edit_command
def drop(
    list_name: ListArgument,
    number: NumberArgument,
) -> Change:
    """Remove an entry from its list and from the plan."""
    from crossgate.language import edits

    def change(draft: Draft) -> str:
        access_list = edits.find_list(draft.plan, list_name)
        edits.drop_entry(draft, access_list, edits.find_entry(access_list, number))
        return f"{line_name(access_list.name, number)} goes"

    return change


def _switch(list_name: str, number: int, off: bool) -> Change:
    from crossgate.language import edits

    def change(draft: Draft) -> str:
        access_list = edits.find_list(draft.plan, list_name)
        found = edits.find_entry(access_list, number)
        if found.off is not off:
            edits.switch_entry(draft, found, off)
        return f"{line_name(access_list.name, number)} is switched {'off' if off else 'on'}"

    return change


@entry.command(epilog=examples("entry off kiosk-fence 40", "entry off 12 30 --dry-run"))
@edit_command
def off(
    list_name: ListArgument,
    number: NumberArgument,
) -> Change:
    """Keep an entry in the file but not in force."""
    return _switch(list_name, number, True)


@entry.command(epilog=examples("entry on kiosk-fence 40"))
@edit_command
def on(
    list_name: ListArgument,
    number: NumberArgument,
) -> Change:
    """Put an entry that is off back in force."""
    return _switch(list_name, number, False)
