"""How conversations end that have been followed to the end of all their ways, there and back."""

from __future__ import annotations

from crossgate.core.conversation.endings import Decisions, Ending, Example, numbers_of
from crossgate.core.conversation.places import Walk
from crossgate.core.conversation.rules import Decided, Finish, Late, when_arrived, when_stopped
from crossgate.core.conversation.trails import Kind, LateStop, Line, Part, State, Stop, Trail
from crossgate.core.model.accesslist import AccessList, Decider, DeciderKey
from crossgate.core.network.nodes import Outcome

NO_LISTS = frozenset[AccessList]()


class Closing:
    """How a part's conversations end, put together from its ways there and its ways back."""

    def __init__(self, walk: Walk, lines: list[tuple[int, int, Decider]], by: DeciderKey | None) -> None:
        self._walk, self._script, self._by = walk, walk.script, by
        self._lines = lines

    def ending(self, line: Line[Part]) -> Ending:
        """Return how it ends on the one way that there is."""
        if line.arrived is None:
            return self._there(line.end, line.kind, line.trail, line.known)
        return self._both(*line.arrived, line.end, line.kind, line.trail, line.known)

    def endings(self, state: State[Part]) -> list[Ending]:
        """Return how it ends on all ways: the first apart, the others put together where they end alike."""
        found = list[Ending]()
        for (end, kind), trail in state.there.items():
            if end is Outcome.ARRIVED and self._script.back:
                answers = state.answers[kind.passed].items()
                found += [self._both(kind, trail, *how, back, state.known) for how, back in answers]
            else:
                found.append(self._there(end, kind, trail, state.known))
        return found if len(found) == 1 else self._merged(found)

    def _there(self, end: Outcome | Stop, kind: Kind, trail: Trail, known: Decisions) -> Ending:
        """Return how ways end that end on the way there."""
        arrived = end is Outcome.ARRIVED
        finish = when_arrived(self._script, None, False, ()) if arrived else when_stopped(self._script, 0, self._decided(end))
        example = Example(self._walk, trail.link, None, False, known, self._lines)
        return Ending(*finish, trail.by == 0, trail.number, kind.first, trail.lines, NO_LISTS, example)

    def _both(self, kind: Kind, there: Trail, end: Outcome | Stop, behind: Kind, back: Trail, known: Decisions) -> Ending:
        """Return how ways there end with ways back that follow them."""
        script, lines, lists = self._script, there.lines | back.lines & ~self._remembered(there), NO_LISTS
        if end is Outcome.ARRIVED:
            judging = [(place, due) for place, due in kind.judges if place.remembers in behind.seen] if kind.judges else []
            lists = frozenset(place.access_list for place, _ in judging if place.access_list is not None) if judging else lists
            due = [self._walk.places.decided(place.number, line) for place, line in judging if line is not None]
            finish = when_arrived(script, self._earliest(kind.late, behind.late), bool(judging), due)
            last = script.legs.index(finish.leg)
            lines |= self._up_to(last, there.later | back.later)
        else:
            finish, last = when_stopped(script, 1, self._decided(end)), 1
        by = self._by is not None and (min(there.by, back.by) <= last or (finish.stop is not None and finish.stop.decider.key == self._by))
        example = Example(self._walk, there.link, back.link, True, known, self._lines)
        return Ending(*finish, by, there.number * back.number, kind.first and behind.first, lines, lists, example)

    def _merged(self, found: list[Ending]) -> list[Ending]:
        """Return endings with those that are alike as one: the first, then by leg, and by where a list stops them."""
        merged: dict[tuple[Finish, bool], Ending] = {}
        for each in found:
            key = Finish(*each[:3]), each.first
            before = merged.get(key)
            merged[key] = each if before is None else each.and_(before)
        return list(merged.values()) if len(merged) == 1 else sorted(merged.values(), key=self._order)

    def _order(self, ending: Ending) -> tuple[object, ...]:
        """Return what puts endings in an order that depends on nothing but the plan."""
        where = () if ending.stop is None else (str(ending.stop.crossing.point), ending.stop.crossing.direction, ending.stop.decider.name)
        return not ending.first, self._script.legs.index(ending.leg), ending.verdict, where

    def _decided(self, end: Outcome | Stop) -> Decided | None:
        return None if isinstance(end, Outcome) else self._walk.places.decided(*end)

    def _earliest(self, there: LateStop | None, back: LateStop | None) -> Late | None:
        """Return what stops the earliest later leg, of one on the way there and one on the way back."""
        if there is None and back is None:
            return None
        both = [each for each in (there, back) if each is not None]
        leg, stop = min(both, key=lambda late: late.leg)
        return Late(leg, self._walk.places.decided(*stop))

    def _up_to(self, last: int, bits: int) -> int:
        """Return of the lines of later legs those of legs up to the last one there is."""
        if last == len(self._script.legs) - 1:
            return bits
        return sum(1 << number for number in numbers_of(bits) if self._lines[number][0] <= last)

    def _remembered(self, trail: Trail) -> int:
        """Return the lines of the answer that decide on none of some ways, as their devices were passed on each."""
        if self._walk.ways.count == 1 or not trail.remembered:
            return 0
        lines, at = enumerate(self._lines), self._walk.places.every()
        return sum(1 << number for number, (leg, token, _) in lines if leg == 1 and at[token].remembers in trail.remembered)
