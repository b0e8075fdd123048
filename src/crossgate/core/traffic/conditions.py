"""The states of conditions that a question has to go through: where there are many, only those that
make a difference to its packets.

A condition on an entry that takes none of the packets changes nothing for them, whatever its state.
Such an entry is left out before the states are combined. The answer is the same; it only costs
less.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterable, Iterator
from dataclasses import replace
from datetime import datetime
from functools import partial

from crossgate.core.conversation.rules import WITH_TLS, WITHOUT_TLS, Leg
from crossgate.core.lists.split import EntryRegion, Regions, conditional_regions, region_hull
from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.claim import ClaimHours, Moment
from crossgate.core.model.condition import State
from crossgate.core.model.plan import Plan
from crossgate.core.model.tls import Spoken, hello_of
from crossgate.core.network.ways import Network, Ways
from crossgate.core.sets.addresses import AddressSet
from crossgate.core.sets.region import Region
from crossgate.core.traffic.between import Flow
from crossgate.core.traffic.courses import Opening, leg_regions
from crossgate.core.traffic.flows import placed_on

ENOUGH = 64
"""Up to so many states are gone over as they are; above that it is looked which conditions matter,
and their number is told.
"""

_SETTLING = (*WITH_TLS, *WITHOUT_TLS)


def states_for(
    plan: Plan,
    lists: Iterable[AccessList],
    packets: Callable[[], Iterable[Region]],
    at: Moment | ClaimHours | None = None,
    flooding: bool | None = None,
    spoken: Spoken | None = None,
) -> dict[State, datetime | None]:
    """Return the states of some lists to be gone through for some packets, each with a moment at
    which it holds; otherwise like `Plan.states`.
    """
    every = list(lists)
    found = plan.states(every, at, flooding, spoken)
    if len(found) <= ENOUGH:
        return found
    boxes = [region_hull(region) for region in packets()]
    met = [
        _narrowed(each, conditional_regions(each), lambda region: any(map(region.touches, boxes)))
        for each in every
    ]
    return plan.states(met, at, flooding, spoken)


def _narrowed(
    access_list: AccessList,
    conditional: Iterable[EntryRegion],
    takes: Callable[[EntryRegion], bool],
) -> AccessList:
    """Return a list without those of its conditional entries that take nothing asked about."""
    idle = {each.entry.number for each in conditional if not takes(each)}
    kept = tuple(each for each in access_list.entries if each.number not in idle)
    return replace(access_list, entries=kept) if idle else access_list


class Mattering:
    """What matters of the states of the lists on some ways to one flow: the conditions of entries
    that take something between its ends, there or back.
    """

    def __init__(
        self, network: Network, regions: Regions, ways: Iterable[Ways], flow: Flow
    ) -> None:
        graphs = dict.fromkeys(graph for each in ways for graph in (each.there, each.back))
        placed = [
            each
            for graph in graphs
            for each in placed_on(network, graph, flow.senders.family)
            if each.access_list.is_conditional
        ]
        # A list that sees translated packets may take them by other addresses.
        whole = {each.access_list for each in placed if each.crossing.view}
        every = dict.fromkeys(each.access_list for each in placed)
        self._lists = [
            each
            if each in whole
            else _narrowed(each, regions.conditional(each), partial(_may_take, flow))
            for each in every
        ]
        self._asks_for_tls = any(each.tls for each in every)

    def of(self, state: State) -> Hashable:
        """Return the part of a state that matters: with equal values the lists do the same with the
        flow, and its conversations have the same legs.
        """
        own = tuple(each.relevant(state) for each in self._lists)
        return own, self._asks_for_tls and hello_of(state) is None


def _may_take(flow: Flow, entry: EntryRegion) -> bool:
    """Whether an entry has addresses of what the ends of a flow send each other."""
    one, other = flow.senders, flow.receivers
    return entry.region is not None and (
        _between(entry.region, one, other) or _between(entry.region, other, one)
    )


def _between(region: Region, source: AddressSet, destination: AddressSet) -> bool:
    """Whether a region has addresses of what is sent from some addresses to others."""
    return region.source.meets(source) and region.destination.meets(destination)


def legs_of(flows: Iterable[Flow], begun: Iterable[Opening]) -> Iterator[Region]:
    """Yield the packets of every leg of the conversations that some packets open in some flows."""
    opened = list(begun)
    for flow in flows:
        for course, each in opened:
            region = each.common(flow.region)
            if region is not None:
                for leg in (*course.legs, *(_SETTLING if Leg.SYN in course.legs else ())):
                    yield from leg_regions(region, course, leg)
