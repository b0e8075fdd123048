"""What becomes of a conversation on all its ways at once, where each list that it meets decides it alike on all of them.

The ways are gone over step by step (`Passages.steps`), not one by one. Those that have come to the same step are told apart only
by what makes a difference later: the stateful devices that have let the conversation by and would stop the answer otherwise, and
the line that will stop the last leg. So equal ways that cross at every hop cost as much as the steps they have in common.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from collections.abc import Sequence as Several
from dataclasses import dataclass, field
from functools import partial
from typing import NamedTuple

from crossgate.core.model.accesslist import AccessList, Decider, DeciderKey
from crossgate.core.network.nodes import Outcome, Sequence
from crossgate.core.network.passages import Passages
from crossgate.core.network.paths import Crossing
from crossgate.core.network.ways import Ways
from crossgate.core.sets.effort import spend
from crossgate.core.sets.products import Product
from crossgate.core.traffic.legs import Leg
from crossgate.core.traffic.verdict import Verdict

Decide = Callable[[int, Crossing], Decider | None]
"""Tells the line that decides a leg, by its index, at a place; None where no list is, and where the leg never comes."""


class Decided(NamedTuple):
    """A list that was asked about a leg: at which crossing, and the line that decided."""

    crossing: Crossing
    decider: Decider


class Ending(NamedTuple):
    """Some ways of a conversation that end alike: the verdict, the leg on which they end, and the list that stopped it there.

    `passed` are the lines that let it by before on some of these ways. `by` tells that the line asked about, where one was, decided
    on each of them. `number` is how many ways they are: without an answer there is but one way back. `example` is one of them, one on
    which the line asked about decides nothing where there is such a one.
    """

    verdict: Verdict
    leg: Leg
    stop: Decided | None
    passed: tuple[Decided, ...]
    by: bool
    number: int = 1
    example: tuple[_Link | None, _Link | None] = (None, None)


class _Link(NamedTuple):
    """A token that was met, by its number, the step behind it, and what was met before; the start of a way has met none."""

    before: _Link | None
    token: int
    step: int


_START = _Link(None, -1, 0)


class _Kind(NamedTuple):
    """What tells ways apart later: the stateful devices passed that matter, and the line that will stop the last leg."""

    passed: frozenset[str] = frozenset()
    late: Decided | None = None


class _Trail(NamedTuple):
    """What is known of ways of one kind that have come equally far.

    `lines` are the lines that decided on some of them, `later` those that decide the last leg, a bit each; `by` and `at_last` tell whether
    the line asked about is among the former, or among either, on each. `remembered` are all stateful devices passed on each.
    `link` and `back` are what one of them met, there and back: one without the line asked about, where there is such a one. Where
    nothing comes back there is no `back`.
    """

    lines: int = 0
    later: int = 0
    by: bool = False
    at_last: bool = False
    remembered: frozenset[str] = frozenset()
    number: int = 1
    link: _Link = _START
    back: _Link | None = None

    def and_(self, other: _Trail | None) -> _Trail:
        """Return what is known of both; of this alone where there is no other."""
        if other is None:
            return self
        lacking = other if (other.at_last, other.by) <= (self.at_last, self.by) else self
        return _Trail(
            self.lines | other.lines, self.later | other.later, self.by and other.by, self.at_last and other.at_last,
            self.remembered & other.remembered, self.number + other.number, lacking.link, lacking.back,
        )  # fmt: skip


class _Line(NamedTuple):
    """What a list at a place does: the line that decides, its bit, and whether it is the one asked about."""

    decided: Decided
    bit: int
    by: bool


def endings(ways: Ways, legs: Several[Leg], decide: Decide, by: DeciderKey | None = None) -> list[Ending]:
    """Return how a conversation of up to three legs ends on its ways, those that end alike as one. `by` is the line asked about."""
    return _Endings(ways, legs, decide, by).found()


@dataclass
class _Endings:
    ways: Ways
    legs: Several[Leg]
    decide: Decide
    by: DeciderKey | None
    bits: dict[tuple[int, Decided], int] = field(default_factory=dict)
    ended: dict[tuple[Verdict, Leg, Decided | None], _Trail] = field(default_factory=dict)
    answers: dict[frozenset[str], list[tuple[Decided | Outcome, _Trail]]] = field(default_factory=dict)

    def found(self) -> list[Ending]:
        last = self.legs[-1]
        for kind, trail in self._there().items():
            if len(self.legs) == 1 or self.ways.unanswered:
                self._end(Verdict.PERMITTED, last, None, trail)
                continue
            answers = self._back(kind.passed)
            unasked = self._unasked(trail)
            for end, back in answers:
                lines, number = trail.lines | back.lines & ~unasked, trail.number * back.number
                both = trail._replace(lines=lines, by=trail.by or back.by, number=number, back=back.link)
                if end is not Outcome.ARRIVED:
                    stop = None if end is Outcome.LOST else end
                    self._end(Verdict.UNROUTABLE if stop is None else Verdict.HALF_OPEN, self.legs[1], stop, both)
                    continue
                both = both._replace(lines=lines | trail.later, by=trail.at_last or back.by)
                self._end(Verdict.PERMITTED if kind.late is None else Verdict.HALF_OPEN, last, kind.late, both)
        return [
            Ending(*how, self._permitting(trail.lines), trail.by, trail.number, (trail.link, trail.back))
            for how, trail in self.ended.items()
        ]

    def _end(self, verdict: Verdict, leg: Leg, stop: Decided | None, trail: _Trail) -> None:
        key = verdict, leg, stop
        self.ended[key] = trail._replace(at_last=trail.by).and_(self.ended.get(key))

    def _permitting(self, lines: int) -> tuple[Decided, ...]:
        return tuple(dict.fromkeys(each for (_, each), bit in self.bits.items() if lines & bit and each.decider.permits))

    def _there(self) -> dict[_Kind, _Trail]:
        """Return what ways there arrive; those on which the first leg ends are ended."""
        arrived: dict[_Kind, _Trail] = {}
        for kind, trail, end in self._walked(0, {_Kind(): _Trail()}, self._relevant()):
            if end is Outcome.ARRIVED:
                arrived[kind] = trail.and_(arrived.get(kind))
            elif end is Outcome.LOST:
                self._end(Verdict.UNROUTABLE, self.legs[0], None, trail)
            else:
                self._end(Verdict.DENIED, self.legs[0], end, trail)
        return arrived

    def _back(self, passed: frozenset[str]) -> list[tuple[Decided | Outcome, _Trail]]:
        """Return how the answer's ways end, where these devices that matter have let the conversation by."""
        if passed not in self.answers:
            found: dict[Decided | Outcome, _Trail] = {}
            for _, trail, end in self._walked(1, {_Kind(passed): _Trail()}, frozenset()):
                found[end] = trail.and_(found.get(end))
            self.answers[passed] = list(found.items())
        return self.answers[passed]

    def _walked(self, leg: int, start: dict[_Kind, _Trail], relevant: frozenset[str]) -> Iterator[tuple[_Kind, _Trail, Decided | Outcome]]:
        """Yield where ways of a leg end, step by step: each with how it ends, or with the line that stops it."""
        passages = self.ways.back if leg else self.ways.there
        reached = [start, *({} for _ in passages.steps[1:])]
        for step, here in zip(passages.steps, reached, strict=True):
            spend(len(here))
            yield from ((kind, trail, end) for end in sorted(step.ends, key=str) for kind, trail in here.items())
            for token, following in step.moves if here else ():
                met, others = passages.token_at(token), reached[following]
                crossing = None if isinstance(met, str) else met
                line, late = (None, None) if crossing is None else (self._line(leg, crossing), None if leg else self._late(crossing))
                passed = None if crossing is None else crossing.remembered_by
                for kind, trail in here.items():
                    on = trail._replace(link=_Link(trail.link, token, following))
                    if isinstance(met, str):
                        on = on._replace(remembered=on.remembered | {met})
                        kind = kind._replace(passed=kind.passed | {met}) if met in relevant else kind
                    if line is not None and not (leg and passed in kind.passed):
                        on = on._replace(lines=on.lines | line.bit, by=on.by or line.by, at_last=on.at_last or line.by)
                        if not line.decided.decider.permits:
                            yield kind, on._replace(number=on.number * passages.count_from(following)), line.decided
                            continue
                    if late is not None and kind.late is None:
                        on = on._replace(later=on.later | late.bit, at_last=on.at_last or late.by)
                        kind = kind if late.decided.decider.permits else kind._replace(late=late.decided)
                    others[kind] = on.and_(others.get(kind))

    def _line(self, leg: int, crossing: Crossing) -> _Line | None:
        decider = self.decide(leg, crossing)
        if decider is None:
            return None
        decided = Decided(crossing, decider)
        bit = self.bits.setdefault((leg, decided), 1 << len(self.bits))
        return _Line(decided, bit, self.by is not None and decider.key == self.by)

    def _late(self, crossing: Crossing) -> _Line | None:
        """Return what the list at a place on the way there does with the last leg, which takes the same way."""
        remembered = crossing.remembered_by in self.ways.there.devices
        return None if len(self.legs) < 3 or remembered else self._line(2, crossing)

    def _relevant(self) -> frozenset[str]:
        """Return the stateful devices on the way there of which it matters whether they have let the conversation by."""
        found = set()
        for crossing in self.ways.back.crossings if len(self.legs) > 1 else ():
            device = crossing.remembered_by
            if device is not None and device in self.ways.there.devices:
                decider = self.decide(1, crossing)
                if decider is not None and (not decider.permits or decider.key == self.by):
                    found.add(device)
        return frozenset(found)

    def _unasked(self, trail: _Trail) -> int:
        """Return the lines of the answer that decide on none of some ways, as their devices have let the conversation by on each."""
        met = ((each.crossing, bit) for (leg, each), bit in self.bits.items() if leg == 1) if trail.remembered else ()
        return sum(bit for crossing, bit in met if crossing.remembered_by in trail.remembered)


