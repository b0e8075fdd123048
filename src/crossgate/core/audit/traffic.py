"""Findings about what becomes of traffic on its way: kept promises, replies, claimed addresses, needed messages."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from itertools import islice

from crossgate.core.answers.verify import Verifier
from crossgate.core.audit.context import Case
from crossgate.core.audit.registry import finds
from crossgate.core.lists.split import EntryRegion
from crossgate.core.model.accesslist import AccessList, Action, Decider, Entry
from crossgate.core.model.address import Address, Family, Pattern, everything
from crossgate.core.model.finding import Fault, Finding
from crossgate.core.model.packet import ICMPV6, Packet
from crossgate.core.sets.boxes import FRAGMENT_BIT, LOW_BITS, Box, address_box, overlap, whole, witness
from crossgate.core.sets.effort import TooManyPieces, answered
from crossgate.core.sets.patterns import Excluded, less
from crossgate.core.traffic.courses import Opening, by_course, leg_box
from crossgate.core.traffic.examples import some_packet
from crossgate.core.traffic.flows import Flow, Flows, PlacedList, placed_on
from crossgate.core.traffic.legs import Leg
from crossgate.core.traffic.trace import Verdict
from crossgate.core.wording.sentences import decided_by, packet_text

RFC_4890 = {
    "destination-unreachable": (1 << 8, 1 << 8 | 255),
    "packet-too-big": (2 << 8, 2 << 8 | 255),
    "time-exceeded": (3 << 8, 3 << 8),
    "parameter-problem": (4 << 8 | 1, 4 << 8 | 2),
}
"""The error messages that RFC 4890 section 4.3.1 says must not be dropped, by type and code (`type * 256 + code`).

