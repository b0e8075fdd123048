"""Exact answers about conversations between sets of addresses: every opening packet with its fate,
as products of sets.

1. Between two address classes all conversations go the same way there and back, so the lists asked
on each leg are known.

2. The protocol of an opening packet decides its course (`courses`), which says what legs follow. A
leg's packets are those of the opening, with ends and ports exchanged on the way back.

3. The walk carries them through all lists (`conversation.walk`); each list that is asked divides
them.

All of it is computed in one frame (`Question`): what an entry does with an answer is seen as what
it does with the openings that it answers.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from functools import reduce
from operator import or_
from typing import NamedTuple

from crossgate.core.conversation.endings import Ending
from crossgate.core.conversation.packets import least
from crossgate.core.conversation.places import Asked
from crossgate.core.conversation.rules import LEADING, Decision, Leg
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.conversation.walk import follow
from crossgate.core.lists.split import EntryRegion, ListRegions, region_hull
from crossgate.core.model.accesslist import AccessList, Decider, DeciderKey
from crossgate.core.network.view import NOT_TRANSLATED, Choice, View
from crossgate.core.network.ways import Ways
from crossgate.core.sets import products as algebra
from crossgate.core.sets import spans as line
from crossgate.core.sets.boxes import Box
from crossgate.core.sets.frame import PacketSet, SetFrame
from crossgate.core.sets.products import Product
from crossgate.core.sets.region import Region
from crossgate.core.traffic.between import Flow
from crossgate.core.traffic.courses import Course, Opening, course_on, leg_regions
from crossgate.core.traffic.flows import Flows, stops_all_near
from crossgate.core.traffic.translated import SeenRegion


class Answer(NamedTuple):
    """The fate of the conversations that some packets open; `written` are these packets with the
    hidden addresses of their flow.

    `first` is how they end on the first way, `endings` on all. The verdict is `VARIES` where these
    do not agree.
    """

    packets: PacketSet
    written: PacketSet
    verdict: Verdict
    first: Ending
    endings: tuple[Ending, ...]

    @property
    def opening(self) -> Product:
        """The opening packets, hidden addresses included, as a product of the question's frame."""
        return self.written.products[0]

    @property
    def stopped(self) -> Ending:
        """How they end on the first way on which a list stopped them, or on the first way where
        none did.
        """
        return next(
            (each for each in (self.first, *self.endings) if each.stop is not None), self.first
        )


def answers(
    asking: Flows, flow: Flow, begun: Iterable[Opening], by: DeciderKey | None = None
) -> Iterator[Answer]:
    """Yield the fates of the conversations of a flow that the packets `begun` open; `by` is the
    line whose decisions the endings name.
    """
    parties = [Party(asking, each, flow.on_link) for each in flow.every]
    question = Question(flow, begun, parties, by)
    every = range(len(parties))
    for course, opening in question.openings:
        yield from question.answers(every, course, opening)


_Key = tuple[Course, ListRegions, Leg, View, Choice | None]
"""A list that is asked about a leg of a course, in a view in which something was chosen."""
_Near = dict[_Key, list[tuple[list[Region], EntryRegion]]]
"""Entries that may take packets of a leg, each with the openings that these follow."""


class Party(NamedTuple):
    """Whose lists are asked in a question, the ways that its packets take, if there are any, and
    whether both ends are on one link.
    """

    asking: Flows
    ways: Ways | None
    on_link: bool


