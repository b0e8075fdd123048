"""Every claim of a plan tested with real packets: of a set, its first few machines; of a service,
its first ports.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from datetime import datetime, timedelta
from itertools import islice
from typing import Any

from crossgate.core.answers.traces import ends
from crossgate.core.conversation.opening import Conversation, conversations
from crossgate.core.model.address import Family
from crossgate.core.model.claim import Claim, Moment, Only, Promise
from crossgate.core.model.errors import PlanError
from crossgate.core.model.plan import Plan
from crossgate.core.model.service import Service, ServiceError
from crossgate.core.model.tls import chosen_hello
from crossgate.core.network.endpoints import NoConversation, is_elsewhere, pairs
from crossgate.core.network.ways import Network
from crossgate.rehearsal.attempts import Attempt, SeenByMachine, Try, outcome, try_all
from crossgate.rehearsal.network import Rehearsal

_MOST_MACHINES, _MOST_PORTS = 3, 2
_OTHERS = ("ping", "ssh", "https", "domain")
"""What is tried where a claim is of every service, or of all but some."""
_WANTED = {
    Claim.PERMIT: (SeenByMachine.ANSWERED,),
    Claim.DENY: (SeenByMachine.REFUSED, SeenByMachine.SILENCE),
    Claim.HALF_OPEN: (SeenByMachine.HALF,),
}


def attempts(rehearsal: Rehearsal, claim: Promise) -> Iterator[Attempt]:
    """Yield the attempts for a claim. Raises `PlanError` with the reason why there can be none."""
    for told, why in (
        (claim.flooding, "what is beyond a limit is not tried"),
        (claim.flags is not None, "single segments are not tried"),
    ):
        if told:
            raise PlanError(why)
    network = rehearsal.fabric.network
    test = None if claim.spoken is None else claim.spoken.test
    hello = None if test is None else chosen_hello(test)
    found = False
    for wanted, says in _wanted(network, claim):
        sent = rehearsal.fabric.arriving(wanted)
        if sent is not None:
            found = True
            fixed = claim.source_port is not None
            yield Attempt(wanted, str(says), _WANTED[says], *sent, fixed, hello)
    if not found:
        raise PlanError("no machine of the plan can try it")


def _wanted(network: Network, claim: Promise) -> Iterator[tuple[Conversation, Claim]]:
    plan = network.plan
    sources = _machines(plan, claim.source)
    if is_elsewhere(plan, claim):
        own = {plan.hosts[each].on for each in sources if each in plan.hosts}
        destinations = [each.name for each in plan.hosts.values() if each.on not in own]
        destinations = destinations[:: max(1, len(destinations) // _MOST_MACHINES)]
    else:
        destinations = _machines(plan, claim.destination)
    for one in sources[:_MOST_MACHINES]:
        for other in destinations[: _MOST_MACHINES + 1]:
            try:
                found = pairs(network, one, other)
            except NoConversation:
                continue
            for start, end in found:
                family = start.address.family
                if claim.over not in (None, family):
                    continue
                for service, says in _services(plan, claim, family):
                    for each in _few(plan, service, family, start, end, claim.source_port):
                        yield each, says


def _machines(plan: Plan, words: str) -> list[str]:
    try:
        return ends(plan, words)
    except PlanError:
        return []


def _services(plan: Plan, claim: Promise, family: Family) -> Iterator[tuple[str, Claim]]:
    if not isinstance(claim, Only):
        every = claim.service == "ip"
        yield from ((each, claim.claim) for each in (_OTHERS if every else (claim.service,)))
        return
    # What one line of `only` permits the others do not deny.
    permitted = {
        service
        for each in plan.expectations
        if isinstance(each, Only) and each.source == claim.source
        for service in each.services
    }
    yield from ((each, Claim.PERMIT) for each in claim.services)
    yield from ((each, Claim.DENY) for each in _OTHERS if each not in permitted)


def _few(
    plan: Plan, text: str, family: Family, start: Any, end: Any, source_port: int | None
) -> Iterator[Conversation]:
    try:
        service = plan.service(text, family)
    except ServiceError:
        return
    for term in service.terms:
        if term.ports is not None:
            single = tuple((first, first) for first, _ in term.ports[:_MOST_PORTS])
            term = term._replace(ports=single)
        try:
            port = source_port if term.ports is not None else None
            yield from conversations(Service(text, (term,)), start, end, port)
        except PlanError:
            continue


def try_claims(rehearsal: Rehearsal, within: float, tell: Callable[[dict[str, Any]], None]) -> None:
    """Test every claim of the plan, those of one time of the windows at once, and pass each result
    to `tell`; no answer `within` that many seconds is silence.
    """
    usual, rounds = (
        rehearsal.fabric.clock,
        dict[datetime | None, list[tuple[Promise, list[Attempt]]]](),
    )
    for claim in rehearsal.fabric.plan.expectations:
        try:
            time = _time(rehearsal, claim)
            rounds.setdefault(time, []).append((claim, list(attempts(rehearsal, claim))))
        except PlanError as error:
            tell({**_of(claim), "tried": [], "held": None, "why": error.message})
    waiting = list(rounds.items())

    def next_round() -> None:
        if not waiting:
            rehearsal.fabric.clock = usual
            tell({"claims": True})
            return
        time, claims = waiting.pop(0)
        rehearsal.fabric.clock = usual if time is None else lambda: time

        def done(tries: list[Try]) -> None:
            each = iter(tries)
            for claim, several in claims:
                tell({**_of(claim), **outcome(list(islice(each, len(several))))})
            next_round()

        try_all(rehearsal, [each for _, several in claims for each in several], within, done)

    next_round()


def _of(claim: Promise) -> dict[str, Any]:
    return {"claim": claim.text, "file": claim.place.file, "line": claim.place.line}


def _time(rehearsal: Rehearsal, claim: Promise) -> datetime | None:
    """Return a time that a claim is about; None for any."""
    plan, now = rehearsal.fabric.plan, rehearsal.fabric.clock()
    if claim.hours is not None:
        times = plan.states(plan.lists.values(), claim.hours)
        return next((each for each in times.values() if each is not None), None)
    moment: Moment | None = claim.at
    if moment is None or moment.date is not None:
        return None if moment is None else moment.date
    monday = now.replace(hour=0, minute=0, second=0, microsecond=0) - timedelta(now.weekday())
    return monday + timedelta(minutes=moment.minute or 0)
