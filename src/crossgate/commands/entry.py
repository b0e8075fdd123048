"""`crossgate entry`: add, move, change, drop, switch off and on the entries of a list."""

from __future__ import annotations

from typing import Annotated

import typer

from crossgate.commands.common import examples
from crossgate.commands.completing import complete_entry, complete_list
from crossgate.commands.editing import Change, edit_command

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
    """Write a new entry, at the end unless you say where; what the lines above take of it is
    told.
    """
    from crossgate import changes
    from crossgate.commands.editing import wants_instead

    return changes.add_entry(
        list_name,
        given_text(text),
        number=number,
        before=before,
        after=after,
        effective=effective,
        instead=wants_instead,
    )


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
    from crossgate import changes

    return changes.move_entry(list_name, number, before=before, after=after)


@entry.command(epilog=examples('entry change kiosk-fence 20 "permit udp/53 tickets to resolver"'))
@edit_command
def change(
    list_name: ListArgument,
    number: NumberArgument,
    text: TextArgument,
) -> Change:
    """Write another text for an entry; its number and its comments stay."""
    from crossgate import changes

    return changes.change_entry(list_name, number, given_text(text))


@entry.command(epilog=examples("entry drop kiosk-fence 40"))
@edit_command
def drop(
    list_name: ListArgument,
    number: NumberArgument,
) -> Change:
    """Remove an entry from its list and from the plan."""
    from crossgate import changes

    return changes.drop_entry(list_name, number)


@entry.command(epilog=examples("entry off kiosk-fence 40", "entry off 12 30 --dry-run"))
@edit_command
def off(
    list_name: ListArgument,
    number: NumberArgument,
) -> Change:
    """Keep an entry in the file but not in force."""
    from crossgate import changes

    return changes.switch_entry(list_name, number, off=True)


@entry.command(epilog=examples("entry on kiosk-fence 40"))
@edit_command
def on(
    list_name: ListArgument,
    number: NumberArgument,
) -> Change:
    """Put an entry that is off back in force."""
    from crossgate import changes

    return changes.switch_entry(list_name, number, off=False)