class Question:
    """The conversations that some packets of a flow open, in one frame for all ways, legs and
    lists.

    Every entry is written in terms of the packets that open: an answer is seen as the opening that
    it answers. The `parties` are one network, or two to be compared.
    """

    def __init__(
        self,
        flow: Flow,
        begun: Iterable[Opening],
        parties: Sequence[Party],
        by: DeciderKey | None = None,
    ) -> None:
        self._parties = parties
        self._by = by
        self._family = flow.senders.family
        opened = [
            Opening(course, region)
            for course, each in begun
            if course.on_link in (None, flow.on_link)
            and (region := each.common(flow.region)) is not None
        ]
        whole = _around(flow, opened)
        self._near = self._gathered(opened, whole)
        self._rows: dict[_Key, list[tuple[Product, EntryRegion]] | None] = {}
        regions = [
            region for several in self._near.values() for own, _ in several for region in own
        ]
        hidden = [] if flow.hidden is None else [Region(*flow.hidden)]
        # What clients send is told by itself (`answers.clients`), so it is told apart here.
        clients = [
            whole._replace(source_ports=((first, last + 1),))
            for first, last in {each.asking.network.plan.client_ports for each in parties}
        ]
        self.frame = SetFrame(
            whole, [*(each.region for each in opened), *hidden, *regions, *clients]
        )
        products = ((each.course, self.frame.product(each.region)) for each in opened)
        self.openings = [(course, product) for course, product in products if product is not None]
        self._hidden = (
            None
            if flow.hidden is None
            else (self.frame.mask(0, flow.hidden[0]), self.frame.mask(1, flow.hidden[1]))
        )

    def _gathered(self, opened: Sequence[Opening], whole: Region) -> _Near:
        """Return, by course, list and leg, the entries that may take packets of the leg, each with
        the openings of these packets.
        """
        courses: dict[Course, list[Opening]] = {}
        for each in opened:
            courses.setdefault(each.course, []).append(each)
        # Of most lists only a few entries have such addresses, and these are the same for every
        # course.
        ends = {
            returns: region_hull(Region(*(reversed(whole[:2]) if returns else whole[:2])))
            for returns in (False, True)
        }
        close: dict[tuple[ListRegions, bool], list[EntryRegion]] = {}
        found: _Near = {}
        for several in courses.values():
            for asking, ways, on_link in self._parties:
                course = course_on(several[0].course, on_link)
                for nth, leg in enumerate(
                    () if ways is None else asking.walk(ways, course, self._family).script.legs
                ):
                    assert ways is not None
                    if nth == 1 and self._ends_there(asking, ways, course, several, found):
                        break  # no later leg is ever asked about
                    boxes: list[Box] = []
                    for regions, view in asking.lists_asked(ways, leg, self._family):
                        if leg not in LEADING and not regions.access_list.asks_for_flags:
                            continue  # it does what it did with the first leg of the way
                        if view:
                            found.update(
                                self._seen_near(asking, course, several, leg, regions, view)
                            )
                            continue
                        if not boxes:
                            boxes = [
                                region_hull(each)
                                for own in several
                                for each in leg_regions(own.region, course, leg)
                            ]
                        here = regions, leg.returns
                        if here not in close:
                            close[here] = regions.near(ends[leg.returns])
                        near = regions.near_any(boxes, close[here])
                        found[course, regions, leg, NOT_TRANSLATED, None] = [
                            (asking.opened_by(each, course, leg), each) for each in near
                        ]
        return found

    def _seen_near(
        self,
        asking: Flows,
        course: Course,
        opened: Sequence[Opening],
        leg: Leg,
        regions: ListRegions,
        view: View,
    ) -> Iterator[tuple[_Key, list[tuple[list[Region], EntryRegion]]]]:
        """Yield the entries of a list that may take packets of a leg, as the list sees them in a
        view, for each possible choice of a translation.
        """
        seen = [SeenRegion(each.region, view) for each in opened]
        boxes = [region_hull(each) for own in seen for each in leg_regions(own.image, course, leg)]
        near = regions.near_any(boxes, regions.regions)
        for choice in asking.choices(regions.access_list, view):
            found = []
            for entry in near:
                taken = (
                    own.made(region, choice)
                    for region in asking.opened_by(entry, course, leg)
                    for own in seen
                )
                made = [each for each in taken if each is not None]
                if made:
                    found.append((made, entry))
            yield (course, regions, leg, view, choice), found

    def _ends_there(
        self, asking: Flows, ways: Ways, course: Course, opened: Sequence[Opening], near: _Near
    ) -> bool:
        """Whether it is plain at once that lists on each way there let nothing by that opens a
        course. False may be wrong.
        """

        def ends(access_list: AccessList) -> bool:
            every = (asking.regions(access_list), *asking.undecided(access_list))
            takers = (
                [each for _, each in near[course, regions, course.legs[0], NOT_TRANSLATED, None]]
                for regions in every
            )
            return all(
                stops_all_near(access_list, several, [each.region for each in opened])
                for several in takers
            )

        return asking.all_meet(ways, course.legs[0], self._family, ends)

    def answers(self, parties: Sequence[int], course: Course, opening: Product) -> Iterator[Answer]:
        """Yield what becomes of the openings of a course in one network, given by the numbers of
        its `parties`: pieces that are treated alike on each of their ways.

        Where no machine of that network can have their addresses, openings take no way and end on
        their first leg.
        """
        for product, every in self._followed(parties, course, opening):
            yield from self._answer(product, every)

    def _followed(
        self, parties: Sequence[int], course: Course, opening: Product
    ) -> Iterator[tuple[Product, list[Ending]]]:
        asking, ways, on_link = self._parties[parties[0]]
        course = course_on(course, on_link)
        if ways is None:
            yield opening, [Ending(Verdict.UNROUTABLE, course.legs[0], None)]
            return
        walk = asking.walk(ways, course, self._family)
        for product, every in follow(walk, _Openings(self, asking, course), opening, self._by):
            if len(parties) == 1:
                yield product, every
                continue
            for piece, others in self._followed(parties[1:], course, product):
                yield piece, [*every, *(each._replace(first=False) for each in others)]

    def _answer(self, product: Product, every: Sequence[Ending]) -> Iterator[Answer]:
        """Yield the answer for a product that is not all hidden, given how it ends."""
        packets = self._seen(product)
        if packets is not None:
            written, first = (
                packets if self._hidden is None else PacketSet(self.frame, (product,)),
                every[0],
            )
            verdict = (
                first.verdict
                if all(each.verdict is first.verdict for each in every)
                else Verdict.VARIES
            )
            yield Answer(packets, written, verdict, first, tuple(every))

    def _seen(self, product: Product) -> PacketSet | None:
        """Return the packets of a product between addresses that are not hidden; None where there
        are none.
        """
        if self._hidden is not None:
            sources, destinations = product[0] & ~self._hidden[0], product[1] & ~self._hidden[1]
            if not (sources and destinations):
                return None
            product = (sources, destinations, *product[2:])
        return PacketSet(self.frame, (product,)) if self.frame.has_two_ends(product) else None

    def rows(self, key: _Key) -> list[tuple[Product, EntryRegion]] | None:
        """Return the entries of a list that may take packets of a leg, as the openings of these
        packets; None where no packet ever comes there.
        """
        if key not in self._rows:
            near = self._near.get(key)
            self._rows[key] = (
                None
                if near is None
                else [(product, each) for own, each in near for product in self.frame.products(own)]
            )
        return self._rows[key]


