"""`crossgate list`: new lists, lists removed, and entries renumbered."""

from __future__ import annotations

from typing import Annotated

import typer

from crossgate.commands.common import examples
from crossgate.commands.editing import Change, edit_command
from crossgate.commands.entry import ListArgument
from crossgate.core.model.entry import Kind

listing = typer.Typer(
    name="list", help="Write a new list, remove one, or renumber one.", no_args_is_help=True
)


@listing.command(
    epilog=examples("list new office-fence extended ipv4", "list new 20 standard ipv4")
)
@edit_command
def new(
    name: Annotated[
        str, typer.Argument(metavar="ID", help="A name, or a number that stands for the kind.")
    ],
    kind: Annotated[Kind, typer.Argument(metavar="KIND", help="standard or extended")],
    family: Annotated[
        str, typer.Argument(metavar="FAMILY", help="ipv4, ipv6, or ethernet for frames")
    ],
) -> Change:
    """Write a new list without entries; it stops everything once it is placed."""
    from crossgate import changes

    return changes.new_list(name, kind, family)


@listing.command(epilog=examples("list drop spare"))
@edit_command
def drop(list_name: ListArgument) -> Change:
    """Remove a list that is placed nowhere from the plan, with all its lines."""
    from crossgate import changes

    return changes.drop_list(list_name)


@listing.command(
    epilog=examples("list renumber kiosk-fence6", "list renumber 110 --start 100 --step 5")
)
@edit_command
def renumber(
    list_name: ListArgument,
    start: Annotated[int, typer.Option(min=0, metavar="N", help="The first entry's number.")] = 10,
    step: Annotated[
        int, typer.Option(min=1, metavar="N", help="From one number to the next.")
    ] = 10,
) -> Change:
    """Renumber a list's entries in their order; expectations that name a number follow."""
    from crossgate import changes

    return changes.renumber_list(list_name, start, step)
