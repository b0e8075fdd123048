"""The story of a conversation on one way: leg by leg, crossing by crossing. The walk finds what
happens; this module tells it.
"""

from __future__ import annotations

from collections.abc import Container, Iterator, Sequence
from enum import StrEnum
from typing import NamedTuple

from crossgate.core.conversation.endings import Ending, Example, sequences
from crossgate.core.conversation.opening import Conversation
from crossgate.core.conversation.rules import Leg, judges, legs_of, packet_on
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.accesslist import AccessList, Decider
from crossgate.core.model.address import Address, Family
from crossgate.core.model.entry import Action
from crossgate.core.model.packet import Packet
from crossgate.core.network.endpoints import at_address
from crossgate.core.network.nodes import Sequence as Tokens
from crossgate.core.network.paths import Crossing, Endpoint, Path
from crossgate.core.network.ways import CrossedWays, Network


class Outcome(StrEnum):
    """What becomes of one leg."""

    ARRIVED = "arrived"
    DENIED = "denied"
    REJECTED = "rejected"
    UNROUTABLE = "unroutable"


class CrossingStory(NamedTuple):
    """A crossing and what stands there: no list, a list that decided, or one that was passed
    without being asked (`remembered`). With `again` the list was asked a second time about the
    opening packet, now that the TLS version is settled.
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
    """One leg: its packet, its path, what was asked on the part of the path that it travelled, and
    its outcome.
    """

    leg: Leg
    packet: Packet
    path: Path
    asked: tuple[CrossingStory, ...]
    outcome: Outcome


class Trace(NamedTuple):
    """A conversation's legs and its verdict, on the first of its ways there and back.

    `strayed` is the machine that a reply went to instead of the sender. `ways` is the number of
    ways that meet different lists, and `differing` is the trace along the first of them that ends
    differently, None where all agree.
    """

    conversation: Conversation
    legs: tuple[LegTrace, ...]
    verdict: Verdict
    strayed: Endpoint | None = None
    ways: int = 1
    differing: Trace | None = None

    def __repr__(self) -> str:
        return f"<Trace {self.conversation!r}: {self.verdict}>"

    @property
    def decided(self) -> CrossingStory | None:
        """The crossing whose list stopped the conversation; None when no list did."""
        last = self.legs[-1]
        return last.asked[-1] if last.outcome in (Outcome.DENIED, Outcome.REJECTED) else None

    def deciders(self) -> Iterator[Decider]:
        """Yield the line that decided in every list that was asked; a repeated decision is left
        out.
        """
        for leg in self.legs:
            for asked in leg.asked:
                if asked.decider is not None and not (asked.again and asked.permits):
                    yield asked.decider

    @property
    def settles(self) -> bool:
        """Whether some list on the way, as far as the conversation came, depends on its TLS
        version.
        """
        return any(
            asked.access_list is not None and asked.access_list.tls
            for leg in self.legs
            for asked in leg.asked
        )

    @property
    def forks(self) -> bool:
        """Whether some leg had another, equally good path."""
        return any(leg.path.forks for leg in self.legs)


class MetOnPath:
    """What is met on one path: the lists at its crossings, and the stateful devices."""

    def __init__(self, network: Network, path: Path, family: Family) -> None:
        self.path = path
        self._stands = [
            (each, network.list_at(each, family), CrossingStory(each, None, None))
            for each in path.crossings
        ]
        self.stateful = (
            network.stateful & path_devices(path) if network.stateful else network.stateful
        )

    def judging(self, back: Container[str]) -> list[tuple[Crossing, AccessList]]:
        """Return the lists that judge the TLS version, where answers pass the given stateful
        devices.
        """
        stands = ((each, own) for each, own, _ in self._stands if own is not None and own.tls)
        return [(each, own) for each, own in stands if judges(each, self.stateful, back)]

    def asked(
        self,
        leg: Leg,
        passed: Container[str],
        again: Sequence[tuple[Crossing, AccessList]],
        example: Example,
    ) -> list[CrossingStory]:
        """Return what is asked about a leg, up to where it is stopped; lists that are asked `again`
        come before all others.
        """
        leading, decisions, found = (
            example.walk.script.leading,
            example.decisions,
            list[CrossingStory](),
        )
        for crossing, own in again:
            decision = decisions[leading[0], (own, crossing.view)]
            found.append(CrossingStory(crossing, own, decision.due or decision.decider, again=True))
            if decision.due is not None:
                return found
        for crossing, stands, unasked in self._stands:
            if stands is None:
                found.append(unasked)
            elif crossing.remembered_by in passed:
                if (crossing, stands) not in again:
                    found.append(CrossingStory(crossing, stands, None, remembered=True))
            else:
                seen = stands, crossing.view
                decision = decisions.get((leg, seen)) or decisions[leading[leg.returns], seen]
                found.append(CrossingStory(crossing, stands, decision.decider))
                if not decision.permits:
                    return found
        return found


FirstPaths = dict[tuple[object, Address], MetOnPath]
"""What is met on first paths, by their sender and where they lead."""


class Paths:
    """The paths of one conversation, by what they meet; each is walked once."""

    def __init__(
        self, network: Network, conversation: Conversation, known: FirstPaths, alone: bool = False
    ) -> None:
        """Make them; `alone` is for endings on a single one of the ways, where the first one is not
        the first of all.
        """
        self.network, self.conversation, self._known, self._alone = (
            network,
            conversation,
            known,
            alone,
        )
        first = conversation.first
        there, back = conversation.destination.address, Address(first.family, first.source)
        self._pairs = (conversation.source, there), (conversation.destination, back)
        self._first = self._first_of(*self._pairs[0]), self._first_of(*self._pairs[1])
        self._found: dict[tuple[int, Tokens], MetOnPath] = {}

    def of(self, ending: Ending) -> tuple[MetOnPath, MetOnPath]:
        """Return the paths there and back of an ending's example, with what is met on them."""
        ways = None if ending.example is None else ending.example.walk.ways
        if isinstance(ways, CrossedWays):
            return self._crossed(ways, ending)
        if (ending.first and not self._alone) or not (
            self._first[0].path.forks or self._first[1].path.forks
        ):
            return self._first
        there, back = sequences(ending)
        return self._met(0, there), self._met(1, back)

    def _crossed(self, ways: CrossedWays, ending: Ending) -> tuple[MetOnPath, MetOnPath]:
        family = self.conversation.first.family
        there, back = (
            MetOnPath(self.network, ways.path(way, sequence), family)
            for way, sequence in enumerate(sequences(ending))
        )
        return there, back

    def _first_of(self, origin: Endpoint, destination: Address) -> MetOnPath:
        key = origin.sender, destination
        found = self._known.get(key)
        if found is None:
            found = self._known[key] = MetOnPath(
                self.network, self.network.path(origin, destination), destination.family
            )
        return found

    def _met(self, way: int, sequence: Tokens) -> MetOnPath:
        if (way, sequence) not in self._found:
            family = self.conversation.first.family
            path = self.network.graphs(family).path(*self._pairs[way], sequence)
            self._found[way, sequence] = MetOnPath(self.network, path, family)
        return self._found[way, sequence]


