"""What becomes of traffic, whether claims hold, what is wrong, and where a list would fit."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import TYPE_CHECKING

from crossgate.core.answers.traces import TraceLimits
from crossgate.core.conversation.story import Trace
from crossgate.core.model.address import Family
from crossgate.core.model.conditions import When
from crossgate.core.model.errors import PlanError
from crossgate.core.model.finding import Finding
from crossgate.core.model.plaintext import listed
from crossgate.core.model.plan import Plan
from crossgate.core.traffic.session import Session
from crossgate.library.plans import when

if TYPE_CHECKING:
    from crossgate.core.answers.about.values import About
    from crossgate.core.answers.difference import Difference
    from crossgate.core.answers.grid_asked import Grid
    from crossgate.core.answers.hours import ConversationHours
    from crossgate.core.answers.leases import Leased
    from crossgate.core.answers.outage import Outage
    from crossgate.core.answers.points import Points
    from crossgate.core.answers.reach import Reached
    from crossgate.core.answers.verify import Verified
    from crossgate.core.answers.why import Why
    from crossgate.core.conversation.opening import Conversation
    from crossgate.core.network.ways import Network


def trace(
    plan: Plan,
    source: str,
    destination: str,
    service: str,
    *,
    of: When | None = None,
    source_port: int | None = None,
    family: Family | None = None,
) -> list[Trace]:
    """Send a service from one end to another, and return its conversations: one for each family
    that both have, and one for each port.

    Ends are hosts, devices, points, addresses, or groups and subnets, which stand for their hosts.
    Raises `PlanError` for an unknown end or service.
    """
    from crossgate.core.conversation.packets import Tracer
    from crossgate.core.network.ways import Network

    network = Network(plan)
    tracer = Tracer(network, plan.state_at(of or when(plan)))
    limits = TraceLimits(source_port, (), family)
    return [
        tracer.trace(each) for each in _conversations(network, source, destination, service, limits)
    ]


def hours(
    plan: Plan,
    source: str,
    destination: str,
    service: str,
    *,
    of: When | None = None,
    until: datetime | None = None,
    family: Family | None = None,
) -> list[ConversationHours]:
    """Return how the verdict on each conversation that `trace` returns changes, from a time on
    until another one, a week later by default: its `stretches`, and which is the `next`.

    Raises `PlanError` for an unknown end or service, and where `until` is not after the start.
    """
    from crossgate.core.answers.hours import WEEK
    from crossgate.core.answers.hours import hours as changing
    from crossgate.core.network.ways import Network

    network, start = Network(plan), of or when(plan)
    end = until or start.at + WEEK
    if end <= start.at:
        raise PlanError(f"{end:%Y-%m-%d %H:%M} is not after {start.at:%Y-%m-%d %H:%M}")
    limits = TraceLimits(None, (), family)
    return [
        changing(network, each, start, end)
        for each in _conversations(network, source, destination, service, limits)
    ]


def _conversations(
    network: Network, source: str, destination: str, service: str, limits: TraceLimits
) -> list[Conversation]:
    """Return the conversations of a service between two ends. Raises `PlanError`."""
    from crossgate.core.answers.traces import asked, ends

    plan = network.plan
    wanted = asked(network, ends(plan, source), ends(plan, destination), [service], limits)
    return [conversation for each in wanted for conversation in each.conversations]


def why(plan: Plan, list_name: str, packet: str, *, of: When | None = None) -> list[Why]:
    """Return how a list by itself, wherever it is placed, decides about the packet that opens
    `SERVICE FROM to TO`, one for each port: the line, and the entries above it, each with the first
    field that does not match.

    Raises `PlanError` for an unknown list or end, for a list of frames, and where the list and the
    ends have no family in common.
    """
    from crossgate.core.answers.why import why_alone
    from crossgate.core.network.ways import Network

    access_list = plan.access_list(list_name)
    return why_alone(Network(plan), access_list, packet, plan.state_at(of or when(plan)))


def grid(
    plan: Plan,
    services: str | Sequence[str] = (),
    sources: str | Sequence[str] = (),
    destinations: str | Sequence[str] = (),
    *,
    hosts: bool = False,
    of: When | None = None,
) -> Grid:
    """Return who reaches whom, by services, by default those that the plan expects, and ping.

    Ends are hosts, traced, or sets of addresses, proved as a whole; with `hosts`, the hosts of sets
    are taken one by one. The default are all hosts, or all subnets where there are none. Raises
    `PlanError` for an unknown end or service, `TooManyPieces` where a cell takes too much work.
    """
    from crossgate.core.answers.grid_asked import GridEnds, grid_of

    ends = GridEnds(listed(sources), listed(destinations), hosts)
    return grid_of(plan, of or when(plan), listed(services), ends)


def leases(plan: Plan, whose: str, *, of: When | None = None) -> list[Leased]:
    """Trace how machines get addresses where the plan says `leases`: for a host, or for a subnet
    the hosts with one of its leased addresses and one unnamed machine.

    Each exchange has its messages and their traces, up to the first that does not get through.
    Raises `PlanError` where no `leases` line applies.
    """
    from crossgate.core.answers.leases import exchanges_of, followed
    from crossgate.core.conversation.packets import Tracer
    from crossgate.core.network.ways import Network

    network = Network(plan)
    tracer = Tracer(network, plan.state_at(of or when(plan)))
    return [followed(tracer, each) for each in exchanges_of(network, whose)]


def verify(plan: Plan, *, without: str | Sequence[str] = ()) -> list[Verified]:
    """Prove the plan's expectations, each over every packet that it is about, at every hour; those
    whose last day is over are left out.

    `without` are devices, interfaces or switch ports that are taken to be down. Raises `PlanError`
    for a name that is none.
    """
    from crossgate.core.answers.outage import down_point
    from crossgate.core.answers.verify import Verifier

    if without:
        plan = plan.without(down_point(plan, word) for word in listed(without))
    verifier = Verifier(Session(plan))
    return [verifier.verify(each) for each in plan.wanted(plan.now())]


def outages(plan: Plan) -> list[Outage]:
    """Return what the failure of each device, and of each link between devices, breaks of the
    expectations that hold.
    """
    from crossgate.core.answers.outage import any_one_down
    from crossgate.core.answers.verify import Verifier

    session = Session(plan)
    verifier = Verifier(session)
    return list(any_one_down(session, [verifier.verify(each) for each in plan.wanted(plan.now())]))


def check(plan: Plan, at: datetime | None = None) -> list[Finding]:
    """Return the findings of a plan that it does not accept, in the order of its lines; `at` is the
    time for which windows are judged, now by default.

    Raises `TooManyPieces` where a question takes too much work.
    """
    from crossgate.core.audit import audit

    audited = audit(Session(plan), at or when(plan).at)
    for each in audited.missed:
        raise each
    return audited.findings


def reach(
    plan: Plan, source: str, destination: str, service: str | None = None, *, of: When | None = None
) -> list[Reached]:
    """Return exactly what becomes of everything between two sets of addresses, family by family,
    devices' own addresses separately.

    Raises `PlanError` for an unknown end or service, `TooManyPieces` where the answer takes too
    much work.
    """
    from crossgate.core.answers.reach import reach as reached

    return list(reached(Session(plan), source, destination, of or when(plan), service))


def points(plan: Plan, source: str, destination: str) -> list[Points]:
    """Return the places between two ends, there and back, and those that suit a standard and an
    extended list, for each family that both ends have. Raises `PlanError` for an unknown end.
    """
    from crossgate.core.answers.points import points as places
    from crossgate.core.network.ways import Network

    return places(Network(plan), source, destination)


def about(plan: Plan, word: str, *, at: datetime | None = None) -> list[About]:
    """Return all meanings of a word: a name of the plan, a point, an address, a service such as
    `tcp/443`, or `vlan 80`.

    Windows are described as they are `at` a time, now by default. Raises `PlanError` for a word
    without a meaning.
    """
    from crossgate.core.answers.about import about as told
    from crossgate.core.network.ways import Network

    return told(Network(plan), word, at or plan.now().replace(second=0, microsecond=0))


def compare(old: Plan, new: Plan) -> list[Difference]:
    """Return all traffic that two plans treat differently, in every state of their conditions;
    traffic that is permitted only now stands first.
    """
    from crossgate.core.answers.compare import differences

    return differences(Session(old), Session(new))
