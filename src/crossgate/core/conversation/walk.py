"""One walk of conversations over all their equal ways, whatever is carried: one packet, or a set of them.

Theory of operation. The ways from one end to another are an automaton (`network.nodes`). Its nodes have numbers, and those that follow
have smaller ones, so going over the nodes that have been come to by falling number meets each once, with all ways that lead there.
What has come to a node is told apart by its *kind* alone: all of the past that a rule will ask about again. The ways of one kind
are one *trail*.

What is carried is one *part* all along. Where a list divides it, the walk forks, and goes on with each piece from there: at a node all
lists are asked before anything is changed, so that it can. What a list does with a part it does with all of it ever after. So a part
fares on each way as one packet does, and the walk needs to know nothing of it but `Carrier.decide`.

The first of all ways is a kind of its own as long as it is one: it ends in just one ending, the `first`.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from functools import cached_property
from typing import Generic, NamedTuple, Protocol, TypeVar

from crossgate.core.conversation.rules import Decided, Finish, Late, Leg, Script, when_arrived, when_stopped
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.accesslist import AccessList, Decider, DeciderKey
from crossgate.core.model.address import Family
from crossgate.core.network.nodes import Outcome
from crossgate.core.network.nodes import Sequence as Tokens
from crossgate.core.network.passages import Passages
from crossgate.core.network.ways import Network, Ways
from crossgate.core.sets.effort import spend

Part = TypeVar("Part")


class Decision(NamedTuple):
    """What a list does with a part: the line that decides, whether that lets it by, and the line that is due once its TLS is settled."""

    decider: Decider
    permits: bool
    due: Decider | None = None


class Carrier(Protocol[Part]):
    """What is carried, in parts that are never empty."""

    def decide(self, part: Part, leg: Leg, access_list: AccessList) -> Sequence[tuple[Part, Decision]]:
        """Part it by what a list does with the packets of a leg; the parts are apart, and together all of it."""
        ...


Decisions = Mapping[tuple[Leg, AccessList], Decision]


class Link(NamedTuple):
    """A token that was met, the node behind it, what was met before, and how many tokens are `met` in all."""

    before: Link | None
    token: int
    node: int
    met: int


class Example(NamedTuple):
    """One of the ways that end alike: what was met there, and back where answers were `returned`; and what lists did.

    `decisions` are those of lists with a leg, or with the leading one of its way where they do the same with all. `lines` are all lines
    that decided anything, in that order: each with the number of its leg, and the token of its place.
    """

    walk: Walk
    there: Link | None
    back: Link | None
    returned: bool
    decisions: Decisions
    lines: list[tuple[int, int, Decider]]


class Ending(NamedTuple):
    """Some ways of a conversation that end alike: how they do, and how many they are.

    `first` says that it is the first of all ways, and no other. `by` tells whether the line asked about decided on each of them;
    the example is one on which it did not, where there is such a one. `decided` are the lines that decided on some of them, a bit each.
    `judges` are the lists that judge what TLS is spoken on some of them.
    """

    verdict: Verdict
    leg: Leg
    stop: Decided | None
    by: bool = False
    number: int = 1
    first: bool = True
    decided: int = 0
    judges: frozenset[AccessList] = frozenset()
    example: Example | None = None

    @property
    def passed(self) -> tuple[Decided, ...]:
        """The lines that let it by on some of these ways, each once a leg, in the order in which they first decided anything."""
        if self.example is None:
            return ()
        lines = (self.example.lines[number] for number in _numbers(self.decided))
        return tuple(self.example.walk.places.decided(token, decider) for _, token, decider in lines if decider.permits)


class Place(NamedTuple):
    """What a token is for the walk: the stateful `device` that is passed, or the list of a family that stands at a crossing.

    `remembers` is the device of the list where that is stateful. A list that is not `flagged` asks for no TCP flags: it does with
    every later leg of a direction what it does with the leading one.
    """

    device: str | None
    number: int
    access_list: AccessList | None
    remembers: str | None
    flagged: bool


class Places:
    """The places of one family of a network, by their tokens."""

    def __init__(self, network: Network, family: Family) -> None:
        self._network, self._family = network, family
        self._itineraries = network.itineraries(family)
        self.nodes = self._itineraries.nodes
        self._places: list[Place] = []

    def every(self) -> list[Place]:
        """Return all places that are known so far."""
        for number in range(len(self._places), len(self._itineraries.tokens)):
            self._places.append(self._place(number))
        return self._places

    def decided(self, token: int, decider: Decider) -> Decided:
        """Return a line with the crossing at which it stands."""
        crossing = self._itineraries.tokens[token]
        assert not isinstance(crossing, str)  # a device decides nothing
        return Decided(crossing, decider)

    def _place(self, number: int) -> Place:
        met = self._itineraries.tokens[number]
        if isinstance(met, str):
            return Place(met, number, None, None, False)
        device, own = met.remembered_by, self._network.list_at(met, self._family)
        remembers = device if device in self._network.stateful else None
        return Place(None, number, own, remembers, own is not None and own.asks_for_flags)


class _Stop(NamedTuple):
    """A line that stops, by the token of its place."""

    token: int
    decider: Decider


class _Late(NamedTuple):
    """The first line that stops a later leg, of those that stop the earliest such leg."""

    leg: int
    stop: _Stop


class _Kind(NamedTuple):
    """What tells ways apart later.

    `first` marks the first way of all; `passed` are the stateful devices that matter; `late` is what stops a later leg. `judges` are the
    lists on the way there that may judge TLS, by their tokens, each with the line that is due; `seen` the stateful devices on the way back.
    """

    first: bool = True
    passed: frozenset[str] = frozenset()
    late: _Late | None = None
    judges: tuple[tuple[int, Decider | None], ...] = ()
    seen: frozenset[str] = frozenset()


_NEVER = 99
"""The leg of what decides on no leg."""


class _Trail:
    """What is known of ways of one kind that have come equally far.

    `lines` are the lines that decided on some of them, a bit each, `later` those that decide later legs. `by` is the earliest leg on which
    the line asked about decides, of the way where that is latest. `remembered` are the stateful devices passed on each, `number` is how
    many they are, and `link` is what one of them met: one on which the line asked about decides as late as on any.
    """

    __slots__ = ("by", "later", "lines", "link", "number", "remembered")

    def __init__(
        self,
        lines: int = 0,
        later: int = 0,
        by: int = _NEVER,
        remembered: frozenset[str] = frozenset(),
        number: int = 1,
        link: Link | None = None,
    ) -> None:
        self.lines, self.later, self.by, self.remembered, self.number, self.link = lines, later, by, remembered, number, link

    def copy(self) -> _Trail:
        """Return one that can be led on by itself."""
        return _Trail(self.lines, self.later, self.by, self.remembered, self.number, self.link)

    def and_(self, other: _Trail | None) -> _Trail:
        """Return what is known of both; of this alone where there is no other."""
        if other is None:
            return self
        latest = other if other.by >= self.by else self
        remembered, number = self.remembered & other.remembered, self.number + other.number
        return _Trail(self.lines | other.lines, self.later | other.later, latest.by, remembered, number, latest.link)


_BEGUN: dict[_Kind, _Trail] = {_Kind(): _Trail()}
_Known = dict[tuple[Leg, AccessList], Decision]
_Found = dict[tuple[Outcome | _Stop, _Kind], _Trail]
"""How ways of one direction end: by no way, by arriving, or by a line."""
_Divided = tuple[tuple[Leg, AccessList], Sequence[tuple[Part, Decision]]]
"""A list that divides a part on a leg, and the pieces."""


class _State(Generic[Part]):
    """How far a part has been followed. Where a list divides it, it is copied, and each copy goes on where it was."""

    __slots__ = ("answers", "arrived", "front", "known", "part", "relevant", "there", "waiting")

    def __init__(self, part: Part, node: int) -> None:
        self.part = part
        self.known: _Known = {}
        self.front: dict[int, dict[_Kind, _Trail]] = {node: _BEGUN}
        self.relevant: frozenset[str] = frozenset()
        """The stateful devices by which ways there are told apart."""
        self.there: _Found = {}
        self.arrived = False
        """Whether all ways there have been followed to their ends."""
        self.waiting: list[frozenset[str]] = []
        """The devices passed, for each of which the ways back are still to be followed."""
        self.answers: dict[frozenset[str], _Found] = {}

    def fork(self, part: Part, key: tuple[Leg, AccessList], decision: Decision) -> _State[Part]:
        """Return a copy for a piece of the part, of which it is known what one more list does."""
        other = _State(part, 0)
        other.known = {**self.known, key: decision}
        other.front = {node: dict(here) for node, here in self.front.items()}
        other.there, other.relevant, other.arrived, other.waiting = dict(self.there), self.relevant, self.arrived, list(self.waiting)
        other.answers = {passed: dict(found) for passed, found in self.answers.items()}
        return other


class Walk:
    """All ways of conversations of one script between two ends; what is worked out for them is kept for every part that goes there."""

    def __init__(self, places: Places, ways: Ways, script: Script) -> None:
        assert ways.there.nodes is ways.back.nodes is places.nodes, "these are ways of another network"
        self.places, self.ways, self.script = places, ways, script
        self.at = places.every()
        self.nodes = places.nodes
        self.first = ways.there.first_sequence, ways.back.first_sequence
        self.single: bool = ways.count == 1
        self.starts = (0, 0) if self.single else (ways.there.number, ways.back.number)
        self.leading = tuple(script.legs[each[0] if each else 0] for each in (script.there, script.back))
        self.later = tuple(tuple((number, script.legs[number]) for number in each[1:]) for each in (script.there, script.back))

    @cached_property
    def straight(self) -> tuple[tuple[list[Place], Outcome], tuple[list[Place], Outcome]]:
        """The places met on the one way there and the one back, where there is just one of each, and how they end."""
        there, back = (([self.at[token] for token in each.tokens], Outcome(each.end)) for each in self.first)
        return there, back

    @cached_property
    def always(self) -> frozenset[str]:
        """The stateful devices that are passed on every way there."""
        return self.ways.there.always

    @cached_property
    def doubtful(self) -> tuple[Place, ...]:
        """The places on the ways back of which it may matter whether their device was passed on the way there."""
        there = self.ways.there.devices - self.always if self.ways.there.count > 1 and self.script.back else frozenset()
        return tuple(self.at[each] for each in sorted(self.ways.back.met) if self.at[each].remembers in there) if there else ()

    def endings(self, carrier: Carrier[Part], part: Part, by: DeciderKey | None = None) -> Iterator[tuple[Part, list[Ending]]]:
        """Yield what is carried in parts, each with how its conversations end on all ways; `by` is the line that endings tell of."""
        return _Followed(self, carrier, by).endings(part)


class _Followed(Generic[Part]):
    """One going over all ways, with one carrier."""

    def __init__(self, walk: Walk, carrier: Carrier[Part], by: DeciderKey | None) -> None:
        self._walk, self._carrier, self._by = walk, carrier, by
        self._at, self._script, self._of = walk.at, walk.script, walk.nodes.of
        self._bits: dict[tuple[int, int, Decider], int] = {}
        """Every line that decided something, by the number of its leg and the token of its place, as a bit."""
        self._lines: list[tuple[int, int, Decider]] = []
        """The same lines by their bits' numbers."""

    def endings(self, part: Part) -> Iterator[tuple[Part, list[Ending]]]:
        stack = [_State(part, self._walk.starts[0])]
        while stack:
            state = stack.pop()
            divided = self._follow(state)
            if divided is None:
                yield state.part, _Closing(self._walk, state, self._lines, self._by).endings()
            else:
                key, pieces = divided
                stack += [state.fork(piece, key, decision) for piece, decision in reversed(pieces)]

    def _follow(self, state: _State[Part]) -> _Divided[Part] | None:
        """Follow a part to the end; return a list that divides it, with the state as it was before that."""
        if not state.arrived:
            divided = self._walked(state, 0, state.there) or self._again(state)
            if divided is not None:
                return divided
            state.arrived = True
            if self._script.back:
                state.waiting = list({kind.passed: None for end, kind in state.there if end is Outcome.ARRIVED})
        while state.waiting:
            passed = state.waiting[-1]
            if passed not in state.answers:
                state.answers[passed], state.front = {}, {self._walk.starts[1]: {_Kind(passed=passed): _Trail()}}
            divided = self._walked(state, 1, state.answers[passed])
            if divided is not None:
                return divided
            state.waiting.pop()
        return None

    def _again(self, state: _State[Part]) -> _Divided[Part] | None:
        """Go there once more where ways have to be told apart by the stateful devices on them: those whose lists would stop the answer."""
        doubtful = self._walk.doubtful
        if state.relevant or not doubtful or not any(end is Outcome.ARRIVED for end, _ in state.there):
            return None
        relevant, leading = set(), self._walk.leading[1]
        for place in doubtful:
            if place.access_list is not None and place.remembers is not None:
                divided = self._ask(state, leading, place.access_list)
                if divided is not None:
                    return divided
                decision = state.known[leading, place.access_list]
                if not decision.permits or (self._by is not None and decision.decider.key == self._by):
                    relevant.add(place.remembers)
        if not relevant:
            return None
        state.relevant, state.there, state.front = frozenset(relevant), {}, {self._walk.starts[0]: _BEGUN}
        return self._walked(state, 0, state.there)

    def _ask(self, state: _State[Part], leg: Leg, access_list: AccessList) -> _Divided[Part] | None:
        """See to it that it is known what a list does with a part on a leg; return the pieces where it divides it."""
        key = leg, access_list
        if key not in state.known:
            pieces = self._carrier.decide(state.part, leg, access_list)
            if len(pieces) > 1:
                return key, pieces
            state.part, state.known[key] = pieces[0]
        return None

    def _ask_all(self, state: _State[Part], way: int, place: Place, kind: _Kind) -> _Divided[Part] | None:
        """Ask the list of a place about all legs that come by: about later ones only where nobody remembers the conversation."""
        own, leading = place.access_list, self._walk.leading[way]
        if own is None or self._passes_unasked(way, place, kind):
            return None
        divided = self._ask(state, leading, own)
        if divided is not None:
            return divided
        if place.flagged and place.remembers is None and state.known[leading, own].permits:
            for _, leg in self._walk.later[way]:
                divided = self._ask(state, leg, own)
                if divided is not None:
                    return divided
        return None

    def _walked(self, state: _State[Part], way: int, found: _Found) -> _Divided[Part] | None:
        """Follow all ways there (0) or back (1) to their ends, and gather these."""
        front, of, at = state.front, self._of, self._at
        while front:
            if self._walk.single:
                return self._straight(state, way, found)
            number = max(front) if len(front) > 1 else next(iter(front))
            here, (ends, children) = front[number], of[number]
            for token, _ in children:
                if at[token].access_list is not None:
                    for kind in here:
                        divided = self._ask_all(state, way, at[token], kind)
                        if divided is not None:
                            return divided
            del front[number]
            spend(len(here))
            for end in ends:
                assert isinstance(end, Outcome)  # ends at devices are those of columns
                for kind, trail in here.items():
                    self._ended(found, way, end, kind, trail)
            for token, following in children:
                for kind, trail in here.items():
                    on = trail.copy()
                    on.link = link = Link(trail.link, token, following, _met(trail.link) + 1)
                    key, stop = self._place(state, way, at[token], self._on_first(kind, way, link), on)
                    if stop is not None:
                        self._stopped(found, stop, key, on, following)
                    elif following in front:
                        front[following][key] = on.and_(front[following].get(key))
                    else:
                        front[following] = {key: on}
        return None

    def _straight(self, state: _State[Part], way: int, found: _Found) -> _Divided[Part] | None:
        """Follow the one way that there is; how many places have been met stands for the node."""
        ((start, here),) = state.front.items()
        ((kind, trail),) = here.items()
        places, end = self._walk.straight[way]
        trail = trail.copy()
        for number in range(start, len(places)):
            place = places[number]
            divided = None if place.access_list is None else self._ask_all(state, way, place, kind)
            if divided is not None:
                state.front = {number: {kind: trail}}
                return divided
            kind, stop = self._place(state, way, place, kind, trail)
            if stop is not None:
                found[stop, kind] = trail
                break
        else:
            found[end, kind] = trail
        state.front = {}
        return None

    def _on_first(self, kind: _Kind, way: int, link: Link) -> _Kind:
        """Return the kind of what has met one token more: of the first of all ways only as long as it meets what that does."""
        tokens = self._walk.first[way].tokens
        if kind.first and (link.met > len(tokens) or tokens[link.met - 1] != link.token):
            return kind._replace(first=False)
        return kind

    def _ended(self, found: _Found, way: int, end: Outcome, kind: _Kind, trail: _Trail) -> None:
        first = self._walk.first[way]
        if kind.first and (first.end is not end or len(first.tokens) != _met(trail.link)):
            kind = kind._replace(first=False)
        found[end, kind] = trail.and_(found.get((end, kind)))

    def _stopped(self, found: _Found, stop: _Stop, kind: _Kind, trail: _Trail, node: int) -> None:
        """Gather ways that a list stops: as many as go on from there. The first way of all is kept apart."""
        ways = self._walk.nodes.count(node)
        if kind.first and ways > 1:
            found[stop, kind] = trail
            kind, ways = kind._replace(first=False), ways - 1
        on = trail.copy()
        on.number *= ways
        found[stop, kind] = on.and_(found.get((stop, kind)))

    def _place(self, state: _State[Part], way: int, place: Place, kind: _Kind, trail: _Trail) -> tuple[_Kind, _Stop | None]:
        """Lead a trail by a place, and return its kind then, and the line that stops it there, if one does. All rules of a place are here."""
        own, device = place.access_list, place.device
        if device is not None:
            # On the way there it remembers; and if the answer passes it too, it judges.
            trail.remembered |= {device}
            if way == 0 and device in state.relevant:
                kind = kind._replace(passed=kind.passed | {device})
            elif way == 1 and self._script.settling:
                kind = kind._replace(seen=kind.seen | {device})
            return kind, None
        if own is None or self._passes_unasked(way, place, kind):
            return kind, None
        leading, number = self._walk.leading[way], way  # the legs 0 and 1 lead
        decider, permits, due = state.known[leading, own]
        trail.lines |= self._bit(number, place.number, decider)
        if self._by is not None and trail.by > number and decider.key == self._by:
            trail.by = number
        if not permits:
            return kind, _Stop(place.number, decider)
        if place.remembers is None:
            for later, leg in self._walk.later[way]:
                if kind.late is None or later < kind.late.leg:
                    decider, permits, _ = state.known[leg if place.flagged else leading, own]
                    kind = self._note(kind, trail, later, place, decider, permits)
        elif own.tls and way == 0 and self._script.settling:
            kind = kind._replace(judges=(*kind.judges, (place.number, due)))
        return kind, None

    def _note(self, kind: _Kind, trail: _Trail, leg: int, place: Place, decider: Decider, permits: bool) -> _Kind:
        """Note what a list will do with a later leg."""
        trail.later |= self._bit(leg, place.number, decider)
        if self._by is not None and trail.by > leg and decider.key == self._by:
            trail.by = leg
        return kind if permits else kind._replace(late=_Late(leg, _Stop(place.number, decider)))

    def _passes_unasked(self, way: int, place: Place, kind: _Kind) -> bool:
        """Whether an answer passes a list whose stateful device has let the conversation by, on every way there or on those of a kind."""
        device = place.remembers
        return way == 1 and device is not None and (device in self._walk.always or device in kind.passed)

    def _bit(self, leg: int, token: int, decider: Decider) -> int:
        key = leg, token, decider
        bit = self._bits.get(key)
        if bit is None:
            bit = self._bits[key] = 1 << len(self._bits)
            self._lines.append(key)
        return bit