It names echo request and reply beside them; whether ping is to pass is the author's to say, so they are not looked for.
"""


@finds("locked-out")
def locked_out(case: Case) -> Iterator[Finding]:
    """Yield the keeps that do not hold."""
    verifier = Verifier(case.session)
    for expectation in case.plan.expectations:
        if expectation.keep:
            result = verifier.verify(expectation)
            if not result.answered:
                case.missed.append(TooManyPieces(f"{expectation.text}: {result.why}"))
            elif not result.held:
                fault = Fault(f"{expectation.text} does not hold: {result.why}", f"needed: {result.needed}")
                yield Finding("locked-out", expectation.place, None, None, fault, packet=result.counterexample)


@finds("replies-blocked")
def replies_blocked(case: Case) -> Iterator[Finding]:
    """Yield the entries that permit conversations of which a list stops the way back."""
    answers = _Answers(case)
    for access_list, entries in case.traffic():
        family, senders = access_list.family, case.senders(access_list) if entries else {}
        classes = case.session.address_classes(family)
        if case.focus is not None and case.untouched(access_list, senders):
            entries = [entry for entry in entries if case.in_focus(access_list, entry)]
        for entry in entries if senders else ():
            begun = _openings(case, access_list, entry)
            if begun:
                with answered(f"whether the answers to what {access_list.name} {entry.number} permits come back", case.missed):
                    own = [index for index in classes.overlapping(entry.source.patterns) if index in senders]
                    pairs = answers.in_doubt(family, begun, case.across(access_list, entry, own))
                    found = (each for flow in pairs if (each := _half_open(case, access_list, entry, begun, flow)) is not None)
                    yield from islice(found, 1)


def _openings(case: Case, access_list: AccessList, entry: Entry) -> list[Opening]:
    """Return the packets from client ports that an entry permits and that open conversations."""
    if entry.action is not Action.PERMIT:
        return []
    first, last = case.plan.client_ports
    chosen = whole(access_list.family)._replace(source_first=first, source_last=last)
    region = EntryRegion(entry, access_list.family)
    hull = None if region.hull is None else overlap(region.hull, chosen)
    return [] if hull is None else [each for each in by_course(region.within(hull)) if not each.course.stray]


class _Answers:
    """Which answers every list on their way lets by, whoever they are for; what is asked of many senders alike is asked once."""

    def __init__(self, case: Case) -> None:
        self._case = case
        self._stateful = any(device.stateful for device in case.plan.devices.values())
        self._permitted: dict[tuple[AccessList, frozenset[str], Box], bool] = {}
        self._known: dict[tuple[object, ...], bool] = {}

    def in_doubt(self, family: Family, begun: list[Opening], pairs: Iterable[tuple[int, int]]) -> Iterator[Flow]:
        """Yield the flows between pairs of address classes to whose openings not every answer comes back to everyone."""
        mask = (1 << LOW_BITS + family.bits) - 1  # all but the senders: whom the answers are for is left open
        to_whom = tuple((each.box.value & mask, each.box.wildcard & mask, each.box[3:]) for each in begun)
        for one, other in pairs:
            there, back = self._case.nodes(family, one, other)
            key = (to_whom, other, back, there if self._stateful else -1)
            if key not in self._known:
                self._known[key] = self._come_back(self._case.flow(family, one, other), begun)
            if not self._known[key]:
                yield self._case.flow(family, one, other)

    def _come_back(self, flow: Flow, begun: list[Opening]) -> bool:
        """Whether the lists on all ways back permit the answers to some openings to everyone, in all states of the windows."""
        none_open, family = self._case.asking(frozenset()), flow.source.address.family
        back = {each.access_list for way in flow.ways for each in none_open.asked(way, Leg.REPLY, family)}
        return all(self._permit(self._case.asking(opened), flow, opening) for opened in self._case.states(*back) for opening in begun)

    def _permit(self, asking: Flows, flow: Flow, opening: Opening) -> bool:
        addresses = opening.box.family.mask << LOW_BITS
        for part in (overlap(opening.box, box) for box in _to(flow.boxes, opening.box)):
            for leg in opening.course.legs if part is not None else ():
                if part is not None and leg.returns:
                    packets = leg_box(part, opening.course, leg)
                    to_all = packets._replace(value=packets.value & ~addresses, wildcard=packets.wildcard | addresses)
                    lists = {each.access_list for way in flow.ways for each in asking.asked(way, leg, packets.family)}
                    if not all(self._permits_all(asking, each, to_all) for each in lists):
                        return False
        return True

    def _permits_all(self, asking: Flows, access_list: AccessList, box: Box) -> bool:
        key = (access_list, asking.open_windows & access_list.windows, box)
        if key not in self._permitted:
            self._permitted[key] = all(decider.permits for _, decider in asking.regions(access_list).split(box))
        return self._permitted[key]


def _to(boxes: tuple[Box, ...], opening: Box) -> list[Box]:
    """Return boxes of packets with the sources of an opening, whoever sends them."""
    return [address_box(opening.source, box.destination) for box in boxes]


def _half_open(case: Case, access_list: AccessList, entry: Entry, begun: list[Opening], flow: Flow) -> Finding | None:
    """Return what is found where an entry permits conversations of a flow whose way back is stopped."""
    none_open = case.asking(frozenset())
    asked = [each for way in flow.ways for each in none_open.asked(way, Leg.REQUEST, access_list.family)]
    back = [each for way in flow.ways for each in none_open.asked(way, Leg.REPLY, access_list.family)]
    if not back or all(each.access_list is not access_list for each in asked):
        return None
    for opened in case.states(*(each for _, each in (*asked, *back))):
        if not entry.in_force(opened):
            continue
        for answer in (way for each in case.asking(opened).answers(flow, begun) for way in each.on_each_way):
            if answer.verdict is not Verdict.HALF_OPEN or answer.stop is None or not answer.leg.returns:
                continue
            packet = some_packet(answer.box, flow.excluded)
            if packet is not None and any(stop.decider.entry is entry for stop in answer.passed):
                stop = decided_by(answer.stop.decider, answer.stop.crossing, "the answer")
                fault = Fault(f"{packet_text(packet)} gets there, but {stop}", "permit the answers there")
                return Finding("replies-blocked", entry.place, access_list.name, entry.number, fault, packet=packet)
    return None


@finds("spoofable")
def spoofable(case: Case) -> Iterator[Finding]:
    """Yield the entries that permit a source address which machines elsewhere can claim and get through with.

    What an outside sends with an address of another outside is not looked for: nobody can tell (RFC 2827 section 2).
    """
    for access_list, entries in case.traffic():
        every = everything(access_list.family)
        claims = _Claims(case, access_list.family)
        senders, classes = case.senders(access_list) if entries else {}, case.session.address_classes(access_list.family)
        if case.focus is not None and case.untouched(access_list, senders, claimed=True):
            entries = [entry for entry in entries if case.in_focus(access_list, entry)]
        for entry in entries if senders else ():
            if entry.action is not Action.PERMIT or every in entry.source.patterns:
                continue
            with answered(f"who else can claim a source of {access_list.name} {entry.number}", case.missed):
                region = EntryRegion(entry, access_list.family)
                strangers = [index for index in senders if claims.claimable(classes[index].end.segment, entry.source.patterns)]
                pairs = case.across(access_list, entry, strangers, claimed=True)
                flows = (case.flow(access_list.family, one, other) for one, other in pairs)
                found = (
                    _told(case, access_list, entry, flow, packet)
                    for flow in flows
                    if (packet := claims.claimed(access_list, region, flow)) is not None
                )
                yield from islice(found, 1)


class _Claims:
    """Who can claim the sources of entries; what is asked of many flows alike is asked once."""

    def __init__(self, case: Case, family: Family) -> None:
        self.case, self.family = case, family
        subnets = [segment for segment in case.plan.segments.values() if not segment.outside]
        self._inside = [block for segment in subnets for block in segment.prefixes if block.family is family]
        self._foreign: dict[tuple[str, tuple[Pattern, ...]], frozenset[Pattern]] = {}
        self._nowhere: dict[tuple[object, ...], bool] = {}

    def claimed(self, access_list: AccessList, region: EntryRegion, flow: Flow) -> Packet | None:
        """Return a packet of a flow with a source of an entry that is no machine's there, that an entry and all else lets by."""
        claimed = self.claimable(flow.source.segment, region.entry.source.patterns)
        excluded = Excluded((), flow.excluded.destinations)
        for there in dict.fromkeys(way.there for way in flow.ways):
            asked = placed_on(self.case.network, there, self.family)
            if not there.arrived or all(each.access_list is not access_list for each in asked):
                continue
            for opened in self.case.states(*(each for _, each in asked)):
                if region.entry.in_force(opened):
                    asking = self.case.asking(opened)
                    for source in claimed:
                        if self._stopped(asking, asked, region, source):
                            continue
                        for box in flow.boxes:
                            for wanted in region.within(address_box(source, box.destination)):
                                packet = _gets_by(asking, asked, 0, wanted, region.entry, False, excluded)
                                if packet is not None:
                                    return packet
        return None

    def claimable(self, name: str, sources: tuple[Pattern, ...]) -> frozenset[Pattern]:
        """Return the sources that machines of a segment can claim, and that are not theirs."""
        key = (name, sources)
        if key not in self._foreign:
            segment = self.case.plan.segments[name]
            if segment.outside:
                self._foreign[key] = less(sources, less(sources, self._inside))
            else:
                self._foreign[key] = less(sources, [block for block in segment.prefixes if block.family is self.family])
        return self._foreign[key]

    def _stopped(self, asking: Flows, asked: list[PlacedList], region: EntryRegion, source: Pattern) -> bool:
        """Whether these lists stop all of an entry's packets from a claimed source, wherever they are sent."""
        key = (asking.open_windows, tuple(asked), region.entry, source)
        if key not in self._nowhere:
            self._nowhere[key] = False  # as long as it is not known
            boxes = region.within(address_box(source, everything(self.family)))
            self._nowhere[key] = all(_gets_by(asking, asked, 0, wanted, region.entry, False, Excluded()) is None for wanted in boxes)
        return self._nowhere[key]


