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

from crossgate.core.conversation.rules import WITH_TLS, WITHOUT_TLS, Leg
from crossgate.core.lists.split import EntryRegion, region_hull
from crossgate.core.model.accesslist import AccessList, Entry
from crossgate.core.model.claim import Hours, Moment
from crossgate.core.model.condition import State
from crossgate.core.model.plan import Plan
from crossgate.core.model.tls import Spoken, hello_of
from crossgate.core.sets.boxes import Box
from crossgate.core.sets.region import Region
from crossgate.core.traffic.between import Flow
from crossgate.core.traffic.courses import Opening, leg_regions

ENOUGH = 64
"""Up to so many states are gone over as they are; above that it is looked which conditions matter,
and their number is told.
"""

_SETTLING = (*WITH_TLS, *WITHOUT_TLS)


def states_for(
    plan: Plan,
    lists: Iterable[AccessList],
    packets: Callable[[], Iterable[Region]],
    at: Moment | Hours | None = None,
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
    return plan.states([_met_by(each, boxes) for each in every], at, flooding, spoken)


def _met_by(access_list: AccessList, boxes: list[Box]) -> AccessList:
    """Return a list without the conditional entries that take no packet of the given boxes."""
    return replace(
        access_list,
        entries=tuple(each for each in access_list.entries if _matters(each, access_list, boxes)),
    )


def _matters(entry: Entry, access_list: AccessList, boxes: list[Box]) -> bool:
    if not entry.needs_state:
        return False  # it is in force in every state
    region = EntryRegion(entry, access_list.family)
    return any(map(region.touches, boxes))


def mattering(lists: Iterable[AccessList], state: State) -> Hashable:
    """Return the part of a state that matters to some lists: with equal values the lists do the
    same, and conversations have the same legs.
    """
    own, settling = [], False
    for each in lists:
        own.append(each.relevant(state))
        settling = settling or bool(each.tls)
    return tuple(own), settling and hello_of(state) is None


def legs_of(flows: Iterable[Flow], begun: Iterable[Opening]) -> Iterator[Region]:
    """Yield the packets of every leg of the conversations that some packets open in some flows."""
    opened = list(begun)
    for flow in flows:
        for course, each in opened:
            region = each.common(flow.region)
            if region is not None:
                for leg in (*course.legs, *(_SETTLING if Leg.SYN in course.legs else ())):
                    yield from leg_regions(region, course, leg)
