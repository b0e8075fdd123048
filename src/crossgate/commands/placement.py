"""`crossgate place` and `crossgate lift`: where lists are placed."""

from __future__ import annotations

from typing import Annotated

import typer

from crossgate.commands.completing import complete_where
from crossgate.commands.editing import Change, edit_command
from crossgate.commands.entry import ListArgument
from crossgate.core.model.errors import PlanError
from crossgate.core.model.network import Direction

_WHERE = (
    "DEVICE.INTERFACE, SWITCH.PORT, 'subnet NAME', 'DEVICE itself', 'host NAME' or 'group NAME'"
)


def _direction(word: str) -> Direction:
    """Return the direction that a word of the command line is."""
    try:
        return Direction(word)
    except ValueError:
        from crossgate.language.mends import DIRECTIONS

        meant = DIRECTIONS.get(word.lower())
        raise typer.BadParameter(
            f"write {meant}, not {word}"
            if meant
            else f"expected {', '.join(Direction)}, not {word}; the direction stands before the place"
        ) from None


def _complete_direction(incomplete: str) -> list[str]:
    return [each for each in Direction if each.startswith(incomplete)]


@edit_command
def place(
    list_name: ListArgument,
    direction: Annotated[
        Direction,
        typer.Argument(
            metavar="DIRECTION",
            parser=_direction,
            autocompletion=_complete_direction,
            help="inbound or outbound, as seen from the device; within a subnet",
        ),
    ],
    where: Annotated[
        list[str], typer.Argument(metavar="WHERE", autocompletion=complete_where, help=_WHERE)
    ],
    move: Annotated[
        bool, typer.Option("--move", help="Take it from where it stands now in the same step.")
    ] = False,
    replace: Annotated[
        bool,
        typer.Option("--replace", help="Take the list that stands there away in the same step."),
    ] = False,
) -> Change:
    """Place a list at a point, and see first what that does to traffic."""
    from crossgate import changes

    if move and replace:
        raise PlanError("--move and --replace exclude each other; a batch has both")
    return changes.place_list(list_name, direction, " ".join(where), move=move, replace=replace)


@edit_command
def lift(
    list_name: ListArgument,
    direction: Annotated[
        Direction | None,
        typer.Argument(
            metavar="[DIRECTION",
            parser=_direction,
            autocompletion=_complete_direction,
            help="inbound, outbound or within; default: everywhere",
        ),
    ] = None,
    where: Annotated[
        list[str] | None,
        typer.Argument(metavar="WHERE]", autocompletion=complete_where, help=_WHERE),
    ] = None,
) -> Change:
    """Remove a list from where it is placed; the list itself stays."""
    from crossgate import changes

    return changes.lift_list(list_name, direction, " ".join(where or ()))
