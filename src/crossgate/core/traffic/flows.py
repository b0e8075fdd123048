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
from crossgate.core.network.routing import Crossing, Endpoint, Forwarding, Path
from crossgate.core.sets.boxes import (
    Box,
    address_box,
    overlap,
)
from crossgate.core.sets.patterns import Excluded
from crossgate.core.traffic.courses import Course, Opening, leg_box, opening_box
from crossgate.core.traffic.legs import Leg
from crossgate.core.traffic.trace import Verdict, path_devices


class Flow(NamedTuple):
    """All that the machines of one address class send to those of another.

    `boxes` hold the packets on the way there, from which those of `excluded` addresses are to be left out: they belong to
    other flows. `there` and `back` are the paths of the packets and of the answers.
    """

    source: Endpoint
    destination: Endpoint
    there: Path
    back: Path
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

    `stop` is the list that ended them on the leg `leg`; `passed` are the lists that let them by before, in order.
    """

    box: Box
    verdict: Verdict
    leg: Leg
    stop: Decided | None
    passed: tuple[Decided, ...]

    @property
    def decisions(self) -> tuple[Decided, ...]:
        """Every list asked, with the entry that decided."""
        return self.passed if self.stop is None else (*self.passed, self.stop)


class Flows:
    """The conversations of one plan while just `open_windows` are open; it keeps what it has worked out."""

    def __init__(self, network: Forwarding, regions: Regions, open_windows: frozenset[str] = frozenset()) -> None:
        self.network = network
        self._regions = regions
        self.open_windows = open_windows
        self._asked: dict[tuple[int, int, Leg], list[PlacedList]] = {}

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
                    yield from self._leg(flow, course, 0, part, ())

    def _leg(self, flow: Flow, course: Course, index: int, opening: Box, passed: tuple[Decided, ...]) -> Iterator[Answer]:
        if index == len(course.legs) or (index and flow.there.on_link):
            yield Answer(opening, Verdict.PERMITTED, course.legs[-1], None, passed)
            return
        asked = self.asked(flow, course.legs[index])
        yield from self._crossing(flow, course, index, asked, 0, opening, passed)

    def _crossing(
        self, flow: Flow, course: Course, index: int, asked: Sequence[PlacedList], nth: int, opening: Box,
        passed: tuple[Decided, ...],
    ) -> Iterator[Answer]:  # fmt: skip
        leg = course.legs[index]
        if nth == len(asked):
            arrived = flow.back.arrived if leg.returns else flow.there.arrived
            if arrived:
                yield from self._leg(flow, course, index + 1, opening, passed)
            else:
                yield Answer(opening, Verdict.UNROUTABLE, leg, None, passed)
            return
        crossing, access_list = asked[nth]
        for piece, decider in self.regions(access_list).split(leg_box(opening, course, leg)):
            decided = Decided(crossing, decider)
            part = opening_box(opening, course, leg, piece)
            if decider.permits:
                yield from self._crossing(flow, course, index, asked, nth + 1, part, (*passed, decided))
            else:
                yield Answer(part, Verdict.HALF_OPEN if index else Verdict.DENIED, leg, decided, passed)

    def asked(self, flow: Flow, leg: Leg) -> list[PlacedList]:
        """Return the lists that are asked on a leg; a stateful device that let an earlier leg by is not."""
        key = (id(flow.there), id(flow.back), leg)  # the network keeps its paths
        if key not in self._asked:
            self._asked[key] = self._lists_asked(flow, leg)
        return self._asked[key]

    def _lists_asked(self, flow: Flow, leg: Leg) -> list[PlacedList]:
        devices = self.network.plan.devices
        passed: set[str] = set()
        if leg not in (Leg.SYN, Leg.REQUEST):
            passed = path_devices(flow.there)
        family = flow.source.address.family
        return [
            each
            for each in placed_on(self.network, flow.back if leg.returns else flow.there, family)
            if not (each.crossing.point.device in passed and devices[each.crossing.point.device or ""].stateful)
        ]


def placed_on(network: Forwarding, path: Path, family: Family) -> list[PlacedList]:
    """Return the crossings of a path at which a list of the family stands, with the list."""
    placed = network.plan.placed
    return [
        PlacedList(crossing, found)
        for crossing in path.crossings
        if (found := placed.get((crossing.point, crossing.direction, family))) is not None
    ]


def flows(
    network: Forwarding,
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


def flow_between(network: Forwarding, source: Endpoint, destination: Endpoint, boxes: tuple[Box, ...], excluded: Excluded) -> Flow:
    """Return the flow from one end to another with just these packets."""
    there, back = network.path(source, destination.address), network.path(destination, source.address)
    return Flow(source, destination, there, back, boxes, excluded)


def alike(
    here: Sequence[AddressClass], far: Sequence[AddressClass], like: Callable[[AddressClass, AddressClass], object]
) -> Iterator[tuple[AddressClass, AddressClass, Excluded]]:
    """Yield one pair (sender, receiver) for each group of pairs that are treated alike, with the addresses of other groups inside it.

    Two pairs are alike where `like` returns equal values for them; it is asked once for every pair.
    """
    if not (here and far):
        return
    table = [[like(one, other) for other in far] for one in here]
    senders = _merged(here, table)
    receivers = _merged(far, list(zip(*table, strict=True)))
    for one, sources in senders.items():
        for other, destinations in receivers.items():
            yield here[one], far[other], Excluded(sources, destinations)


def likeness(network: Forwarding, source: Endpoint, destination: Endpoint) -> object:
    """Return all that decides what becomes of conversations between two endpoints; equal values are treated alike.

    That is: the lists on the ways there and back and where they stand, which of these a stateful device passes unasked, and
    whether packets arrive. A device's own address is never like a machine's.
    """
    there, back = network.path(source, destination.address), network.path(destination, source.address)
    family = source.address.family
    asked_back = placed_on(network, back, family)
    passed = path_devices(there) if asked_back else set()
    known = tuple(
        crossing.point.device in passed and network.plan.devices[crossing.point.device or ""].stateful for crossing, _ in asked_back
    )
    lists = tuple((crossing, access_list.name) for crossing, access_list in placed_on(network, there, family))
    ends = source.segment == destination.segment, source.device is None, destination.device is None
    return ends, there.arrived, there.on_link, back.arrived, lists, tuple((crossing, each.name) for crossing, each in asked_back), known


def _merged(group: Sequence[AddressClass], likenesses: Sequence[object]) -> dict[int, tuple[Pattern, ...]]:
    """Return the classes that are left when each joins the one around it if their likenesses are equal.

    The keys are indices in `group`, the values the patterns within a class that belong to others.
    """
    index_of = {address_class.pattern: index for index, address_class in enumerate(group)}
    gone: set[int] = set()
    for index, address_class in enumerate(group):
        for inner in address_class.excluded:
            if inner in index_of and likenesses[index_of[inner]] == likenesses[index]:
                gone.add(index_of[inner])

    def others(index: int) -> Iterator[Pattern]:
        for inner in group[index].excluded:
            if index_of.get(inner) in gone:
                yield from others(index_of[inner])
            else:
                yield inner

    return {index: tuple(others(index)) for index in range(len(group)) if index not in gone}
