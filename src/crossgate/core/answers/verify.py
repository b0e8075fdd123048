"""Whether the claims of a plan hold: every `expect` and `keep`, proved over every packet that it is
about.

All conversations of a claim are taken as sets through the network (`flows`), in every state that
the conditions on the way can be in. What breaks a claim is a set; one packet of it is traced to say
why.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Hashable, Iterable, Iterator
from datetime import datetime
from itertools import product
from typing import Any, NamedTuple

from crossgate.core.answers.claim_sets import ClaimPart, ClaimsAsSets
from crossgate.core.conversation.opening import Conversation, service_of
from crossgate.core.conversation.story import Trace
from crossgate.core.conversation.verdict import VERDICTS, Verdict
from crossgate.core.model.accesslist import AnyList, Decider, DeciderKey
from crossgate.core.model.address import Address, Family
from crossgate.core.model.claim import Claim, ClaimHours, Expectation, Moment, Only, Promise
from crossgate.core.model.condition import State
from crossgate.core.model.entry import AnyEntry
from crossgate.core.model.packet import Packet
from crossgate.core.model.tls import hello_of, settled
from crossgate.core.model.window import last_day
from crossgate.core.network.endpoints import at_address, is_elsewhere
from crossgate.core.network.ways import Network
from crossgate.core.sets.effort import TooManyPieces, question
from crossgate.core.traffic.between import Flow
from crossgate.core.traffic.conditions import Mattering, legs_of, states_for
from crossgate.core.traffic.courses import Opening
from crossgate.core.traffic.examples import example
from crossgate.core.traffic.flows import lists_on
from crossgate.core.traffic.question import Answer, answers
from crossgate.core.traffic.session import Session
from crossgate.core.wording.needed import needed
from crossgate.core.wording.sentences import packet_text, parting, speaking, while_open, why_broken


class Broken(NamedTuple):
    """A claim that does not hold, and a conversation that breaks it."""

    claim: Expectation
    trace: Trace


class Verified(NamedTuple):
    """A claim and whether it holds; if not, why, and the first packet of a conversation that breaks
    it, with its verdict.

    `needed` says what would make it hold. Where it is not `answered`, it fell into too many pieces,
    and the answer is unknown. `states` is the number of states of the conditions on its ways that
    were gone through, in the family that has the most.
    """

    expectation: Promise
    held: bool
    why: str = ""
    needed: str = ""
    counterexample: Packet | None = None
    answered: bool = True
    verdict: Verdict | None = None
    broken: Broken | None = None
    states: int = 1

    def __repr__(self) -> str:
        how = "held" if self.held else "not held" if self.answered else "not answered"
        return f"<Verified {self.expectation.text}: {how}>"


class Proof(NamedTuple):
    """What has come of a claim, and how often each line decided about packets of it."""

    verified: Verified
    reached: Counter[DeciderKey]


class _Breaking(NamedTuple):
    """A packet that breaks a demand: the packet, its flow, and the state of conditions."""

    part: ClaimPart
    flow: Flow
    packet: Packet
    opened: State


class Verifier:
    """Verifies the claims of one plan, and keeps which entries decided about any packet."""

    def __init__(self, session: Session) -> None:
        self.session = session
        self.network = session.network
        self.reached: Counter[DeciderKey] = Counter()
        self._reached_now: Counter[DeciderKey] = Counter()
        self.claims = ClaimsAsSets(session)

    def verify(self, expectation: Promise) -> Verified:
        """Prove a claim over all packets that it is about, or find the first packet that breaks
        it.
        """
        verified, reached = self.proof(expectation)
        self.reached += reached
        return verified._replace(expectation=expectation)  # another line may say the same

    def proof(self, expectation: Promise) -> Proof:
        """Return what comes of a claim, and which lines decide; it is worked out once."""
        key = "verified", expectation
        if key not in self.session.kept:
            self._reached_now = Counter()
            self.know(expectation, Proof(self._told(expectation), self._reached_now))
        proof: Proof = self.session.kept[key]
        return proof

    def know(self, expectation: Promise, proof: Proof) -> None:
        """Keep what has come of a claim, which another process may have worked out."""
        self.session.kept["verified", expectation] = proof

    def _told(self, expectation: Promise) -> Verified:
        try:
            return self._verify(expectation)
        except TooManyPieces as error:
            return Verified(
                expectation,
                False,
                error.message,
                "a claim about less at once, or --pieces",
                answered=False,
            )

    def _verify(self, expectation: Promise) -> Verified:
        spoken_of, most = False, 1
        for family in (each for each in Family if expectation.over in (None, each)):
            parts = self.claims.parts(expectation, family)
            if not parts:
                continue
            found = self.claims.flows(expectation, family)
            spoken_of = spoken_of or bool(found)
            begun = [each for part in parts for each in part.begun]
            states = _states_on(
                self.network, found, begun, expectation, expectation.at or expectation.hours
            )
            most = max(most, len(states))
            breaking = self._first_breaking(found, parts, states)
            if breaking is not None:
                others = list(_states_on(self.network, found, begun, expectation))
                return self._failed(expectation, breaking, others)._replace(states=most)
        return (
            Verified(expectation, True, states=most)
            if spoken_of
            else self._speaks_of_nothing(expectation)
        )

    def _first_breaking(
        self, found: list[Flow], parts: list[ClaimPart], states: Iterable[State]
    ) -> _Breaking | None:
        """Return the first packet of some flows that breaks a demand, in the first of some
        states.
        """
        done = set[Hashable]()
        mattering = [
            Mattering(self.network, self.session.regions, flow.every, flow) for flow in found
        ]
        for opened, (nth, flow) in product(states, enumerate(found)):
            key = nth, mattering[nth].of(opened)
            if key in done:
                continue  # all is as in a state before
            done.add(key)
            with question(flow.asked):
                for part in parts:
                    for answer in answers(
                        self.session.flows(opened), flow, part.begun, part.claim.by
                    ):
                        if self._breaks(part, answer):
                            return _Breaking(
                                part, flow, example(self.network.plan, [answer.packets]), opened
                            )
        return None

    def _speaks_of_nothing(self, expectation: Promise) -> Verified:
        """Return the reason why a claim is about no conversation at all, and so does not hold; ""
        where it is about some.
        """
        for end, sends in ((expectation.source, True), (expectation.destination, False)):
            if self.claims.is_nobodys(expectation, sends):
                return Verified(
                    expectation,
                    False,
                    f"nobody can have {end}: no subnet holds it",
                    "a subnet with it, or an outside",
                )
        if self.network.plan.down:
            return Verified(expectation, False, "an end of it is down", "what is down")
        over = f" over {expectation.over.label}" if expectation.over else ""
        if self.claims.is_one_machine(expectation):
            why = (
                f"{expectation.source} and {expectation.destination} are one machine, which "
                "sends itself nothing over the network"
            )
            return Verified(expectation, False, why, "another machine at one of its ends")
        why = (
            f"{expectation.source} and {expectation.destination} share no address family{over}, "
            "so nothing can be sent"
        )
        return Verified(expectation, False, why, "give both ends addresses of one family")

    def unreached(self) -> Iterator[tuple[AnyList[Any], AnyEntry]]:
        """Yield the entries that decided about no packet of any claim verified so far."""
        for access_list in self.network.plan.every_list.values():
            for entry in access_list.entries:
                if not entry.off and (access_list.name, entry.number) not in self.reached:
                    yield access_list, entry

    def _breaks(self, part: ClaimPart, answer: Answer) -> bool:
        """Whether an answer breaks a demand."""
        for each in answer.endings:
            self._reached_now.update(decided.decider.key for decided in each.passed)
            if each.stop is not None:
                self._reached_now[each.stop.decider.key] += 1
        return not all(
            _keeps_to(part, each.verdict, each.stop and each.stop.decider, each.by)
            for each in answer.endings
        )

    def _failed(self, expectation: Promise, breaking: _Breaking, others: list[State]) -> Verified:
        """Trace the packet that breaks a claim, and say why it does."""
        part, flow, packet, opened = breaking
        ends = [
            at_address(self.network, Address(packet.family, value))
            for value in (packet.source, packet.destination)
        ]
        if flow.source.device is not None:
            ends[0] = flow.source
        conversation = Conversation(ends[0], ends[1], packet, alone=expectation.flags is not None)
        tracer = self.session.tracer(opened)
        first = tracer.trace(conversation)
        trace = next(
            (each for each in tracer.examples(conversation, part.claim.by) if _broken(part, each)),
            first,
        )
        when = ""
        if any(
            self.session.tracer(other).trace(conversation).verdict is not first.verdict
            for other in others
            if other != opened and hello_of(other) == hello_of(opened)
        ):
            names = sorted(each for each in opened if isinstance(each, str))
            shut = self.network.plan.every_window.keys() - set(names)
            when = f" {while_open(names, (each for each in shut if last_day(each)))}"
        if (
            expectation.flooding
            and self.session.tracer(opened - self.network.plan.limits).trace(conversation).verdict
            is not first.verdict
        ):
            when += " beyond what the lists permit at most"
        if any(
            self.session.tracer(settled(opened, hello_of(other))).trace(conversation).verdict
            is not first.verdict
            for other in others
            if hello_of(other) != hello_of(opened)
        ):
            when += f" {speaking(self.network.plan, hello_of(opened))}"
        other = first.differing if trace.verdict is first.verdict else first
        by_way_of = (
            f" by way of {parting(trace, other)}"
            if first.differing is not None and other is not None
            else ""
        )
        claim = part.claim
        if isinstance(expectation, Only):
            claim = claim._replace(
                service=service_of(packet) if claim.claim is Claim.DENY else claim.service,
                destination=ends[1].name
                if is_elsewhere(self.network.plan, expectation)
                else claim.destination,
            )
        why = (
            f"{packet_text(packet)}{when} is {trace.verdict}{by_way_of}: {why_broken(claim, trace)}"
        )
        return Verified(
            expectation,
            False,
            why,
            needed(self.network.plan, claim, trace),
            packet,
            verdict=trace.verdict,
            broken=Broken(claim, trace),
        )


def _keeps_to(part: ClaimPart, verdict: Verdict, stop: Decider | None, by: bool) -> bool:
    """Whether the fate of a packet meets a demand: who stops it, and whether the line that is to
    decide does.
    """
    claim = part.claim
    if verdict is Verdict.UNROUTABLE and part.without_way:
        return True
    if verdict is not VERDICTS[claim.claim]:
        return False
    return claim.by is None or (
        by if claim.claim is Claim.PERMIT else stop is not None and stop.key == claim.by
    )


def _broken(part: ClaimPart, trace: Trace) -> bool:
    """Whether a traced conversation breaks a demand."""
    stop = None if trace.decided is None else trace.decided.decider
    return not _keeps_to(
        part, trace.verdict, stop, any(decider.key == part.claim.by for decider in trace.deciders())
    )


def _states_on(
    network: Network,
    found: list[Flow],
    begun: list[Opening],
    promise: Promise,
    at: Moment | ClaimHours | None = None,
) -> dict[State, datetime | None]:
    """Return the states that the conditions of lists on the ways of some flows can be in, limited
    to those that the claim is about.
    """
    lists = (
        lists_on(
            network,
            (ways for flow in found for ways in flow.every),
            found[0].source.address.family,
        )
        if found
        else []
    )
    return states_for(
        network.plan, lists, lambda: legs_of(found, begun), at, promise.flooding, promise.spoken
    )
