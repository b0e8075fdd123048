"""Findings about address leases: machines that get none, cannot renew it, or cannot ask the servers
it names.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import NamedTuple

from crossgate.core.answers.leases import Leased, Message, clients, exchanges, followed
from crossgate.core.answers.verify import Verified, Verifier
from crossgate.core.audit.context import Case
from crossgate.core.audit.registry import finds
from crossgate.core.conversation.story import Trace
from crossgate.core.model.accesslist import Decider
from crossgate.core.model.claim import Claim, Expectation
from crossgate.core.model.condition import State
from crossgate.core.model.entry import Kind
from crossgate.core.model.finding import Fault, Finding
from crossgate.core.model.network import Leases
from crossgate.core.sets.effort import TooManyPieces
from crossgate.core.sets.region import packet_region
from crossgate.core.traffic.conditions import states_for
from crossgate.core.traffic.flows import lists_on
from crossgate.core.wording.sentences import decided_by, reason

_NAMES, _TIME = "udp/domain", "udp/ntp"
"""RFC 1035 section 4.2.1 and RFC 5905 section 7.2: what machines ask for names and for the time."""


@finds("lease-blocked")
def lease_blocked(case: Case) -> Iterator[Finding]:
    """Yield the lines that prevent machines from getting a lease."""
    return _stopped(case, "lease-blocked", renews=False)


@finds("renewal-blocked")
def renewal_blocked(case: Case) -> Iterator[Finding]:
    """Yield the lines that prevent machines from renewing a lease with its server."""
    return _stopped(case, "renewal-blocked", renews=True)


def _stopped(case: Case, name: str, renews: bool) -> Iterator[Finding]:
    """Yield the findings about lease exchanges that are stopped at a renewal message, or at another
    one.
    """
    told = set[tuple[object, ...]]()
    for leases in case.plan.leases:
        for client in clients(case.network, leases):
            several = list(exchanges(case.network, leases, client))
            messages = [each for exchange in several for each in exchange.messages]
            for state in _states(case, messages):
                tracer = case.session.tracer(state)
                found = [followed(tracer, each) for each in several]
                first = found[0]
                if first.stopped is None or any(each.stopped is None for each in found):
                    continue  # one way is enough: a machine takes the offer that it gets
                decided = first.traces[-1].decided
                line = None if decided is None else decided.decider
                key = leases.place, leases.family, first.stopped.what, line and line.key
                if first.stopped.renews is renews and key not in told:
                    told.add(key)
                    yield _finding(name, first, first.stopped, line)


def _states(case: Case, messages: Iterable[Message]) -> list[State]:
    """Return the states of the conditions of all lists that some messages may meet."""
    lists, regions = {}, []
    for each in messages:
        first = each.conversation.first
        ways = case.network.of_packet(
            each.conversation.source, each.conversation.destination, first
        )
        lists.update(dict.fromkeys(lists_on(case.network, ways, first.family)))
        turned = first._replace(
            source=first.destination,
            destination=first.source,
            source_port=first.destination_port,
            destination_port=first.source_port,
        )
        regions += [packet_region(first), packet_region(turned)]
    return list(states_for(case.plan, lists, lambda: regions))


def _finding(name: str, leased: Leased, message: Message, line: Decider | None) -> Finding:
    exchange, trace = leased.exchange, leased.traces[-1]
    who, server = exchange.client.name, exchange.leases.by
    what = "cannot renew its lease with" if message.renews else "gets no lease from"
    first, back = message.conversation.first, trace.legs[-1].leg.returns
    ports = first.source_port, first.destination_port
    there, own = reversed(ports) if back else ports
    permit = _permit(trace, (message.source, message.destination), f"udp/{own}", there)
    fault = Fault(
        f"{who} {what} {server}: at the {message.what}, {_why(trace)}",
        f"permit {permit}" if line is not None else "see that it has a way",
    )
    return _at(name, exchange.leases, trace, line, fault, permit)


def _why(trace: Trace) -> str:
    decided = trace.decided
    if decided is None or decided.decider is None:
        return f"nothing gets through: {reason(trace)}"
    return decided_by(
        decided.decider, decided.crossing, "the answer" if trace.legs[-1].leg.returns else "it"
    )


def _permit(trace: Trace, ends: tuple[str, str], service: str, source_port: int | None) -> str:
    """Return what an entry would have to permit so that a denied packet passes, between these ends
    on its way there. In a standard list that is its source only, and no more than the packet needs,
    since the entry is about all that the source sends.
    """
    source, destination = reversed(ends) if trace.legs[-1].leg.returns else ends
    decided = trace.decided
    own = None if decided is None else decided.access_list
    if own is not None and own.kind is Kind.STANDARD:
        return source.partition(",")[0]
    clients = "" if source_port is None else f" source port {source_port}"
    return f"{service} {source} to {destination}{clients}"


def _at(
    name: str, leases: Leases, trace: Trace, line: Decider | None, fault: Fault, permit: str
) -> Finding:
    """Return a finding at the line that denies something, or at the line of the leases where no
    list does.
    """
    packet = trace.conversation.first
    on = trace.conversation.source.segment
    if line is None:
        return Finding(name, leases.place, None, None, fault, packet=packet, segment=on)
    own = line.access_list.name
    return Finding(
        name, line.place, own, line.number, fault, packet=packet, segment=on, beside=permit
    )


class _Served(NamedTuple):
    """A server that leases name to their machines, and its service, in the words of a claim."""

    leases: Leases
    service: str
    server: str


@finds("names-blocked")
def names_blocked(case: Case) -> Iterator[Finding]:
    """Yield the lines that prevent machines with a lease from asking the name server that it gives
    them.
    """
    return _unserved(
        case,
        "names-blocked",
        "for names",
        (_Served(each, _NAMES, server) for each in case.plan.leases for server in each.names),
    )


@finds("time-blocked")
def time_blocked(case: Case) -> Iterator[Finding]:
    """Yield the lines that prevent machines with a lease from asking the time server that it gives
    them.
    """
    return _unserved(
        case,
        "time-blocked",
        "for the time",
        (_Served(each, _TIME, server) for each in case.plan.leases for server in each.time),
    )


def _unserved(case: Case, name: str, what: str, served: Iterable[_Served]) -> Iterator[Finding]:
    verifier = Verifier(case.session)
    for each in served:
        family = each.leases.family
        for server in _addresses(case, each):
            source = _source(case, each.leases)
            text = f"permit {each.service} {source} to {server}"
            verified = verifier.verify(
                Expectation(
                    keep=False,
                    claim=Claim.PERMIT,
                    service=each.service,
                    source=source,
                    destination=server,
                    source_port=None,
                    at=None,
                    over=family,
                    by=None,
                    comment="",
                    text=text,
                    place=each.leases.place,
                )
            )
            if not verified.answered:
                case.missed.append(TooManyPieces(f"{text}: {verified.why}"))
            elif not verified.held:
                yield _not_served(name, what, each, source, verified)


def _source(case: Case, leases: Leases) -> str:
    """Return words for the leased addresses: the subnet where it has no others of the family."""
    alike = [e for e in case.plan.leases if (e.on, e.family) == (leases.on, leases.family)]
    return leases.word if len(alike) == 1 else ", ".join(map(str, leases.addresses))


def _addresses(case: Case, served: _Served) -> Iterator[str]:
    """Yield the words by which a name or time server is asked, in the family of the leases."""
    plan, family, word = case.plan, served.leases.family, served.server
    if word in plan.devices:
        own = plan.devices[word].interfaces.values()
        near = [each for each in own if each.on == served.leases.on] or list(own)
        yield from (str(each.point) for each in near[:1] if each.in_family(family))
    elif word in plan.hosts:
        yield from [word] if plan.hosts[word].in_family(family) is not None else []
    elif (":" in word) is (family == 6):
        yield word


def _not_served(name: str, what: str, served: _Served, source: str, verified: Verified) -> Finding:
    leases = served.leases
    fault = Fault(
        f"machines with a lease of {leases.on} cannot ask {served.server} {what}: {verified.why}",
        f"needed: {verified.needed}",
    )
    broken = verified.broken
    if broken is None:
        return Finding(name, leases.place, None, None, fault)
    trace = broken.trace
    decided = trace.decided
    line = None if decided is None or decided.access_list is None else decided.decider
    ends = source, verified.expectation.destination
    service, source_port = served.service, None
    if trace.legs[-1].leg.returns:
        service, source_port = "udp", trace.conversation.first.destination_port
    return _at(name, leases, trace, line, fault, _permit(trace, ends, service, source_port))