class _Closed(NamedTuple):
    """What is known of all ways that end alike."""

    lines: int
    by: bool
    number: int
    judges: frozenset[AccessList]
    example: Example


class _Closing(Generic[Part]):
    """How a part's conversations end, put together from its ways there and its ways back."""

    def __init__(self, walk: Walk, state: _State[Part], lines: list[tuple[int, int, Decider]], by: DeciderKey | None) -> None:
        self._walk, self._script, self._state, self._by = walk, walk.script, state, by
        self._lines = lines
        self._closed: dict[tuple[Finish, bool], _Closed] = {}

    def endings(self) -> list[Ending]:
        for (end, kind), trail in self._state.there.items():
            if end is Outcome.ARRIVED and self._script.back:
                self._returned(kind, trail)
            elif end is Outcome.ARRIVED:
                self._close(when_arrived(self._script, None, False, ()), kind.first, self._there(trail))
            else:
                self._close(when_stopped(self._script, 0, self._decided(end)), kind.first, self._there(trail))
        every = [
            Ending(*finish, by, number, first, lines, judges, example)
            for (finish, first), (lines, by, number, judges, example) in self._closed.items()
        ]
        return every if len(every) == 1 else sorted(every, key=self._order)

    def _order(self, ending: Ending) -> tuple[object, ...]:
        """Return what puts endings in an order that depends on nothing but the plan: the first, then by leg, and by where a list stops it."""
        where = () if ending.stop is None else (str(ending.stop.crossing.point), ending.stop.crossing.direction, ending.stop.decider.name)
        return not ending.first, self._script.legs.index(ending.leg), ending.verdict, where

    def _returned(self, kind: _Kind, there: _Trail) -> None:
        """Close ways there with each of the ways back that follow them."""
        script, unasked = self._script, self._remembered(there)
        for (end, behind), back in self._state.answers[kind.passed].items():
            lines, judges = there.lines | back.lines & ~unasked, frozenset[AccessList]()
            if end is Outcome.ARRIVED:
                judging = [(token, due) for token, due in kind.judges if self._walk.at[token].remembers in behind.seen]
                due = [self._walk.places.decided(token, line) for token, line in judging if line is not None]
                finish = when_arrived(script, self._earliest(kind.late, behind.late), bool(judging), due)
                judges = frozenset(own for token, _ in judging if (own := self._walk.at[token].access_list) is not None)
                last = script.legs.index(finish.leg)
                lines |= self._up_to(last, there.later | back.later)
            else:
                finish, last = when_stopped(script, 1, self._decided(end)), 1
            by = min(there.by, back.by) <= last or (finish.stop is not None and finish.stop.decider.key == self._by)
            example = Example(self._walk, there.link, back.link, True, self._state.known, self._lines)
            found = _Closed(lines, self._by is not None and by, there.number * back.number, judges, example)
            self._close(finish, kind.first and behind.first, found)

    def _there(self, trail: _Trail) -> _Closed:
        """Return what is known of ways that end on the way there."""
        example = Example(self._walk, trail.link, None, False, self._state.known, self._lines)
        return _Closed(trail.lines, trail.by == 0, trail.number, frozenset(), example)

    def _close(self, finish: Finish, first: bool, found: _Closed) -> None:
        """Put ways to those that end alike."""
        before = self._closed.get((finish, first))
        if before is not None:
            lines, number = found.lines | before.lines, found.number + before.number
            example = found.example if found.by <= before.by else before.example
            found = _Closed(lines, found.by and before.by, number, found.judges | before.judges, example)
        self._closed[finish, first] = found

    def _decided(self, end: Outcome | _Stop) -> Decided | None:
        return None if isinstance(end, Outcome) else self._walk.places.decided(*end)

    def _earliest(self, there: _Late | None, back: _Late | None) -> Late | None:
        """Return what stops the earliest later leg, of one on the way there and one on the way back."""
        both = [each for each in (there, back) if each is not None]
        if not both:
            return None
        leg, stop = min(both, key=lambda late: late.leg)
        return Late(leg, self._walk.places.decided(*stop))

    def _up_to(self, last: int, bits: int) -> int:
        """Return of the lines of later legs those of legs up to the last one there is."""
        if last == len(self._script.legs) - 1:
            return bits
        return sum(1 << number for number in _numbers(bits) if self._lines[number][0] <= last)

    def _remembered(self, trail: _Trail) -> int:
        """Return the lines of the answer that decide on none of some ways, as their devices were passed on each."""
        if self._walk.single or not trail.remembered:
            return 0
        lines = enumerate(self._lines)
        return sum(1 << number for number, (leg, token, _) in lines if leg == 1 and self._walk.at[token].remembers in trail.remembered)


