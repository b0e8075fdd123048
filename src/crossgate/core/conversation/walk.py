"""One walk of conversations over all their equal ways, whatever is carried: one packet, or a set of
packets.

Theory of operation. The ways from one end to another are an automaton (`network.nodes`). Its nodes
are numbered so that those that follow have smaller numbers. Going through the nodes by falling
number meets each node once, together with all ways that lead there.

What has come to a node is kept apart only by its *kind*: the part of the past that some rule will
ask about again. The ways of one kind are one *trail*.

What is carried is one *part*. Where a list divides it, the walk forks and goes on with each piece
from there: at a node all lists are asked before anything is changed, so that this is possible. A
list treats all of a part alike from then on. So a part has one fate on each way, like a single
packet, and the walk needs nothing of it but `Carrier.decide`.

Where lists on the way back would deny an answer, or many lists judge the TLS version, it matters
for each way which stateful devices it passed. Then ways are not joined by kind, but kept as
families of what each of them met (`many`).

The first of all ways is a kind by itself: it ends in an ending of its own, the `first`.
"""

from __future__ import annotations

from collections.abc import Iterator
from functools import cached_property
from typing import Generic

from crossgate.core.conversation.carrier import Carrier, Divided
from crossgate.core.conversation.closing import Closing
from crossgate.core.conversation.endings import Ending, Lines, MetLink, numbers_of
from crossgate.core.conversation.many import Many, Marks
from crossgate.core.conversation.places import Asked, Walk, WalkPlace
from crossgate.core.conversation.rules import Leg
from crossgate.core.conversation.states import Found, OneWayState, Part, WalkState
from crossgate.core.conversation.trails import START, LateStop, Stop, Trail, TrailKind, met
from crossgate.core.model.accesslist import Decider, DeciderKey
from crossgate.core.network.nodes import SequenceEnd
from crossgate.core.sets.effort import spend

_FEW_JUDGES = 4
"""Up to so many lists that may judge TLS tell ways apart by kinds, which is faster then."""


def follow(
    walk: Walk, carrier: Carrier[Part], part: Part, by: DeciderKey | None = None
) -> Iterator[tuple[Part, list[Ending]]]:
    """Yield what is carried in parts, each with how its conversations end on all ways; `by` is the
    line that endings report on.
    """
    assert walk.ways.there.nodes is walk.places.nodes, "these are ways of another network"
    return _Followed(walk, carrier, by).endings(part)


def follow_whole(
    walk: Walk, carrier: Carrier[Part], part: Part, by: DeciderKey | None = None
) -> list[Ending]:
    """Return how the conversations end of a part that no list divides, such as one packet."""
    followed = _Followed(walk, carrier, by)
    if walk.ways.count > 1:
        ((_, found),) = followed.endings(part)
        return found
    return [followed.ending_of_one_way(part)]


