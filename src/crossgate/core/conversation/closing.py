"""How conversations end once they have been followed to the end of all their ways, there and
back.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from crossgate.core.conversation.endings import Decisions, Ending, Example, Lines, numbers_of
from crossgate.core.conversation.families import NONE
from crossgate.core.conversation.many import Many, link_of
from crossgate.core.conversation.places import Walk, WalkPlace
from crossgate.core.conversation.rules import (
    Decided,
    Decision,
    Finish,
    Late,
    when_arrived,
    when_stopped,
)
from crossgate.core.conversation.states import OneWayState, Part, WalkState
from crossgate.core.conversation.trails import START, LateStop, Stop, Trail, TrailKind
from crossgate.core.model.accesslist import AccessList, DeciderKey
from crossgate.core.network.nodes import SequenceEnd
from crossgate.core.sets.effort import spend

NO_LISTS = frozenset[AccessList]()


class Closing:
    """Works out how a part's conversations end, from its ways there and its ways back."""

    def __init__(self, walk: Walk, lines: Lines, by: DeciderKey | None) -> None:
        self._walk, self._script, self._lines, self._by = walk, walk.script, lines, by

    def ending(self, state: OneWayState[Part]) -> Ending:
        """Return how the conversations of a part end where there is only one way."""
        if state.arrived is None:
            return self._there(state.end, state.kind, state.trail, state.known)
        return self._both(*state.arrived, state.end, state.kind, state.trail, state.known)

    def endings(
        self, state: WalkState[Part], judges: Sequence[int], devices: Mapping[str, int]
    ) -> list[Ending]:
        """Return how the conversations of a part end on all ways: on the first way by itself, and
        on the others, joined where they end alike.

        `judges` are the places whose lists may judge the TLS version and that `TrailKind` does not
        keep apart, `devices` the tokens of stateful devices.
        """
        found, at = list[Ending](), self._walk.places.every()
        judging = [(at[token], devices[at[token].remembers or ""]) for token in judges]
        for (end, kind), trail in state.there.items():
            if end is SequenceEnd.ARRIVED and self._script.back:
                spend(len(state.answers[kind if state.many else START]))
                for (last, behind), back in state.answers[kind if state.many else START].items():
                    if judging and isinstance(back, Many) and last is SequenceEnd.ARRIVED:
                        found += self._judged(kind, behind, back, judging, state.known)
                    else:
                        found.append(self._both(kind, trail, last, behind, back, state.known))
            else:
                found.append(self._there(end, kind, trail, state.known))
        return found if len(found) == 1 else self._merged(found)

    def _there(
        self, end: SequenceEnd | Stop, kind: TrailKind, trail: Trail | Many, known: Decisions
    ) -> Ending:
        """Return the ending of ways that end before anything comes back."""
        arrived = end is SequenceEnd.ARRIVED
        finish = (
            when_arrived(self._script, None, False, ())
            if arrived
            else when_stopped(self._script, 0, self._decided(end))
        )
        if isinstance(trail, Many):
            return self._of_many(finish, 0, kind.first, trail, (end, None), NO_LISTS, known)
        example = Example(self._walk, trail.link, None, False, known, self._lines)
        return Ending(
            *finish, trail.by == 0, trail.number, kind.first, trail.lines, NO_LISTS, example
        )

    def _both(
        self,
        kind: TrailKind,
        there: Trail | Many,
        end: SequenceEnd | Stop,
        behind: TrailKind,
        back: Trail | Many,
        known: Decisions,
    ) -> Ending:
        """Return the endings of ways there combined with the ways back that follow them; `many`
        ways are given together.
        """
        script, lists, last = self._script, NO_LISTS, 1
        if end is SequenceEnd.ARRIVED:
            judging = (
                [(place, due) for place, due in kind.judges if place.remembers in behind.seen]
                if kind.judges
                else []
            )
            lists = (
                frozenset(
                    place.access_list for place, _ in judging if place.access_list is not None
                )
                if judging
                else lists
            )
            due = [
                self._walk.places.decided(place.number, line)
                for place, line in judging
                if line is not None
            ]
            finish = when_arrived(
                script, self._earliest(kind.late, behind.late), bool(judging), due
            )
            last = self._last_asked(finish, due)
        else:
            finish = when_stopped(script, 1, self._decided(end))
        first = kind.first and behind.first
        if isinstance(back, Many):
            return self._of_many(
                finish, last, first, back, (SequenceEnd.ARRIVED, end), lists, known
            )
        assert isinstance(there, Trail)  # a part is followed in one manner
        lines = there.lines | back.lines & ~self._remembered(there)
        if end is SequenceEnd.ARRIVED:
            lines |= self._up_to(last, there.later | back.later)
        by = self._by is not None and (min(there.by, back.by) <= last or self._stops(finish))
        example = Example(self._walk, there.link, back.link, True, known, self._lines)
        return Ending(*finish, by, there.number * back.number, first, lines, lists, example)

    def _judged(
        self,
        kind: TrailKind,
        behind: TrailKind,
        back: Many,
        judging: Sequence[tuple[WalkPlace, int]],
        known: Decisions,
    ) -> Iterator[Ending]:
        """Yield numbers of ways on which both leading legs arrive, each with the places that judge
        the TLS version there and the lines that are due.
        """
        script, late, first = (
            self._script,
            self._earliest(kind.late, behind.late),
            kind.first and behind.first,
        )
        places = [
            (place, device, decision)
            for place, device in judging
            if (decision := self._leading(place, known)) is not None
        ]

        def ending(many: Many, judged: bool, due: Sequence[Decided]) -> Ending:
            finish = when_arrived(script, late, judged, due)
            own = (
                place.access_list
                for place, device, _ in places
                if judged and many.judged(place.number, device)[0] is not None
            )
            lists = frozenset(each for each in own if each is not None)
            return self._of_many(
                finish,
                self._last_asked(finish, due),
                first,
                many,
                (SequenceEnd.ARRIVED, SequenceEnd.ARRIVED),
                lists,
                known,
            )

        rest: Many | None = back
        for place, device, decision in reversed(places) if script.legs[-1].returns else places:
            if decision.due is not None and rest is not None:
                stopped, rest = rest.judged(place.number, device)
                if stopped is not None:
                    yield ending(
                        stopped, True, [self._walk.places.decided(place.number, decision.due)]
                    )
        settled: Many | None = None
        for place, device, _ in places:
            passed, rest = (None, None) if rest is None else rest.judged(place.number, device)
            if passed is not None:
                settled = passed.and_(settled)
        if settled is not None:
            yield ending(settled, True, ())
        if rest is not None:
            yield ending(rest, False, ())

    def _last_asked(self, finish: Finish, due: Sequence[Decided]) -> int:
        """Return the number of the last leg about which lists are asked: a conversation that is
        stopped by what is due has no further legs.
        """
        return self._script.legs.index(finish.leg) - (finish.stop in due)

    def _leading(self, place: WalkPlace, known: Decisions) -> Decision | None:
        """Return the decision of a place's list about the opening packet; None where the packet
        never comes there.
        """
        own = place.asked
        return None if own is None else known.get((self._script.leading[0], own))

    def _of_many(
        self,
        finish: Finish,
        last: int,
        first: bool,
        many: Many,
        ends: tuple[SequenceEnd | Stop, SequenceEnd | Stop | None],
        lists: frozenset[AccessList],
        known: Decisions,
    ) -> Ending:
        """Return the ending of many ways that end alike on the leg with the number `last`, from
        what each of them met. `ends` are the outcomes of the ways there and back, None where
        nothing comes back.
        """
        marks, family, at, ways = (
            many.marks,
            many.family,
            self._walk.places.every(),
            self._walk.ways,
        )
        lines, asked = 0, list[int]()
        for leg, token, mark in marks.lines_in(family):
            own = at[token].asked
            if leg > last or own is None:
                continue
            line = (
                known.get((self._script.legs[leg], own))
                or known[self._script.leading[self._script.legs[leg].returns], own]
            )
            lines |= self._lines.bit(leg, token, line.decider)
            if line.decider.key == self._by:
                asked.append(mark)
        lacking = marks.families.without(family, asked)
        by = self._by is not None and (lacking == NONE or self._stops(finish))
        there, back = marks.tokens_of(family if lacking == NONE else lacking)
        devices = (
            ()
            if marks.devices
            else frozenset(token for token in ways.back.met if at[token].device is not None)
        )
        links = (
            link_of(ways.there, there, ends[0]),
            None if ends[1] is None else link_of(ways.back, back, ends[1], devices),
        )
        example = Example(self._walk, *links, ends[1] is not None, known, self._lines)
        return Ending(*finish, by, many.number, first, lines, lists, example)

    def _stops(self, finish: Finish) -> bool:
        """Whether the line asked about is the one that stops the conversation."""
        return finish.stop is not None and finish.stop.decider.key == self._by

    def _merged(self, found: list[Ending]) -> list[Ending]:
        """Return endings, joined where they are alike: the first one, then by leg and by the place
        of the stopping list.
        """
        merged: dict[tuple[Finish, bool], Ending] = {}
        for each in found:
            key = Finish(*each[:3]), each.first
            before = merged.get(key)
            merged[key] = each if before is None else each.and_(before)
        return (
            list(merged.values()) if len(merged) == 1 else sorted(merged.values(), key=self._order)
        )

    def _order(self, ending: Ending) -> tuple[object, ...]:
        """Return a sort key for an ending that depends only on the plan."""
        where = (
            ()
            if ending.stop is None
            else (
                str(ending.stop.crossing.point),
                ending.stop.crossing.direction,
                ending.stop.decider.name,
            )
        )
        return not ending.first, self._script.legs.index(ending.leg), ending.verdict, where

    def _decided(self, end: SequenceEnd | Stop) -> Decided | None:
        return None if isinstance(end, SequenceEnd) else self._walk.places.decided(*end)

    def _earliest(self, there: LateStop | None, back: LateStop | None) -> Late | None:
        """Return which of two stops, one on the way there and one on the way back, is on the
        earlier leg.
        """
        if there is None and back is None:
            return None
        both = [each for each in (there, back) if each is not None]
        leg, stop = min(both, key=lambda late: late.leg)
        return Late(leg, self._walk.places.decided(*stop))

    def _up_to(self, last: int, bits: int) -> int:
        """Return, of the lines that decide later legs, those of legs that the conversation still
        has.
        """
        if last == len(self._script.legs) - 1:
            return bits
        return sum(
            1 << number for number in numbers_of(bits) if self._lines.every[number][0] <= last
        )

    def _remembered(self, trail: Trail) -> int:
        """Return the answer's lines that decide on none of some ways, because their devices were
        passed on each of them.
        """
        if self._walk.ways.count == 1 or not trail.remembered:
            return 0
        lines, at = enumerate(self._lines.every), self._walk.places.every()
        return sum(
            1 << number
            for number, (leg, token, _) in lines
            if leg == 1 and at[token].remembers in trail.remembered
        )
