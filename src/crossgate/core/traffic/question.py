"""Conversations between sets of addresses, exactly: every opening packet with what becomes of it, as products of sets.

1. Between two address classes all conversations go the same way there and back, so the lists asked on each leg are known.
2. By its protocol an opening packet takes a course (`courses`), which says what legs follow. A leg's packets are the
   opening's, with ends and ports swapped on the way back.
3. Each list asked splits them; what it permits goes on to the next. This is `trace` for sets: the same order, the same
   verdicts. All of it is reckoned in one frame (`Question`).
4. Equal ways are followed together: openings fall into pieces of which every list on any of the ways decides all alike, and how
   these end is told for all ways at once (`endings`).
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from functools import reduce
from itertools import islice
from operator import or_
from typing import NamedTuple

from crossgate.core.lists.split import EntryRegion, ListRegions, region_hull
from crossgate.core.model.accesslist import AccessList, Decider, DeciderKey
from crossgate.core.network.paths import Crossing
from crossgate.core.network.ways import Way, Ways
from crossgate.core.sets import products as algebra
from crossgate.core.sets import spans as line
from crossgate.core.sets.boxes import Box
from crossgate.core.sets.frame import Frame, PacketSet
from crossgate.core.sets.products import Product
from crossgate.core.sets.region import Region
from crossgate.core.traffic.between import Flow
from crossgate.core.traffic.courses import Course, Opening, course_on, leg_regions
from crossgate.core.traffic.endings import Decide, Decided, Ending, decided_alike, endings
from crossgate.core.traffic.flows import Flows, PlacedList, stops_all_near
from crossgate.core.traffic.legs import Leg
from crossgate.core.traffic.trace import is_judged
from crossgate.core.traffic.verdict import Verdict


class Answer(NamedTuple):
    """What becomes of the conversations that some packets open; `written` are these with hidden addresses of their flow.

    `first` is how they end on the first way, `endings` how on all. The verdict is `VARIES` where these do not agree.
    """

    packets: PacketSet
    written: PacketSet
    verdict: Verdict
    first: Ending
    endings: tuple[Ending, ...]

    @property
    def opening(self) -> Product:
        """The packets that open, hidden ones too, as a product of the question's frame."""
        return self.written.products[0]

    @property
    def stopped(self) -> Ending:
        """How they end on the first way on which a list stopped them; where none did, on the first one."""
        return next((each for each in (self.first, *self.endings) if each.stop is not None), self.first)


def answers(asking: Flows, flow: Flow, begun: Iterable[Opening], by: DeciderKey | None = None) -> Iterator[Answer]:
    """Yield what becomes of the conversations of a flow that these packets open; `by` is the line that endings tell of."""
    question = Question(flow, begun, [Party(asking, flow.ways, flow.on_link)], by)
    for course, opening in question.openings:
        yield from question.answers(0, course, opening)


class _Fate(NamedTuple):
    """What becomes of the openings of a product on one way."""

    product: Product
    verdict: Verdict
    leg: Leg
    stop: Decided | None
    passed: tuple[Decided, ...]


_Near = dict[tuple[int, int, Leg], list[tuple[list[Region], EntryRegion]]]
"""Entries that may take packets of a leg, by course, list and leg, each with the openings that these follow."""


class Party(NamedTuple):
    """Whose lists are asked in a question, the ways that its packets take, if any, and whether both ends are on one link there."""

    asking: Flows
    ways: Ways | None
    on_link: bool


