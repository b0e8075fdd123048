"""`crossgate fence`: the lists that keep a subnet from every other one, placed, with the
expectations that prove it.
"""

from __future__ import annotations

from typing import Annotated

import typer

from crossgate.commands.completing import complete_name, complete_subnet
from crossgate.commands.editing import Change, edit_command


@edit_command
def fence(
    subnet: Annotated[
        str,
        typer.Argument(
            metavar="SUBNET", autocompletion=complete_subnet, help="The subnet to be fenced off."
        ),
    ],
    allow: Annotated[
        str,
        typer.Option(
            metavar="SERVICES", help="What its own gateway may be asked for; '' for nothing."
        ),
    ] = "dns,dhcp,ping",
    exceptions: Annotated[
        list[str] | None,
        typer.Option(
            "--except",
            metavar="NAME",
            autocompletion=complete_name,
            help="Leave this open; may be repeated.",
        ),
    ] = None,
    undo: Annotated[
        bool, typer.Option("--undo", help="Take away what fence wrote around SUBNET.")
    ] = False,
    one_way: Annotated[
        bool, typer.Option("--one-way", help="Let others in, and their replies out.")
    ] = False,
) -> Change:
    """Keep SUBNET from every other subnet of the plan, and them from it; the outside stays open."""
    from crossgate import changes

    if undo:
        return changes.open_fence(subnet)
    return changes.fence(
        subnet,
        allow=[token for token in allow.split(",") if token],
        exceptions=[name for text in exceptions or [] for name in text.split(",") if name],
        one_way=one_way,
    )
