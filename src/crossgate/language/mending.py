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
from datetime import datetime
from itertools import chain
from typing import NamedTuple

from crossgate.core.answers.clients import from_clients
from crossgate.core.answers.contradiction import contradiction
from crossgate.core.answers.verify import Broken, Verified, Verifier
from crossgate.core.impact import Impact
from crossgate.core.model.address import Family
from crossgate.core.model.claim import Promise
from crossgate.core.model.errors import Place
from crossgate.core.model.finding_kinds import Severity
from crossgate.core.model.packet import Packet, icmp_of
from crossgate.core.model.plan import Plan
from crossgate.core.model.window import is_past
from crossgate.core.sets import spans as line
from crossgate.core.sets.frame import PacketSet
from crossgate.core.sets.region import Region, every_packet, protocol_line
from crossgate.core.traffic.session import Session
from crossgate.core.wording.sentences import packet_text
from crossgate.language.change import Change, Proposal, propose
from crossgate.language.claim_steps import steps_for_claim
from crossgate.language.draft import Draft
from crossgate.language.reader import Reading
from crossgate.language.steps import MendStep, applied

MOST_EDITS = 3
MOST_MENDS = 5
_WIDTH = 8
"""At most so many beginnings are gone on with."""


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

    def __repr__(self) -> str:
        return f"<Mend {'; '.join(self.said)}>"

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

    def __repr__(self) -> str:
        return f"<Mendable {self.what} at {self.place} mends={len(self.mends)}>"


Moves = Callable[[Session, Packet], Sequence[MendStep]]
"""What takes entries that are for a packet, and their lists, to where what they ask for passes
(`ending.moves`).
"""


def _no_moves(session: Session, packet: Packet) -> Sequence[MendStep]:
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
    own = [each.region for each in verifier.claims.says(promise)]
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
                steps_for_claim(
                    each.reading.plan, each.reading.plan.expectations[each.number], each.broken
                ),
            ):
                after, steps = applied(each.reading, step), (*each.steps, step)
                if after is None:
                    continue
                changed = Session(after.plan, beside=session)
                again = Verifier(changed).verify(after.plan.expectations[index])
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
                known = changed if left[0] is after else None
                mend = proved(reading, left[0], said, now, session, own, known)
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
    reading: Reading, after: Reading, steps: tuple[MendStep, ...], index: int, session: Session
) -> tuple[Reading, tuple[MendStep, ...]]:
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


def _after(reading: Reading, steps: Sequence[MendStep]) -> Reading | None:
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
    steps: tuple[MendStep, ...]
    number: int
    broken: Broken

    @property
    def family(self) -> Family:
        """The family of the conversation that breaks it."""
        return self.broken.trace.conversation.first.family

    def is_twin(self, before: _Beginning) -> bool:
        """Whether it is about the same expectation as the one before, in the other family."""
        return self.number == before.number and self.family is not before.family


def _going_on(
    after: Reading, steps: tuple[MendStep, ...], proposal: Proposal
) -> Iterator[_Beginning]:
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


def proved(
    reading: Reading,
    after: Reading,
    said: tuple[str, ...],
    now: datetime,
    session: Session,
    own: Sequence[Region] = (),
    tried: Session | None = None,
    whole: bool = False,
) -> Mend:
    """Return edits made one after the other as a single one, proved against the unchanged plan;
    `own` is what they are meant to change, `tried` a session of the plan after them where there is
    one. What they do is worked out `whole` where they are refused, too.
    """

    def change(draft: Draft) -> str:
        draft.tried = tried
        for file, data in after.data.items():
            if data != reading.data.get(file):
                draft.rewrite(file, data.decode("utf-8-sig"))
        return "; ".join(said)

    proposal = propose(reading, change, now, session=session, brief=not whole)
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
            return (
                proved(reading, state, tuple(said), now, first, whole=True) if said else None
            ), left
        else:
            again = True
