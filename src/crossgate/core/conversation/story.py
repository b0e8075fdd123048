"""The story of how a conversation ends on one way: leg by leg, crossing by crossing. It tells; what happens the walk has found."""

from __future__ import annotations

from collections.abc import Iterator
from enum import StrEnum
from typing import NamedTuple

from crossgate.core.conversation.opening import Conversation
from crossgate.core.conversation.rules import Leg, judges, legs_of, packet_on
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.conversation.walk import Ending, Example, sequences
from crossgate.core.model.accesslist import AccessList, Action, Decider
from crossgate.core.model.address import Address
from crossgate.core.model.packet import Packet
from crossgate.core.network.endpoints import at_address
from crossgate.core.network.nodes import Sequence
from crossgate.core.network.paths import Crossing, Endpoint, Path
from crossgate.core.network.ways import Network


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


class Paths:
    """The paths of one conversation, by what they meet; each is walked once."""

    def __init__(self, network: Network, conversation: Conversation, alone: bool = False) -> None:
        """Make them; `alone` for endings on one of its ways by itself, where the first one is not the first of all."""
        self.network, self.conversation, self._alone = network, conversation, alone
        first = conversation.first
        there, back = Address(first.family, first.destination), Address(first.family, first.source)
        self._pairs = (conversation.source, there), (conversation.destination, back)
        self._first = network.path(*self._pairs[0]), network.path(*self._pairs[1])
        self._found: dict[tuple[int, Sequence], Path] = {}

    def of(self, ending: Ending) -> tuple[Path, Path]:
        """Return the paths there and back of an ending's example."""
        if (ending.first and not self._alone) or not (self._first[0].forks or self._first[1].forks):
            return self._first
        there, back = sequences(ending)
        return self._path(0, there), self._path(1, back)

    def _path(self, way: int, sequence: Sequence) -> Path:
        if (way, sequence) not in self._found:
            itineraries = self.network.itineraries(self.conversation.first.family)
            self._found[way, sequence] = itineraries.path(*self._pairs[way], sequence)
        return self._found[way, sequence]


def astray(network: Network, conversation: Conversation) -> Endpoint | None:
    """Return where the answers go, if that is another machine than the sender: to who has the address that it claims."""
    if conversation.claimed is None:
        return None
    end, source = at_address(network, conversation.claimed), conversation.source
    same = (end.device, end.name) == (source.device, source.name) if end.device is None else end.device == source.device
    return None if same else end


def path_devices(path: Path) -> set[str]:
    """Return every device on a path, switches that only pass frames on included."""
    return {*path.devices, *(device for crossing in path.crossings if (device := crossing.point.device) is not None)}


def story(paths: Paths, ending: Ending) -> Trace:
    """Return what a conversation meets on the way that is an ending's example, up to where it ends."""
    network, conversation, example = paths.network, paths.conversation, ending.example
    assert example is not None  # the walk found it
    there, back = paths.of(ending)
    teller, script = _Teller(network, conversation, example), example.walk.script
    if ending.judges:
        teller.judging(there, back)
    done = list[LegTrace]()
    for leg in script.legs[: 1 if script.unanswered else script.legs.index(ending.leg) + 1]:
        done.append(teller.leg(leg, back if leg.returns else there))
    strayed = script.astray and ending.verdict is Verdict.HALF_OPEN and ending.stop is None
    return Trace(conversation, tuple(done), ending.verdict, astray(network, conversation) if strayed else None)


class _Teller:
    """Tells of one leg after the other; it knows which devices have let the conversation by."""

    def __init__(self, network: Network, conversation: Conversation, example: Example) -> None:
        self._network, self._first, self._example = network, conversation.first, example
        self._answer = legs_of(conversation.first, conversation.on_link)[1]
        self._passed: set[str] = set()
        self._again: list[Crossing] = []
        """The places whose lists are asked again about what opened, once its TLS is settled."""

    def judging(self, there: Path, back: Path) -> None:
        """See which lists are asked again on these paths."""
        stateful = {name for name in path_devices(there) if self._network.plan.devices[name].stateful}
        self._again = [
            each
            for each in there.crossings
            if judges(each, stateful, path_devices(back)) and (own := self._list_at(each)) is not None and own.tls
        ]

    def leg(self, leg: Leg, path: Path) -> LegTrace:
        """Return the trace of a leg, up to where it is stopped."""
        asked = list[Asked]()
        for each in self._asked(leg, path):
            asked.append(each)
            if not each.permits:
                break
        self._passed |= path_devices(path)
        outcome = Outcome.ARRIVED if path.arrived else Outcome.UNROUTABLE
        if asked and (stop := asked[-1].decider) is not None and not stop.permits:
            outcome = Outcome.DENIED if stop.action is Action.DENY else Outcome.REJECTED
        return LegTrace(leg, packet_on(self._first, leg, self._answer), path, tuple(asked), outcome)

    def _asked(self, leg: Leg, path: Path) -> Iterator[Asked]:
        """Yield the crossings of a leg, with what is decided there; a list that is asked again is asked before all others."""
        leading, decisions = self._example.walk.leading, self._example.decisions
        again = [] if not leg.settles else self._again[::-1] if leg.returns else self._again
        for crossing in again:
            own = self._list_at(crossing)
            assert own is not None  # it judges
            decision = decisions[leading[0], own]
            yield Asked(crossing, own, decision.due or decision.decider, again=True)
        for crossing in path.crossings:
            own, device = self._list_at(crossing), crossing.remembered_by
            if crossing in again:
                continue
            if own is None:
                yield Asked(crossing, None, None)
            elif device in self._passed and self._network.plan.devices[device].stateful:
                yield Asked(crossing, own, None, remembered=True)
            else:
                decision = decisions.get((leg, own)) or decisions[leading[leg.returns], own]
                yield Asked(crossing, own, decision.decider)

    def _list_at(self, crossing: Crossing) -> AccessList | None:
        return self._network.list_at(crossing, self._first.family)
