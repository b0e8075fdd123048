"""Who can claim an address that is not theirs, and get by all lists on some way with it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from crossgate.core.audit.context import Case
from crossgate.core.lists.split import region_hull
from crossgate.core.model.accesslist import AccessList, Decider, Entry, line_name
from crossgate.core.model.address import Family, Pattern
from crossgate.core.model.finding import Fault, Finding
from crossgate.core.model.packet import Packet
from crossgate.core.model.plan import Plan
from crossgate.core.model.scope import scoped_blocks
from crossgate.core.network.nodes import Outcome
from crossgate.core.network.passages import Passages
from crossgate.core.sets import products as algebra
from crossgate.core.sets.addresses import AddressSet, everywhere
from crossgate.core.sets.frame import Frame, PacketSet
from crossgate.core.sets.patterns import less
from crossgate.core.sets.products import Product
from crossgate.core.sets.region import Region, entry_region, packet_region
from crossgate.core.traffic.between import Flow
from crossgate.core.traffic.flows import Flows, PlacedList, placed_on
from crossgate.core.wording.sentences import first_of


def by_place(plan: Plan, findings: Sequence[Finding]) -> list[Finding]:
    """Return findings for people: what machines of one subnet can claim is one thing, whichever entries trust it."""
    of: dict[str, list[Finding]] = {}
    for each in findings:
        if each.name == "spoofable" and each.segment is not None:
            of.setdefault(each.segment, []).append(each)
    first = {id(several[0]): _coming_in(plan, name, several) for name, several in of.items()}
    others = {id(each) for several in of.values() for each in several[1:]}
    return [first.get(id(each), each) for each in findings if id(each) not in others]


def _coming_in(plan: Plan, name: str, findings: Sequence[Finding]) -> Finding:
    """Return the finding that machines of a segment come in with any source address, and that entries trust those of others."""
    points = [str(each.point) for device in plan.devices.values() for each in device.interfaces.values() if each.on == name]
    entries = []
    for each in findings:
        entry = None if each.access_list is None or each.entry is None else plan.lists[each.access_list].entry(each.entry)
        if entry is not None:
            entries.append(f"{line_name(each.access_list or '', entry.number)} ({entry.text})")
    what = (
        f"{name} comes in at {first_of(points)} with any source address: no list on the way drops those of others, which "
        f"{first_of(entries, between=' and ')} trust{'s' * (len(entries) == 1)}"
    )
    return findings[0]._replace(access_list=None, entry=None, fault=Fault(what, findings[0].fault.mend))


class Claims:
    """Who can claim the sources of entries; what is asked of many flows alike is asked once."""

    def __init__(self, case: Case, family: Family) -> None:
        self.case, self.family = case, family
        subnets = [segment for segment in case.plan.segments.values() if not segment.outside]
        self._inside = [block for segment in subnets for block in segment.prefixes if block.family is family]
        self._foreign: dict[tuple[str, tuple[Pattern, ...]], frozenset[Pattern]] = {}
        self._nowhere: dict[tuple[object, ...], bool] = {}
        self._regions: dict[int, Region | None] = {}

    def claimed(self, access_list: AccessList, entry: Entry, flow: Flow) -> Packet | None:
        """Return a packet of a flow with a source of an entry that is no machine's there, that an entry and all else lets by."""
        if id(entry) not in self._regions:
            self._regions[id(entry)] = entry_region(entry, self.family)
        region = self._regions[id(entry)]
        sources = AddressSet.of(self.family, self.claimable(flow.source.segment, entry.source.patterns))
        if region is None or not sources:
            return None
        claimed = region.between(sources, region.destination)
        wanted = claimed.common(Region(everywhere(self.family), flow.receivers))
        there = flow.ways.there
        asked = placed_on(self.case.network, there, self.family)
        if wanted is None or Outcome.ARRIVED not in there.ends or all(each.access_list is not access_list for each in asked):
            return None
        for opened in self.case.states_of(asked, lambda: [claimed]):
            key = (opened, there.number, entry, flow.source.segment)
            if entry.in_force(opened) and not self._nowhere.get(key):
                hurdles = Hurdles(self.case.asking(opened), there, asked, entry)
                packet = hurdles.tried(wanted)
                if packet is None and not self._stopped(key, hurdles, claimed):
                    packet = hurdles.getting_by(wanted)
                if packet is not None:
                    return packet
        return None

    def claimable(self, name: str, sources: tuple[Pattern, ...]) -> frozenset[Pattern]:
        """Return the sources that machines of a segment can claim, and that are not theirs; what is routed to nobody is nobody's to claim."""
        key = (name, sources)
        if key not in self._foreign:
            sources = tuple(less(sources, scoped_blocks(self.family)))
            segment = self.case.plan.segments[name]
            if segment.outside:
                self._foreign[key] = less(sources, less(sources, self._inside))
            else:
                self._foreign[key] = less(sources, [block for block in segment.prefixes if block.family is self.family])
        return self._foreign[key]

    def _stopped(self, key: tuple[object, ...], hurdles: Hurdles, claimed: Region) -> bool:
        """Whether these lists stop all of an entry's packets from the sources that a segment claims, wherever they are sent."""
        if key not in self._nowhere:
            self._nowhere[key] = False  # as long as it is not known
            self._nowhere[key] = hurdles.tried(claimed) is None and hurdles.getting_by(claimed) is None
        return self._nowhere[key]


