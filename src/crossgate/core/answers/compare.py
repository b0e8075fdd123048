"""Exactly which traffic two plans, or two versions of a list, treat differently; no difference is a proof.

Two lists can only differ on packets that match an entry which just one of them has: on all others the same entries
decide in the same order (or both otherwise lines, when these differ everything is looked at). So only the boxes of such
entries are split by both lists. Through the network the same holds crossing by crossing: where two plans ask the same
lists in the same places, only openings whose legs meet a differing box at one of them are followed in both.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import datetime
from typing import NamedTuple

from crossgate.core.answers.change import Change
from crossgate.core.lists.difference import compare_lists, same_lists, suspects
from crossgate.core.model.accesslist import AccessList, Action, Decider
from crossgate.core.model.address import Family
from crossgate.core.model.packet import Packet
from crossgate.core.model.plan import Plan
from crossgate.core.model.progress import Tell
from crossgate.core.model.window import Window, open_at, states
from crossgate.core.sets.boxes import Box, address_box, overlap, without, witness
from crossgate.core.sets.effort import TooManyPieces, answered, gathered
from crossgate.core.sets.minimise import SetLine, fewest_lines
from crossgate.core.sets.patterns import Excluded
from crossgate.core.traffic.courses import Course, Opening, by_course, course_on, leg_box, opening_box
from crossgate.core.traffic.examples import example, mentioned, some_packet, unmentioned
from crossgate.core.traffic.flows import Answer, Decided, Flow, Flows, flow_between, placed_on
from crossgate.core.traffic.legs import Leg
from crossgate.core.traffic.session import Session
from crossgate.core.traffic.trace import Verdict


class Fate(NamedTuple):
    """What becomes of conversations in one of two plans: their verdict, whether the sender is told, and who decided.

    Of those that get through, `decided` is the line that let them by where the other plan decides; None where no list is.
    """

    verdict: Verdict
    told: bool
    decided: Decided | None


class ListDifference(NamedTuple):
    """Packets that two lists treat differently: what it was and is, as lines, with one of them and when it is so."""

    was: Decider
    now: Decider
    lines: list[SetLine]
    packet: Packet
    moment: datetime | None


class Difference(NamedTuple):
    """Traffic that two plans treat differently; `stray` packets open no conversation.

    `devices` tells that either end is a device's own address; otherwise neither is.
    """

    family: Family
    stray: bool
    devices: bool
    was: Fate
    now: Fate
    lines: list[SetLine]
    packet: Packet
    moment: datetime | None


def named_differences(old: Session, new: Session, name: str, tell: Tell | None = None) -> list[ListDifference]:
    """Return how a list of two plans differs, in every state of the windows that either version uses."""
    before, after = old.plan.access_list(name), new.plan.access_list(name)
    several = _states(old.plan, new.plan, [before], [after])
    met: dict[tuple[object, ...], list[ListDifference]] = {}
    for (was_open, now_open), moment in several.items():
        groups: dict[tuple[Decider, Decider], list[Box]] = {}
        for count, (box, was, now) in enumerate(compare_lists(old.regions.of(before, was_open), new.regions.of(after, now_open))):
            groups.setdefault((was, now), []).append(box)
            if tell is not None:
                tell(count, 0)
        for (was, now), boxes in groups.items():
            written = fewest_lines((box, Excluded()) for box in boxes)
            packet = witness(boxes[0])
            met.setdefault((was, now, frozenset(written)), []).append(ListDifference(was, now, written, packet, moment))
    return [same[0]._replace(moment=None) if len(same) == len(several) else same[0] for same in met.values()]


class _Pair(NamedTuple):
    """Conversations that both plans treat alike among themselves: the flow in each, None where the addresses are nobody's."""

    family: Family
    old: Flow | None
    new: Flow | None
    boxes: tuple[Box, ...]
    excluded: Excluded
    windowed: bool
    devices: bool

    @property
    def asked(self) -> str:
        """What a question about it is about, in words."""
        flow = self.new or self.old
        return "nothing" if flow is None else flow.asked


