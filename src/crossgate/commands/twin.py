"""`crossgate twin`: a list in the other address family."""

from __future__ import annotations

from typing import Annotated

import typer

from crossgate.commands.editing import Change, edit_command
from crossgate.commands.entry import ListArgument


@edit_command
def twin(
    list_name: ListArgument,
    new: Annotated[str, typer.Argument(metavar="NEW", help="The name of the twin.")],
    placed: Annotated[
        bool, typer.Option("--place", help="Place it where the list is placed, too.")
    ] = False,
) -> Change:
    """Write a list in the other address family, with the names that have addresses of both."""
    from crossgate import changes

    return changes.twin(list_name, new, placed=placed)
