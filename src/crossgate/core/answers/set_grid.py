"""Who reaches whom, set by set: each cell is proved for all that the machines of one set send to
those of another.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from crossgate.core.answers.grid import Cell, service_in
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.address import Family
from crossgate.core.model.conditions import When
from crossgate.core.model.service import Service
from crossgate.core.network.address_classes import AddressClass, meant
from crossgate.core.network.endpoints import EndpointSet, endpoint_set
from crossgate.core.network.nodes import SequenceEnd
from crossgate.core.sets.effort import TooManyPieces, answered
from crossgate.core.traffic.between import Flow, flows
from crossgate.core.traffic.courses import openings
from crossgate.core.traffic.flows import Flows, lists_on
from crossgate.core.traffic.question import answers
from crossgate.core.traffic.session import Session


class SetGrid:
    """The cells of one plan, for one time and one kind of conversations."""

    def __init__(
        self, session: Session, when: When, missed: list[TooManyPieces] | None = None
    ) -> None:
        """Prepare a grid; what falls into too many pieces is added to `missed`, and its cell has no
        verdict.
        """
        self.session = session
        self.plan = session.plan
        self.asking: Flows = session.flows(self.plan.state_at(when))
        self.missed = missed
        self._ends: dict[tuple[str, Family], tuple[EndpointSet, list[AddressClass]]] = {}

    def cell(self, source: str, destination: str, services: Sequence[str]) -> Iterator[Cell]:
        """Yield for each service what is proved between one source and one destination. Raises
        `PlanError` for a word that stands for no addresses.
        """
        between = {family: self._flows(source, destination, family) for family in Family}
        for service in services:
            proved: dict[Family, tuple[Verdict, ...]] = {}
            for family, sent in between.items():
                read = service_in(self.plan, service, family)
                if sent and read is not None:
                    with answered(
                        f"what {source} sends to {destination} of {service}", self.missed
                    ):
                        verdict = self._verdict(sent, read)
                        if verdict is not None:
                            proved[family] = (verdict,)
            yield Cell(source, destination, service, {}, proved)

    def _end(self, word: str, family: Family) -> tuple[EndpointSet, list[AddressClass]]:
        key = (word, family)
        if key not in self._ends:
            end = endpoint_set(self.plan, word, family)
            found = meant(self.session.address_classes(family), end) if end.patterns else []
            self._ends[key] = (
                end,
                [each for each in found if not self.session.network.sends_nothing(each.end)],
            )
        return self._ends[key]

    def _flows(self, source: str, destination: str, family: Family) -> list[Flow]:
        (here, senders), (far, receivers) = (
            self._end(source, family),
            self._end(destination, family),
        )
        return (
            flows(self.session.network, senders, receivers, here.patterns, far.patterns)
            if senders and receivers
            else []
        )

    def _verdict(self, sent: Sequence[Flow], service: Service) -> Verdict | None:
        """Return the verdict on all openings of a service; `SOME` where there are several verdicts,
        None where there are no openings.
        """
        found: set[Verdict] = set()
        for flow in sent:
            family = flow.source.address.family
            begun = openings(service, family, self.plan.client_ports)
            if not any(each.region.meets(flow.region) for each in begun):
                continue  # it is of other services
            if not any(SequenceEnd.LOST in each.ends for each in flow.every) and not lists_on(
                self.session.network, flow.every, family
            ):
                found.add(Verdict.PERMITTED)  # nothing stands on any way
                continue
            for answer in answers(self.asking, flow, begun):
                found.add(answer.verdict)
                if len(found) > 1 and Verdict.VARIES in found:
                    return Verdict.VARIES
        if Verdict.VARIES in found:
            return Verdict.VARIES
        return Verdict.SOME if len(found) > 1 else next(iter(found), None)
