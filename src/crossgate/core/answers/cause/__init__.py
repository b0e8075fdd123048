"""Which single fault explains what was observed on the running network.

Every fault that can affect an unexpected observation is tried: the plan with that fault predicts
what would be observed of each conversation, and which lines would count it. The fault that explains
the most stands first, and of equals the smaller one. Where none explains everything, pairs of
faults are tried. Then the next test is named whose result differs between the best two causes.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import replace
from datetime import datetime
from itertools import combinations
from types import MappingProxyType
from typing import Any, NamedTuple

from crossgate.core.answers.cause.fault import PossibleFault, Silence, Size
from crossgate.core.answers.cause.faults import faults
from crossgate.core.answers.cause.observed import Count, Observation, Observed
from crossgate.core.answers.sheet.tests import SeenInTest, Tried, seen_of
from crossgate.core.conversation.opening import Conversation
from crossgate.core.conversation.packets import Tracer
from crossgate.core.model.accesslist import AccessList, DeciderKey
from crossgate.core.model.conditions import When
from crossgate.core.model.packet import UDP
from crossgate.core.model.plan import Plan
from crossgate.core.network.endpoints import candidates
from crossgate.core.network.paths import Endpoint
from crossgate.core.network.ways import Network

_MOST_IN_PAIRS = 24
"""So many faults that explain something are tried two and two."""

Tell = Callable[[int, int], None]


class Explained(NamedTuple):
    """One fault or two, and which observations they explain and which not."""

    faults: tuple[PossibleFault, ...]
    explained: tuple[Observation | Count, ...]
    not_explained: tuple[Observation | Count, ...]


class Parting(NamedTuple):
    """A test whose result differs between the best cause and another one, with the result under
    each.
    """

    tried: Tried
    best: SeenInTest
    other: Explained
    seen: SeenInTest


class Cause(NamedTuple):
    """What was observed, the observations that the plan does not predict, and their possible
    causes, the best first; `next` is the test to make next, None where no test distinguishes the
    causes.
    """

    observed: Observed
    wrong: tuple[Observation | Count, ...]
    ranked: tuple[Explained, ...]
    next: Parting | None
    tried: int

    def __repr__(self) -> str:
        return f"<Cause wrong={len(self.wrong)} of {len(self.observed)} ranked={len(self.ranked)}>"


class _World:
    """A network with or without a fault, and what would be observed there."""

    def __init__(self, fault: PossibleFault, when: When, beside: Network | None = None) -> None:
        self.fault = fault
        self._network = Network(fault.plan, beside)
        state = fault.plan.state_at(when._replace(at=fault.at))
        self._tracer = Tracer(self._network, state)
        self._known: dict[Conversation, tuple[SeenInTest, frozenset[DeciderKey]]] = {}

    def seen(self, told: Conversation) -> tuple[SeenInTest, frozenset[DeciderKey]]:
        """Return what would be observed of a conversation, and which lines decide about it."""
        if told not in self._known:
            seen, lines = self._followed(told)
            instead = self.fault.ends
            self._known[told] = (seen if instead is None else instead.seen(told, seen)), lines
        return self._known[told]

    def _followed(self, told: Conversation) -> tuple[SeenInTest, frozenset[DeciderKey]]:
        here = self._as_it_is(told)
        if here is None:
            return SeenInTest.SILENCE, frozenset()
        ending, instead = self._tracer.endings(here)[0], self.fault.ends
        stops = [] if ending.stop is None else [ending.stop]
        lines = frozenset(each.decider.key for each in (*ending.passed, *stops))
        ends = told.source.name, told.destination.name
        if isinstance(instead, Silence) and instead.name in ends and ending.example is not None:
            legs = ending.example.walk.script.legs
            lines &= {
                decider.key
                for number, crossing, decider in ending.lines
                if instead.decides(here, legs[number], crossing.point)
            }
        return seen_of(ending), lines

    def _as_it_is(self, told: Conversation) -> Conversation | None:
        """Return a conversation as it is sent in this network, where machines may have other
        addresses and gateways; None where no machine has its destination address any more.
        """
        plan = self._network.plan
        source, target = self._end(told.source), self._end(told.destination)
        if target.name in plan.hosts and target.address != told.destination.address:
            return None
        return told._replace(
            source=source,
            destination=target,
            first=told.first._replace(source=source.address.value),
        )

    def _end(self, end: Endpoint) -> Endpoint:
        if end.name not in self._network.plan.hosts:
            return end
        own = candidates(self._network, end.name)
        return next(each for each in own if each.address.family is end.address.family)


def cause(
    network: Network,
    when: When,
    observed: Observed,
    older: Mapping[str, AccessList] = MappingProxyType({}),
    tests: Iterable[Tried] = (),
    tell: Tell | None = None,
) -> Cause:
    """Return the possible causes of what was observed; `older` are lists of an older version of the
    plan, and the next test is chosen from `tests`.
    """
    as_planned = _World(PossibleFault("", Size.SMALL, network.plan, when.at), when)
    wrong = _explained(as_planned, observed).not_explained
    if not wrong:
        return Cause(observed, (), (), None, 0)
    seen_wrong = [each for each in wrong if isinstance(each, Observation)]
    counts = [each for each in wrong if isinstance(each, Count)]
    looked_at = [
        each
        for each in observed.conversations
        if each in seen_wrong
        or any(count.line in as_planned.seen(each.conversation)[1] for count in counts)
    ]
    every = list(faults(network, when, looked_at or observed.conversations, older))
    found = []
    for number, fault in enumerate(every):
        world = _World(fault, when, network)
        if counts or _explained(world, Observed(tuple(seen_wrong), ())).explained:
            explained = _explained(world, observed)
            if any(each in explained.explained for each in wrong):
                found.append((world, explained))
        if tell is not None:
            tell(number + 1, len(every))
    ranked = sorted(found, key=lambda each: (len(each[1].not_explained), each[0].fault.size))
    if not ranked or ranked[0][1].not_explained:
        ranked = _pairs(network, when, observed, ranked) or ranked
    if ranked and not ranked[0][1].not_explained:
        ranked = [each for each in ranked if not each[1].not_explained]
    return Cause(
        observed, wrong, tuple(each for _, each in ranked), _next(ranked, tests), len(every)
    )


def with_counters(
    network: Network, when: When, observed: Observed, hits: Mapping[DeciderKey, int]
) -> Observed:
    """Return the observations together with what device counters say of them; `hits` are those of
    all lines since the tests began.

    Only lists that have counted something are taken as read. Other machines may have sent packets,
    too: so a count says something only about a line that the tests are meant to reach, while a
    count of zero says that no test reached the line. Observations that name a line already stay as
    they are.
    """
    world = _World(PossibleFault("", Size.SMALL, network.plan, when.at), when)
    reached = {line for each in observed.conversations for line in world.seen(each.conversation)[1]}
    read = {line.access_list for line, number in hits.items() if number}
    told = {each.line for each in observed.counts}
    counts = tuple(
        Count("the tally", line, bool(number))
        for line, number in hits.items()
        if line.access_list in read and line not in told and (not number or line in reached)
    )
    return Observed(observed.conversations, (*observed.counts, *counts))


def _explained(world: _World, observed: Observed) -> Explained:
    """Return which observations a network with a fault explains."""
    yes: list[Observation | Count] = []
    no: list[Observation | Count] = []
    counted: set[DeciderKey] = set()
    for each in observed.conversations:
        seen, lines = world.seen(each.conversation)
        counted |= lines
        (yes if agrees(each.seen, seen, each.conversation) else no).append(each)
    for count in observed.counts:
        (yes if (count.line in counted) is count.counted else no).append(count)
    return Explained((world.fault,), tuple(yes), tuple(no))


def agrees(seen: SeenInTest, said: SeenInTest, told: Conversation) -> bool:
    """Whether a result that a person reports (`said`) fits what the plan predicts (`seen`) for a
    conversation.

    "Nobody listens" means that the packet arrived, so it fits an answer. It also fits a refusal,
    which a person cannot distinguish from it, and with UDP silence, since nobody has to reply.
    """
    if seen is said or (seen, said) == (SeenInTest.NOBODY_LISTENS, SeenInTest.ANSWERED):
        return True
    if said is SeenInTest.NOBODY_LISTENS:
        return seen is SeenInTest.REFUSED or (
            seen is SeenInTest.SILENCE and told.first.protocol == UDP
        )
    return False


def _pairs(
    network: Network, when: When, observed: Observed, ranked: Sequence[tuple[_World, Explained]]
) -> list[tuple[_World, Explained]]:
    """Return the pairs of faults that explain everything, best first. Each fault of a pair explains
    something by itself, and the two are in different parts of the plan.
    """
    found = []
    for (one, _), (other, _) in combinations(ranked[:_MOST_IN_PAIRS], 2):
        both = _both(network.plan, when.at, one.fault, other.fault)
        if both is not None:
            world = _World(both, when, network)
            explained = _explained(world, observed)
            if not explained.not_explained:
                told = explained._replace(faults=(one.fault, other.fault))
                found.append((world, told))
    return sorted(found, key=lambda each: sum(fault.size for fault in each[1].faults))


_PARTS = ("lists", "placements", "devices", "hosts", "down")


def _both(
    plan: Plan, usual: datetime, one: PossibleFault, other: PossibleFault
) -> PossibleFault | None:
    """Return two faults as one; None where both change the same part of the plan, or the time."""
    changes = {}
    for part in _PARTS:
        own = getattr(plan, part)
        changed = [p for p in (getattr(f.plan, part) for f in (one, other)) if p != own]
        if len(changed) > 1:
            merged = _merged(own, *changed)
            if merged is None:
                return None
            changed = [merged]
        if changed:
            changes[part] = changed[0]
    if one.ends is not None and other.ends is not None:
        return None
    if usual not in (one.at, other.at):
        return None
    text = f"{one.text}; and {other.text}"
    time = one.at if other.at == usual else other.at
    size, whole = max(one.size, other.size), replace(plan, **changes)
    return PossibleFault(text, size, whole, time, one.ends or other.ends)


def _merged(own: Any, one: Any, other: Any) -> Any:
    """Return a part of the plan with both changes, None where they change the same thing."""
    if isinstance(own, dict):
        changed = [{key: e[key] for key in e if e[key] is not own.get(key)} for e in (one, other)]
        return (
            None if changed[0].keys() & changed[1].keys() else {**own, **changed[0], **changed[1]}
        )
    if isinstance(own, frozenset):
        return one | other
    gone = [each for each in own if each not in one or each not in other]
    new = [each for e in (one, other) for each in e if each not in own]
    return [*(each for each in own if each not in gone), *new]


def _next(ranked: Sequence[tuple[_World, Explained]], tests: Iterable[Tried]) -> Parting | None:
    """Return the first test whose result differs between the best cause and another one."""
    if len(ranked) < 2:
        return None
    (best, _), *others = ranked[:_MOST_IN_PAIRS]
    for each in tests:
        first = best.seen(each.conversation)[0]
        for world, explained in others:
            seen = world.seen(each.conversation)[0]
            if seen is not first:
                return Parting(each, first, explained, seen)
    return None
