"""Tests for a claim: conversations between machines at its ends."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import islice

from crossgate.core.answers.traces import ends
from crossgate.core.conversation.opening import Conversation, conversations
from crossgate.core.model.address import Family
from crossgate.core.model.claim import Moment, Only, Promise
from crossgate.core.model.conditions import When
from crossgate.core.model.errors import PlanError
from crossgate.core.model.plan import Plan
from crossgate.core.model.service import Service, ServiceError
from crossgate.core.model.window import minute_of_week
from crossgate.core.network.endpoints import NoConversation, is_elsewhere, pairs
from crossgate.core.network.ways import Network

_OTHERS = ("ping", "tcp/443", "tcp/22", "udp/53")
"""What is tried where a claim is of every service, or of all but some."""
_MOST_MACHINES, _MOST_PORTS, _MOST = 3, 2, 40


def claimed(network: Network, claim: Promise, when: When) -> dict[str, list[Conversation]] | str:
    """Return the candidates for tests of a claim at a time: of what it is about (`claimed`), and of
    what an `only` line excludes (`left out`); or the reason why there can be none.
    """
    reason = _cannot(network.plan, claim, when)
    if reason:
        return reason
    services: dict[str, Sequence[str]] = {"claimed": claim.services}
    if isinstance(claim, Only):
        plan = network.plan
        alike = [e for e in plan.only_lines if e.source == claim.source]
        permitted = {service for each in alike for service in each.services}
        services["left out"] = [each for each in _OTHERS if each not in permitted]
        services = {what: own for what, own in services.items() if own}
    return {
        what: list(islice(_between(network, claim, own), _MOST)) for what, own in services.items()
    }


def _cannot(plan: Plan, claim: Promise, when: When) -> str:
    """Return the reason why nothing of a claim can be tested at a time."""
    if claim.flooding:
        return "what is beyond a limit is not tried"
    if claim.flags is not None:
        return "single segments are not tried"
    if claim.spoken is not None:
        return "what depends on TLS is not tried"
    if claim.hours is not None:
        window = plan.every_window[claim.hours.window]
        if window.is_open(when.at) is not claim.hours.inside:
            return f"it is about {claim.hours}, and that is not now"
    if claim.at is not None and not _is_now(plan, claim.at, when):
        return f"it is about {claim.at.text}, when other windows are open than now"
    return ""


def _is_now(plan: Plan, at: Moment, when: When) -> bool:
    """Whether the same windows are open at a time as at the moment of a claim."""
    lists = plan.lists.values()
    then = next(iter(plan.states(lists, at)), frozenset())
    opened = {name for name in plan.every_window if name in plan.state_at(when)}
    if at.minute is not None and at.minute == minute_of_week(when.at):
        return True
    return {each for each in then if isinstance(each, str)} == opened & {
        name for each in lists for name in each.windows
    }


def _between(network: Network, claim: Promise, services: Sequence[str]) -> Iterator[Conversation]:
    plan = network.plan
    sources = _machines(plan, claim.source)
    if is_elsewhere(plan, claim):
        own = {plan.hosts[each].on for each in sources if each in plan.hosts}
        destinations = [each.name for each in plan.hosts.values() if each.on not in own]
    else:
        destinations = _machines(plan, claim.destination)
    every = [each for word in services for each in (_OTHERS if word == "ip" else (word,))]
    for one in sources[:_MOST_MACHINES]:
        for other in destinations[:_MOST_MACHINES]:
            try:
                found = pairs(network, one, other)
            except NoConversation:
                continue
            for start, end in found:
                if claim.over in (None, start.address.family):
                    for word in every:
                        for service in _few(plan, word, start.address.family):
                            port = claim.source_port if service.terms[0].ports else None
                            yield from conversations(service, start, end, port)


def _machines(plan: Plan, words: str) -> list[str]:
    try:
        return ends(plan, words)
    except PlanError:
        return []


def _few(plan: Plan, text: str, family: Family) -> Iterator[Service]:
    """Yield the parts of a service that are single packets; of a range of ports, the first."""
    try:
        terms = plan.service(text, family).terms
    except ServiceError:
        return
    for term in terms:
        if term.ports is not None:
            for first, _ in term.ports[:_MOST_PORTS]:
                yield Service(text, (term._replace(ports=((first, first),)),))
        elif term.icmp_type is not None:
            yield Service(text, (term,))
