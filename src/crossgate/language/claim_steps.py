"""Edits that could make a failing claim hold for the conversation that breaks it.

Where a list denies the conversation, an entry in the claim's own words right before the denying
line permits it; where nothing denies it, such an entry in a list on its way does, or a new list
near an end.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime, timedelta

from crossgate.core.answers.points import beside, best_places
from crossgate.core.answers.verify import Broken
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.lists.insertion import free_numbers
from crossgate.core.model.accesslist import ClosedPlace
from crossgate.core.model.address import Family
from crossgate.core.model.claim import Claim, Expectation, Only, Promise
from crossgate.core.model.entry import Action, Kind
from crossgate.core.model.network import Direction, Point, PointKind
from crossgate.core.model.plan import Plan
from crossgate.core.model.service import format_flags
from crossgate.core.network.endpoints import claim_ends, is_elsewhere
from crossgate.core.network.paths import Crossing, Endpoint
from crossgate.core.network.ways import Network
from crossgate.core.wording.answers import answer_text, answers_text, end_text
from crossgate.core.wording.needed import needs
from crossgate.language.steps import MendStep, free_name, insertions, new_list


def steps_for_claim(plan: Plan, promise: Promise, broken: Broken) -> Iterator[MendStep]:
    """Yield edits that could make a claim hold for the conversation that breaks it."""
    if isinstance(promise, Only) and broken.claim.claim is Claim.DENY and not promise.flooding:
        yield from _closed(plan, promise, broken)
    if (
        broken.claim.claim is Claim.HALF_OPEN
        and broken.claim.spoken is not None
        and broken.trace.verdict is Verdict.PERMITTED
    ):
        yield from _cut_off(plan, broken)
    for need in needs(plan, broken.claim, broken.trace):
        for timed in _timed(plan, broken.claim, need.texts[-1]):
            texts = [*need.texts[:-1], *timed]
            if isinstance(need.access_list, ClosedPlace):
                yield _opening(plan, need.access_list, texts)
                continue
            numbers = free_numbers(need.access_list, need.before, len(texts))
            if numbers:
                lines = "; ".join(
                    f"{number} {text}" for number, text in zip(numbers, texts, strict=True)
                )
                where = f"before {need.before.number}" if need.before is not None else "at the end"
                yield MendStep(
                    f"in list {need.access_list.name}, {where}: {lines}",
                    insertions(need.access_list.name, numbers, texts),
                )
    if broken.claim.claim is Claim.DENY and not broken.claim.flooding:
        ends = [end_text(plan, word) for word in (broken.claim.source, broken.claim.destination)]
        flags = "" if broken.claim.flags is None else f" flags {format_flags(broken.claim.flags)}"
        hours = (
            f" {broken.claim.hours}"
            if broken.claim.hours is not None and broken.claim.hours.inside
            else ""
        )
        for texts in _timed(
            plan, broken.claim, f"deny {broken.claim.service} {ends[0]} to {ends[1]}{flags}{hours}"
        ):
            yield from _new_lists(plan, broken, texts)
    if broken.claim.claim is Claim.HALF_OPEN and broken.trace.verdict is Verdict.PERMITTED:
        answers = [leg for leg in broken.trace.legs if leg.leg.returns]
        if answers:
            yield from _new_lists(
                plan, broken, [answer_text(plan, broken.claim, Action.DENY, answers[0])], back=True
            )


def _timed(plan: Plan, claim: Expectation, text: str) -> Iterator[list[str]]:
    """Yield entries that say something; where a claim is about one hour, first those limited to a
    window, or to all times outside it.

    A text for all hours of a window names that window already; to deny something outside a window,
    it is first permitted in it.
    """
    if claim.hours is not None and not claim.hours.inside and claim.claim is Claim.DENY:
        yield [f"permit{text.removeprefix('deny')} during {claim.hours.window}", text]
    if claim.at is not None:
        moment = claim.at.date or datetime(2024, 1, 1) + timedelta(
            minutes=claim.at.minute or 0
        )  # a Monday
        for window in plan.windows.values():
            if window.is_open(moment):
                yield [f"{text} during {window.name}"]
            elif claim.claim is Claim.DENY:
                yield [f"permit{text.removeprefix('deny')} during {window.name}", text]
    yield [text]


def _cut_off(plan: Plan, broken: Broken) -> Iterator[MendStep]:
    """Yield the edits that let conversations begin and stop them once their TLS version is known:
    in a list on the way, or in a new one.
    """
    claim = broken.claim
    port = "" if claim.source_port is None else f" source port {claim.source_port}"
    body = (
        f"{claim.service} {end_text(plan, claim.source)} to "
        f"{end_text(plan, claim.destination)}{port}"
    )
    test = None if claim.spoken is None else claim.spoken.test
    texts = [f"permit {body} tls -1.3", f"deny {body}"] if test is None else [f"deny {body} {test}"]
    yield from _in_lists(broken, texts)
    yield from _new_lists(plan, broken, texts)


def _in_lists(broken: Broken, texts: Sequence[str]) -> Iterator[MendStep]:
    """Yield the edits that insert some entries into an extended list that the conversation's first
    packet meets, right before the line that decides there.
    """
    for asked in broken.trace.legs[0].asked:
        if (
            asked.decider is not None
            and asked.access_list is not None
            and asked.crossing.rulings is None
            and asked.access_list.kind is Kind.EXTENDED
            and not isinstance(asked.access_list, ClosedPlace)
        ):
            numbers = free_numbers(asked.access_list, asked.decider.entry, len(texts))
            if numbers:
                where = (
                    f"before {asked.decider.number}"
                    if asked.decider.entry is not None
                    else "at the end"
                )
                lines = "; ".join(
                    f"{number} {text}" for number, text in zip(numbers, texts, strict=True)
                )
                yield MendStep(
                    f"in list {asked.access_list.name}, {where}: {lines}",
                    insertions(asked.access_list.name, numbers, texts),
                )


def _closed(plan: Plan, promise: Only, broken: Broken) -> Iterator[MendStep]:
    """Yield the edits that write an `only` line as entries, permits followed by a denial of
    everything else: in a list on the way, or in a new one.
    """
    source = end_text(plan, promise.source)
    destination = "any" if is_elsewhere(plan, promise) else end_text(plan, promise.destination)
    texts = [f"permit {service} {source} to {destination}" for service in promise.services]
    texts += _answering(plan, promise, broken.trace.conversation.first.family)
    texts.append(f"deny ip {source} to {destination}")
    yield from _in_lists(broken, texts)
    yield from _new_lists(plan, broken, texts)


def _answering(plan: Plan, promise: Only, family: Family) -> list[str]:
    """Return the entries that permit the answers of an `only` line's sources to those who may reach
    them; they open nothing.
    """
    ends = claim_ends(plan, promise, family)
    found: dict[str, None] = {}
    for other in plan.expectations:
        permits = isinstance(other, Only) or other.claim is Claim.PERMIT
        there = claim_ends(plan, other, family)[::-1] if permits and other is not promise else ()
        if there and all(
            any(one.overlaps(each) for one in a.patterns for each in b.patterns)
            for a, b in zip(ends, there, strict=True)
        ):
            for service in other.services:
                found |= dict.fromkeys(
                    answers_text(
                        plan,
                        service,
                        family,
                        "any" if is_elsewhere(plan, other) else other.destination,
                        other.source,
                    )
                )
    return list(found)


def _new_lists(
    plan: Plan, broken: Broken, entries: Sequence[str], back: bool = False
) -> Iterator[MendStep]:
    """Yield the edits that write a new list with some entries, near a claim's source or else near
    its destination, where no list is placed; for answers (`back`) in the other direction.
    """
    conversation = broken.trace.conversation
    ends = (conversation.source, conversation.destination)[:: -1 if back else 1]
    family = conversation.first.family
    tried = set()
    for places in _places(plan, *ends):
        if places in tried or any(
            (each.point, each.direction, family) in plan.asked for each in places
        ):
            continue
        tried.add(places)
        first = places[0]
        name = free_name(plan, first.point, first.direction, family)
        where = ", ".join([first.where, *(str(each.point) for each in places[1:])])
        said = f"new list {name}, {where}: {'; '.join(entries)}; otherwise permit"
        yield MendStep(
            said,
            new_list(
                name,
                (Kind.EXTENDED, family),
                entries,
                [each.place for each in places],
                Action.PERMIT,
            ),
        )


def _places(plan: Plan, source: Endpoint, destination: Endpoint) -> Iterator[tuple[Crossing, ...]]:
    """Yield the places for a list that is to deny traffic from one end to another; those of one
    edit have the same direction.

    First the place of an extended list, near the source, then that of a standard one. Where several
    ways are equally good, first all devices that stand in for each other together, then the subnet
    as a whole.
    """
    network = Network(plan)
    found = best_places(network, source, destination)
    crossings = [found[kind] for kind in (Kind.EXTENDED, Kind.STANDARD) if kind in found]
    alike = [beside(network, source, destination, each) for each in crossings]
    for crossing, others in zip(crossings, alike, strict=True):
        if others:
            yield (crossing, *others)
    if any(alike):
        for end, direction in ((source, Direction.OUTBOUND), (destination, Direction.INBOUND)):
            if end.device is None and not plan.segments[end.segment].outside:
                yield (Crossing(Point(PointKind.SUBNET, end.segment), direction),)
    for crossing in crossings:
        yield (crossing,)


def _opening(plan: Plan, closed: ClosedPlace, entries: Sequence[str]) -> MendStep:
    """Return a list for a closed place that permits what some entries do, and nothing else."""
    assert closed.point is not None
    place = Crossing(closed.point, Direction.INBOUND)
    name = free_name(plan, place.point, place.direction, closed.family)
    said = (
        f"new list {name}, inbound on {place.point}, which is closed: {'; '.join(entries)}; "
        "otherwise deny"
    )
    return MendStep(
        said, new_list(name, (Kind.EXTENDED, closed.family), entries, [place.place], Action.DENY)
    )
