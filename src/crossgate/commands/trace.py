"""`crossgate trace`: one conversation, leg by leg, crossing by crossing, then the verdict."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from crossgate.commands.common import (
    AtOption,
    JsonOption,
    TallyOption,
    add_to_tally,
    complete_end,
    complete_service,
    family_of,
    load,
    moment,
    print_json,
)
from crossgate.core.model.claim import Claim
from crossgate.core.model.errors import PlanError
from crossgate.core.model.packet import CLIENT_PORT, MOST_PORT

if TYPE_CHECKING:
    from collections.abc import Iterator

    from crossgate.core.network.itineraries import Network
    from crossgate.core.traffic.legs import Conversation


def trace(
    context: typer.Context,
    source: Annotated[str, typer.Argument(metavar="FROM", autocompletion=complete_end, help="A host, device, point or address.")],
    destination: Annotated[str, typer.Argument(metavar="TO", autocompletion=complete_end, help="A host, device, point or address.")],
    service: Annotated[str, typer.Argument(metavar="SERVICE", autocompletion=complete_service, help="As ping, https, tcp/8443.")],
    source_port: Annotated[int | None, typer.Option(min=0, max=MOST_PORT, metavar="N", help=f"The client's port ({CLIENT_PORT}).")] = None,
    claimed: Annotated[str | None, typer.Option("--as", metavar="ADDRESS", help="Send with a source address not its own.")] = None,
    only_ipv4: Annotated[bool, typer.Option("-4", help="Only IPv4.")] = False,
    only_ipv6: Annotated[bool, typer.Option("-6", help="Only IPv6.")] = False,
    at: AtOption = None,
    expect: Annotated[Claim | None, typer.Option(metavar="VERDICT", help="permit, deny or half-open: exit status 1 if not so.")] = None,
    all_paths: Annotated[bool, typer.Option("--all-paths", help="Show a path for each way that equally good ones differ in.")] = False,
    tally: TallyOption = False,
    as_json: JsonOption = False,
) -> None:
    """Send SERVICE from FROM to TO and show every crossing, the entry that decided, and the verdict."""
    from crossgate.core.model.window import open_at
    from crossgate.core.network.itineraries import Network
    from crossgate.core.traffic.trace import VERDICTS, Tracer

    when = moment(at)
    plan = load(context)
    network = Network(plan)
    tracer = Tracer(network, open_at(plan.windows.values(), when))
    wanted = list(_conversations(network, source, destination, service, source_port, claimed, family_of(only_ipv4, only_ipv6)))
    told = [tracer.alternatives(each) if all_paths else [tracer.trace(each)] for each in wanted]
    traces = [trace for several in told for trace in several]
    if tally:
        from collections import Counter

        add_to_tally(context, plan, Counter(decider.key for each in traces for decider in each.deciders()))
    if as_json:
        from crossgate.formats.json.trace import trace_document

        print_json(trace_document(plan, when, traces))
    else:
        from crossgate.show.console import write
        from crossgate.show.trace import lines, ways_lines

        for number, several in enumerate(told):
            write([""] * bool(number))
            write(ways_lines(network, several, plan, when) if all_paths else lines(several[0], plan, when))
    verdicts = dict.fromkeys(
        verdict for each in traces for verdict in (each.verdict, *([each.differing.verdict] if each.differing else []))
    )
    if expect is not None and any(verdict is not VERDICTS[expect] for verdict in verdicts):
        if not as_json:
            typer.echo(f"expected {VERDICTS[expect]}, but it is {', '.join(verdicts)}", err=True)
        raise typer.Exit(1)


def _conversations(
    network: Network, source: str, destination: str, service: str, source_port: int | None, claimed: str | None, family: int | None
) -> Iterator[Conversation]:
    """Yield the conversations to trace: for each family that both ends have, each service that the word stands for."""
    from crossgate.core.model.address import AddressError, parse_address
    from crossgate.core.model.service import ServiceError
    from crossgate.core.network.endpoints import pairs
    from crossgate.core.traffic.legs import conversations

    try:
        spoofed = None if claimed is None else parse_address(claimed)
    except AddressError as error:
        raise PlanError(f"--as: {error}") from None
    found = pairs(network, source, destination)
    chosen = [(start, end) for start, end in found if family in (None, int(start.address.family))]
    if spoofed is not None:
        chosen = [(start, end) for start, end in chosen if start.address.family is spoofed.family]
    if not chosen:
        label = spoofed.family.label if spoofed else f"IPv{family}"
        raise PlanError(f"{source} and {destination} do not both have {label} addresses")
    problems = []
    for start, end in chosen:
        try:
            wanted = network.plan.service(service, start.address.family)
        except ServiceError as error:
            problems.append(error)
            continue
        yield from conversations(wanted, start, end, source_port, spoofed.value if spoofed else None)
    if len(problems) == len(chosen):
        raise problems[0]
