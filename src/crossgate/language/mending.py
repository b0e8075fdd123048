"""Mends: edits that make a failing expectation hold, each proved before it is shown; those that end
a finding are in `ending`.

1. A failed claim comes with a conversation that breaks it. Where a list denies that, an entry in
the claim's own words right before the denying line permits it; where nothing denies it, such an
entry in a list on its way does, or a new list near an end.

2. After each edit the claim is proved again; while it still fails, or another claim that held is
broken, another edit is added, up to three.

3. Each mend that is shown is proved as any edit is: everything that held holds, and there is no new
error. Mends that change the least traffic beside the claim's own, counted in packets, come first,
then those with the fewest lines.

4. For two claims that contradict each other, that is told, and no mend is looked for.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from datetime import datetime, timedelta
from itertools import chain
from typing import NamedTuple

from crossgate.core.answers.clients import from_clients
from crossgate.core.answers.contradiction import contradiction
from crossgate.core.answers.points import beside, best_places
from crossgate.core.answers.verify import Broken, Verified, Verifier
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.impact import Impact
from crossgate.core.lists.insertion import free_numbers
from crossgate.core.model.accesslist import Action, ClosedPlace, Kind
from crossgate.core.model.address import Family
from crossgate.core.model.claim import Claim, Expectation, Only, Promise
from crossgate.core.model.errors import Place, PlanError
from crossgate.core.model.finding import Severity
from crossgate.core.model.network import Direction, Point, PointKind
from crossgate.core.model.packet import Packet, icmp_of
from crossgate.core.model.plan import Plan
from crossgate.core.model.service import format_flags
from crossgate.core.model.window import is_past
from crossgate.core.network.endpoints import claim_ends, is_elsewhere
from crossgate.core.network.paths import Crossing, Endpoint
from crossgate.core.network.ways import Network
from crossgate.core.sets import spans as line
from crossgate.core.sets.frame import PacketSet
from crossgate.core.sets.region import Region, every_packet, protocol_line
from crossgate.core.traffic.session import Session
from crossgate.core.wording.needed import answer_text, answers_text, end_text, needs
from crossgate.core.wording.sentences import packet_text
from crossgate.language import edits
from crossgate.language.change import Change, Proposal, propose
from crossgate.language.draft import Draft
from crossgate.language.plain_names import plain_name
from crossgate.language.reader import Reading

MOST_EDITS = 3
MOST_MENDS = 5
_WIDTH = 8
"""At most so many beginnings are gone on with."""


class Step(NamedTuple):
    """One edit: a sentence about it, and the change."""

    said: str
    change: Callable[[Draft], object]


class Mend(NamedTuple):
    """Edits that mend something, proved: sentences about them, their effect, and all of them as one
    change.

    `beside` are the sizes, in opening packets, of the kinds of traffic between machines, from
    client ports, that they affect beyond what the mended claim is about.
    """

    said: tuple[str, ...]
    proposal: Proposal
    change: Change
    beside: tuple[int, ...]

    @property
    def weight(self) -> tuple[int, ...]:
        """The sort key of mends: other traffic between machines, in packets; new errors and
        warnings; lines of text; differences in traffic; new notes.
        """
        impact = self.proposal.impact
        new = [each.severity is Severity.NOTE for each in impact.findings] if impact else []
        lines = sum(
            line.startswith(("+", "-")) and not line.startswith(("+++", "---"))
            for line in self.proposal.diff
        )
        return (
            sum(self.beside),
            new.count(False),
            lines,
            len(impact.differences) if impact else 0,
            new.count(True),
        )


class Mendable(NamedTuple):
    """Something that could be mended: what it is and where, what is wrong, how to mend it, and why
    not where there is no way.
    """

    what: str
    place: Place
    why: str
    mends: Sequence[Mend]
    reason: str = ""


Moves = Callable[[Session, Packet], Sequence[Step]]
"""What takes entries that are for a packet, and their lists, to where what they ask for passes
(`ending.moves`).
"""


def _no_moves(session: Session, packet: Packet) -> Sequence[Step]:
    return ()


def mend_claim(
    reading: Reading,
    index: int,
    verified: Verified,
    now: datetime,
    verifier: Verifier,
    moves: Moves = _no_moves,
) -> Mendable:
    """Look for mends of a failing expectation, given by its index in the plan; `verifier` is of the
    unchanged plan.

    Moving existing entries, where that helps, is tried before new ones are written.
    """
    session = verifier.session
    promise = reading.plan.expectations[index]
    what, place = verified.expectation.text, verified.expectation.place
    contradicted = _contradicted(reading.plan, promise, verifier)
    if contradicted:
        return Mendable(what, place, verified.why, (), contradicted)
    if not verified.answered or verified.broken is None:
        return Mendable(
            what, place, verified.why, (), f"no edit of a list does it; needed: {verified.needed}"
        )
    own = [each.region for each in verifier.says(promise)]
    beginnings = [_Beginning(reading, (), index, verified.broken)]
    moving = moves(session, verified.broken.trace.conversation.first)
    mends: list[Mend] = []
    reasons: dict[str, None] = {}
    tried = set[tuple[str, ...]]()
    last = f"no entry does it; needed: {verified.needed}"
    for _ in range(MOST_EDITS):
        further: list[_Beginning] = []
        breaking: list[_Beginning] = []
        for each in beginnings:
            twins = (
                beginnings if len(beginnings) < 2 * _WIDTH else further
            )  # the same for the other family is no further edit
            first = () if each.steps else moving
            for step in chain(
                first,
                _steps(each.reading.plan, each.reading.plan.expectations[each.number], each.broken),
            ):
                after, steps = applied(each.reading, step), (*each.steps, step)
                if after is None:
                    continue
                again = Verifier(Session(after.plan, beside=session)).verify(
                    after.plan.expectations[index]
                )
                if not again.held:
                    if again.answered and again.broken is not None and step not in first:
                        next_one = _Beginning(after, steps, index, again.broken)
                        (twins if next_one.is_twin(each) else further).append(next_one)
                        last = f"{MOST_EDITS} edits are not enough; then {again.why}"
                    continue
                left = _without_needless(reading, after, steps, index, session)
                said = tuple(each.said for each in left[1])
                if said in tried:
                    continue
                tried.add(said)
                mend = proved(reading, left[0], said, now, session, own)
                if mend.proposal.refused and left[1] != steps:
                    mend = proved(
                        reading, after, tuple(each.said for each in steps), now, session, own
                    )
                if not mend.proposal.refused:
                    mends.append(mend)
                else:
                    reasons[_why(reading.plan, mend.proposal)] = None
                    for next_one in _going_on(after, steps, mend.proposal):
                        (twins if next_one.is_twin(each) else breaking).append(next_one)
        if mends:
            break
        beginnings = [*further, *breaking][:_WIDTH]
    moved = {step.said for step in moving}
    mends.sort(key=lambda each: (each.weight[0], each.said[0] not in moved, *each.weight[1:]))
    reason = "" if mends else f"what makes it hold {' and '.join(reasons)}" if reasons else last
    return Mendable(what, place, verified.why, mends[:MOST_MENDS], reason)


def _without_needless(
    reading: Reading, after: Reading, steps: tuple[Step, ...], index: int, session: Session
) -> tuple[Reading, tuple[Step, ...]]:
    """Return a plan after only those of some edits that are needed for an expectation to hold, with
    these edits.

    An edit that let one conversation through may have become needless by a later one. `after` is
    the plan after all of them.
    """
    found, left = after, steps
    for step in steps[:-1]:
        fewer = tuple(each for each in left if each is not step)
        tried = _after(reading, fewer)
        if (
            tried is not None
            and Verifier(Session(tried.plan, beside=session))
            .verify(tried.plan.expectations[index])
            .held
        ):
            found, left = tried, fewer
    return found, left


def _after(reading: Reading, steps: Sequence[Step]) -> Reading | None:
    """Return a plan after some edits, None where one of them is not possible."""
    after: Reading | None = reading
    for step in steps:
        after = None if after is None else applied(after, step)
    return after


def _of_every_code(region: Region) -> Region:
    """Return a region extended to all codes of each ICMP type that it has: an entry for the answers
    cannot distinguish the codes of requests.
    """
    messages = protocol_line(icmp_of(region.family))
    own, others = line.common(region.what, messages), line.less(region.what, messages)
    whole = ((first & ~0xFF, end + 0xFF & ~0xFF) for first, end in own)
    return region._replace(what=line.joined((*others, *line.common(line.joined(whole), messages))))


def _contradicted(plan: Plan, promise: Promise, verifier: Verifier) -> str:
    """Say which other expectation contradicts one, and for which packet; "" where none does."""
    for other in plan.expectations:
        packet = contradiction(verifier, promise, other)
        if packet is not None:
            lines = sorted(
                (promise.place, other.place),
                key=lambda each: (plan.files.index(each.file), each.line),
            )
            both = " and ".join(
                f"line {each.line}" if each.file == promise.place.file else str(each)
                for each in lines
            )
            return f"{both} contradict each other: {packet_text(packet)}"
    return ""


class _Beginning(NamedTuple):
    """A plan after some edits, and the expectation, by its index, that the next edit is to make
    hold.
    """

    reading: Reading
    steps: tuple[Step, ...]
    number: int
    broken: Broken

    @property
    def family(self) -> Family:
        """The family of the conversation that breaks it."""
        return self.broken.trace.conversation.first.family

    def is_twin(self, before: _Beginning) -> bool:
        """Whether it is about the same expectation as the one before, in the other family."""
        return self.number == before.number and self.family is not before.family


def _going_on(after: Reading, steps: tuple[Step, ...], proposal: Proposal) -> Iterator[_Beginning]:
    """Yield how to continue after edits that make a claim hold and break another one: by making
    that hold.
    """
    for each in proposal.impact.broken[:1] if proposal.impact else ():
        index = next(
            number
            for number, own in enumerate(proposal.plan.expectations)
            if own is each.expectation
        )
        if each.broken is not None:
            yield _Beginning(after, steps, index, each.broken)


def _why(plan: Plan, proposal: Proposal) -> str:
    """Say why a proposal that mends one thing may not be made; lines are those of the unchanged
    plan.
    """
    broken = proposal.impact.broken if proposal.impact else []
    if broken:
        each = broken[0].expectation
        line = next(
            (own.place.line for own in plan.expectations if own.text == each.text), each.place.line
        )
        return f"breaks line {line}, {each.text}"
    return f"is refused, since {proposal.refused}"


def applied(state: Reading, step: Step) -> Reading | None:
    """Return the plan after an edit, None where it would have errors."""
    draft = Draft(state)
    try:
        step.change(draft)
        return state.changed(draft.result())
    except PlanError:
        return None


def proved(
    reading: Reading,
    after: Reading,
    said: tuple[str, ...],
    now: datetime,
    session: Session,
    own: Sequence[Region] = (),
) -> Mend:
    """Return edits made one after the other as a single one, proved against the unchanged plan;
    `own` is what they are meant to change.
    """

    def change(draft: Draft) -> str:
        for file, data in after.data.items():
            if data != reading.data.get(file):
                draft.rewrite(file, data.decode("utf-8-sig"))
        return "; ".join(said)

    proposal = propose(reading, change, now, session=session)
    ports = reading.plan.client_ports
    return Mend(
        said,
        proposal,
        change,
        tuple(_beside(proposal.impact, own, ports)) if proposal.impact else (),
    )


def _beside(impact: Impact, own: Sequence[Region], ports: tuple[int, int]) -> Iterator[int]:
    """Yield the number of packets of each kind of traffic that clients have between machines and
    that is affected without being in `own`.
    """
    for each in impact.differences:
        if not each.stray and not each.devices and each.clients:
            unmarked = PacketSet.of(every_packet(each.family)._replace(dscp=1))
            mine = [_of_every_code(region) for region in own if region.family is each.family]
            parts = (part & unmarked for part in from_clients(each.sets, ports))
            size = sum((part - PacketSet.of(*mine) if mine else part).size for part in parts)
            if size:
                yield size


# ---- Edits for a claim


def _steps(plan: Plan, promise: Promise, broken: Broken) -> Iterator[Step]:
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
                yield Step(
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


def _cut_off(plan: Plan, broken: Broken) -> Iterator[Step]:
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


def _in_lists(broken: Broken, texts: Sequence[str]) -> Iterator[Step]:
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
                yield Step(
                    f"in list {asked.access_list.name}, {where}: {lines}",
                    insertions(asked.access_list.name, numbers, texts),
                )


def _closed(plan: Plan, promise: Only, broken: Broken) -> Iterator[Step]:
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


def insertions(
    name: str, numbers: Sequence[int], texts: Sequence[str]
) -> Callable[[Draft], object]:
    """Return the change that inserts new entries into a list."""

    def change(draft: Draft) -> None:
        access_list = edits.find_list(draft.plan, name)
        for number, text in zip(numbers, texts, strict=True):
            edits.given_entry(draft, access_list, text)
            edits.add_entry(draft, access_list, number, text)

    return change


def _new_lists(
    plan: Plan, broken: Broken, entries: Sequence[str], back: bool = False
) -> Iterator[Step]:
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
        yield Step(said, _new_list(name, family, entries, places, Action.PERMIT))


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


_SIDES = {Direction.INBOUND: "in", Direction.OUTBOUND: "out", Direction.WITHIN: "within"}


def free_name(plan: Plan, point: Point, direction: Direction, family: Family) -> str:
    """Return a free name for a new list at a place."""
    part = f"{point.owner}-{point.part}" if point.part else point.owner
    side = _SIDES[direction]
    name = plain_name(f"{part}-{side}{'6' if family is Family.IPV6 else ''}", "list")
    while name in plan.lists:
        name += "-2"
    return name


def _opening(plan: Plan, closed: ClosedPlace, entries: Sequence[str]) -> Step:
    """Return a list for a closed place that permits what some entries do, and nothing else."""
    assert closed.point is not None
    place = Crossing(closed.point, Direction.INBOUND)
    name = free_name(plan, place.point, place.direction, closed.family)
    said = (
        f"new list {name}, inbound on {place.point}, which is closed: {'; '.join(entries)}; "
        "otherwise deny"
    )
    return Step(said, _new_list(name, closed.family, entries, [place], Action.DENY))


def _new_list(
    name: str, family: Family, entries: Sequence[str], places: Sequence[Crossing], otherwise: Action
) -> Callable[[Draft], object]:
    def change(draft: Draft) -> None:
        edits.new_list(draft, name, Kind.EXTENDED, family, entries, otherwise)
        for each in places:
            edits.place_list(
                draft, edits.empty_list(name, Kind.EXTENDED, family), each.direction, each.point
            )

    return change


# ---- Everything at once


def mend_all(
    reading: Reading,
    now: datetime,
    tell: Callable[[Mendable], None] = lambda found: None,
    moves: Moves = _no_moves,
) -> tuple[Mend | None, list[Mendable]]:
    """Mend failing expectations one after the other, each by its first mend, until no more can be
    mended; return all mends as one, and what is left.

    It ends because the number of failing expectations falls with every step. `tell` is told of each
    mended one. Those that cannot be mended are tried again when nothing else is left.
    """
    state, said, first = reading, list[str](), Session(reading.plan)
    hopeless: dict[int, Mendable] = {}
    again = False
    while True:
        verifier = Verifier(first if state is reading else Session(state.plan, beside=first))
        failed = [
            (index, result)
            for index, each in enumerate(state.plan.expectations)
            if not is_past(each.until, now) and not (result := verifier.verify(each)).held
        ]
        mended = False
        for index, verified in failed:
            if index in hopeless and not again:
                continue
            # Lines are those of the plan as it was.
            found = mend_claim(state, index, verified, now, verifier, moves)._replace(
                place=reading.plan.expectations[index].place
            )
            if found.mends:
                hopeless.pop(index, None)
                state, mended = state.changed(found.mends[0].proposal.new), True
                said += found.mends[0].said
                tell(found)
                break
            hopeless[index] = found
        if mended:
            again = False
        elif again or not hopeless:
            left = [hopeless[index] for index, _ in failed]
            return (proved(reading, state, tuple(said), now, first) if said else None), left
        else:
            again = True