class Hurdles(NamedTuple):
    """The lists that are `asked` of packets on their ways there, of which an entry of one is to let them by."""

    asking: Flows
    there: Passages
    asked: list[PlacedList]
    entry: Entry

    def tried(self, packets: Region) -> Packet | None:
        """Return one packet of some, if all lists on the first way let it by, one of them by the entry: most are found so."""
        packet = PacketSet.of(packets).witness()
        if packet.source == packet.destination or not self.there.first.arrived:
            return None
        hull = region_hull(packet_region(packet))
        lists = {each.crossing: each.access_list for each in self.asked}
        met = [lists[each] for each in self.there.first.crossings if each in lists]
        takers = [next((near.entry for near in self.asking.regions(own).near(hull) if near.entry.matches(packet)), None) for own in met]
        permits = (Decider(own, taker).permits for own, taker in zip(met, takers, strict=True))
        return packet if any(taker is self.entry for taker in takers) and all(permits) else None

    def getting_by(self, packets: Region) -> Packet | None:
        """Return one of some packets that all lists on some way let by, one of them by the entry; None when there is none."""
        hull = region_hull(packets)
        near = {each.access_list: self.asking.regions(each.access_list).near(hull) for each in self.asked}
        frame = Frame(packets, [each.region for regions in near.values() for each in regions if each.region is not None])
        rows = {
            own: [(row, each.entry) for each in regions if each.region is not None and (row := frame.product(each.region)) is not None]
            for own, regions in near.items()
        }
        lists = {each.crossing: each.access_list for each in self.asked}
        done: dict[tuple[int, bool], list[Product]] = {}  # what has come to a step before, by whether the entry took it
        stack = [(0, frame.whole, False)]
        while stack:
            number, part, taken = stack.pop()
            step = self.there.steps[number]
            if taken and Outcome.ARRIVED in step.ends and frame.has_two_ends(part):
                return frame.witness(part)
            further: list[tuple[int, Product, bool]] = []
            for token, following in step.moves:
                crossing = self.there.token_at(token)
                own = None if isinstance(crossing, str) else lists.get(crossing)
                if own is None:
                    further.append((following, part, taken))
                    continue
                pieces = algebra.split(part, rows[own], frame.order)
                further += [(following, piece, taken or taker is self.entry) for piece, taker in pieces if Decider(own, taker).permits]
            if self.there.count > 1:
                fresh: list[tuple[int, Product, bool]] = []
                for following, piece, by in further:
                    before = done.setdefault((following, by), [])
                    fresh += [(following, each, by) for each in algebra.left(piece, before, frame.order)]
                    before.append(piece)
                further = fresh
            stack += reversed(further)
        return None