def _gets_by(asking: Flows, asked: list[PlacedList], nth: int, box: Box, entry: Entry, met: bool, excluded: Excluded) -> Packet | None:
    """Return a packet of a box that all lists from the `nth` on let by, one of them by this entry; None when there is none."""
    if nth == len(asked):
        return some_packet(box, excluded) if met else None
    for piece, decider in asking.regions(asked[nth].access_list).split(box):
        if decider.permits:
            packet = _gets_by(asking, asked, nth + 1, piece, entry, met or decider.entry is entry, excluded)
            if packet is not None:
                return packet
    return None


def _told(case: Case, access_list: AccessList, entry: Entry, flow: Flow, packet: Packet) -> Finding:
    address = Address(packet.family, packet.source)
    host = case.plan.host_of.get(address)
    who = f"{address} ({host.name})" if host is not None else str(address)
    fault = Fault(
        f"a machine on {flow.source.segment} can claim {who} and get through to {Address(packet.family, packet.destination)}: no list on the "
        f"way drops it",
        f"where {flow.source.segment} comes in, permit only its own addresses (RFC 2827)",
    )
    return Finding("spoofable", entry.place, access_list.name, entry.number, fault, packet=packet)


@finds("icmp6-needed")
def icmp6_needed(case: Case) -> Iterator[Finding]:
    """Yield the IPv6 lists that let something by between two addresses, but not the error messages that belong to it."""
    for access_list in case.placed():
        if access_list.family is Family.IPV6:
            for opened in case.states(access_list):
                stopped = {}
                with answered(f"whether {access_list.name} stops needed ICMPv6", case.missed):
                    stopped = {
                        name: found for name, span in RFC_4890.items() if (found := _stops(case, access_list, opened, span)) is not None
                    }
                if stopped:
                    decider, packet = next(iter(stopped.values()))
                    where = "its otherwise line" if decider.entry is None else str(decider.number)
                    names = ", ".join(stopped)
                    fault = Fault(
                        f"{where} stops {names}, without which connections hang (RFC 4890)",
                        f"permit them any to any first, as icmp/{next(iter(stopped))}",
                    )
                    place = access_list.place if decider.entry is None else decider.place
                    yield Finding("icmp6-needed", place, access_list.name, decider.number, fault, packet=packet)
                    break


def _stops(case: Case, access_list: AccessList, opened: frozenset[str], span: tuple[int, int]) -> tuple[Decider, Packet] | None:
    """Return who stops a message between addresses between which the list lets other packets by, and the message."""
    every = whole(Family.IPV6)
    messages = every._replace(
        wildcard=every.wildcard & ~FRAGMENT_BIT, protocol_first=ICMPV6, protocol_last=ICMPV6, port_first=span[0], port_last=span[1]
    )
    regions = case.session.regions.of(access_list, opened)
    for piece, decider in regions.split(messages):
        if decider.permits:
            continue
        between = address_box(piece.source, piece.destination)
        for protocols in ((0, ICMPV6 - 1), (ICMPV6 + 1, 255)):
            others = between._replace(protocol_first=protocols[0], protocol_last=protocols[1])
            for part, other in regions.split(others):
                if other.permits:
                    return decider, witness(overlap(piece, address_box(part.source, part.destination)) or piece)
    return None
