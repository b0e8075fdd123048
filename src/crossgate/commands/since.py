"""`crossgate since`: the commits that changed a verdict, through the plan's git history."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from crossgate.commands.asked_order import ends_and_services
from crossgate.commands.common import circumstances, family_of, plan_file, print_json, reading_of
from crossgate.commands.completing import complete_one_end, complete_service
from crossgate.commands.shared_options import AtOption, JsonOption
from crossgate.core.model.errors import PlanError


def since(
    context: typer.Context,
    source: Annotated[
        str | None,
        typer.Argument(
            metavar="FROM", autocompletion=complete_one_end, help="A host, device or address."
        ),
    ] = None,
    destination: Annotated[
        str | None,
        typer.Argument(
            metavar="TO", autocompletion=complete_one_end, help="A host, device or address."
        ),
    ] = None,
    services: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="SERVICE", autocompletion=complete_service, help="As ping, https, tcp/8443."
        ),
    ] = None,
    claim: Annotated[
        str | None,
        typer.Option(
            "--claim", metavar="LINE", help="Ask since when the claim in a line holds or fails."
        ),
    ] = None,
    only_ipv4: Annotated[bool, typer.Option("-4", help="Only IPv4.")] = False,
    only_ipv6: Annotated[bool, typer.Option("-6", help="Only IPv6.")] = False,
    at: AtOption = None,
    every: Annotated[
        bool,
        typer.Option(
            "--every", help="Look at every commit, so that no change and its reversal are missed."
        ),
    ] = False,
    as_json: JsonOption = False,
) -> None:
    """Find the commits that changed the verdict on SERVICE from FROM to TO, or on a claim: when, by
    whom, and the line that made it so.
    """
    from crossgate.core.answers.traces import TraceLimits
    from crossgate.formats.git import history
    from crossgate.formats.past import Past, claim_asked, conversation_asked
    from crossgate.language.statements import claim_at

    path = plan_file(context, "look up in git")
    reading = reading_of(path)
    plan = reading.plan
    if claim is not None:
        if source is not None:
            raise PlanError("--claim names what is asked about; leave FROM, TO and SERVICE out")
        try:
            ask = claim_asked(claim_at(plan, claim).text)
        except PlanError as error:
            raise PlanError(f"--claim: {error.message}") from None
    elif source is None or destination is None or not services:
        raise PlanError("since takes FROM TO SERVICE, or --claim LINE")
    else:
        source, destination, asked = ends_and_services(plan, "since", source, destination, services)
        if len(asked) != 1:
            raise PlanError("since asks about one service: FROM TO SERVICE")
        (service,) = asked
        choice = TraceLimits(family=family_of(only_ipv4, only_ipv6))
        ask = conversation_asked(source, destination, service, choice, circumstances(plan, at))
    past = Past(path, reading, history(path, [str(Path(each)) for each in plan.files]), ask)
    found = list(past.since(every))
    if as_json:
        from crossgate.formats.json.since import since_document

        print_json(since_document(plan, found))
        return
    from crossgate.show.console import write
    from crossgate.show.since import lines

    write(lines(found, "" if claim is not None else f"{source} to {destination}"))