class Question:
    """The conversations that some packets of a flow open, in one frame for all ways, legs and lists.

    Every entry asked is written in the terms of the packets that open: an answer is looked at as the opening it answers.
    The `parties` are one network, or two to be compared.
    """

    def __init__(self, flow: Flow, begun: Iterable[Opening], parties: Sequence[Party], by: DeciderKey | None = None) -> None:
        self._parties = parties
        self._by = by
        self._family = flow.senders.family
        opened = [
            Opening(course, region)
            for course, each in begun
            if course.on_link in (None, flow.on_link) and (region := each.common(flow.region)) is not None
        ]
        whole = _around(flow, opened)
        self._near = self._gathered(opened, whole)
        self._rows: dict[tuple[int, int, Leg], list[tuple[Product, EntryRegion]]] = {}
        self._kept: dict[tuple[int, int, int, int, Product], list[tuple[Product, Decided, Decided | None]]] | None = None
        regions = [region for several in self._near.values() for own, _ in several for region in own]
        hidden = [] if flow.hidden is None else [Region(*flow.hidden)]
        # What clients send is told by itself (`answers.clients`), so it is told apart here.
        clients = [
            whole._replace(source_ports=((first, last + 1),)) for first, last in {each.asking.network.plan.client_ports for each in parties}
        ]
        self.frame = Frame(whole, [*(each.region for each in opened), *hidden, *regions, *clients])
        products = ((each.course, self.frame.product(each.region)) for each in opened)
        self.openings = [(course, product) for course, product in products if product is not None]
        self._hidden = None if flow.hidden is None else (self.frame.mask(0, flow.hidden[0]), self.frame.mask(1, flow.hidden[1]))

    def _gathered(self, opened: Sequence[Opening], whole: Region) -> _Near:
        """Return the entries that may take packets of each leg, by course, list and leg, with the openings that these follow."""
        courses: dict[int, list[Opening]] = {}
        for each in opened:
            courses.setdefault(id(each.course), []).append(each)
        # Of most lists only a few entries have such addresses, and these are the same for every course.
        ends = {returns: region_hull(Region(*(reversed(whole[:2]) if returns else whole[:2]))) for returns in (False, True)}
        close: dict[tuple[int, bool], list[EntryRegion]] = {}
        found: _Near = {}
        for several in courses.values():
            for asking, ways, on_link in self._parties:
                course = course_on(several[0].course, on_link)
                for nth, leg in enumerate(() if ways is None else asking.legs_on(ways, course, self._family)):
                    assert ways is not None
                    if nth == 1 and self._ends_there(asking, ways, course, several, found):
                        break  # no later leg is ever asked about
                    boxes: list[Box] = []
                    for regions in asking.lists_asked(ways, leg, self._family):
                        if not boxes:
                            boxes = [region_hull(each) for own in several for each in leg_regions(own.region, course, leg)]
                        here = id(regions), leg.returns
                        if here not in close:
                            close[here] = regions.near(ends[leg.returns])
                        near = regions.near_any(boxes, close[here])
                        found[id(course), id(regions), leg] = [(asking.opened_by(each, course, leg), each) for each in near]
        return found

    def _ends_there(self, asking: Flows, ways: Ways, course: Course, opened: Sequence[Opening], near: _Near) -> bool:
        """Whether it is plain that lists on each way there let by none of what opens a course: it may be so where it is not told."""

        def ends(access_list: AccessList) -> bool:
            every = (asking.regions(access_list), *asking.undecided(access_list))
            takers = ([each for _, each in near[id(course), id(regions), course.legs[0]]] for regions in every)
            return all(stops_all_near(access_list, several, [each.region for each in opened]) for several in takers)

        return asking.all_meet(ways, course.legs[0], self._family, ends)

    def answers(self, party: int, course: Course, opening: Product) -> Iterator[Answer]:
        """Yield what becomes of openings of a course on all ways of one party: pieces that fare alike on each way.

        Openings that are nobody's there have no way, and end on their first leg.
        """
        asking, ways, on_link = self._parties[party]
        course = course_on(course, on_link)
        if ways is None:
            nowhere = Ending(Verdict.UNROUTABLE, course.legs[0], None, (), False)
            yield from self._answer(opening, nowhere, [nowhere])
            return
        for fate in self._leg(party, ways.first, course, 0, opening, (), ()):
            first = self._ending(fate)
            if ways.count == 1:
                yield from self._answer(fate.product, first, [first])
            elif course.legs[0] is Leg.SYN and asking.network.asks_for_tls(ways, self._family):
                yield from self._one_by_one(party, ways, course, fate)
            else:
                for product, decide in self._alike(party, ways, course, fate.product):
                    yield from self._answer(product, first, endings(ways, course.legs, decide, self._by))

    def _one_by_one(self, party: int, ways: Ways, course: Course, first: _Fate) -> Iterator[Answer]:
        """Yield what becomes of openings that fare alike on the first way, gone over way by way; what lists decide is kept for all of them."""
        self._kept = {} if self._kept is None else self._kept
        pieces = [[first]]
        for way in islice(ways, 1, None):
            pieces = [[*fates, each] for fates in pieces for each in self._leg(party, way, course, 0, fates[-1].product, (), ())]
        for fates in pieces:
            every = [self._ending(each) for each in fates]
            yield from self._answer(fates[-1].product, every[0], every)

    def _answer(self, product: Product, first: Ending, every: Iterable[Ending]) -> Iterator[Answer]:
        """Yield the answer for a product that is not hidden, given how it ends on the first way, and on every one."""
        packets = self._seen(product)
        if packets is not None:
            written, every = packets if self._hidden is None else PacketSet(self.frame, (product,)), tuple(every)
            verdict = first.verdict if all(each.verdict is first.verdict for each in every) else Verdict.VARIES
            yield Answer(packets, written, verdict, first, every)

    def _ending(self, fate: _Fate) -> Ending:
        decided = fate.passed if fate.stop is None else (*fate.passed, fate.stop)
        by = self._by is not None and any(each.decider.key == self._by for each in decided)
        return Ending(*fate[1:], by)

    def _alike(self, party: int, ways: Ways, course: Course, opening: Product) -> Iterator[tuple[Product, Decide]]:
        """Yield openings in pieces, of each of which every list that is met decides all alike; with what tells the lines that do."""
        legs = course.legs[:1] if ways.unanswered else course.legs
        asked = [self._parties[party].asking.asked(ways, leg, self._family) for leg in legs]

        def split(leg: int, crossing: Crossing, access_list: AccessList, product: Product) -> Iterator[tuple[Product, Decider]]:
            for piece, decided, _ in self._decided(party, course, legs[leg], PlacedList(crossing, access_list), product):
                yield piece, decided.decider

        return decided_alike(ways, [{each.crossing: each.access_list for each in lists} for lists in asked], opening, split)

    def _seen(self, product: Product) -> PacketSet | None:
        """Return the packets of a product from and to addresses that are not hidden, None where there are none."""
        if self._hidden is not None:
            sources, destinations = product[0] & ~self._hidden[0], product[1] & ~self._hidden[1]
            if not (sources and destinations):
                return None
            product = (sources, destinations, *product[2:])
        return PacketSet(self.frame, (product,)) if self.frame.has_two_ends(product) else None

    def _leg(
        self, party: int, way: Way, course: Course, index: int, opening: Product, passed: tuple[Decided, ...], owed: tuple[Decided, ...]
    ) -> Iterator[_Fate]:
        """Take a leg; `owed` are the lines that will stop the conversation once it has settled on its TLS."""
        asking = self._parties[party].asking
        every = asking.legs(way, course, self._family)
        if index == len(every) or (index and way.unanswered):
            yield _Fate(opening, Verdict.PERMITTED, every[-1], None, passed)
        elif owed and every[index].settles:
            yield _Fate(opening, Verdict.HALF_OPEN, every[index], owed[-1 if every[index].returns else 0], passed)
        else:
            asked = asking.asked_on(way, every[index], self._family)
            yield from self._crossing(party, way, course, index, asked, 0, opening, passed, owed)

    def _crossing(
        self, party: int, way: Way, course: Course, index: int, asked: Sequence[PlacedList], nth: int, opening: Product,
        passed: tuple[Decided, ...], owed: tuple[Decided, ...],
    ) -> Iterator[_Fate]:  # fmt: skip
        leg = self._parties[party].asking.legs(way, course, self._family)[index]
        if nth == len(asked):
            arrived = way.back.arrived if leg.returns else way.there.arrived
            if arrived:
                yield from self._leg(party, way, course, index + 1, opening, passed, owed)
            else:
                yield _Fate(opening, Verdict.UNROUTABLE, leg, None, passed)
            return
        judged = not index and is_judged(asked[nth].crossing, way)
        for piece, decided, stop in self._known(party, course, index, leg, asked[nth], opening):
            if decided.decider.permits:
                due = (*owed, stop) if judged and stop is not None else owed
                yield from self._crossing(party, way, course, index, asked, nth + 1, piece, (*passed, decided), due)
            else:
                yield _Fate(piece, Verdict.HALF_OPEN if index else Verdict.DENIED, leg, decided, passed)

    def _known(
        self, party: int, course: Course, index: int, leg: Leg, placed: PlacedList, opening: Product
    ) -> Iterable[tuple[Product, Decided, Decided | None]]:
        """Return what `_decided` yields, which is kept where ways are gone over one by one."""
        if self._kept is None:
            return self._decided(party, course, leg, placed, opening)
        key = party, id(course), index, id(placed.crossing), opening
        if key not in self._kept:
            self._kept[key] = list(self._decided(party, course, leg, placed, opening))
        return self._kept[key]

    def _decided(
        self, party: int, course: Course, leg: Leg, placed: PlacedList, opening: Product
    ) -> Iterator[tuple[Product, Decided, Decided | None]]:
        """Yield openings in pieces, each with the line that decides them at a list.

        What the list stops as it is, but lets by as long as the conversation may settle on another TLS, has that line first.
        """
        asking, (crossing, access_list) = self._parties[party].asking, placed

        def lines(regions: ListRegions, product: Product) -> Iterator[tuple[Product, Decided]]:
            for piece, region in algebra.split(product, self._asked_rows(course, regions, leg), self.frame.order):
                yield piece, Decided(crossing, Decider(access_list, None if region is None else region.entry))

        left = []
        for piece, decided in lines(asking.regions(access_list), opening):
            if decided.decider.permits or not access_list.tls:
                yield piece, decided, None
            else:
                left.append((piece, decided))
        for regions in asking.undecided(access_list) if left else ():
            waiting, left = left, []
            for product, stop in waiting:
                for piece, decided in lines(regions, product):
                    if decided.decider.permits:
                        yield piece, decided, stop
                    else:
                        left.append((piece, stop))
        for piece, stop in left:
            yield piece, stop, None

    def _asked_rows(self, course: Course, regions: ListRegions, leg: Leg) -> list[tuple[Product, EntryRegion]]:
        key = id(course), id(regions), leg
        if key not in self._rows:
            self._rows[key] = [(product, each) for own, each in self._near[key] for product in self.frame.products(own)]
        return self._rows[key]


def _around(flow: Flow, opened: Sequence[Opening]) -> Region:
    """Return a region that holds all that some openings of a flow have."""
    regions = [each.region for each in opened]
    if len(regions) == 1:
        return regions[0]
    what = line.joined(span for each in regions for span in each.what)
    ports = line.joined(span for each in regions for span in each.source_ports)
    flags, dscp = (reduce(or_, (each[side] for each in regions), 0) for side in (4, 5))
    return flow.region._replace(what=what, source_ports=ports, flags=flags, dscp=dscp)
