"""`crossgate rename`: a name changed everywhere."""

from __future__ import annotations

from typing import Annotated

import typer

from crossgate.commands.completing import complete_about
from crossgate.commands.editing import Change, edit_command
from crossgate.language.renaming import NameKind


@edit_command
def rename(
    kind: Annotated[
        NameKind,
        typer.Argument(metavar="KIND", help=f"What it is: {', '.join(NameKind)}."),
    ],
    name: Annotated[
        str,
        typer.Argument(metavar="NAME", autocompletion=complete_about, help="Its present name."),
    ],
    new: Annotated[str, typer.Argument(metavar="NEW", help="The new name.")],
) -> Change:
    """Change a name in every line that mentions it, in included files too; comments stay."""
    from crossgate import changes

    return changes.rename(kind, name, new)
