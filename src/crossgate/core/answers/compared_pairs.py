"""What two plans are compared in: traffic that each treats alike, and the states that both can be
in.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime
from functools import cache
from itertools import product
from typing import Any, NamedTuple

from crossgate.core.answers.change import PlanChange
from crossgate.core.model.accesslist import AccessList, AnyList
from crossgate.core.model.address import Family, Pattern
from crossgate.core.model.condition import State
from crossgate.core.model.conditions import Limit, exceeded
from crossgate.core.model.plan import Plan
from crossgate.core.model.tls import Hello, settled, spoken_sorts
from crossgate.core.model.window import Window, open_at, states
from crossgate.core.network.ways import Network, Ways
from crossgate.core.sets import spans as line
from crossgate.core.sets.effort import TooManyPieces, gathered
from crossgate.core.traffic.between import Flow, FlowEnd, end_without, flows_of, united
from crossgate.core.traffic.examples import unmentioned
from crossgate.core.traffic.flows import lists_on


class ComparedSide(NamedTuple):
    """How one plan treats a pair: the ways that are taken, none where no machine can have the
    addresses, and whether both ends are on one link.
    """

    ways: tuple[Ways, ...]
    on_link: bool


class ComparedPair(NamedTuple):
    """Conversations that are alike within each of two plans, as a flow of either, and how each plan
    treats them.

    `conditional` are the lists with conditional entries on their ways, in the old and in the new
    plan.
    """

    flow: Flow
    old: ComparedSide
    new: ComparedSide
    conditional: tuple[tuple[AccessList, ...], tuple[AccessList, ...]]
    devices: bool

    @property
    def is_conditional(self) -> bool:
        """Whether their treatment in either plan depends on a state of conditions."""
        return any(self.conditional)


def compared_pairs(
    change: PlanChange, family: Family, missed: list[TooManyPieces] | None
) -> Iterator[ComparedPair]:
    """Yield the traffic between any two address classes of both plans that can be treated
    differently; classes treated alike are one.
    """
    networks = change.old.network, change.new.network
    hidden = {
        devices: unmentioned(networks[0], devices) | unmentioned(networks[1], devices)
        for devices in (False, True)
    }

    @cache
    def end_of(pattern: Pattern, excluded: tuple[Pattern, ...], devices: bool) -> FlowEnd:
        return end_without((pattern,), excluded, hidden[devices])

    found: list[tuple[tuple[ComparedSide, ComparedSide, bool], Flow]] = []
    for source, destination, excluded, nodes in change.pairs(family):
        devices = any(
            end is not None and end.device is not None for end in (*source.ends, *destination.ends)
        )
        ends = (
            end_of(source.pattern, excluded.sources, devices),
            end_of(destination.pattern, excluded.destinations, devices),
        )
        flows: list[list[Flow]] = []
        with gathered(missed):
            flows = [
                []
                if one is None or other is None
                else flows_of(
                    network,
                    one,
                    other,
                    ends,
                    (None, None) if network.plan.translations[family] else numbers,
                )
                for network, one, other, numbers in zip(
                    networks, source.ends, destination.ends, nodes, strict=True
                )
            ]
        for before, after in product(*map(_or_none, flows)) if flows else ():
            flow = after or before
            what = line.common(before.what, after.what) if before and after else flow and flow.what
            if flow is not None and what:
                old, new = (
                    ComparedSide((), flow.on_link)
                    if each is None
                    else ComparedSide(each.every, each.on_link)
                    for each in (before, after)
                )
                # What a translation leads to a machine inside is not for the device itself.
                led = any(each.led for side in (old, new) for each in side.ways)
                own = (source,) if led else (source, destination)
                devices = any(end is not None and end.device for each in own for end in each.ends)
                found.append(((old, new, devices), flow._replace(what=what)))
    for (old, new, devices), flow in united(found):
        yield ComparedPair(
            flow,
            old,
            new,
            (_conditional(networks[0], old, family), _conditional(networks[1], new, family)),
            devices,
        )


def _or_none(flows: list[Flow]) -> Sequence[Flow | None]:
    return flows or (None,)


def _conditional(network: Network, side: ComparedSide, family: Family) -> tuple[AccessList, ...]:
    """Return the lists with conditions that stand on the ways of one side."""
    return tuple(each for each in lists_on(network, side.ways, family) if each.is_conditional)


ComparedStates = dict[tuple[State, State, frozenset[Limit], Hello | None], datetime | None]


def compared_states(
    old: Plan, new: Plan, before: Iterable[AnyList[Any]], after: Iterable[AnyList[Any]]
) -> ComparedStates:
    """Return every pair of states, of the old and of the new plan, that conditions can be in
    together, each with a moment.

    A key has the state of each plan, the limits that are exceeded, and the TLS that is settled on.
    """
    lists = list(before), list(after)
    windows = [
        ("old", old.every_window[name])
        for name in sorted({name for each in lists[0] for name in each.windows})
    ]
    windows += [
        ("new", new.every_window[name])
        for name in sorted({name for each in lists[1] for name in each.windows})
    ]
    opened: dict[tuple[State, State], datetime | None] = (
        {} if windows else {(frozenset(), frozenset()): None}
    )
    marked: list[Window] = [
        window._replace(name=f"{plan}:{window.name}") for plan, window in windows
    ]
    for moment in states(marked).values() if windows else ():
        key = (
            open_at((window for plan, window in windows if plan == "old"), moment),
            open_at((window for plan, window in windows if plan == "new"), moment),
        )
        opened.setdefault(key, moment)
    limits = {limit for several in lists for each in several for limit in each.limits}
    hellos = spoken_sorts(test for several in lists for each in several for test in each.tls) or (
        None,
    )
    return {
        (settled(was | each, hello), settled(now | each, hello), each, hello): moment
        for hello in hellos
        for each in exceeded(limits)
        for (was, now), moment in opened.items()
    }