class Comparison:
    """The work of comparing two plans in one pair of states of their windows."""

    def __init__(self, old: Flows, new: Flows) -> None:
        self.old, self.new = old, new
        self._suspects: dict[tuple[str, str], list[Box]] = {}

    def differing(self, pair: _Pair) -> Iterator[tuple[bool, Fate, Fate, Box]]:
        """Yield the openings of a pair that the plans treat differently, in boxes apart: (stray, was, now, box)."""
        suspected = {leg: self._suspected(pair, leg) for leg in (Leg.SYN, Leg.SYN_ACK, Leg.ACK)}
        if not any(boxes is None or _meet(pair.boxes, boxes, leg.returns) for leg, boxes in suspected.items()):
            return
        on_link = [flow.on_link for flow in (pair.new, pair.old) if flow is not None]
        for course, box in by_course(pair.boxes):
            if course.on_link not in (None, on_link[0]):
                continue
            for opening in _to_try(course, box, suspected):
                for was in self._answers(self.old, pair.old, course, opening):
                    for now in self._answers(self.new, pair.new, course, was.box):
                        before, after = _fate(was, now), _fate(now, was)
                        if (before.verdict, before.told) != (after.verdict, after.told) and some_packet(now.box, pair.excluded) is not None:
                            yield course.stray, before, after, now.box

    def _answers(self, asking: Flows, flow: Flow | None, course: Course, opening: Box) -> Iterator[Answer]:
        if flow is None:
            return iter((Answer(opening, Verdict.UNROUTABLE, course.legs[0], None, ()),))
        return asking.answers(flow, (Opening(course_on(course, flow.on_link), opening),))

    def _suspected(self, pair: _Pair, leg: Leg) -> list[Box] | None:
        """Return boxes of a leg's packets outside of which both plans do the same; None where they ask in different places."""
        if pair.old is None or pair.new is None:
            return None
        if len(pair.old.ways) != len(pair.new.ways):
            return None
        found: list[Box] = []
        for old, new in zip(pair.old.ways, pair.new.ways, strict=True):
            if (old.there.arrived, old.back.arrived) != (new.there.arrived, new.back.arrived):
                return None
            before, after = self.old.asked(old, leg, pair.family), self.new.asked(new, leg, pair.family)
            if [each.crossing for each in before] != [each.crossing for each in after]:
                return None
            found += [box for was, now in zip(before, after, strict=True) for box in self._suspect(was.access_list, now.access_list)]
        return found

    def _suspect(self, was: AccessList, now: AccessList) -> list[Box]:
        key = (was.name, now.name)
        if key not in self._suspects:
            before, after = was.in_force(self.old.open_windows), now.in_force(self.new.open_windows)
            same = same_lists(was, before, now, after)
            self._suspects[key] = [] if same else list(suspects(self.old.regions(was), self.new.regions(now)))
        return self._suspects[key]


def _meet(openings: Iterable[Box], suspected: Iterable[Box], back: bool) -> bool:
    """Whether openings, or what comes back for them, have addresses that suspected packets have."""
    addresses = [address_box(box.destination, box.source) if back else address_box(box.source, box.destination) for box in openings]
    return any(overlap(own, box) is not None for box in suspected for own in addresses)


def _to_try(course: Course, opening: Box, suspected: dict[Leg, list[Box] | None]) -> list[Box]:
    """Return boxes of an opening, apart from each other, whose legs meet what is suspected."""
    found: list[Box] = []
    for leg in course.legs:
        boxes = suspected[{Leg.REQUEST: Leg.SYN, Leg.REPLY: Leg.SYN_ACK}.get(leg, leg)]
        if boxes is None:
            return [opening]
        packets = leg_box(opening, course, leg)
        for box in boxes:
            part = overlap(packets, box)
            if part is not None:
                found += without([opening_box(opening, course, leg, part)], found)
    return found


def _fate(answer: Answer, other: Answer) -> Fate:
    decided, decisive = answer.stopped.stop, other.stopped.stop
    if decided is None and decisive is not None:
        decided = next((each for way in answer.on_each_way for each in way.passed if each.crossing == decisive.crossing), None)
    told = any(way.stop is not None and way.stop.decider.action is Action.REJECT for way in answer.on_each_way)
    return Fate(answer.verdict, told, decided)


