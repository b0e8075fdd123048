"""`crossgate reach`: exactly which packets get from one set of addresses to another, and what stops
the rest.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from crossgate.commands.asked_order import ends_and_services
from crossgate.commands.common import circumstances, load, meter, print_json, tell_missed
from crossgate.commands.completing import complete_service, complete_set
from crossgate.commands.shared_options import (
    AtOption,
    FloodOption,
    JsonOption,
    PiecesOption,
    SourcePortsOption,
)
from crossgate.core.model.errors import PlanError

if TYPE_CHECKING:
    from crossgate.core.answers.reach import Reached
    from crossgate.core.model.conditions import When

_ENDS = "A host, subnet, group, device, outside, address, prefix or any."


def reach(
    context: typer.Context,
    source: Annotated[str, typer.Argument(metavar="FROM", autocompletion=complete_set, help=_ENDS)],
    destination: Annotated[
        str, typer.Argument(metavar="TO", autocompletion=complete_set, help=_ENDS)
    ],
    services: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[SERVICE]", autocompletion=complete_service, help="Default: everything."
        ),
    ] = None,
    at: AtOption = None,
    flood: FloodOption = False,
    strays: Annotated[
        bool,
        typer.Option(
            "--strays", help="Packets that open no conversation instead: fragments and the like."
        ),
    ] = False,
    devices: Annotated[
        bool, typer.Option("--devices", help="Show the devices' own addresses too.")
    ] = False,
    source_ports: SourcePortsOption = False,
    every: Annotated[bool, typer.Option("--all", help="Show every line.")] = False,
    pieces: PiecesOption = None,
    as_json: JsonOption = False,
) -> None:
    """Show exactly what gets from FROM to TO, what is half-open, and which entry stops the rest."""
    from crossgate.core.answers.reach import alike
    from crossgate.core.answers.reach import reach as reached
    from crossgate.core.sets.effort import TooManyPieces
    from crossgate.core.traffic.session import Session

    plan = load(context)
    source, destination, asked = ends_and_services(
        plan, "reach", source, destination, services or []
    )
    if len(asked) > 1:
        raise PlanError(f"ask about one service at a time, or with commas: {','.join(asked)}")
    service = asked[0] if asked else None
    when = circumstances(plan, at, flood)
    missed: list[TooManyPieces] = []
    with meter("reaching") as tell:
        session = Session(plan)
        found = list(reached(session, source, destination, when, service, strays, tell, missed))
        # With no limit on the way all is the same beyond it.
        others = [] if flood or not plan.limits else [when._replace(flooding=True)]
        # With nothing that asks for TLS all is the same with it.
        others += [when._replace(hello=each) for each in plan.spoken_sorts if each is not None]
        differing: list[tuple[When, list[Reached]]] = []
        for other in others:
            answer = list(
                reached(session, source, destination, other, service, strays, tell, missed)
            )
            if not any(alike(answer, known) for known in (found, *(each for _, each in differing))):
                differing.append((other, answer))
    if as_json:
        from crossgate.formats.json.reach import reach_document

        print_json(
            reach_document(plan, source, destination, when, found, strays, missed, differing)
        )
        tell_missed(missed)
        return
    from crossgate.show.console import write
    from crossgate.show.sets import reach_lines

    if found or not missed:
        settles = any(other.hello is not None for other, _ in differing)
        write(
            reach_lines(
                plan,
                source,
                destination,
                when,
                found,
                strays,
                devices,
                every,
                source_ports,
                settles,
            )
        )
    for other, answer in differing:
        write(
            [
                "",
                *reach_lines(
                    plan, source, destination, other, answer, strays, devices, every, source_ports
                ),
            ]
        )
    tell_missed(missed)
