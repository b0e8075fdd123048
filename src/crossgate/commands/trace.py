"""`crossgate trace`: one conversation, leg by leg, crossing by crossing, then the verdict; several,
a line each.
"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, NamedTuple

import typer

from crossgate.commands.asked_order import ends_and_services
from crossgate.commands.common import (
    circumstances,
    family_of,
    load,
    moment,
    print_json,
    progress,
    tell_mistaken,
)
from crossgate.commands.completing import (
    LEASE,
    complete_destination,
    complete_end,
    complete_service,
)
from crossgate.commands.shared_options import (
    AtOption,
    CipherOption,
    FloodOption,
    JsonOption,
    TallyOption,
    TlsOption,
)
from crossgate.commands.tallying import add_to_tally
from crossgate.core.model.claim import Claim
from crossgate.core.model.errors import PlanError
from crossgate.core.model.packet import CLIENT_PORT, MOST_PORT

if TYPE_CHECKING:
    from collections.abc import Sequence
    from datetime import datetime

    from crossgate.core.answers.traces import TraceWanted
    from crossgate.core.model.conditions import When
    from crossgate.core.model.plan import Plan
    from crossgate.core.model.service import FlagTest
    from crossgate.core.network.ways import Network


class _Asked(NamedTuple):
    """Whose leases are asked about, in which family, None for both, when, and with which expected
    verdict.
    """

    source: str
    family: int | None
    when: When
    expect: Claim | None


_MOST_IN_FULL = 2
"""Of more conversations than these each is one line where they are shown over time."""
_ENDS = "A host, device, point, address, group or subnet."


def trace(
    context: typer.Context,
    source: Annotated[str, typer.Argument(metavar="FROM", autocompletion=complete_end, help=_ENDS)],
    destination: Annotated[
        str, typer.Argument(metavar="TO", autocompletion=complete_destination, help=_ENDS)
    ],
    services: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[SERVICE...]",
            autocompletion=complete_service,
            help="As ping, https, tcp/8443; one or several; none for TO lease.",
        ),
    ] = None,
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
            help="One TCP segment with just these flags, as FIN or ACK,RST.",
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
        bool, typer.Option("--short", help="Show a single conversation on one line too.")
    ] = False,
    every: Annotated[
        bool, typer.Option("--every", help="Show every crossing without a list, too.")
    ] = False,
    why: Annotated[
        bool,
        typer.Option("--why", help="Show why the lines above the one that decides did not."),
    ] = False,
    week: Annotated[
        bool,
        typer.Option("--week", help="Show how the verdict changes over a week from --at on."),
    ] = False,
    until: Annotated[
        str | None,
        typer.Option(metavar="DATE", help="The same up to a date, or a time as --at has it."),
    ] = None,
    all_paths: Annotated[
        bool,
        typer.Option("--all-paths", help="Show a path for each way that equal ones differ in."),
    ] = False,
    drawn: Annotated[
        Path | None,
        typer.Option(
            "--draw",
            metavar="FILE",
            help="Draw the first conversation as well: .svg, .png or .pdf.",
        ),
    ] = None,
    tally: TallyOption = False,
    as_json: JsonOption = False,
) -> None:
    """Send SERVICE from FROM to TO and show every crossing, the entry that decided, and the
    verdict; a line each of several. TO may be lease.
    """
    from crossgate.core.answers.traces import TraceLimits, asked, claimed_addresses, ends
    from crossgate.core.conversation.packets import Tracer
    from crossgate.core.conversation.verdict import VERDICTS
    from crossgate.core.network.ways import Network

    if (full or why) and short:
        raise PlanError(f"--{'full' if full else 'why'} and --short exclude each other")
    plan = load(context)
    source, destination, services = ends_and_services(
        plan, "trace", source, destination, services or []
    )
    if not services and destination == LEASE and LEASE not in plan.names():
        unfit = {
            "--source-port": source_port is not None,
            "--as": claimed is not None,
            "--flags": flags is not None,
            "--tls": tls is not None,
            "--cipher": cipher is not None,
            "--week": week,
            "--until": until is not None,
            "--all-paths": all_paths,
            "--draw": drawn is not None,
        }
        for option in (each for each, given in unfit.items() if given):
            raise PlanError(
                f"{option} is about one conversation, and a lease has several; leave it out"
            )
        family = family_of(only_ipv4, only_ipv6)
        asked_for = _Asked(source, family, circumstances(plan, at, flood, None, None), expect)
        detail = True if full or why else False if short else None
        _tell_leases(context, plan, asked_for, detail, every, why, tally, as_json)
        return
    if not services:
        raise PlanError(f"say what {source} sends to {destination}, as ping or tcp/443")
    over_time = "--until" if until is not None else "--week" if week else ""
    alone = {
        "--why": why,
        "--all-paths": all_paths,
        "--draw": drawn is not None,
        "--tally": tally,
        "--expect": expect is not None,
    }
    for option in (each for each, given in alone.items() if given and over_time):
        raise PlanError(f"{option} is about one time, and {over_time} about many; leave one out")
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
        TraceLimits(source_port, spoofed, family_of(only_ipv4, only_ipv6), _flags(flags)),
    )
    if over_time:
        detail = True if full else False if short else None
        _tell_over_time(network, wanted, when, until, every, detail, as_json)
        return
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
        from crossgate.commands.pictures import draw_trace

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


def _tell_over_time(
    network: Network,
    wanted: Sequence[TraceWanted],
    when: When,
    until: str | None,
    every: bool,
    full: bool | None,
    as_json: bool,
) -> None:
    """Show how verdicts change from a time on, for a week or until a time: in `full`, on a line
    each, or with None in full where they are few. Raises `PlanError` where the end is not after the
    start.
    """
    from crossgate.core.answers.hours import hours

    end = _end(network.plan, when.at, until)
    found = [hours(network, each, when, end) for asked in wanted for each in asked.conversations]
    if as_json:
        from crossgate.formats.json.hours import hours_document

        print_json(hours_document(network.plan, when, end, found))
        return
    from crossgate.show.console import write
    from crossgate.show.hours import lines, short_lines

    if full is False or (full is None and len(found) > _MOST_IN_FULL):
        write(short_lines(found))
        return
    for number, each in enumerate(found):
        write([""] * bool(number))
        write(lines(each, every))


def _tell_leases(
    context: typer.Context,
    plan: Plan,
    asked: _Asked,
    full: bool | None,
    every: bool,
    why: bool,
    tally: bool,
    as_json: bool,
) -> None:
    """Show how machines get leases: message by message in `full`, on a line each, or with None in
    full where it is one machine.
    """
    from collections import Counter

    from crossgate.core.answers.leases import exchanges_of, followed
    from crossgate.core.conversation.packets import Tracer
    from crossgate.core.conversation.verdict import VERDICTS
    from crossgate.core.network.ways import Network

    network = Network(plan)
    tracer = Tracer(network, plan.state_at(asked.when))
    exchanges = [
        each
        for each in exchanges_of(network, asked.source)
        if asked.family in (None, int(each.leases.family))
    ]
    if not exchanges:
        raise PlanError(f"no leases line is for IPv{asked.family} addresses of {asked.source}")
    found = [followed(tracer, each) for each in progress(exchanges, len(exchanges), "tracing")]
    if tally:
        met = (decider.key for each in found for one in each.traces for decider in one.deciders())
        add_to_tally(context, plan, Counter(met))
    if as_json:
        from crossgate.formats.json.leases import leases_document

        print_json(leases_document(plan, asked.when, found, why))
    else:
        from crossgate.show.console import write
        from crossgate.show.leases import lines, short_lines

        if full is False or (full is None and len(found) > 1):
            write(short_lines(found, plan, asked.when))
        else:
            for number, each in enumerate(found):
                write([""] * bool(number))
                write(lines(each, plan, asked.when, every, why))
    verdicts = dict.fromkeys(each.verdict for each in found)
    if asked.expect is not None and any(each is not VERDICTS[asked.expect] for each in verdicts):
        if not as_json:
            typer.echo(
                f"expected {VERDICTS[asked.expect]}, but it is {', '.join(verdicts)}", err=True
            )
        raise typer.Exit(1)


def _end(plan: Plan, start: datetime, until: str | None) -> datetime:
    """Return the end of the time that is asked about: a week after its start, or what `--until`
    says. Raises `PlanError`.
    """
    from datetime import timedelta

    from crossgate.core.answers.hours import WEEK

    if until is None:
        return start + WEEK
    if until.count("-") == 2 and ":" not in until:
        end = moment(f"{until} 00:00", plan, "--until") + timedelta(days=1)
    else:
        end = moment(until, plan, "--until")
    if end <= start:
        raise PlanError(f"--until {until} is not after {start:%a %Y-%m-%d %H:%M}")
    return end


def _flags(text: str | None) -> FlagTest | None:
    from crossgate.core.model.service import ServiceError
    from crossgate.core.model.service_words import parse_flags

    if text is None:
        return None
    try:
        return parse_flags(text)
    except ServiceError as error:
        raise PlanError(f"--flags: {error.message}") from None