def differences(
    old: Session, new: Session, tell: Tell | None = None, missed: list[TooManyPieces] | None = None, change: Change | None = None
) -> list[Difference]:
    """Return all traffic that two plans treat differently, in every state of their windows; what was opened stands first.

    `change` is what changed from one to the other, where that is known already.
    Pairs whose traffic falls into too many pieces are added to `missed`. Raises `TooManyPieces` where there is none.
    """
    change = change or Change(old, new)
    new = change.new
    pairs = [pair for family in Family for pair in _pairs(change, family, missed)]
    if not pairs:
        return []
    hidden = {devices: unmentioned(old.network, devices) | unmentioned(new.network, devices) for devices in (False, True)}
    before, after = ([each.plan.lists[placement.access_list] for placement in each.plan.placements] for each in (old, new))
    several = _states(old.plan, new.plan, before, after)
    met: dict[tuple[object, ...], list[Difference]] = {}
    for state, ((was_open, now_open), moment) in enumerate(several.items()):
        comparison = Comparison(old.flows(was_open), new.flows(now_open))
        groups: dict[tuple[Family, bool, bool, bool, Fate, Fate], list[tuple[Box, Excluded]]] = {}
        for done, pair in enumerate(pairs):
            if tell is not None:
                tell(state * len(pairs) + done, len(several) * len(pairs))
            if state == 0 or pair.windowed:
                with answered(f"what the two plans do with {pair.asked}", missed):
                    for stray, was, now, box in list(comparison.differing(pair)):
                        groups.setdefault((pair.family, stray, pair.devices, pair.windowed, was, now), []).append((box, pair.excluded))
        for (family, stray, devices, windowed, was, now), pieces in groups.items():
            with answered("the list of all that is treated differently in one way", missed):
                written = fewest_lines((box, mentioned(excluded, hidden[devices])) for box, excluded in pieces)
                packet = example(new.plan, pieces)
                difference = Difference(family, stray, devices, was, now, written, packet, moment if windowed else None)
                met.setdefault((family, stray, devices, windowed, was, now, frozenset(written)), []).append(difference)
    found = [same[0]._replace(moment=None) if len(same) == len(several) else same[0] for same in met.values()]
    return sorted(found, key=_gravity)


def _gravity(difference: Difference) -> tuple[bool, bool, bool, bool, Family]:
    """Return what puts differences in order: what was stopped and gets through now stands first."""
    opened = difference.now.verdict is Verdict.PERMITTED
    return difference.stray, difference.devices, not opened, difference.was.verdict is not Verdict.DENIED, difference.family


def _pairs(change: Change, family: Family, missed: list[TooManyPieces] | None) -> Iterator[_Pair]:
    """Yield what is sent between any two address classes of both plans that can be treated otherwise, alike ones taken as one."""
    networks = change.old.network, change.new.network
    for source, destination, excluded, nodes in change.pairs(family):
        box = address_box(source.pattern, destination.pattern)
        sides: list[Flow | None] = []
        with gathered(missed):
            sides = [
                None if one is None or other is None else flow_between(network, one, other, (box,), excluded, numbers)
                for network, one, other, numbers in zip(networks, source.ends, destination.ends, nodes, strict=True)
            ]
        if not sides:
            continue
        windowed = any(
            access_list.windows
            for network, flow in zip(networks, sides, strict=True)
            if flow is not None
            for way in flow.ways
            for path in (way.there, way.back)
            for _, access_list in placed_on(network, path, family)
        )
        devices = any(flow is not None and (flow.source.device or flow.destination.device) for flow in sides)
        yield _Pair(family, sides[0], sides[1], (box,), excluded, windowed, devices)


def _states(
    old: Plan, new: Plan, before: Iterable[AccessList], after: Iterable[AccessList]
) -> dict[tuple[frozenset[str], frozenset[str]], datetime | None]:
    """Return every pair of sets of windows, of the old and of the new plan, that are open together, each with a moment."""
    windows = [("old", old.windows[name]) for name in sorted({name for each in before for name in each.windows})]
    windows += [("new", new.windows[name]) for name in sorted({name for each in after for name in each.windows})]
    if not windows:
        return {(frozenset(), frozenset()): None}
    marked: list[Window] = [window._replace(name=f"{plan}:{window.name}") for plan, window in windows]
    found: dict[tuple[frozenset[str], frozenset[str]], datetime | None] = {}
    for moment in states(marked).values():
        key = (
            open_at((window for plan, window in windows if plan == "old"), moment),
            open_at((window for plan, window in windows if plan == "new"), moment),
        )
        found.setdefault(key, moment)
    return found
