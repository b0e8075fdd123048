"""Whether what a plan claims of itself holds: every `expect` and `keep`, tried over every packet it speaks of.

Between two machines the paths are known, so the packets fall into a few classes (`classes`), and the windows on the way
into a few states (`window.states`); one conversation of each is traced.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime
from typing import NamedTuple

from crossgate.core.accesslist import AccessList, Action, Entry
from crossgate.core.address import Address, Family
from crossgate.core.classes import Asked as Lists
from crossgate.core.classes import openings
from crossgate.core.ends import candidates
from crossgate.core.errors import PlanError
from crossgate.core.expect import Claim, Expectation
from crossgate.core.explain import packet_text, reason, stopped
from crossgate.core.forwarding import End, Forwarding, Path
from crossgate.core.packet import Packet
from crossgate.core.service import ServiceError
from crossgate.core.trace import Conversation, Trace, Tracer, Verdict
from crossgate.core.window import open_at, states

VERDICTS = {Claim.PERMIT: Verdict.PERMITTED, Claim.DENY: Verdict.DENIED, Claim.HALF_OPEN: Verdict.HALF_OPEN}


class Verified(NamedTuple):
    """An expectation and whether it holds; if not, why, and the first packet of a conversation that breaks it.

    `needed` says what would make it hold.
    """

    expectation: Expectation
    held: bool
    why: str = ""
    needed: str = ""
    counterexample: Packet | None = None


class Verifier:
    """Verifies the expectations of one plan, and keeps which entries decided a packet on the way."""

    def __init__(self, network: Forwarding) -> None:
        self.network = network
        self.reached: dict[tuple[str, int | None], int] = {}
        self._tracers: dict[frozenset[str], Tracer] = {}

    def verify(self, expectation: Expectation) -> Verified:
        """Try an expectation over all that it speaks of, up to the first packet that breaks it.

        Raises `PlanError` when an end stands for more than single machines.
        """
        try:
            pairs = list(self._pairs(expectation))
        except PlanError as error:
            raise PlanError(f"{expectation.place}: {error.message}") from None
        if not pairs:
            over = f" over {expectation.over.label}" if expectation.over else ""
            why = f"{expectation.source} and {expectation.destination} share no address family{over}, so nothing can be sent"
            return Verified(expectation, False, why, "give both ends addresses of one family")
        for source, destination in pairs:
            for conversation, opened, moment in self._conversations(expectation, source, destination):
                trace = self._tracer(opened).trace(conversation)
                self._count(trace)
                broken = self._broken(expectation, trace)
                if broken:
                    when = f" while {', '.join(sorted(opened))} {'is' if len(opened) == 1 else 'are'} open" if opened else ""
                    when = f"{when} (as at {moment:%a %Y-%m-%d %H:%M})" if moment else ""
                    why = f"{packet_text(conversation.first)}{when} is {trace.verdict}: {broken}"
                    return Verified(expectation, False, why, _needed(expectation, trace), conversation.first)
        return Verified(expectation, True)

    def unreached(self) -> Iterator[tuple[AccessList, Entry]]:
        """Yield the entries that decided no packet of any expectation verified so far."""
        for access_list in self.network.plan.lists.values():
            for entry in access_list.entries:
                if not entry.off and (access_list.name, entry.number) not in self.reached:
                    yield access_list, entry

    def _pairs(self, expectation: Expectation) -> Iterator[tuple[End, End]]:
        """Yield every two addresses that the expectation speaks of, family by family."""
        sources = candidates(self.network, expectation.source)
        destinations = candidates(self.network, expectation.destination)
        for family in Family:
            if expectation.over not in (None, family):
                continue
            for source in sources:
                for destination in destinations:
                    if source.address.family is family is destination.address.family and source.address != destination.address:
                        yield source, destination

    def _conversations(
        self, expectation: Expectation, source: End, destination: End
    ) -> Iterator[tuple[Conversation, frozenset[str], datetime | None]]:
        """Yield each conversation to try with the windows open, and a moment when they are if there are windows on the way."""
        plan, family = self.network.plan, source.address.family
        try:
            service = plan.service(expectation.service, family)
        except ServiceError:
            return
        there = self.network.path(source, destination.address)
        back = self.network.path(destination, source.address)
        lists = Lists(self._lists(there, family), self._lists(back, family))
        names = {name for access_list in (*lists.there, *lists.back) for name in access_list.windows()}
        windows = [plan.windows[name] for name in sorted(names)]
        at = expectation.at
        if at is not None and at.date is not None:
            moments = {open_at(windows, at.date): at.date}
        else:
            moments = states(windows, at.minute if at else None)
        clients = (expectation.source_port, expectation.source_port) if expectation.source_port is not None else plan.client_ports
        for opened, moment in moments.items():
            for term in service.terms:
                for packet in openings(term, source, destination, clients, lists):
                    yield Conversation(source, destination, packet), opened, moment if windows else None

    def _lists(self, path: Path, family: Family) -> tuple[AccessList, ...]:
        placed = self.network.plan.placed
        found = (placed.get((crossing.point, crossing.direction, family)) for crossing in path.crossings)
        return tuple(access_list for access_list in found if access_list is not None)

    def _tracer(self, opened: frozenset[str]) -> Tracer:
        if opened not in self._tracers:
            self._tracers[opened] = Tracer(self.network, opened)
        return self._tracers[opened]

    def _count(self, trace: Trace) -> None:
        for access_list, entry in trace.decisions():
            key = (access_list.name, entry.number if entry else None)
            self.reached[key] = self.reached.get(key, 0) + 1

    def _broken(self, expectation: Expectation, trace: Trace) -> str:
        """Return why a traced conversation breaks an expectation, or "" when it does not."""
        if trace.verdict is not VERDICTS[expectation.claim]:
            return reason(trace)
        by = expectation.by
        if by is None:
            return ""
        if expectation.claim is Claim.PERMIT:
            decided = {(access_list.name, entry.number if entry else None) for access_list, entry in trace.decisions()}
            line = "its otherwise line" if by.entry is None else f"entry {by.entry}"
            return "" if (by.access_list, by.entry) in decided else f"{line} of {by.access_list} has no part in it"
        asked = trace.decided
        assert asked is not None
        assert asked.access_list is not None
        assert asked.decision is not None
        entry = asked.decision.entry
        if (asked.access_list.name, entry.number if entry else None) == (by.access_list, by.entry):
            return ""
        return f"{stopped(asked)}, not {by.access_list} {'otherwise' if by.entry is None else by.entry}"


def _needed(expectation: Expectation, trace: Trace) -> str:
    """Say what would have to change for the expectation to hold."""
    asked = trace.decided
    if trace.verdict is VERDICTS[expectation.claim]:
        return "change the entry that decides, or what the expectation says of it"
    if trace.verdict is Verdict.UNROUTABLE:
        return "a route there and back"
    packet = trace.legs[-1].packet
    if expectation.claim is Claim.PERMIT:
        assert asked is not None
        assert asked.access_list is not None
        assert asked.decision is not None
        where = f"before {asked.decision.entry.number}" if asked.decision.entry else "before its otherwise line"
        addresses = f"from {Address(packet.family, packet.source)} to {Address(packet.family, packet.destination)}"
        return f"a permit in {asked.access_list.name} {where} for {'the reply ' if trace.legs[-1].leg.returns else ''}{addresses}"
    wanted = trace.legs[0] if expectation.claim is Claim.DENY else trace.legs[-1]
    lists = dict.fromkeys(each.access_list.name for each in wanted.asked if each.access_list)
    end = trace.conversation.destination.name
    if not lists:
        return f"a list with a {Action.DENY} on the way to {end}: nothing is placed there; see points"
    return f"a {Action.DENY} on the way to {end}, in {' or '.join(lists)}"
