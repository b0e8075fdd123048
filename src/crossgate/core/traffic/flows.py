"""Conversations between sets of addresses, exactly: every opening packet with what becomes of it, as boxes.

1. Between two address classes all conversations go the same way there and back, so the lists asked on each leg are known.
2. By its protocol an opening packet takes a course (`courses`), which says what legs follow. A leg's packets are the
   opening's, with ends and ports swapped on the way back.
3. Each list asked splits them (`ListRegions.split`); what it permits goes on to the next, mapped back to opening packets.
   This is `trace` for sets: the same order, the same verdicts.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import NamedTuple

from crossgate.core.lists.split import ListRegions, Regions
from crossgate.core.model.accesslist import AccessList, Decider
from crossgate.core.model.address import Family, Pattern
from crossgate.core.network.address_classes import AddressClass
from crossgate.core.network.itineraries import Network, Passage, Way
from crossgate.core.network.routing import Crossing, Endpoint
from crossgate.core.sets.boxes import (
    Box,
    address_box,
    overlap,
)
from crossgate.core.sets.patterns import Excluded
from crossgate.core.traffic.courses import Course, Opening, leg_box, opening_box
from crossgate.core.traffic.legs import Leg
from crossgate.core.traffic.trace import Verdict


class Flow(NamedTuple):
    """All that the machines of one address class send to those of another.

    `boxes` hold the packets on the way there, from which those of `excluded` addresses are to be left out: they belong to
    other flows. `ways` are those there and back that differ in the lists they meet, the first one first.
    """

    source: Endpoint
    destination: Endpoint
    ways: tuple[Way, ...]
    boxes: tuple[Box, ...]
    excluded: Excluded

    @property
    def asked(self) -> str:
        """What a question about it is about, in words."""
        return f"what is sent as from {self.source.address} to {self.destination.address}"

    @property
    def on_link(self) -> bool:
        """Whether both ends are on one link."""
        return self.source.segment == self.destination.segment


class PlacedList(NamedTuple):
    """A list that a packet meets, and the crossing at which it stands."""

    crossing: Crossing
    access_list: AccessList


class Decided(NamedTuple):
    """A list that was asked about a leg: at which crossing, and the line that decided."""

    crossing: Crossing
    decider: Decider


class Answer(NamedTuple):
    """What becomes of the conversations that the packets of a box open.

    `stop` is the list that ended them on the leg `leg`; `passed` are the lists that let them by before, in order. That is on
    the first way; `others` are the answers on the further ones. The verdict is `VARIES` where these do not agree.
    """

    box: Box
    verdict: Verdict
    leg: Leg
    stop: Decided | None
    passed: tuple[Decided, ...]
    others: tuple[Answer, ...] = ()

    @property
    def decisions(self) -> tuple[Decided, ...]:
        """Every list asked on the first way, with the entry that decided."""
        return self.passed if self.stop is None else (*self.passed, self.stop)

    @property
    def on_each_way(self) -> tuple[Answer, ...]:
        """The answers way by way."""
        return (self, *self.others)

    @property
    def stopped(self) -> Answer:
        """The answer on the first way on which a list stopped the packets; where none did, on the first way."""
        return next((each for each in self.on_each_way if each.stop is not None), self)


class Flows:
    """The conversations of one plan while just `open_windows` are open; it keeps what it has worked out."""

    def __init__(self, network: Network, regions: Regions, open_windows: frozenset[str] = frozenset()) -> None:
        self.network = network
        self._regions = regions
        self.open_windows = open_windows
        self._asked: dict[tuple[Way, Leg], list[PlacedList]] = {}

    def regions(self, access_list: AccessList) -> ListRegions:
        """Return a list's regions."""
        return self._regions.of(access_list, self.open_windows)

    def answers(self, flow: Flow, begun: Iterable[Opening]) -> Iterator[Answer]:
        """Yield what becomes of the conversations of a flow that these packets open."""
        for course, opening in begun:
            if course.on_link not in (None, flow.on_link):
                continue
            for box in flow.boxes:
                part = overlap(box, opening)
                if part is not None:
                    yield from self._on_all_ways(flow.ways, course, part)

    def _on_all_ways(self, ways: tuple[Way, ...], course: Course, opening: Box) -> Iterator[Answer]:
        """Yield what becomes of openings on all ways together: pieces in which every way has one answer."""
        for answer in self._leg(ways[0], course, 0, opening, ()):
            pieces = [answer]
            for way in ways[1:]:
                pieces = [_together(each, other) for each in pieces for other in self._leg(way, course, 0, each.box, ())]
            yield from pieces

    def _leg(self, way: Way, course: Course, index: int, opening: Box, passed: tuple[Decided, ...]) -> Iterator[Answer]:
        if index == len(course.legs) or (index and way.unanswered):
            yield Answer(opening, Verdict.PERMITTED, course.legs[-1], None, passed)
            return
        asked = self.asked(way, course.legs[index], opening.family)
        yield from self._crossing(way, course, index, asked, 0, opening, passed)

    def _crossing(
        self, way: Way, course: Course, index: int, asked: Sequence[PlacedList], nth: int, opening: Box,
        passed: tuple[Decided, ...],
    ) -> Iterator[Answer]:  # fmt: skip
        leg = course.legs[index]
        if nth == len(asked):
            arrived = way.back.arrived if leg.returns else way.there.arrived
            if arrived:
                yield from self._leg(way, course, index + 1, opening, passed)
            else:
                yield Answer(opening, Verdict.UNROUTABLE, leg, None, passed)
            return
        crossing, access_list = asked[nth]
        for piece, decider in self.regions(access_list).split(leg_box(opening, course, leg)):
            decided = Decided(crossing, decider)
            part = opening_box(opening, course, leg, piece)
            if decider.permits:
                yield from self._crossing(way, course, index, asked, nth + 1, part, (*passed, decided))
            else:
                yield Answer(part, Verdict.HALF_OPEN if index else Verdict.DENIED, leg, decided, passed)

    def asked(self, way: Way, leg: Leg, family: Family) -> list[PlacedList]:
        """Return the lists that are asked on a leg; a stateful device that let an earlier leg by is not."""
        key = (way, leg)
        if key not in self._asked:
            self._asked[key] = self._lists_asked(way, leg, family)
        return self._asked[key]

    def _lists_asked(self, way: Way, leg: Leg, family: Family) -> list[PlacedList]:
        passed = frozenset() if leg in (Leg.SYN, Leg.REQUEST) else way.there.stateful
        every = placed_on(self.network, way.back if leg.returns else way.there, family)
        return [each for each in every if each.crossing.point.device not in passed]


