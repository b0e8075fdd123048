"""The network of a plan as questions about sets of conversations need it: which lists are asked, on
which ways and legs, and in which states.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from functools import partial
from typing import NamedTuple

from crossgate.core.conversation.choices import choices
from crossgate.core.conversation.places import Places, Walk
from crossgate.core.conversation.rules import HANDSHAKE, LEADING, OPENING, Leg, script, unasked
from crossgate.core.lists.split import EntryRegion, ListRegions, Regions, region_hull
from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.address import Family
from crossgate.core.model.condition import State
from crossgate.core.model.entry import Action
from crossgate.core.model.tls import hello_of
from crossgate.core.network.paths import Crossing
from crossgate.core.network.view import Choice, View
from crossgate.core.network.way_graph import Passage, WayGraph
from crossgate.core.network.ways import Network, Ways
from crossgate.core.sets.boxes import Box
from crossgate.core.sets.region import Region
from crossgate.core.traffic.between import Flow
from crossgate.core.traffic.courses import Course, Opening, opening_regions


class PlacedList(NamedTuple):
    """A list that a packet meets, and the crossing at which it stands."""

    crossing: Crossing
    access_list: AccessList


class Flows:
    """The network of one plan in one `state` of its conditions; results are kept."""

    def __init__(self, network: Network, regions: Regions, state: State = frozenset()) -> None:
        self.network = network
        self._regions = regions
        self.state = state
        self._asked: dict[tuple[Ways, Leg], list[PlacedList]] = {}
        self._places: dict[Family, Places] = {}
        self._choices: dict[tuple[AccessList, View], tuple[Choice | None, ...]] = {}
        self._opened: dict[tuple[EntryRegion, Course, Leg], list[Region]] = {}

    def regions(self, access_list: AccessList, state: State | None = None) -> ListRegions:
        """Return the regions of a list, in another state than this one where it is given."""
        return self._regions.of(access_list, self.state if state is None else state)

    def stops_all(self, flow: Flow, begun: Iterable[Opening]) -> bool:
        """Whether it is plain at once that lists on each way there deny all that the packets
        `begun` of a flow open. False may be wrong.
        """
        opened = ((course, region.common(flow.region)) for course, region in begun)
        return all(
            self.all_meet(
                ways,
                course.legs[0],
                region.family,
                partial(self._ends, region, region_hull(region)),
            )
            for course, region in opened
            if region is not None
            for ways in flow.every
        )

    def all_meet(
        self, ways: Ways, leg: Leg, family: Family, test: Callable[[AccessList], bool]
    ) -> bool:
        """Whether each way there crosses a list, asked on the leg, that passes a test."""
        # What a list sees otherwise than it was sent is not looked at so plainly.
        asked = (each for each in self.asked(ways, leg, family) if not each.crossing.view)
        if ways.there.count == 1:
            return any(test(each.access_list) for each in asked)
        return ways.there.all_meet({each.crossing for each in asked if test(each.access_list)})

    def _ends(self, opened: Region, hull: Box, access_list: AccessList) -> bool:
        every = (self.regions(access_list), *self.undecided(access_list))
        return all(stops_all_near(access_list, regions.near(hull), (opened,)) for regions in every)

    def lists_asked(
        self, ways: Ways, leg: Leg, family: Family
    ) -> Iterable[tuple[ListRegions, View]]:
        """Return the lists that are asked on a leg of some ways, each once for every view in which
        it sees packets and every state that conversations may still be in.
        """
        asked = self.asked(ways, leg, family)
        lists = dict.fromkeys((each.access_list, each.crossing.view) for each in asked)
        return dict.fromkeys(
            (regions, view)
            for each, view in lists
            for regions in (self.regions(each), *self.undecided(each))
        )

    def choices(self, access_list: AccessList, view: View) -> tuple[Choice | None, ...]:
        """Return the addresses and ports that a translation may have chosen in a view, as far as a
        list treats them differently; None where there is no choice.
        """
        key = access_list, view
        if key not in self._choices:
            self._choices[key] = choices(access_list, view) or (None,)
        return self._choices[key]

    def undecided(self, access_list: AccessList) -> list[ListRegions]:
        """Return the regions of a list in the other states that a conversation may be in before its
        TLS version is settled.
        """
        return (
            [self.regions(access_list, each) for each in access_list.undecided(self.state)]
            if access_list.tls
            else []
        )

    def walk(self, ways: Ways, course: Course, family: Family) -> Walk:
        """Return the walk of conversations of a course on some ways."""
        asks = course.legs == HANDSHAKE and self.network.asks_for_tls(ways, family)
        wanted = script(
            course.legs, hello_of(self.state) is not None if asks else None, ways.unanswered
        )
        if family not in self._places:
            self._places[family] = Places(self.network, family)
        return Walk(self._places[family], ways, wanted)

    def opened_by(self, region: EntryRegion, course: Course, leg: Leg) -> list[Region]:
        """Return the openings of a course whose packets on a leg an entry takes
        (`opening_regions`).
        """
        if region.region is None or leg in OPENING:
            return [] if region.region is None else [region.region]
        key = region, course, leg
        if key not in self._opened:
            self._opened[key] = opening_regions(region.region, course, leg)
        return self._opened[key]

    def asked(self, ways: Ways, leg: Leg, family: Family) -> list[PlacedList]:
        """Return the lists that are asked on a leg of some ways.

        A stateful device that let a leg by is not asked about later legs: about an answer it is
        asked only if not every way there passes it.
        """
        if (ways, leg) not in self._asked:
            # A later leg comes by no device that the leading one of its way did not pass.
            passed = unasked(
                leg, ways.there.always if leg in LEADING else ways.there.devices, ways.back.devices
            )
            every = placed_on(self.network, ways.back if leg.returns else ways.there, family)
            self._asked[ways, leg] = [
                each for each in every if each.crossing.remembered_by not in passed
            ]
        return self._asked[ways, leg]


def placed_on(network: Network, passage: Passage | WayGraph, family: Family) -> list[PlacedList]:
    """Return the crossings on one way or several, each with the list of the family that stands
    there.
    """
    return [
        PlacedList(each, own)
        for each in passage.crossings
        if (own := network.list_at(each, family)) is not None
    ]


def lists_on(network: Network, ways: Iterable[Ways], family: Family) -> list[AccessList]:
    """Return the lists of the family that stand on some ways, there and back, each once."""
    graph = dict.fromkeys(graph for each in ways for graph in (each.there, each.back))
    return list(
        dict.fromkeys(
            each.access_list for graph in graph for each in placed_on(network, graph, family)
        )
    )


def stops_all_near(
    access_list: AccessList, near: Iterable[EntryRegion], opened: Sequence[Region]
) -> bool:
    """Whether it is plain at once that a list denies all of some openings, of which only its
    entries `near` can take any. False may be wrong.
    """
    for each in near:
        if each.entry.action is Action.PERMIT:
            return False
        if each.region is not None and all(map(each.region.holds, opened)):
            return True
    return access_list.otherwise.action is not Action.PERMIT
