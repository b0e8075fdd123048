"""`crossgate trace`: one conversation, leg by leg, crossing by crossing, then the verdict; several,
a line each.
"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from crossgate.commands.common import (
    AtOption,
    CipherOption,
    FloodOption,
    JsonOption,
    TallyOption,
    TlsOption,
    add_to_tally,
    circumstances,
    family_of,
    load,
    print_json,
    progress,
    tell_mistaken,
)
from crossgate.commands.completing import complete_end, complete_service
from crossgate.core.model.claim import Claim
from crossgate.core.model.errors import PlanError
from crossgate.core.model.packet import CLIENT_PORT, MOST_PORT

if TYPE_CHECKING:
    from crossgate.core.model.service import FlagTest

_ENDS = (
    "A host, device, point or address; several by commas; a group or subnet stands for its hosts."
)


def trace(
    context: typer.Context,
    source: Annotated[str, typer.Argument(metavar="FROM", autocompletion=complete_end, help=_ENDS)],
    destination: Annotated[
        str, typer.Argument(metavar="TO", autocompletion=complete_end, help=_ENDS)
    ],
    services: Annotated[
        list[str],
        typer.Argument(
            metavar="SERVICE...",
            autocompletion=complete_service,
            help="As ping, https, tcp/8443; one or several.",
        ),
    ],
    source_port: Annotated[
        int | None,
        typer.Option(min=0, max=MOST_PORT, metavar="N", help=f"The client's port ({CLIENT_PORT})."),
    ] = None,
    claimed: Annotated[
        str | None,
        typer.Option(
            "--as",
            metavar="ADDRESS",
            autocompletion=complete_end,
            help="Send with a source address not its own, or that of a name.",
        ),
    ] = None,
    flags: Annotated[
        str | None,
        typer.Option(
            metavar="FLAGS",
            help="Send one TCP segment with these flags set and no others, as FIN or ACK,RST.",
        ),
    ] = None,
    only_ipv4: Annotated[bool, typer.Option("-4", help="Only IPv4.")] = False,
    only_ipv6: Annotated[bool, typer.Option("-6", help="Only IPv6.")] = False,
    at: AtOption = None,
    flood: FloodOption = False,
    tls: TlsOption = None,
    cipher: CipherOption = None,
    expect: Annotated[
        Claim | None,
        typer.Option(metavar="VERDICT", help="permit, deny or half-open: exit status 1 if not so."),
    ] = None,
    full: Annotated[
        bool, typer.Option("--full", help="Show several conversations crossing by crossing too.")
    ] = False,
    short: Annotated[
        bool, typer.Option("--short", help="Show one conversation in a line too.")
    ] = False,
    every: Annotated[
        bool, typer.Option("--every", help="Show every crossing where no list stands.")
    ] = False,
    why: Annotated[
        bool,
        typer.Option(
            "--why", help="Show why the lines above the one that decides did not, line by line."
        ),
    ] = False,
    all_paths: Annotated[
        bool,
        typer.Option(
            "--all-paths", help="Show a path for each way that equally good ones differ in."
        ),
    ] = False,
    drawn: Annotated[
        Path | None,
        typer.Option(
            "--draw",
            metavar="FILE",
            help="Draw the first conversation over the network, too: .svg, .png or .pdf.",
        ),
    ] = None,
    tally: TallyOption = False,
    as_json: JsonOption = False,
) -> None:
    """Send SERVICE from FROM to TO and show every crossing, the entry that decided, and the
    verdict; a line each of several.
    """
    from crossgate.core.answers.traces import Choice, asked, claimed_addresses, ends
    from crossgate.core.conversation.packets import Tracer
    from crossgate.core.conversation.verdict import VERDICTS
    from crossgate.core.network.ways import Network

    if (full or why) and short:
        raise PlanError(f"--{'full' if full else 'why'} and --short exclude each other")
    plan = load(context)
    when = circumstances(plan, at, flood, tls, cipher)
    network = Network(plan)
    tracer = Tracer(network, plan.state_at(when))
    try:
        spoofed = () if claimed is None else claimed_addresses(network, claimed)
    except PlanError as error:
        raise PlanError(f"--as: {error}") from None
    wanted = asked(
        network,
        ends(plan, source),
        ends(plan, destination),
        services,
        Choice(source_port, spoofed, family_of(only_ipv4, only_ipv6), _flags(flags)),
    )
    told = [
        (each, tracer.alternatives(conversation) if all_paths else [tracer.trace(conversation)])
        for each in progress(wanted, len(wanted), "tracing")
        for conversation in each.conversations
    ]
    tell_mistaken(services)
    several_claimed = len(spoofed) > len({each.family for each in spoofed})
    traces = [trace for _, several in told for trace in several]
    if tally:
        from collections import Counter

        add_to_tally(
            context, plan, Counter(decider.key for each in traces for decider in each.deciders())
        )
    if drawn is not None and traces:
        from crossgate.commands.drawing import draw_trace

        draw_trace(plan, traces[0], drawn)
    if as_json:
        from crossgate.formats.json.trace import trace_document

        print_json(trace_document(plan, when, traces, why))
    elif short or ((len(wanted) > 1 or several_claimed) and not (full or all_paths or why)):
        from crossgate.show.console import write
        from crossgate.show.trace import short_lines

        write(short_lines([(each, several[0]) for each, several in told], plan, when))
    else:
        from crossgate.show.console import write
        from crossgate.show.trace import lines, ways_lines

        for number, (_, several) in enumerate(told):
            write([""] * bool(number))
            write(
                ways_lines(network, several, plan, when, every)
                if all_paths
                else lines(several[0], plan, when, every, why=why)
            )
    verdicts = dict.fromkeys(
        verdict
        for each in traces
        for verdict in (each.verdict, *([each.differing.verdict] if each.differing else []))
    )
    if expect is not None and any(verdict is not VERDICTS[expect] for verdict in verdicts):
        if not as_json:
            typer.echo(f"expected {VERDICTS[expect]}, but it is {', '.join(verdicts)}", err=True)
        raise typer.Exit(1)


def _flags(text: str | None) -> FlagTest | None:
    from crossgate.core.model.service import ServiceError, parse_flags

    if text is None:
        return None
    try:
        return parse_flags(text)
    except ServiceError as error:
        raise PlanError(f"--flags: {error.message}") from None