class _Followed(Generic[Part]):
    """One walk over all ways with one carrier."""

    _judges: tuple[int, ...] = ()
    """The places whose lists may judge TLS, where they are many: then ways are told one by one from
    the start.
    """

    def __init__(self, walk: Walk, carrier: Carrier[Part], by: DeciderKey | None) -> None:
        self._walk, self._carrier, self._by = walk, carrier, by
        self._at, self._script, self._of = walk.places.every(), walk.script, walk.places.nodes.of
        self._lines = Lines()
        self._closing = Closing(walk, self._lines, by)
        self._devices: dict[str, int] = {}
        """The tokens of the stateful devices that are passed on some way there."""
        if self._script.settling and walk.ways.count > 1:
            judges = walk.places.judging(walk.ways)
            if len(judges) > _FEW_JUDGES:
                self._judges = judges

    def endings(self, part: Part) -> Iterator[tuple[Part, list[Ending]]]:
        if self._walk.ways.count == 1:
            yield from self._parts_of_one_way(part)
            return
        stack = [WalkState(part, self._walk.ways.there.number)]
        if self._judges:
            self._tell_each(stack[0])
        while stack:
            state = stack.pop()
            divided = self._follow(state)
            if divided is None:
                yield state.part, self._closing.endings(state, self._judges, self._devices)
            else:
                key, pieces = divided
                stack += [state.fork(piece, key, decision) for piece, decision in reversed(pieces)]

    def _parts_of_one_way(self, part: Part) -> Iterator[tuple[Part, list[Ending]]]:
        """Yield the parts and their endings where there is only one way: nothing branches, and
        nothing has to be kept apart.
        """
        stack = [OneWayState(part)]
        while stack:
            state = stack.pop()
            divided = self._follow_one_way(state)
            if divided is None:
                yield state.part, [self._closing.ending(state)]
            else:
                key, pieces = divided
                stack += [state.fork(piece, key, decision) for piece, decision in reversed(pieces)]

    def ending_of_one_way(self, part: Part) -> Ending:
        """Return how a part that no list divides ends on the only way."""
        state = OneWayState(part)
        divided = self._follow_one_way(state)
        assert divided is None  # it is whole
        return self._closing.ending(state)

    def _follow_one_way(self, state: OneWayState[Part]) -> Divided[Part] | None:
        """Follow a part there and back on the only way; return the list that divides it, if one
        does, with the state before that.
        """
        while True:
            way, (places, end) = state.way, self._walk.places.straight(self._walk.graph(state.way))
            for place in places[state.met :] if state.met else places:
                divided = None if place.access_list is None else self._ask_all(state, way, place)
                if divided is not None:
                    return divided
                state.kind, stop = self._place(state, way, place, state.kind, state.trail)
                if stop is not None:
                    state.end = stop
                    return None
                state.met += 1
            state.end = end
            if end is not SequenceEnd.ARRIVED or way or not self._script.back:
                return None
            state.arrived = state.kind, state.trail
            state.way, state.met, state.kind, state.trail = 1, 0, START, Trail()

    @cached_property
    def _marks(self) -> Marks:
        return Marks(self._walk.ways, self._at, devices=bool(self._judges))

    def _follow(self, state: WalkState[Part]) -> Divided[Part] | None:
        """Follow a part to the end; return the list that divides it, if one does, with the state
        before that.
        """
        if not state.arrived:
            divided = self._walked(state, 0, state.there) or self._again(state)
            if divided is not None:
                return divided
            state.arrived = True
            arrived = (
                [kind for end, kind in state.there if end is SequenceEnd.ARRIVED]
                if self._script.back
                else []
            )
            state.waiting = arrived if state.many or not arrived else [START]
        while state.waiting:
            kind = state.waiting[-1]
            if kind not in state.answers:
                state.answers[kind], state.front = (
                    {},
                    {self._walk.ways.back.number: self._returning(state, kind)},
                )
            divided = self._walked(state, 1, state.answers[kind])
            if divided is not None:
                return divided
            state.waiting.pop()
        return None

    def _returning(self, state: WalkState[Part], kind: TrailKind) -> dict[TrailKind, Trail | Many]:
        """Return what the ways back start with; where it matters which devices were passed, that is
        all ways there of a kind.
        """
        there = state.there[SequenceEnd.ARRIVED, kind] if state.many else None
        return (
            {TrailKind(first=kind.first): Many(there.marks, there.family)}
            if isinstance(there, Many)
            else {START: Trail()}
        )

    def _again(self, state: WalkState[Part]) -> Divided[Part] | None:
        """Walk there once more where it matters for each way which stateful devices it passed:
        those whose lists would deny the answer.
        """
        doubtful = self._doubtful()
        if (
            state.many
            or not doubtful
            or not any(end is SequenceEnd.ARRIVED for end, _ in state.there)
        ):
            return None
        matters, leading = False, self._script.leading[1]
        for place in doubtful:
            if place.asked is not None:
                divided = self._ask(state, leading, place.asked)
                if divided is not None:
                    return divided
                decision = state.known[leading, place.asked]
                matters = (
                    matters
                    or not decision.permits
                    or (self._by is not None and decision.decider.key == self._by)
                )
        if not matters:
            return None
        self._tell_each(state)
        return self._walked(state, 0, state.there)

    def _tell_each(self, state: WalkState[Part]) -> None:
        """Start once more from the sender, keeping the ways apart by what each meets."""
        self._devices = {
            device: token
            for token in self._walk.ways.there.met
            if (device := self._at[token].device) is not None
        }
        state.many, state.there = True, {}
        state.front = {
            self._walk.ways.there.number: {START: Many(self._marks, self._marks.families.leaf(1))}
        }

    def _doubtful(self) -> list[WalkPlace]:
        """Return the places on the ways back for which it may matter whether their device was
        passed on the way there.
        """
        ways = self._walk.ways
        if ways.there.count == 1 or not self._script.back:
            return []
        there = ways.there.devices - ways.there.always
        return (
            [self._at[each] for each in sorted(ways.back.met) if self._at[each].remembers in there]
            if there
            else []
        )

    def _ask(
        self, state: WalkState[Part] | OneWayState[Part], leg: Leg, asked: Asked
    ) -> Divided[Part] | None:
        """Find out what a list decides about a part on a leg; return the pieces where it divides
        the part.
        """
        key = leg, asked
        if key not in state.known:
            pieces = self._carrier.decide(state.part, leg, asked)
            if len(pieces) > 1:
                return key, pieces
            state.part, state.known[key] = pieces[0]
        return None

    def _ask_all(
        self, state: WalkState[Part] | OneWayState[Part], way: int, place: WalkPlace
    ) -> Divided[Part] | None:
        """Ask the list of a place about all legs that pass it: about later ones only where the
        place keeps no connections.
        """
        own, leading = place.asked, self._script.leading[way]
        if own is None or self._passes_unasked(way, place):
            return None
        divided = self._ask(state, leading, own)
        if divided is not None:
            return divided
        if place.flagged and place.remembers is None and state.known[leading, own].permits:
            for _, leg in self._script.later[way]:
                divided = self._ask(state, leg, own)
                if divided is not None:
                    return divided
        return None

    def _walked(self, state: WalkState[Part], way: int, found: Found) -> Divided[Part] | None:
        """Follow all ways there (0) or back (1) to their ends, and collect these."""
        front, of, at = state.front, self._of, self._at
        while front:
            number = max(front) if len(front) > 1 else next(iter(front))
            here, (ends, children) = front[number], of[number]
            for token, _ in children:
                divided = (
                    None if at[token].access_list is None else self._ask_all(state, way, at[token])
                )
                if divided is not None:
                    return divided
            del front[number]
            spend(len(here))
            for end in ends:
                assert isinstance(end, SequenceEnd)  # ends at devices are those of columns
                for kind, trail in here.items():
                    self._ended(found, way, end, kind, trail)
            for token, following in children:
                for kind, trail in here.items():
                    on = trail.copy()
                    on.link = link = MetLink(trail.link, token, following, met(trail.link) + 1)
                    kind = self._on_first(kind, way, link)
                    if isinstance(on, Many):
                        several = self._place_of_many(state, way, at[token], kind, on)
                    else:
                        several = [(*self._place(state, way, at[token], kind, on), on)]
                    for key, stop, each in several:
                        if stop is not None:
                            self._stopped(found, stop, key, each, following)
                        elif following in front:
                            front[following][key] = _joined(each, front[following].get(key))
                        else:
                            front[following] = {key: each}
        return None

    def _place_of_many(
        self, state: WalkState[Part], way: int, place: WalkPlace, kind: TrailKind, trail: Many
    ) -> list[tuple[TrailKind, Stop | None, Trail | Many]]:
        """Lead ways past a place: those that have passed its device on their way there are not
        checked.
        """
        token = self._devices.get(place.remembers) if way and place.remembers is not None else None
        passed, asked = (None, trail) if token is None else trail.parted(token)
        found = list[tuple[TrailKind, Stop | None, Trail | Many]]()
        if passed is not None:
            passed.met(way, place.number)
            found.append((kind, None, passed))
        if asked is not None:
            kind, stop = self._place(state, way, place, kind, asked)
            if not asked.lines and (way == 0 or place.device is None or asked.marks.devices):
                asked.met(way, place.number)
            for line in numbers_of(asked.lines | asked.later):
                asked.decided(way, place.number, self._lines.every[line][0])
            found.append((kind, stop, asked.copy()))
        return found

    def _on_first(self, kind: TrailKind, way: int, link: MetLink) -> TrailKind:
        """Return the kind of ways that have met one more token: they stay the first of all ways
        only as long as they meet what that one does.
        """
        tokens = self._walk.graph(way).first_sequence.tokens
        if kind.first and (link.met > len(tokens) or tokens[link.met - 1] != link.token):
            return kind._replace(first=False)
        return kind

    def _ended(
        self, found: Found, way: int, end: SequenceEnd, kind: TrailKind, trail: Trail | Many
    ) -> None:
        first = self._walk.graph(way).first_sequence
        if kind.first and (first.end is not end or len(first.tokens) != met(trail.link)):
            kind = kind._replace(first=False)
        found[end, kind] = _joined(trail, found.get((end, kind)))

    def _stopped(
        self, found: Found, stop: Stop, kind: TrailKind, trail: Trail | Many, node: int
    ) -> None:
        """Collect ways that a list stops: as many as lead on from there. The first way of all is
        kept separate.
        """
        ways = self._walk.places.nodes.count(node)
        if kind.first and ways > 1:
            found[stop, kind] = trail
            kind, ways = kind._replace(first=False), ways - 1
        found[stop, kind] = _joined(trail.times(ways), found.get((stop, kind)))

    def _place(
        self,
        state: WalkState[Part] | OneWayState[Part],
        way: int,
        place: WalkPlace,
        kind: TrailKind,
        trail: Trail | Many,
    ) -> tuple[TrailKind, Stop | None]:
        """Lead a trail past a place, and return its kind after it, and the line that stops it
        there, if one does. All rules about a place are in this function.
        """
        own, device = place.asked, place.device
        if device is not None:
            # On the way there it remembers; and if the answer passes it too, it judges.
            trail.remembered |= {device}
            if way == 1 and self._script.settling and not self._judges:
                kind = kind._replace(seen=kind.seen | {device})
            return kind, None
        if own is None or self._passes_unasked(way, place):
            return kind, None
        leading, number = self._script.leading[way], way  # the legs 0 and 1 lead
        decider, permits, due = state.known[leading, own]
        trail.lines |= self._lines.bit(number, place.number, decider)
        if self._by is not None and trail.by > number and decider.key == self._by:
            trail.by = number
        if not permits:
            return kind, Stop(place.number, decider)
        if place.remembers is None:
            for later, leg in self._script.later[way]:
                if kind.late is None or later < kind.late.leg:
                    decider, permits, _ = state.known[leg if place.flagged else leading, own]
                    kind = self._note(kind, trail, later, place, decider, permits)
        elif own[0].tls and way == 0 and self._script.settling and not self._judges:
            kind = kind._replace(judges=(*kind.judges, (place, due)))
        return kind, None

    def _note(
        self,
        kind: TrailKind,
        trail: Trail | Many,
        leg: int,
        place: WalkPlace,
        decider: Decider,
        permits: bool,
    ) -> TrailKind:
        """Note what a list will decide about a later leg."""
        trail.later |= self._lines.bit(leg, place.number, decider)
        if self._by is not None and trail.by > leg and decider.key == self._by:
            trail.by = leg
        return kind if permits else kind._replace(late=LateStop(leg, Stop(place.number, decider)))

    def _passes_unasked(self, way: int, place: WalkPlace) -> bool:
        """Whether an answer passes a list unchecked, because its stateful device let the
        conversation by on every way there.
        """
        device = place.remembers
        return way == 1 and device is not None and device in self._walk.ways.there.always


def _joined(one: Trail | Many, other: Trail | Many | None) -> Trail | Many:
    """Return what is known of ways of one kind that have come to the same node."""
    if isinstance(one, Many):
        assert other is None or isinstance(other, Many)  # a part is followed in one manner
        return one.and_(other)
    assert other is None or isinstance(other, Trail)
    return one.and_(other)
