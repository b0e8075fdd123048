"""Findings about traffic on its way: broken keeps, denied replies, claimed addresses, needed
messages.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from itertools import chain, islice, repeat

from crossgate.core.answers.verify import Verifier
from crossgate.core.audit.claims import Claims
from crossgate.core.audit.context import Case
from crossgate.core.audit.registry import finds
from crossgate.core.conversation.rules import Leg
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.lists.split import ListRegions
from crossgate.core.model.accesslist import AccessList, line_name
from crossgate.core.model.address import Address, Family, everything
from crossgate.core.model.entry import Action, Entry, Kind
from crossgate.core.model.finding import Fault, Finding
from crossgate.core.model.network import Direction
from crossgate.core.model.packet import Packet
from crossgate.core.model.plan import Plan
from crossgate.core.sets.addresses import everywhere
from crossgate.core.sets.effort import TooManyPieces, answered
from crossgate.core.sets.region import (
    Region,
    entry_region,
)
from crossgate.core.traffic.between import Flow
from crossgate.core.traffic.conditions import legs_of
from crossgate.core.traffic.courses import Opening, by_course, from_ports, leg_regions
from crossgate.core.traffic.examples import example
from crossgate.core.traffic.flows import Flows
from crossgate.core.traffic.question import answers
from crossgate.core.wording.sentences import decided_by, packet_text


@finds("locked-out")
def locked_out(case: Case) -> Iterator[Finding]:
    """Yield the keeps that do not hold."""
    verifier = Verifier(case.session)
    for expectation in case.plan.wanted(case.now):
        if expectation.keep:
            result = verifier.verify(expectation)
            if not result.answered:
                case.missed.append(TooManyPieces(f"{expectation.text}: {result.why}"))
            elif not result.held:
                fault = Fault(
                    f"{expectation.text} does not hold: {result.why}", f"needed: {result.needed}"
                )
                yield Finding(
                    "locked-out", expectation.place, None, None, fault, packet=result.counterexample
                )


@finds("replies-blocked")
def replies_blocked(case: Case) -> Iterator[Finding]:
    """Yield the entries that permit conversations whose way back some list denies."""
    answers = _Answers(case)
    for access_list, entries in case.traffic():
        family = access_list.family
        classes = case.session.address_classes(family)
        senders = case.machines.senders(access_list) if entries else {}
        for entry in entries if senders else ():
            if entry.action is not Action.PERMIT or _only_sees_sources(case, access_list, entry):
                continue
            if not case.to_be_looked_at(access_list, entry, _exchanged):
                continue
            sent = case.sent(access_list, entry)
            across = case.machines.across(
                access_list,
                entry,
                sent,
                [each for each in classes.overlapping(entry.source.patterns) if each in sent],
            )
            first = next(across, None)
            begun = [] if first is None else begun_by(case, access_list, entry)
            if first is not None and begun:
                with answered(
                    (
                        f"whether the answers to what {line_name(access_list.name, entry.number)} "
                        "permits come back"
                    ),
                    case.missed,
                ):
                    flows = answers.in_doubt(family, begun, chain((first,), across))
                    found = (
                        each
                        for flow in flows
                        if (each := _half_open(case, access_list, entry, begun, flow)) is not None
                    )
                    yield from islice(found, 1)


def _only_sees_sources(case: Case, access_list: AccessList, entry: Entry) -> bool:
    """Whether an entry of a standard list permits what a subnet's machines send where they come in:
    it is about false source addresses (RFC 2827).
    """
    if access_list.kind is not Kind.STANDARD:
        return False
    for point, direction in case.plan.places_of(access_list):
        segment = case.plan.segment_at(point)
        if direction is not Direction.INBOUND or segment is None:
            return False
        own = [block for block in segment.prefixes if block.family is access_list.family]
        if segment.outside or {*entry.source.patterns} != {*own}:
            return False
    return True


def begun_by(case: Case, access_list: AccessList, entry: Entry) -> list[Opening]:
    """Return the packets from client ports that an entry takes and that open conversations."""
    region = entry_region(entry, access_list.family)
    begun = [] if region is None else by_course(from_ports(region, case.plan.client_ports))
    return [each for each in begun if not each.course.stray]


def _exchanged(case: Case, access_list: AccessList, entry: Entry) -> Iterator[Region]:
    """Yield the packets, there and back, of the conversations that an entry permits to begin."""
    for each in begun_by(case, access_list, entry):
        for leg in each.course.legs:
            yield from leg_regions(each.region, each.course, leg)


def packets_of(_case: Case, access_list: AccessList, entry: Entry) -> list[Region]:
    """Return the region of packets that an entry asks for, in a list of regions that is empty where
    there is none.
    """
    region = entry_region(entry, access_list.family)
    return [] if region is None else [region]


class _Answers:
    """Which answers every list on their way permits, whoever they are for; a question about many
    senders that are alike is asked once.
    """

    def __init__(self, case: Case) -> None:
        self._case = case
        self._stateful = any(device.stateful for device in case.plan.devices.values())
        self._permitted: dict[tuple[object, ...], bool] = case.kept.setdefault("permitted", {})
        self._known: dict[object, tuple[set[tuple[int, int, int]], ...]] = case.kept.setdefault(
            "come back", {}
        )
        """By the openings asked for, where the answers surely come back, and where they may not: a
        receiver with the ways back from it, and the stateful devices on the ways there.
        """

    def in_doubt(
        self, family: Family, begun: list[Opening], pairs: Iterable[tuple[int, Sequence[int]]]
    ) -> Iterator[Flow]:
        """Yield the flows from address classes to each of others whose openings may not all get an
        answer.
        """
        # All but the senders: whom the answers are for is left open.
        to_whom = tuple((each.region.destination.patterns, each.region[2:]) for each in begun)
        fine, doubtful = self._known.setdefault(to_whom, (set(), set()))
        remembering = self._case.network.graphs(family).remembering
        for one, others in pairs:
            there, back = self._case.machines.nodes(family, one, others)
            devices = map(remembering, there) if self._stateful else repeat(-1)
            keys = list(zip(others, back, devices, strict=False))
            if fine.issuperset(keys):
                continue
            for key in keys:
                if key not in fine:
                    flows = self._case.machines.flows(family, one, key[0])
                    if key not in doubtful:
                        come_back = all(self._come_back(flow, begun) for flow in flows)
                        (fine if come_back else doubtful).add(key)
                    if key in doubtful:
                        yield from flows

    def _come_back(self, flow: Flow, begun: list[Opening]) -> bool:
        """Whether the lists on all ways back permit the answers to some openings to everyone, in
        all states of the windows.
        """
        none_open, family = self._case.asking(frozenset()), flow.source.address.family
        back = {
            each.access_list
            for ways in flow.every
            for each in none_open.asked(ways, Leg.REPLY, family)
        }
        return all(
            self._permit(self._case.asking(opened), flow, opening)
            for opened in self._case.states(*back)
            for opening in begun
        )

    def _permit(self, asking: Flows, flow: Flow, opening: Opening) -> bool:
        region, family = opening.region, opening.region.family
        part = region.between(region.source, region.destination & flow.receivers)
        for leg in opening.course.legs if part.destination else ():
            if leg.returns:
                lists = [
                    each for ways in flow.every for each in asking.lists_asked(ways, leg, family)
                ]
                if any(view for _, view in lists):
                    return False  # what such lists see of the answers is not looked at so plainly
                for packets in leg_regions(part, opening.course, leg) if lists else ():
                    to_all = packets.between(packets.source, everywhere(family))
                    if not all(self._permits_all(each, to_all) for each, _ in lists):
                        return False
        return True

    def _permits_all(self, regions: ListRegions, packets: Region) -> bool:
        key = (regions, packets.source.patterns, packets[2:])
        if key not in self._permitted:
            self._permitted[key] = not any(regions.split(packets, permitted=False))
        return self._permitted[key]


def _half_open(
    case: Case, access_list: AccessList, entry: Entry, begun: list[Opening], flow: Flow
) -> Finding | None:
    """Return the finding for an entry that permits conversations of a flow whose way back is
    denied.
    """
    none_open = case.asking(frozenset())
    asked, back = (
        [each for ways in flow.every for each in none_open.asked(ways, leg, access_list.family)]
        for leg in (Leg.REQUEST, Leg.REPLY)
    )
    if not back or all(each.access_list is not access_list for each in asked):
        return None
    for opened in case.states_of((*asked, *back), lambda: legs_of((flow,), begun)):
        if not entry.in_force(opened) or case.asking(opened).stops_all(flow, begun):
            continue
        for answer, ending in (
            (each, ending)
            for each in answers(case.asking(opened), flow, begun)
            for ending in each.endings
        ):
            if (
                ending.verdict is not Verdict.HALF_OPEN
                or ending.stop is None
                or not ending.leg.returns
                or ending.leg.settles
            ):
                continue
            if ending.stop.crossing.rulings is not None:
                continue  # whose frames are stopped is nobody who should answer
            if any(stop.decider.entry is entry for stop in ending.passed):
                packet = example(case.plan, [answer.packets])
                stop = decided_by(ending.stop.decider, ending.stop.crossing, "the answer")
                fault = Fault(
                    f"{packet_text(packet)} gets there, but {stop}", "permit the answers there"
                )
                return Finding(
                    "replies-blocked",
                    entry.place,
                    access_list.name,
                    entry.number,
                    fault,
                    packet=packet,
                )
    return None


@finds("spoofable")
def spoofable(case: Case) -> Iterator[Finding]:
    """Yield the entries that permit a source address which machines elsewhere can claim and get
    through with.

    What an outside sends with an address of another outside is left out, since nobody can tell (RFC
    2827 section 2). So is what is sent on a subnet between devices without hosts: no list there can
    tell it from what these devices forward.
    """
    links = _links(case.plan)
    claims_of = {family: Claims(case, family) for family in Family}
    for access_list, entries in case.traffic(claimed=True):
        every = everything(access_list.family)
        claims = claims_of[access_list.family]
        classes = case.session.address_classes(access_list.family)
        senders = case.machines.senders(access_list) if entries else {}
        for entry in entries if senders else ():
            if entry.action is not Action.PERMIT or every in entry.source.patterns:
                continue
            if not case.to_be_looked_at(access_list, entry, packets_of, claimed=True):
                continue
            with answered(
                f"who else can claim a source of {line_name(access_list.name, entry.number)}",
                case.missed,
            ):
                sent = case.sent(access_list, entry, claimed=True)
                strangers = (
                    index
                    for index in sent
                    if classes[index].end.segment not in links
                    and claims.claimable(classes[index].end.segment, entry.source.patterns)
                )
                flows = (
                    flow
                    for one, others in case.machines.across(access_list, entry, sent, strangers)
                    for flow in case.machines.flows_to(access_list.family, one, others)
                )
                found = (
                    _told(case, access_list, entry, flow, packet)
                    for flow in flows
                    if (packet := claims.claimed(access_list, entry, flow)) is not None
                )
                yield from islice(found, 1)


def _links(plan: Plan) -> frozenset[str]:
    """Return the subnets to which only devices, at least two, are attached."""
    on = Counter(
        name
        for device in plan.devices.values()
        for name in {each.on for each in device.interfaces.values()}
    )
    return frozenset(
        name
        for name, count in on.items()
        if count > 1 and name not in plan.with_machines and not plan.segments[name].outside
    )


def _told(case: Case, access_list: AccessList, entry: Entry, flow: Flow, packet: Packet) -> Finding:
    address = Address(packet.family, packet.source)
    host = case.plan.host_of.get(address)
    who = f"{address} ({host.name})" if host is not None else str(address)
    fault = Fault(
        f"a machine on {flow.source.segment} can claim {who} and get through to "
        f"{Address(packet.family, packet.destination)}: no list on the "
        f"way drops it",
        f"where {flow.source.segment} comes in, permit only its own addresses (RFC 2827)",
    )
    return Finding(
        "spoofable",
        entry.place,
        access_list.name,
        entry.number,
        fault,
        packet=packet,
        segment=flow.source.segment,
    )
