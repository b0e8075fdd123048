"""`crossgate place` and `crossgate lift`: where lists stand."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from crossgate.commands.common import JsonOption, complete_where
from crossgate.commands.editing import AnywayOption, DryRunOption, carry_out
from crossgate.commands.entry import ListArgument
from crossgate.core.model.network import Direction

if TYPE_CHECKING:
    from crossgate.language.draft import Draft

_WHERE = "DEVICE.INTERFACE, SWITCH.PORT, 'subnet NAME' or 'DEVICE itself'"


def place(
    context: typer.Context,
    list_name: ListArgument,
    direction: Annotated[Direction, typer.Argument(metavar="DIRECTION", help="inbound or outbound, as seen from the device")],
    where: Annotated[list[str], typer.Argument(metavar="WHERE", autocompletion=complete_where, help=_WHERE)],
    anyway: AnywayOption = False,
    dry_run: DryRunOption = False,
    as_json: JsonOption = False,
) -> None:
    """Place a list at a point, and see first what that does to traffic."""
    from crossgate.language import edits

    def change(draft: Draft) -> str:
        point = edits.point_given(draft, " ".join(where))
        edits.place_list(draft, edits.find_list(draft.plan, list_name), direction, point)
        return f"{list_name} is placed {direction} on {point}"

    carry_out(context, change, anyway=anyway, dry_run=dry_run, as_json=as_json)


def lift(
    context: typer.Context,
    list_name: ListArgument,
    direction: Annotated[Direction | None, typer.Argument(metavar="[DIRECTION", help="inbound or outbound; default: everywhere")] = None,
    where: Annotated[list[str] | None, typer.Argument(metavar="WHERE]", autocompletion=complete_where, help=_WHERE)] = None,
    anyway: AnywayOption = False,
    dry_run: DryRunOption = False,
    as_json: JsonOption = False,
) -> None:
    """Take a list away from where it stands; the list itself stays."""
    from crossgate.language import edits

    def change(draft: Draft) -> str:
        point = edits.point_given(draft, " ".join(where)) if where else None
        lifted = edits.lift_list(draft, edits.find_list(draft.plan, list_name), direction, point)
        return f"{list_name} is lifted from {' and '.join(str(each.point) for each in lifted)}"

    carry_out(context, change, anyway=anyway, dry_run=dry_run, as_json=as_json)
