"""`crossgate place` and `crossgate lift`: where lists are placed."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from crossgate.commands.completing import complete_where
from crossgate.commands.editing import Change, edit_command
from crossgate.commands.entry import ListArgument
from crossgate.core.model.errors import PlanError
from crossgate.core.model.network import Direction, stands_at

if TYPE_CHECKING:
    from crossgate.language.draft import Draft

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
    from crossgate.language import edits, placing

    def change(draft: Draft) -> str:
        point = placing.point_given(draft, " ".join(where))
        access_list = edits.find_list(draft.plan, list_name)
        if move and replace:
            raise PlanError("--move and --replace exclude each other; a batch has both")
        if replace:
            other = placing.replace_list(draft, access_list, direction, point)
            return f"{list_name} is placed {stands_at(direction, point)} instead of {other}"
        if move:
            was = placing.move_list(draft, access_list, direction, point)
            return f"{list_name} is moved from {was.where} to {stands_at(direction, point)}"
        placing.place_list(draft, access_list, direction, point)
        return f"{list_name} is placed {stands_at(direction, point)}"

    return change


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
    from crossgate.language import edits, placing

    def change(draft: Draft) -> str:
        point = placing.point_given(draft, " ".join(where)) if where else None
        lifted = placing.lift_list(draft, edits.find_list(draft.plan, list_name), direction, point)
        return f"{list_name} is lifted from {' and '.join(str(each.point) for each in lifted)}"

    return change