Split = Callable[[int, Crossing, AccessList, Product], Iterable[tuple[Product, Decider]]]
"""Parts openings by the lines of a list that decide the packets of a leg, by its index, at a place."""


class _Move(NamedTuple):
    """From one step to another, behind a list that is asked there; `may_pass` where a stateful device may let by what it stops."""

    step: int
    following: int
    crossing: Crossing | None
    access_list: AccessList | None
    may_pass: bool


class _Sweep(NamedTuple):
    """How far some openings have been followed: through which legs and moves, to which steps, a bit each, and what lists do with them."""

    openings: Product
    known: dict[tuple[int, AccessList], Decider]
    leg: int = 0
    move: int = 0
    reached: int = 1


def decided_alike(
    ways: Ways, lists: Several[Mapping[Crossing, AccessList]], openings: Product, split: Split
) -> Iterator[tuple[Product, Decide]]:
    """Yield openings in pieces, of each of which every list that is met decides all alike; with what tells the lines that do.

    `lists` are those that are asked on each leg. No list is asked about what never comes to it.
    """
    legs = [(_moves(ways, leg, placed), _arrivals(ways.back if leg == 1 else ways.there)) for leg, placed in enumerate(lists)]
    stack = [_Sweep(openings, {})]
    while stack:
        product, known, leg, start, reached = stack.pop()
        moves, arrivals = legs[leg]
        for index in range(start, len(moves)):
            step, following, crossing, access_list, may_pass = moves[index]
            if not reached >> step & 1:
                continue
            if access_list is not None and crossing is not None:
                decider = known.get((leg, access_list))
                if decider is None:
                    pieces = list(split(leg, crossing, access_list, product))
                    stack += [_Sweep(each, {**known, (leg, access_list): line}, leg, index, reached) for each, line in reversed(pieces)]
                    break
                if not decider.permits and not may_pass:
                    continue
            reached |= 1 << following
        else:
            if reached & arrivals and leg + 1 < len(legs):
                stack.append(_Sweep(product, known, leg + 1))
            else:
                yield product, partial(_told, lists, known)