def astray(network: Network, conversation: Conversation) -> Endpoint | None:
    """Return where the answers go if that is another machine than the sender: the one that has the
    claimed address.
    """
    if conversation.claimed is None:
        return None
    end, source = at_address(network, conversation.claimed), conversation.source
    same = (
        (end.device, end.name) == (source.device, source.name)
        if end.device is None
        else end.device == source.device
    )
    return None if same else end


def path_devices(path: Path) -> set[str]:
    """Return every device on a path, including switches that only pass frames on, and hosts with
    lists of their own.
    """
    names = (
        name
        for crossing in path.crossings
        for name in (crossing.point.device, crossing.remembered_by)
        if name is not None
    )
    return {*path.devices, *names}


def story(paths: Paths, ending: Ending) -> Trace:
    """Return what a conversation meets on the way of an ending's example, up to where it ends."""
    network, conversation, example = paths.network, paths.conversation, ending.example
    assert example is not None  # the walk found it
    met, script, first = paths.of(ending), example.walk.script, conversation.first
    judging = met[0].judging(met[1].stateful) if ending.judges else []
    answer, passed, done = (
        legs_of(first, conversation.on_link, conversation.alone)[1],
        frozenset[str](),
        list[LegTrace](),
    )
    for leg in script.legs[: 1 if script.unanswered else script.legs.index(ending.leg) + 1]:
        way = met[leg.returns]
        again = [] if not leg.settles else judging[::-1] if leg.returns else judging
        asked = way.asked(leg, passed, again, example)
        done.append(
            LegTrace(
                leg,
                packet_on(first, leg, answer),
                way.path,
                tuple(asked),
                _outcome(way.path, asked),
            )
        )
        passed |= way.stateful
    strayed = script.astray and ending.verdict is Verdict.HALF_OPEN and ending.stop is None
    return Trace(
        conversation,
        tuple(done),
        ending.verdict,
        astray(network, conversation) if strayed else None,
    )


def _outcome(path: Path, asked: Sequence[CrossingStory]) -> Outcome:
    decider = asked[-1].decider if asked else None
    if decider is not None and not decider.permits:
        return Outcome.DENIED if decider.action is Action.DENY else Outcome.REJECTED
    return Outcome.ARRIVED if path.arrived else Outcome.UNROUTABLE
