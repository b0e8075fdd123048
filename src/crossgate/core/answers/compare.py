"""Exactly which traffic two plans, or two versions of a list, treat differently; no difference is a
proof.

Two lists can only differ on packets that match an entry which just one of them has: on all others
the same entries decide in the same order. (Where their otherwise lines differ, every packet is
looked at.) So only the packets of such entries are divided by both lists. Through the network the
same holds crossing by crossing: where two plans ask lists in the same places, only openings whose
legs meet such a packet at one of them are followed in both, and of such packets only those with
which a list does something else (`lists.difference.treated_otherwise`).
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterable, Iterator, Mapping, Sequence
from typing import Any, NamedTuple

from crossgate.core.answers.change import PlanChange
from crossgate.core.answers.clients import told
from crossgate.core.answers.compared_pairs import (
    ComparedPair,
    ComparedStates,
    compared_pairs,
    compared_states,
)
from crossgate.core.answers.difference import ComparedFate, Difference, ListDifference
from crossgate.core.answers.list_changes import asks_for_tls
from crossgate.core.conversation.rules import HANDSHAKE, OPENING, Leg, script
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.lists.difference import compare_lists, same_lists, treated_otherwise
from crossgate.core.model.accesslist import AccessList, Decider
from crossgate.core.model.address import Family
from crossgate.core.model.entry import Action
from crossgate.core.model.packet import TCP
from crossgate.core.model.progress import Tell
from crossgate.core.model.tls import hello_of, settled, spoken_sorts
from crossgate.core.sets.effort import TooManyPieces, answered, gathered, question
from crossgate.core.sets.frame import PacketSet
from crossgate.core.sets.minimise import fewest_lines
from crossgate.core.sets.products import Product, left
from crossgate.core.sets.region import Region, every_packet, whole_packets
from crossgate.core.traffic.between import Flow
from crossgate.core.traffic.conditions import Mattering
from crossgate.core.traffic.courses import Course, Opening, by_course, opening_regions
from crossgate.core.traffic.examples import example
from crossgate.core.traffic.flows import Flows
from crossgate.core.traffic.question import Answer, Party, Question
from crossgate.core.traffic.session import Session


def named_differences(
    old: Session, new: Session, name: str, tell: Tell | None = None
) -> list[ListDifference]:
    """Return how a list differs between two plans, in every state of the windows that either
    version uses.
    """
    before, after = old.plan.access_list(name), new.plan.access_list(name)
    several = compared_states(old.plan, new.plan, [before], [after])
    met: dict[tuple[object, ...], list[ListDifference]] = {}
    for (was_open, now_open, beyond, hello), moment in several.items():
        groups: dict[tuple[Decider, Decider], list[PacketSet]] = {}
        for count, (packets, was, now) in enumerate(
            compare_lists(old.regions.of(before, was_open), new.regions.of(after, now_open))
        ):
            groups.setdefault((was, now), []).append(packets)
            if tell is not None:
                tell(count, 0)
        for (was, now), several_sets in groups.items():
            written = fewest_lines(several_sets)
            packet = example(new.plan, several_sets)
            met.setdefault((was, now, frozenset(written)), []).append(
                ListDifference(was, now, written, packet, moment, beyond, (hello,))
            )
    return [same[0]._replace(**_when(same, several)) for same in met.values()]


class Differing(NamedTuple):
    """Openings of a pair that two plans treat differently: their fate in each, the packets, and
    these with the hidden addresses of their flow; `stray` packets open no conversation.
    """

    stray: bool
    was: ComparedFate
    now: ComparedFate
    packets: PacketSet
    written: PacketSet


class Comparison:
    """Compares two plans in one pair of states of their conditions."""

    def __init__(self, old: Flows, new: Flows) -> None:
        self.old, self.new = old, new
        self._differing: dict[tuple[AccessList | None, AccessList | None], list[Region] | None] = {}
        self._ask_for_tls = any(each.network.plan.asks_for_tls for each in (old, new))

    def differing(self, pair: ComparedPair) -> Iterator[Differing]:
        """Yield the openings of a pair that the plans treat differently, in sets that do not
        overlap.
        """
        speaks = hello_of(self.new.state) is not None if self._ask_for_tls else None
        suspected = {leg: self._suspected(pair, leg) for leg in script(HANDSHAKE, speaks).legs}
        if not any(
            regions is None or _meet(pair.flow, regions, leg.returns)
            for leg, regions in suspected.items()
        ):
            return
        begun = [
            Opening(course, part)
            for course, region in by_course([pair.flow.region])
            if course.on_link in (None, pair.flow.on_link)
            for part in _to_try(course, region, suspected)
        ]
        if not begun:
            return
        sides = (self.old, pair.old), (self.new, pair.new)
        parties = [
            Party(asking, ways, side.on_link)
            for asking, side in sides
            for ways in side.ways or (None,)
        ]
        question = Question(pair.flow, begun, parties)
        old = range(len(pair.old.ways or (None,)))
        new = range(len(old), len(parties))
        done: list[Product] = []
        for course, opening in question.openings:
            for part in left(opening, done, question.frame.order):
                for was in question.answers(old, course, part):
                    for now in question.answers(new, course, was.opening):
                        before, after = _fate(was, now), _fate(now, was)
                        if (before.verdict, before.told) != (after.verdict, after.told):
                            yield Differing(course.stray, before, after, now.packets, now.written)
            done.append(opening)

    def _suspected(self, pair: ComparedPair, leg: Leg) -> list[Region] | None:
        """Return regions of a leg's packets outside of which both plans do the same; None where
        they ask lists in different places.
        """
        if len(pair.old.ways) != 1 or len(pair.new.ways) != 1:
            return None
        (old,), (new,) = pair.old.ways, pair.new.ways
        if not old.alike(new, self._ask_for_tls) or old.there.seen or old.back.seen:
            return None
        family = pair.flow.senders.family
        found: list[Region] = []
        before, after = (
            {each.crossing: each.access_list for each in asking.asked(ways, leg, family)}
            for asking, ways in ((self.old, old), (self.new, new))
        )
        for crossing in {**before, **after}:
            was, now = before.get(crossing), after.get(crossing)
            if leg in OPENING and asks_for_tls(was) is not asks_for_tls(now):
                found.append(
                    every_packet(family)._replace(what=whole_packets(TCP))
                )  # other legs follow where somebody judges
            regions = self._treated_otherwise(was, now)
            if (was is None or now is None) and (
                regions is None or (len(regions) > 1 and _meet(pair.flow, regions, leg.returns))
            ):
                # To look at the packets of each of several regions costs more than to look at all.
                return None
            found += regions or ()
        return found

    def _treated_otherwise(
        self, was: AccessList | None, now: AccessList | None
    ) -> list[Region] | None:
        """Return regions that contain all that two lists at one crossing treat differently; None
        for all packets.
        """
        key = was, now
        if key not in self._differing:
            found: list[Region] | None = []
            tests = frozenset(test for each in key if each is not None for test in each.tls)
            # While it is not settled what TLS is spoken, a list does what it would do for each.
            for hello in spoken_sorts(tests) or (hello_of(self.new.state),):
                before, after = settled(self.old.state, hello), settled(self.new.state, hello)
                if (
                    was is None
                    or now is None
                    or not same_lists(was, was.in_force(before), now, now.in_force(after))
                ):
                    regions = treated_otherwise(
                        None if was is None else self.old.regions(was, before),
                        None if now is None else self.new.regions(now, after),
                    )
                    found = None if found is None or regions is None else [*found, *regions]
            self._differing[key] = found
        return self._differing[key]


def _meet(flow: Flow, suspected: Iterable[Region], back: bool) -> bool:
    """Whether the packets of a flow, or with `back` their answers, have addresses of suspected
    packets.
    """
    source, destination = (flow.receivers, flow.senders) if back else (flow.senders, flow.receivers)
    return any(
        source.meets(each.source) and destination.meets(each.destination) for each in suspected
    )


def _to_try(
    course: Course, region: Region, suspected: dict[Leg, list[Region] | None]
) -> list[Region]:
    """Return the openings of a course in a region whose packets on a leg are suspected; they may
    overlap.
    """
    found: list[Region] = []
    for leg in (
        *course.legs,
        *(each for each in suspected if course.legs[0] is Leg.SYN and each not in course.legs),
    ):
        regions = suspected[{Leg.REQUEST: Leg.SYN, Leg.REPLY: Leg.SYN_ACK}.get(leg, leg)]
        if regions is None:
            return [region]
        parts = (
            region.common(opening)
            for each in regions
            for opening in opening_regions(each, course, leg)
        )
        found += [each for each in parts if each is not None]
    return found


def _fate(answer: Answer, other: Answer) -> ComparedFate:
    decided, decisive = answer.stopped.stop, other.stopped.stop
    if decided is None and decisive is not None:
        decided = next(
            (
                each
                for ending in answer.endings
                for each in ending.passed
                if each.crossing == decisive.crossing
            ),
            None,
        )
    told = any(
        ending.stop is not None and ending.stop.decider.action is Action.REJECT
        for ending in answer.endings
    )
    return ComparedFate(answer.verdict, told, decided)


PairKey = tuple[Hashable, ...]
"""What a pair's treatment depends on: its number, and in what of its conditions the states are that
matter to it.
"""
Found = Mapping[PairKey, list[Differing] | TooManyPieces]
"""What the plans treat differently of some pairs, or that these fall into too many pieces."""


class ComparedTraffic:
    """All that two plans can treat differently: its `pairs`, in the same order in every process,
    and the states in which they are compared.
    """

    def __init__(self, change: PlanChange, missed: list[TooManyPieces] | None) -> None:
        self.old, self.new = change.old, change.new
        self.pairs = [pair for family in Family for pair in compared_pairs(change, family, missed)]
        before, after = (
            dict.fromkeys(each for pair in self.pairs for each in pair.conditional[side])
            for side in (0, 1)
        )
        self.states = compared_states(self.old.plan, self.new.plan, before, after)
        self._mattering = {
            nth: (
                Mattering(self.old.network, self.old.regions, pair.old.ways, pair.flow),
                Mattering(self.new.network, self.new.regions, pair.new.ways, pair.flow),
            )
            for nth, pair in enumerate(self.pairs)
            if pair.is_conditional and len(self.states) > 1
        }

    def each_state(
        self, numbers: Sequence[int]
    ) -> Iterator[tuple[int, Comparison, list[tuple[int, PairKey]]]]:
        """Yield the number of each state, what compares the plans in it, and those of some pairs
        that are to be compared in it, each with its key.
        """
        for state, (was_open, now_open, _, _) in enumerate(self.states):
            keys: list[tuple[int, PairKey]] = []
            for nth in numbers:
                if nth in self._mattering:
                    one, other = self._mattering[nth]
                    keys.append((nth, (nth, one.of(was_open), other.of(now_open))))
                elif state == 0 or self.pairs[nth].is_conditional:
                    keys.append((nth, (nth,)))
            yield state, Comparison(self.old.flows(was_open), self.new.flows(now_open)), keys

    def find(self, nth: int, comparison: Comparison) -> list[Differing] | TooManyPieces:
        """Return what the plans treat differently of a pair in one state."""
        pair = self.pairs[nth]
        try:
            with question(f"what the two plans do with {pair.flow.asked}"):
                return list(comparison.differing(pair))
        except TooManyPieces as error:
            return error


def differences(
    old: Session,
    new: Session,
    tell: Tell | None = None,
    missed: list[TooManyPieces] | None = None,
    change: PlanChange | None = None,
    ahead: Callable[[ComparedTraffic], Found] | None = None,
) -> list[Difference]:
    """Return all traffic that two plans treat differently, in every state of their conditions;
    traffic that is permitted only now stands first.

    `change` is the change from one to the other, where it is known already; `ahead` has pairs
    compared elsewhere. Pairs whose traffic falls into too many pieces are added to `missed`;
    without it, `TooManyPieces` is raised.
    """
    traffic = ComparedTraffic(change or PlanChange(old, new), missed)
    pairs, states, ports = traffic.pairs, traffic.states, traffic.new.plan.client_ports
    if not pairs:
        return []
    known = {} if ahead is None else dict(ahead(traffic))
    met: dict[tuple[object, ...], list[Difference]] = {}
    described: dict[Hashable, Difference] = {}
    moments = list(states.items())
    for state, comparison, keys in traffic.each_state(range(len(pairs))):
        (_, _, beyond, hello), moment = moments[state]
        groups: dict[
            tuple[Family, bool, bool, bool, ComparedFate, ComparedFate],
            dict[Hashable, list[Differing]],
        ] = {}
        for nth, key in keys:
            if tell is not None:
                tell(state * len(pairs) + nth, len(states) * len(pairs))
            if key not in known:
                known[key] = traffic.find(nth, comparison)
            result, pair = known[key], pairs[nth]
            with gathered(missed):
                if isinstance(result, TooManyPieces):
                    raise result
                for each in result:
                    group = (
                        pair.flow.senders.family,
                        each.stray,
                        pair.devices,
                        pair.is_conditional,
                        each.was,
                        each.now,
                    )
                    groups.setdefault(group, {}).setdefault(key, []).append(each)
        for group, pieces in groups.items():
            family, stray, devices, conditional, was, now = group
            # In many states the same pairs are treated in the same way.
            same = group, tuple(pieces)
            with answered("the list of all that is treated differently in one way", missed):
                if same not in described:
                    several = [each for own in pieces.values() for each in own]
                    written, clients, packets = told(several, ports, stray)
                    packet = example(traffic.new.plan, packets)
                    described[same] = Difference(
                        family, stray, devices, was, now, written, clients, packet, None
                    )._replace(sets=tuple(packets))
                difference = described[same]
                if conditional:
                    difference = difference._replace(
                        moment=moment, exceeded=beyond, spoken=(hello,)
                    )
                met.setdefault((*group, frozenset(difference.lines)), []).append(difference)
    found = [each[0]._replace(**_when(each, states)) for each in met.values()]
    return sorted(found, key=_gravity)


def _gravity(difference: Difference) -> tuple[bool, bool, bool, bool, Family]:
    """Return the sort key of a difference: what was denied and now gets through stands first."""
    opened = difference.now.verdict is Verdict.PERMITTED
    return (
        difference.stray,
        difference.devices,
        not opened,
        difference.was.verdict is not Verdict.DENIED,
        difference.family,
    )


def _when(
    same: Sequence[Difference] | Sequence[ListDifference], several: ComparedStates
) -> dict[str, Any]:
    """Return when a difference holds that was found in some of several states: its moment, the
    limits exceeded, and the TLS that is settled on.
    """
    if len(same) == len(several) or same[0].exceeded is None:
        return {"moment": None, "exceeded": None, "spoken": None}
    own, spoken = (
        {each.exceeded for each in same},
        dict.fromkeys(hello for each in same for hello in each.spoken or ()),
    )
    alike = sum(beyond in own and hello in spoken for _, _, beyond, hello in several)
    matter = len(own) < len({beyond for _, _, beyond, _ in several})
    return {
        "moment": None if len(same) == alike else same[0].moment,
        "exceeded": min((each.exceeded or frozenset() for each in same), key=len)
        if matter
        else None,
        "spoken": tuple(spoken) if len(spoken) < len({hello for *_, hello in several}) else None,
    }
