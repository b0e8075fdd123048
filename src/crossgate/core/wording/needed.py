"""What would make a broken claim hold: an entry that can be pasted into a list, and where it
belongs.
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from typing import NamedTuple

from crossgate.core.conversation.story import CrossingStory, LegTrace, Trace
from crossgate.core.conversation.verdict import VERDICTS, Verdict
from crossgate.core.lists.index import ListIndex
from crossgate.core.lists.insertion import free_numbers
from crossgate.core.model.accesslist import AccessList, ClosedPlace, line_name
from crossgate.core.model.address import Address, everything, single
from crossgate.core.model.claim import Claim, Expectation
from crossgate.core.model.entry import Action, Entry, Kind
from crossgate.core.model.network import Direction, PointKind
from crossgate.core.model.packet import Packet
from crossgate.core.model.plan import Plan
from crossgate.core.model.service import format_flags
from crossgate.core.network.address_classes import free_address
from crossgate.core.network.endpoints import at_address
from crossgate.core.network.forwarding import Forwarding
from crossgate.core.network.paths import Crossing
from crossgate.core.network.view import View, packet_in
from crossgate.core.sets.meaning import outside_in
from crossgate.core.wording.answers import answer_service, end_text
from crossgate.core.wording.translated import WantedWords, asked_there


def needed(plan: Plan, expectation: Expectation, trace: Trace) -> str:
    """Say what would have to change so that a claim holds which a traced conversation breaks.

    It is an entry with its number and its list, where one entry is enough for this way.
    """
    if trace.verdict is VERDICTS[expectation.claim]:
        return "change the entry that decides, or what the expectation says of it"
    if trace.verdict is Verdict.UNROUTABLE:
        return "a route there and back"
    if _asks_for_a_rate(expectation):
        permits = [
            each.decider.name
            for each in trace.legs[0].asked
            if each.decider is not None and each.decider.entry is not None
        ]
        return (
            f"at most N a second behind {permits[-1]}"
            if permits
            else "a list on the way whose entry for it says at most N a second"
        )
    if told := _no_entry(plan, expectation, trace):
        return told
    if not (found := needs(plan, expectation, trace)):
        if expectation.claim is Claim.PERMIT:
            return f"a way back to {trace.conversation.source.name}: the answer goes elsewhere"
        start, end = trace.conversation.source.name, trace.conversation.destination.name
        claimed = expectation.source, expectation.destination
        asked = " ".join(
            each if each in plan.segments else own
            for each, own in zip(claimed, (start, end), strict=True)
        )
        where = start if _decisive(expectation, trace).leg.returns else end
        return (
            f"a list with a {Action.DENY} on the way to {where}: nothing is placed there; see: "
            f"crossgate points {asked}"
        )
    return str(found[0])


class Need(NamedTuple):
    """Entries that make a claim hold for one traced conversation, in a list, right before one of
    its entries, None for its end.

    The last of `texts` does it; those before it exclude what the claim is not about. `numbers` are
    free ones there, none where there are too few.
    """

    access_list: AccessList
    before: Entry | None
    numbers: tuple[int, ...]
    texts: tuple[str, ...]

    def __str__(self) -> str:
        if isinstance(self.access_list, ClosedPlace):
            return (
                f"an {self.access_list.family.word} list inbound on {self.access_list.point} "
                f"with: {'; '.join(self.texts)}"
            )
        where = (
            f"before {self.before.number}"
            if self.before is not None
            else "at the end"
            if self.access_list.entries
            else "in it"
        )
        numbers = self.numbers or ("",) * len(self.texts)
        lines = (
            f"{number} {text}".strip() for number, text in zip(numbers, self.texts, strict=True)
        )
        return f"in list {self.access_list.name}, {where}: {'; '.join(lines)}"


def needs(plan: Plan, expectation: Expectation, trace: Trace) -> list[Need]:
    """Return entries of which any one would make a claim hold that a traced conversation breaks: in
    the list that stops it, or in each list that it passes, the last list first. None where no entry
    can.
    """
    if _asks_for_a_rate(expectation):
        return []
    if _no_entry(plan, expectation, trace):
        return []
    stopped = trace.decided
    if (
        stopped is not None
        and stopped.crossing.rulings is not None
        and expectation.claim is not Claim.DENY
    ):
        return []  # it is the frame that is stopped, whatever it carries
    if stopped is not None and (
        expectation.claim is Claim.PERMIT
        or (expectation.claim is Claim.HALF_OPEN and len(trace.legs) == 1)
    ):
        return [
            _need(plan, expectation, Action.PERMIT, stopped, trace.legs[0 if stopped.again else -1])
        ]
    if expectation.claim is Claim.PERMIT or trace.verdict in (
        VERDICTS[expectation.claim],
        Verdict.UNROUTABLE,
    ):
        return []
    leg = _decisive(expectation, trace)
    return [
        _need(plan, expectation, Action.DENY, each, leg)
        for each in reversed(leg.asked)
        if each.decider is not None and each.crossing.rulings is None
    ]


def _asks_for_a_rate(expectation: Expectation) -> bool:
    """Whether a claim says that traffic beyond a rate is denied, without saying the rate."""
    return expectation.flooding and expectation.claim is Claim.DENY


def _decisive(expectation: Expectation, trace: Trace) -> LegTrace:
    """Return the leg that is to be stopped."""
    return (
        trace.legs[0]
        if expectation.claim is Claim.DENY
        else trace.legs[min(1, len(trace.legs) - 1)]
    )


def _need(
    plan: Plan, expectation: Expectation, action: Action, asked: CrossingStory, leg: LegTrace
) -> Need:
    """Return an entry that decides otherwise about a claim's packets, right before the line that
    decided.
    """
    assert asked.access_list is not None
    assert asked.decider is not None
    access_list, below = asked.access_list, asked.decider.entry
    assert isinstance(access_list, AccessList)
    assert below is None or isinstance(below, Entry)
    hours = (
        f" {expectation.hours}"
        if expectation.hours is not None and expectation.hours.inside
        else ""
    )
    body = _body(plan, expectation, access_list, leg, asked.crossing.view)
    text = f"{action} {body}{hours}{_spoken(expectation, access_list, action, leg)}"
    guards = _guards(plan, expectation, asked, leg) if action is Action.PERMIT else ()
    texts = (*guards, text)
    return Need(access_list, below, tuple(free_numbers(access_list, below, len(texts))), texts)


def _outside(plan: Plan, word: str) -> bool:
    return bool(outside_in(plan, word))


def _no_entry(plan: Plan, expectation: Expectation, trace: Trace) -> str:
    """Say what to do where a list denies what is to be permitted and another entry would not help;
    "" where it would.
    """
    return _turned_round(plan, expectation, trace) or _part_of_outside(plan, expectation, trace)


def _turned_round(plan: Plan, expectation: Expectation, trace: Trace) -> str:
    """Say so where a packet is denied on its way out of the interface by which it came in."""
    stopped = trace.decided
    if (
        expectation.claim is not Claim.PERMIT
        or stopped is None
        or stopped.crossing.point.kind is not PointKind.INTERFACE
    ):
        return ""
    point, leg = stopped.crossing.point, trace.legs[-1]
    if (
        stopped.crossing.direction is not Direction.OUTBOUND
        or Crossing(point, Direction.INBOUND) not in leg.path.crossings
    ):
        return ""
    end = Address(leg.packet.family, leg.packet.destination)
    segment = plan.segment_of(end)
    block = (
        next((str(each) for each in segment.prefixes if each.contains(end.value)), str(end))
        if segment is not None
        else str(end)
    )
    return (
        f"a route: {point.owner} sends it out of {point} again, by which it came in; write in "
        f"the block of {point.owner}: route {block} via ADDRESS"
    )


def _part_of_outside(plan: Plan, expectation: Expectation, trace: Trace) -> str:
    """Say what to do where a claim about an outside is denied by a line about part of it, and
    nothing above that line permits it; "" elsewhere.
    """
    stopped = trace.decided
    entry = None if stopped is None or stopped.decider is None else stopped.decider.entry
    if (
        expectation.claim is not Claim.PERMIT
        or stopped is None
        or not isinstance(entry, Entry)
        or trace.legs[-1].leg.returns
    ):
        return ""
    every = everything(trace.conversation.first.family)
    for word, addresses in (
        (expectation.source, entry.source),
        (expectation.destination, entry.destination),
    ):
        if _outside(plan, word) and every not in addresses.patterns:
            line = (
                line_name(stopped.decider.access_list.name, entry.number) if stopped.decider else ""
            )
            return (
                f"other prefixes: {line} is about {addresses.text}, of which {word} has what "
                f"no subnet has; write the prefixes that {word} has, or narrow the line"
            )
    return ""


def _guards(
    plan: Plan, expectation: Expectation, asked: CrossingStory, leg: LegTrace
) -> tuple[str, ...]:
    """Return the entries that keep a permit for an outside, which an entry can only write as any,
    away from the subnets that the line denied.
    """
    access_list = asked.access_list
    if (
        not isinstance(access_list, AccessList)
        or access_list.kind is Kind.STANDARD
        or leg.leg.returns
        or asked.crossing.view
    ):
        return ()
    ends = expectation.source, expectation.destination
    if not any(_outside(plan, word) for word in ends):
        return ()
    network, family, found = _forwarding(plan), leg.packet.family, list[str]()
    owned = (*plan.interface_of, *plan.gateway_at)
    given = sorted({each.value for each in owned if each.family is family})
    index = ListIndex(access_list, frozenset())
    port = "" if expectation.source_port is None else f" source port {expectation.source_port}"
    for name, segment in plan.segments.items():
        block = next((each for each in segment.prefixes if each.family is family), None)
        if segment.outside or block is None:
            continue
        near = given[bisect_left(given, block.first) : bisect_right(given, block.last)]
        taken = [single(Address(family, each)) for each in near]
        machine = free_address(block, taken) or Address(family, block.first)
        for side, word in enumerate(ends):
            packet = (
                leg.packet._replace(destination=machine.value)
                if side
                else leg.packet._replace(source=machine.value)
            )
            if not _outside(plan, word) or packet.source == packet.destination:
                continue
            decider = index.decide(packet)
            if decider.permits or decider.entry is not (asked.decider and asked.decider.entry):
                continue
            if network.crosses(
                at_address(network, Address(family, packet.source)),
                Address(family, packet.destination),
                asked.crossing,
            ):
                own = [end_text(plan, each) for each in ends]
                own[side] = name
                found.append(f"deny {expectation.service} {own[0]} to {own[1]}{port}")
    return tuple(found)


_LAST: list[Forwarding] = []
"""Where packets go in the plan that was asked about last."""


def _forwarding(plan: Plan) -> Forwarding:
    if not _LAST or _LAST[0].plan is not plan:
        _LAST[:] = [Forwarding(plan)]
    return _LAST[0]


def _body(
    plan: Plan, expectation: Expectation, access_list: AccessList, leg: LegTrace, view: View
) -> str:
    """Write the part of an entry that takes one leg of what a claim is about, in the claim's words;
    where translations change what the list sees, in the words of these.
    """
    source, destination = (
        end_text(plan, word) for word in (expectation.source, expectation.destination)
    )
    expected, seen_port = str(expectation.service), leg.packet.source_port
    if view:
        first = _opening(leg)
        if leg.leg.returns:
            seen_port = packet_in(view, first).destination_port
        words = WantedWords(expected, source, destination)
        expected, source, destination = asked_there(plan, first, view, words)
    if access_list.kind is Kind.STANDARD:
        return destination if leg.leg.returns else source
    if leg.leg.returns:
        service, mark = answer_service(leg.packet._replace(source_port=seen_port))
        return f"{service} {destination} to {source}{mark}"
    port = "" if expectation.source_port is None else f" source port {expectation.source_port}"
    flags = "" if expectation.flags is None else f" flags {format_flags(expectation.flags)}"
    return f"{expected} {source} to {destination}{port}{flags}"


def _opening(leg: LegTrace) -> Packet:
    """Return the opening packet of the conversation that a leg belongs to."""
    packet = leg.packet
    if not leg.leg.returns:
        return packet
    return packet._replace(
        source=packet.destination,
        destination=packet.source,
        source_port=packet.destination_port,
        destination_port=packet.source_port,
    )


def _spoken(
    expectation: Expectation, access_list: AccessList, action: Action, leg: LegTrace
) -> str:
    """Return the TLS words of a claim that a permit for it must have; a denial needs none, since it
    comes before the TLS version is known.
    """
    test = None if expectation.spoken is None else expectation.spoken.test
    asks = access_list.tls and action is Action.PERMIT and not leg.leg.returns
    return f" {test}" if asks and test is not None else ""