def _met(link: Link | None) -> int:
    """Return how many tokens have been met."""
    return 0 if link is None else link.met


def _numbers(bits: int) -> Iterator[int]:
    """Yield the numbers of the bits that are set."""
    while bits:
        lowest = bits & -bits
        yield lowest.bit_length() - 1
        bits ^= lowest


def first_of(endings: Sequence[Ending]) -> Ending:
    """Return how it ends on the first way."""
    return endings[0] if endings[0].first else next(each for each in endings if each.first)


def sequences(ending: Ending) -> tuple[Tokens, Tokens]:
    """Return what an ending's example meets there and back; where nothing was returned, the first way back."""
    example = ending.example
    assert example is not None  # the walk found it
    if example.walk.single:
        return example.walk.first
    ways, end = example.walk.ways, Outcome.LOST if ending.verdict is Verdict.UNROUTABLE else Outcome.ARRIVED
    if not example.returned:
        return _sequence(example.walk, ways.there, example.there, end if ending.stop is None else None), ways.back.first_sequence
    stopped = ending.stop is not None and ending.leg.returns and not ending.leg.settles
    there = _sequence(example.walk, ways.there, example.there, Outcome.ARRIVED)
    return there, _sequence(example.walk, ways.back, example.back, None if stopped else end)


def _sequence(walk: Walk, passages: Passages, link: Link | None, end: Outcome | None) -> Tokens:
    """Return the sequence that meets what was met so far and ends so; without an end it goes on with whatever comes first."""
    tokens, node = list[int](), walk.nodes.of[passages.number if link is None else link.node]
    while link is not None:
        tokens.append(link.token)
        link = link.before
    tokens.reverse()
    while end is None and not node.ends:
        token, following = node.children[0]
        tokens.append(token)
        node = walk.nodes.of[following]
    return Tokens(tuple(tokens), min(node.ends, key=str) if end is None else end)
