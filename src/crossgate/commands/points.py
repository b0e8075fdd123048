"""`crossgate points`: the places a conversation crosses, and where a list would fit well."""

from __future__ import annotations

from typing import Annotated

import typer

from crossgate.commands.asked_order import ends_and_services
from crossgate.commands.common import load, print_json
from crossgate.commands.completing import complete_place
from crossgate.commands.shared_options import JsonOption
from crossgate.core.model.errors import PlanError


def points(
    context: typer.Context,
    source: Annotated[
        str,
        typer.Argument(
            metavar="FROM",
            autocompletion=complete_place,
            help="A host, device, point, address, subnet or outside.",
        ),
    ],
    destination: Annotated[
        list[str],  # several words are one end, and `to` may stand before it
        typer.Argument(metavar="TO", autocompletion=complete_place, help="The same."),
    ],
    as_json: JsonOption = False,
) -> None:
    """Show every place between FROM and TO, there and back, and which suit a standard and an
    extended list. A machine stands for the subnet or the outside that it is on.
    """
    from crossgate import library

    plan = load(context)
    first, *others = destination
    source, receiver, services = ends_and_services(plan, "points", source, first, others)
    if services:
        raise PlanError(
            f"the places are those of every service, so {services[0]} is one word too many"
        )
    found = library.points(plan, source, receiver)
    if as_json:
        from crossgate.formats.json.points import points_document

        print_json(points_document(plan, found))
        return
    from crossgate.show.console import write
    from crossgate.show.points import lines

    for number, each in enumerate(found):
        write([""] * bool(number))
        write(lines(each))