class _Openings:
    """Carries products of a question's frame through the walk: packets that open conversations of
    one course.
    """

    def __init__(self, question: Question, asking: Flows, course: Course) -> None:
        self._question, self._asking, self._course = question, asking, course

    def decide(self, part: Product, leg: Leg, asked: Asked) -> Sequence[tuple[Product, Decision]]:
        """Divide openings by what a list decides about them.

        Where a translation may choose between several addresses or ports, openings are permitted
        only if the list permits them for every choice.
        """
        access_list, view = asked
        if not view:
            return self._decided(part, leg, access_list, NOT_TRANSLATED, None)
        parts: list[tuple[Product, Decision | None]] = [(part, None)]
        for choice in self._asking.choices(access_list, view):
            every, parts = parts, []
            for piece, before in every:
                if before is not None and not before.permits:
                    parts.append((piece, before))
                    continue
                parts += [
                    (inner, now if before is None else least((before, now)))
                    for inner, now in self._decided(piece, leg, access_list, view, choice)
                ]
        return [(piece, decision) for piece, decision in parts if decision is not None]

    def _decided(
        self, part: Product, leg: Leg, access_list: AccessList, view: View, choice: Choice | None
    ) -> Sequence[tuple[Product, Decision]]:
        """Divide openings by a list; those that it denies, but would permit with another TLS
        version, pass until the version is settled.
        """

        def parted(what: Product, regions: ListRegions) -> Iterator[tuple[Product, Decider]]:
            return self._parted(what, (self._course, regions, leg, view, choice))

        found: list[tuple[Product, Decision]] = []
        left: list[tuple[Product, Decider]] = []
        for piece, decider in parted(part, self._asking.regions(access_list)):
            if decider.permits:
                found.append((piece, Decision(decider, True)))
            else:
                left.append((piece, decider))
        for regions in self._asking.undecided(access_list) if left else ():
            waiting, left = left, []
            for stopped, due in waiting:
                for piece, decider in parted(stopped, regions):
                    if decider.permits:
                        found.append((piece, Decision(decider, True, due)))
                    else:
                        left.append((piece, due))
        return [*found, *((piece, Decision(stop, False)) for piece, stop in left)]

    def _parted(self, part: Product, key: _Key) -> Iterator[tuple[Product, Decider]]:
        """Yield openings in pieces, each with the line of a list that decides it."""
        rows, regions = self._question.rows(key), key[1]
        if rows is None:
            yield part, Decider(regions.access_list, None)
            return
        for piece, region in algebra.split(part, rows, self._question.frame.order):
            yield piece, Decider(regions.access_list, None if region is None else region.entry)


def _around(flow: Flow, opened: Sequence[Opening]) -> Region:
    """Return a region that contains all openings of a flow that are asked about."""
    regions = [each.region for each in opened]
    if len(regions) == 1:
        return regions[0]
    what = line.joined(span for each in regions for span in each.what)
    ports = line.joined(span for each in regions for span in each.source_ports)
    flags, dscp = (reduce(or_, (each[side] for each in regions), 0) for side in (4, 5))
    return flow.region._replace(what=what, source_ports=ports, flags=flags, dscp=dscp)