def _together(answer: Answer, other: Answer) -> Answer:
    """Return an answer with that on a further way, for the openings that both are about."""
    verdict = answer.verdict if answer.verdict is other.verdict else Verdict.VARIES
    return answer._replace(box=other.box, verdict=verdict, others=(*answer.others, other))


def placed_on(network: Network, passage: Passage, family: Family) -> list[PlacedList]:
    """Return the crossings of a passage, with the lists of the family that stand there."""
    return [PlacedList(each, network.plan.placed[(each.point, each.direction, family)]) for each in passage.crossings]


def flows(
    network: Network,
    senders: Sequence[AddressClass],
    receivers: Sequence[AddressClass],
    source: Sequence[Pattern],
    destination: Sequence[Pattern],
) -> list[Flow]:
    """Return what is sent from the `source` addresses of some address classes to the `destination` addresses of others.

    A class inside another one joins it where nothing about these flows tells the two apart.
    """
    here = [address_class for address_class in senders if address_class.within(source) and not address_class.scoped]
    far = [address_class for address_class in receivers if address_class.within(destination)]
    found = []
    for one, other, excluded in alike(here, far, lambda start, end: likeness(network, start.end, end.end)):
        boxes = tuple(address_box(start, end) for start in one.within(source) for end in other.within(destination))
        found.append(flow_between(network, one.end, other.end, boxes, excluded))
    return found


def flow_between(
    network: Network, source: Endpoint, destination: Endpoint, boxes: tuple[Box, ...], excluded: Excluded,
    numbers: tuple[int | None, int | None] = (None, None),
) -> Flow:  # fmt: skip
    """Return the flow from one end to another with just these packets; `numbers` are their itineraries' where they are known."""
    return Flow(source, destination, network.between(source, destination, numbers), boxes, excluded)


def alike(
    here: Sequence[AddressClass], far: Sequence[AddressClass], like: Callable[[AddressClass, AddressClass], object]
) -> Iterator[tuple[AddressClass, AddressClass, Excluded]]:
    """Yield one pair (sender, receiver) for each group of pairs that are treated alike, with the addresses of other groups inside it.

    Two pairs are alike where `like` returns equal values for them.
    """
    senders = merged(here, lambda one, other: all(like(one, each) == like(other, each) for each in far))
    receivers = merged(far, lambda one, other: all(like(each, one) == like(each, other) for each in here))
    for one, sources in senders.items():
        for other, destinations in receivers.items():
            yield here[one], far[other], Excluded(sources, destinations)


def likeness(network: Network, source: Endpoint, destination: Endpoint) -> object:
    """Return all that decides what becomes of conversations between two endpoints; equal values are treated alike.

    That is: the itineraries there and back, and whether both are on one link. A device's own address is never like a machine's.
    """
    itineraries = network.itineraries(source.address.family)
    ends = source.segment == destination.segment, source.device is None, destination.device is None
    there, back = itineraries.node(source, destination.address), itineraries.node(destination, source.address)
    return ends, network.scope(destination.address), there, back


def merged(group: Sequence[AddressClass], same: Callable[[AddressClass, AddressClass], bool]) -> dict[int, tuple[Pattern, ...]]:
    """Return the classes that are left when each joins the one around it if they are the `same`.

    The keys are indices in `group`, the values the patterns within a class that belong to others.
    """
    index_of = {address_class.pattern: index for index, address_class in enumerate(group)}
    gone: set[int] = set()
    for address_class in group:
        for inner in address_class.excluded:
            if inner in index_of and same(address_class, group[index_of[inner]]):
                gone.add(index_of[inner])

    def others(index: int) -> Iterator[Pattern]:
        for inner in group[index].excluded:
            if index_of.get(inner) in gone:
                yield from others(index_of[inner])
            else:
                yield inner

    return {index: tuple(others(index)) for index in range(len(group)) if index not in gone}
