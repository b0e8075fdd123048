"""A conversation through the network: leg by leg, crossing by crossing, and the verdict.

1. Each leg follows its path; at each crossing the place's list of the packet's family is asked, if there is one.
2. The first list that does not permit stops the leg, and the conversation with it.
3. A stateful device remembers a conversation once it has let a leg of it by; later legs pass its lists unasked.
4. `permitted`: every leg arrives. `denied`: a list stops the first leg. `half-open`: the first leg arrives and a list
   stops a later one, or the reply goes to another machine. `unroutable`: no list did it, there is no way.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from enum import StrEnum
from typing import NamedTuple

from crossgate.core.lists.index import ListIndex
from crossgate.core.model.accesslist import AccessList, Action, Decider
from crossgate.core.model.address import Address
from crossgate.core.model.claim import Claim
from crossgate.core.model.condition import State
from crossgate.core.model.packet import Packet
from crossgate.core.network.endpoints import at_address
from crossgate.core.network.itineraries import Network, Way
from crossgate.core.network.routing import Crossing, Endpoint, Path
from crossgate.core.traffic.legs import Conversation, Leg, legs


class Verdict(StrEnum):
    """What becomes of a conversation; of a set of them, `SOME` where not all fare alike."""

    PERMITTED = "permitted"
    DENIED = "denied"
    HALF_OPEN = "half-open"
    UNROUTABLE = "unroutable"
    VARIES = "varies"
    SOME = "some"


VERDICTS = {Claim.PERMIT: Verdict.PERMITTED, Claim.DENY: Verdict.DENIED, Claim.HALF_OPEN: Verdict.HALF_OPEN}
"""What a claim says becomes of a conversation."""


class Outcome(StrEnum):
    """What becomes of one leg."""

    ARRIVED = "arrived"
    DENIED = "denied"
    REJECTED = "rejected"
    UNROUTABLE = "unroutable"


class Asked(NamedTuple):
    """A crossing with what was placed there: no list, a list that decided, or one passed unasked (`remembered`)."""

    crossing: Crossing
    access_list: AccessList | None
    decider: Decider | None
    remembered: bool = False

    @property
    def permits(self) -> bool:
        """Whether the packet goes on."""
        return self.decider is None or self.decider.permits


class LegTrace(NamedTuple):
    """One leg: its packet, its path, what was asked on it as far as it came, and its outcome."""

    leg: Leg
    packet: Packet
    path: Path
    asked: tuple[Asked, ...]
    outcome: Outcome


class Trace(NamedTuple):
    """A conversation's legs and its verdict, on the first of its ways there and back.

    `strayed` is the machine that a reply went to instead of the sender. `ways` is how many ways there are that differ in the
    lists they meet, and `differing` is the trace along the first of them that ends otherwise, None where all agree.
    """

    conversation: Conversation
    legs: tuple[LegTrace, ...]
    verdict: Verdict
    strayed: Endpoint | None = None
    ways: int = 1
    differing: Trace | None = None

    @property
    def decided(self) -> Asked | None:
        """The crossing whose list stopped the conversation; None when no list did."""
        last = self.legs[-1]
        return last.asked[-1] if last.outcome in (Outcome.DENIED, Outcome.REJECTED) else None

    def deciders(self) -> Iterator[Decider]:
        """Yield the line that decided of every list that was asked."""
        for leg in self.legs:
            for asked in leg.asked:
                if asked.decider is not None:
                    yield asked.decider

    @property
    def forks(self) -> bool:
        """Whether some leg had another path that was as good."""
        return any(leg.path.forks for leg in self.legs)


class Fate(NamedTuple):
    """What becomes of a conversation, without how: the verdict on its first way, the line that stopped it, whether all ways agree."""

    verdict: Verdict
    stopped: Decider | None
    agreed: bool = True


class Tracer:
    """Traces conversations through one network in one `state` of its conditions."""

    def __init__(self, network: Network, state: State = frozenset()) -> None:
        self.network = network
        self.state = state
        self._indexes: dict[AccessList, ListIndex] = {}

    def trace(self, conversation: Conversation) -> Trace:
        """Trace a conversation along the first of the equally good paths, and see whether it fares alike on the others.

        Raises `TooManyPieces` when the equal paths differ in too many ways.
        """
        there, back = _destinations(conversation)
        first, second = self.network.path(conversation.source, there), self.network.path(conversation.destination, back)
        return self.alternatives(conversation)[0] if first.forks or second.forks else self._along(conversation, first, second)

    def alternatives(self, conversation: Conversation) -> list[Trace]:
        """Trace a conversation along every way there and back that differs in the lists it meets, the first one first.

        Raises `TooManyPieces` when they are too many.
        """
        there, back = _destinations(conversation)
        every: list[Trace] = []
        for way_there in self.network.ways(conversation.source, there):
            for way_back in self.network.ways(conversation.destination, back):
                every.append(self._along(conversation, way_there, way_back))
                if not any(leg.leg.returns for leg in every[-1].legs):
                    break
        return [
            each._replace(ways=len(every), differing=next((other for other in every if other.verdict is not each.verdict), None))
            for each in every
        ]

    def fate(self, conversation: Conversation, ways: Sequence[Way]) -> Fate:
        """Return what `trace` finds of a conversation that its sender opens under its own address, given its ways, the first one first."""
        on_link = conversation.source.segment == conversation.destination.segment
        first = self._fate(legs(conversation.first, on_link), ways[0])
        agreed = all(self._fate(legs(conversation.first, on_link), way).verdict is first.verdict for way in ways[1:])
        return first if agreed else first._replace(agreed=False)

    def _fate(self, packets: Iterable[tuple[Leg, Packet]], way: Way) -> Fate:
        passed = frozenset[str]()
        for number, (leg, packet) in enumerate(packets):
            passage = way.back if leg.returns else way.there
            for crossing in passage.crossings:
                if crossing.rulings is not None or crossing.point.device not in passed:
                    access_list = self.network.list_at(crossing, packet.family)
                    assert access_list is not None
                    decider = self._index(access_list).decide(packet)
                    if not decider.permits:
                        return Fate(Verdict.HALF_OPEN if number else Verdict.DENIED, decider)
            if not passage.arrived:
                return Fate(Verdict.UNROUTABLE, None)
            if way.unanswered:
                break
            passed = way.there.stateful
        return Fate(Verdict.PERMITTED, None)

    def _along(self, conversation: Conversation, way_there: Path, way_back: Path) -> Trace:
        passed: set[str] = set()
        done: list[LegTrace] = []
        for leg, packet in legs(conversation.first, conversation.source.segment == conversation.destination.segment):
            trace = self._leg(leg, packet, way_back if leg.returns else way_there, passed)
            done.append(trace)
            if trace.outcome is not Outcome.ARRIVED or trace.path.on_link:
                break
            if leg.returns and conversation.claimed is not None:
                end = at_address(self.network, conversation.claimed)
                if not _same_machine(end, conversation.source):
                    return Trace(conversation, tuple(done), Verdict.HALF_OPEN, end)
            passed.update(path_devices(trace.path))
        return Trace(conversation, tuple(done), _verdict(done))

    def _leg(self, leg: Leg, packet: Packet, path: Path, passed: set[str]) -> LegTrace:
        """Take one leg along its path; `passed` are the devices that have let an earlier leg by."""
        asked = []
        for crossing in path.crossings:
            access_list = self.network.list_at(crossing, packet.family)
            if access_list is None:
                asked.append(Asked(crossing, None, None))
                continue
            if self._remembers(crossing, passed):
                asked.append(Asked(crossing, access_list, None, remembered=True))
                continue
            decider = self._index(access_list).decide(packet)
            asked.append(Asked(crossing, access_list, decider))
            action = decider.action
            if action is not Action.PERMIT:
                outcome = Outcome.DENIED if action is Action.DENY else Outcome.REJECTED
                return LegTrace(leg, packet, path, tuple(asked), outcome)
        return LegTrace(leg, packet, path, tuple(asked), Outcome.ARRIVED if path.arrived else Outcome.UNROUTABLE)

    def _remembers(self, crossing: Crossing, passed: set[str]) -> bool:
        device = crossing.point.device if crossing.rulings is None else None
        return device is not None and device in passed and self.network.plan.devices[device].stateful

    def _index(self, access_list: AccessList) -> ListIndex:
        if access_list not in self._indexes:
            self._indexes[access_list] = ListIndex(access_list, self.state)
        return self._indexes[access_list]


def path_devices(path: Path) -> set[str]:
    """Return every device on a path, switches that only pass frames on included."""
    return {*path.devices, *(device for crossing in path.crossings if (device := crossing.point.device) is not None)}


def _destinations(conversation: Conversation) -> tuple[Address, Address]:
    """Return the addresses that packets there and packets back are sent to."""
    first = conversation.first
    return Address(first.family, first.destination), Address(first.family, first.source)


def _same_machine(one: Endpoint, other: Endpoint) -> bool:
    """Whether two ends are addresses of one device or of one host."""
    return (one.device, one.name) == (other.device, other.name) if one.device is None else one.device == other.device


def _verdict(done: list[LegTrace]) -> Verdict:
    last = done[-1].outcome
    if last is Outcome.ARRIVED:
        return Verdict.PERMITTED
    if last is Outcome.UNROUTABLE:
        return Verdict.UNROUTABLE
    return Verdict.DENIED if len(done) == 1 else Verdict.HALF_OPEN