def _told(
    lists: Several[Mapping[Crossing, AccessList]], known: Mapping[tuple[int, AccessList], Decider], leg: int, crossing: Crossing
) -> Decider | None:
    access_list = lists[leg].get(crossing) if leg < len(lists) else None
    return None if access_list is None else known.get((leg, access_list))


def _moves(ways: Ways, leg: int, placed: Mapping[Crossing, AccessList]) -> list[_Move]:
    passages = ways.back if leg == 1 else ways.there
    found: list[_Move] = []
    for number, step in enumerate(passages.steps):
        for token, following in step.moves:
            met = passages.token_at(token)
            crossing = None if isinstance(met, str) else met
            may_pass = leg > 0 and crossing is not None and crossing.remembered_by in ways.there.devices
            found.append(_Move(number, following, crossing, None if crossing is None else placed.get(crossing), may_pass))
    return found


def _arrivals(passages: Passages) -> int:
    return sum(1 << number for number, step in enumerate(passages.steps) if Outcome.ARRIVED in step.ends)


def example(ways: Ways, ending: Ending) -> tuple[Sequence, Sequence | None]:
    """Return what is met on one of the ways that end so, there and back; None where nothing comes back."""
    there, back = ending.example
    arrived = Outcome.LOST if ending.verdict is Verdict.UNROUTABLE else Outcome.ARRIVED
    assert there is not None  # it was found by `endings`
    if back is None:
        return _sequence(ways.there, there, arrived if ending.stop is None else None), None
    stopped = ending.stop is not None and ending.leg.returns
    return _sequence(ways.there, there, Outcome.ARRIVED), _sequence(ways.back, back, None if stopped else arrived)


def _sequence(passages: Passages, link: _Link, end: Outcome | None) -> Sequence:
    """Return the sequence that meets what was met so far, and then whatever comes first, up to an end: this one, where one is wanted."""
    step, tokens = passages.steps[link.step], []
    while link.before is not None:
        tokens.append(link.token)
        link = link.before
    tokens.reverse()
    while end is None and not step.ends:
        token, following = step.moves[0]
        tokens.append(token)
        step = passages.steps[following]
    return Sequence(tuple(tokens), min(step.ends, key=str) if end is None else end)
