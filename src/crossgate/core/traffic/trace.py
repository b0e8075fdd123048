"""A conversation through the network: leg by leg, crossing by crossing, and the verdict.

1. Each leg follows its path; at each crossing the place's list of the packet's family is asked, if there is one.
2. The first list that does not permit stops the leg, and the conversation with it.
3. A stateful device remembers a conversation once it has let a leg of it by; later legs pass its lists unasked.
4. `permitted`: every leg arrives. `denied`: a list stops the first leg. `half-open`: the first leg arrives and a list
   stops a later one, or the reply goes to another machine. `unroutable`: no list did it, there is no way.
5. A list that asks what TLS a conversation settles on lets by what it permits in some state of that, until it is settled. Then the
   stateful device where it stands, if it sees both ways, asks it again about the packet that opened.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from enum import StrEnum
from typing import NamedTuple

from crossgate.core.lists.index import ListIndex
from crossgate.core.model.accesslist import AccessList, Action, Decider, DeciderKey
from crossgate.core.model.address import Address, Family
from crossgate.core.model.condition import State, hello_of
from crossgate.core.model.packet import TCP, Packet
from crossgate.core.network.endpoints import at_address
from crossgate.core.network.nodes import MOST_WAYS, too_many_ways
from crossgate.core.network.paths import Crossing, Endpoint, Path
from crossgate.core.network.ways import Network, Way, Ways
from crossgate.core.sets.effort import TooManyPieces
from crossgate.core.traffic.endings import Ending, endings, example
from crossgate.core.traffic.legs import Conversation, Leg, legs, settling
from crossgate.core.traffic.verdict import Verdict


class Outcome(StrEnum):
    """What becomes of one leg."""

    ARRIVED = "arrived"
    DENIED = "denied"
    REJECTED = "rejected"
    UNROUTABLE = "unroutable"


class Asked(NamedTuple):
    """A crossing with what was placed there: no list, a list that decided, or one passed unasked (`remembered`).

    With `again` the list was asked once more about the packet that opened, now that the conversation has settled on its TLS.
    """

    crossing: Crossing
    access_list: AccessList | None
    decider: Decider | None
    remembered: bool = False
    again: bool = False

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
        """Yield the line that decided of every list that was asked; what decides the same again is not told twice."""
        for leg in self.legs:
            for asked in leg.asked:
                if asked.decider is not None and not (asked.again and asked.permits):
                    yield asked.decider

    @property
    def settles(self) -> bool:
        """Whether some list on the way depends on what TLS the conversation settles on, as far as it came."""
        return any(asked.access_list is not None and asked.access_list.tls for leg in self.legs for asked in leg.asked)

    @property
    def forks(self) -> bool:
        """Whether some leg had another path that was as good."""
        return any(leg.path.forks for leg in self.legs)


class Fate(NamedTuple):
    """What becomes of a conversation, without how: the verdict on its first way, the line that stopped it, whether all ways agree."""

    verdict: Verdict
    stopped: Decider | None
    agreed: bool = True


_FEW_WAYS = 16
"""Up to so many ways are traced one by one, which is faster then."""

_PASSED, _LOST = Fate(Verdict.PERMITTED, None), Fate(Verdict.UNROUTABLE, None)


class Tracer:
    """Traces conversations through one network in one `state` of its conditions."""

    def __init__(self, network: Network, state: State = frozenset()) -> None:
        self.network = network
        self.state = state
        self._indexes: dict[AccessList, ListIndex] = {}
        self._undecided: dict[AccessList, list[ListIndex]] = {}
        self._asked: dict[tuple[Way, bool, tuple[bool, bool], Family], list[tuple[Crossing, ListIndex]]] = {}
        self._asks_for_tls = network.plan.asks_for_tls

    def trace(self, conversation: Conversation) -> Trace:
        """Trace a conversation along the first of the equally good paths, and see whether it fares alike on the others.

        Raises `TooManyPieces` when the equal paths differ in too many ways.
        """
        there, back = _destinations(conversation)
        first, second = self.network.path(conversation.source, there), self.network.path(conversation.destination, back)
        return self.examples(conversation)[0] if first.forks or second.forks else self._along(conversation, first, second)

    def examples(self, conversation: Conversation, by: DeciderKey | None = None) -> list[Trace]:
        """Trace a conversation along the first way, and so that each of its endings is seen, on ways without the line `by` where there are.

        Where the ways are few, or what TLS is spoken is asked on them, these are all `alternatives`. Raises `TooManyPieces` when they
        are too many.
        """
        there, back = _destinations(conversation)
        source, destination = conversation.source, conversation.destination
        ways, itineraries = self._ways(conversation), self.network.itineraries(there.family)
        if ways.count <= _FEW_WAYS or self._settles(conversation, ways):
            if ways.count > MOST_WAYS:
                raise too_many_ways()
            return self.alternatives(conversation)
        first = self.network.path(source, there), self.network.path(destination, back)
        on_link = source.segment == destination.segment
        every, found = [self._along(conversation, *first)], self.endings(conversation.first, on_link, ways, by)
        for ending in found:
            one, other = example(ways, ending)
            path = first[1] if other is None else itineraries.path(destination, back, other)
            every.append(self._along(conversation, itineraries.path(source, there, one), path))
        return _compared(every, sum(ending.number for ending in found))

    def endings(self, first: Packet, on_link: bool, ways: Ways, by: DeciderKey | None = None) -> list[Ending]:
        """Return how the conversation that a packet opens ends on its ways, where no list there asks what TLS is spoken.

        `on_link` between machines of one link; `by` is the line that endings tell of.
        """
        packets = list(legs(first, on_link))

        def decide(leg: int, crossing: Crossing) -> Decider | None:
            access_list = self.network.list_at(crossing, first.family)
            return None if access_list is None else self._decide(access_list, packets[leg][1])

        return endings(ways, [leg for leg, _ in packets], decide, by)

    def alternatives(self, conversation: Conversation) -> list[Trace]:
        """Trace a conversation along every way there and back that differs in the lists it meets, the first one first.

        Raises `TooManyPieces` when they are too many.
        """
        there, back = _destinations(conversation)
        ways, every = self._ways(conversation), list[Trace]()
        few = max(ways.there.count, ways.back.count) <= MOST_WAYS
        ways_back = self.network.ways(conversation.destination, back) if few else []
        for way_there in self.network.ways(conversation.source, there) if few else ():
            for way_back in ways_back if len(every) <= MOST_WAYS else ():
                every.append(self._along(conversation, way_there, way_back))
                if not any(leg.leg.returns for leg in every[-1].legs):
                    break
        if not few or len(every) > MOST_WAYS:
            raise TooManyPieces(
                f"more than {MOST_WAYS:,} ways meet different lists there, which are not shown one by one; without --all-paths they are "
                "followed together"
            )
        return _compared(every, len(every))

    def _ways(self, conversation: Conversation) -> Ways:
        there, back = _destinations(conversation)
        source, destination = conversation.source, conversation.destination
        itineraries = self.network.itineraries(there.family)
        unanswered = self.network.unanswered(source, there)
        return Ways(itineraries.passages(source, there), itineraries.passages(destination, back), unanswered)

    def fate(self, conversation: Conversation, ways: Ways) -> Fate:
        """Return what `trace` finds of a conversation that its sender opens under its own address, given its ways."""
        on_link = conversation.source.segment == conversation.destination.segment
        if ways.count > _FEW_WAYS and not self._settles(conversation, ways):
            first = self._fate(legs(conversation.first, on_link), ways.first)
            agreed = all(each.verdict is first.verdict for each in self.endings(conversation.first, on_link, ways))
            return first if agreed else first._replace(agreed=False)
        fates = (self._fate(legs(conversation.first, on_link, self._then(way)), way) for way in ways)
        first = next(fates)
        return first if all(each.verdict is first.verdict for each in fates) else first._replace(agreed=False)

    def _settles(self, conversation: Conversation, ways: Ways) -> bool:
        """Whether it matters on each way what TLS a conversation settles on."""
        return conversation.first.protocol == TCP and self.network.asks_for_tls(ways, conversation.first.family)

    def _then(self, way: Way) -> tuple[Leg, ...]:
        """Return the legs by which TCP conversations settle on what they speak, where a list on a way is to judge it."""
        if not self._asks_for_tls:
            return ()
        lists = ((each, self.network.list_at(each, family)) for family in Family for each in way.there.crossings)
        judged = any(own is not None and own.tls and is_judged(each, way) for each, own in lists)
        return settling(hello_of(self.state)) if judged else ()

    def _fate(self, packets: Iterable[tuple[Leg, Packet]], way: Way) -> Fate:
        owed: list[Decider] = []
        answered = False
        for number, (leg, packet) in enumerate(packets):
            if owed and leg.settles:
                return Fate(Verdict.HALF_OPEN, owed[-1 if leg.returns else 0])
            for crossing, index in self._on_way(way, leg.returns, (number > 0, answered), packet.family):
                decider = index.decide(packet)
                if decider.action is not Action.PERMIT:
                    access_list = index.access_list
                    if not access_list.tls or not self._may_pass(access_list, packet):
                        return Fate(Verdict.HALF_OPEN if number else Verdict.DENIED, decider)
                    if not number and is_judged(crossing, way):
                        owed.append(decider)
            if not (way.back if leg.returns else way.there).arrived:
                return _LOST
            answered = answered or leg.returns
            if way.unanswered:
                break
        return _PASSED

    def _on_way(self, way: Way, returns: bool, before: tuple[bool, bool], family: Family) -> list[tuple[Crossing, ListIndex]]:
        """Return the lists that are asked about a leg, with where; not those of a stateful device that let an earlier leg by.

        `before` tells whether one has gone there before, and whether one has come back.
        """
        key = way, returns, before, family
        if key not in self._asked:
            passed = (way.there.stateful if before[0] else frozenset()) | (way.back.stateful if before[1] else frozenset())
            crossings = (way.back if returns else way.there).crossings
            asked = [each for each in crossings if each.remembered_by not in passed]
            lists = ((each, self.network.list_at(each, family)) for each in asked)
            self._asked[key] = [(each, self._index(own)) for each, own in lists if own is not None]
        return self._asked[key]

    def _along(self, conversation: Conversation, way_there: Path, way_back: Path) -> Trace:
        passed: set[str] = set()
        done: list[LegTrace] = []
        on_link, family = conversation.source.segment == conversation.destination.segment, conversation.first.family
        judged = self._judged(way_there, way_back, family)
        for leg, packet in legs(conversation.first, on_link, settling(hello_of(self.state)) if judged else ()):
            again = [] if not leg.settles else judged[::-1] if leg.returns else judged
            trace = self._leg(leg, packet, way_back if leg.returns else way_there, passed, conversation.first, again)
            done.append(trace)
            if trace.outcome is not Outcome.ARRIVED or trace.path.on_link:
                break
            if leg.returns and conversation.claimed is not None:
                end = at_address(self.network, conversation.claimed)
                if not _same_machine(end, conversation.source):
                    return Trace(conversation, tuple(done), Verdict.HALF_OPEN, end)
            passed.update(path_devices(trace.path))
        return Trace(conversation, tuple(done), _verdict(done))

    def _judged(self, way_there: Path, way_back: Path, family: Family) -> list[tuple[Crossing, AccessList]]:
        """Return the lists on the way there that ask about TLS, at stateful devices that see the way back too."""
        if not self._asks_for_tls:
            return []
        both = path_devices(way_back)
        lists = ((each, self.network.list_at(each, family)) for each in way_there.crossings if self._remembers(each, both))
        return [(crossing, own) for crossing, own in lists if own is not None and own.tls]

    def _leg(
        self, leg: Leg, packet: Packet, path: Path, passed: set[str], first: Packet, again: Sequence[tuple[Crossing, AccessList]]
    ) -> LegTrace:
        """Take one leg along its path; `passed` are the devices that have let an earlier leg by.

        Lists that are asked `again` about the `first` packet are asked before all others.
        """
        asked: list[Asked] = []

        def stopped(action: Action) -> LegTrace:
            return LegTrace(leg, packet, path, tuple(asked), Outcome.DENIED if action is Action.DENY else Outcome.REJECTED)

        for crossing, own in again:
            decider = self._index(own).decide(first)
            asked.append(Asked(crossing, own, decider, again=True))
            if not decider.permits:
                return stopped(decider.action)
        for crossing in path.crossings:
            access_list = self.network.list_at(crossing, packet.family)
            if (crossing, access_list) in again:
                continue
            if access_list is None:
                asked.append(Asked(crossing, None, None))
                continue
            if self._remembers(crossing, passed):
                asked.append(Asked(crossing, access_list, None, remembered=True))
                continue
            decider = self._decide(access_list, packet)
            asked.append(Asked(crossing, access_list, decider))
            if not decider.permits:
                return stopped(decider.action)
        return LegTrace(leg, packet, path, tuple(asked), Outcome.ARRIVED if path.arrived else Outcome.UNROUTABLE)

    def _remembers(self, crossing: Crossing, passed: set[str]) -> bool:
        device = crossing.remembered_by
        return device is not None and device in passed and self.network.plan.devices[device].stateful

    def _decide(self, access_list: AccessList, packet: Packet) -> Decider:
        """Return the line that decides a packet, or the one that would let it by as long as the conversation may settle on another TLS."""
        decider = self._index(access_list).decide(packet)
        return decider if decider.permits else self._may_pass(access_list, packet) or decider

    def _may_pass(self, access_list: AccessList, packet: Packet) -> Decider | None:
        """Return the line that would let by a packet that a list does not, if the conversation settled on another TLS; None for none."""
        if not access_list.tls:
            return None
        if access_list not in self._undecided:
            self._undecided[access_list] = [ListIndex(access_list, each) for each in access_list.undecided(self.state)]
        found = (each.decide(packet) for each in self._undecided[access_list])
        return next((decider for decider in found if decider.permits), None)

    def _index(self, access_list: AccessList) -> ListIndex:
        if access_list not in self._indexes:
            self._indexes[access_list] = ListIndex(access_list, self.state)
        return self._indexes[access_list]


def is_judged(crossing: Crossing, way: Way) -> bool:
    """Whether what passes a place on the way there is judged once it is settled on its TLS: by a stateful device that sees both ways."""
    device = crossing.remembered_by
    return device in way.there.stateful and device in way.back.stateful


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


def _compared(every: list[Trace], ways: int) -> list[Trace]:
    """Return traces on some of so many ways, each with the first of them that ends otherwise."""
    return [
        each._replace(ways=ways, differing=next((other for other in every if other.verdict is not each.verdict), None)) for each in every
    ]


def _verdict(done: list[LegTrace]) -> Verdict:
    last = done[-1].outcome
    if last is Outcome.ARRIVED:
        return Verdict.PERMITTED
    if last is Outcome.UNROUTABLE:
        return Verdict.UNROUTABLE
    return Verdict.DENIED if len(done) == 1 else Verdict.HALF_OPEN
