"""Who can use a source address that is not theirs, and pass all lists on some way with it."""

from __future__ import annotations

from collections.abc import Sequence

from crossgate.core.audit.context import Case
from crossgate.core.conversation.rules import ALONE
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.accesslist import AccessList, line_name
from crossgate.core.model.address import Family, Pattern
from crossgate.core.model.entry import Entry
from crossgate.core.model.finding import Fault, Finding
from crossgate.core.model.packet import Packet
from crossgate.core.model.plan import Plan
from crossgate.core.model.scope import scoped_blocks
from crossgate.core.network.nodes import SequenceEnd
from crossgate.core.network.paths import Crossing
from crossgate.core.sets.addresses import AddressSet, everywhere
from crossgate.core.sets.patterns import less
from crossgate.core.sets.region import Region, entry_region, every_packet
from crossgate.core.traffic.between import Flow
from crossgate.core.traffic.courses import Course, Opening
from crossgate.core.traffic.examples import example
from crossgate.core.traffic.flows import Flows, placed_on
from crossgate.core.traffic.question import answers
from crossgate.core.wording.sentences import first_of


def by_place(plan: Plan, findings: Sequence[Finding]) -> list[Finding]:
    """Return findings for people: what machines of one subnet can claim is told once, whichever
    entries trust it.
    """
    of: dict[tuple[str, str], list[int]] = {}
    for index, each in enumerate(findings):
        if each.name in _BY_PLACE and each.segment is not None:
            of.setdefault((each.name, each.segment), []).append(index)
    first = {
        several[0]: _BY_PLACE[name](plan, segment, [findings[index] for index in several])
        for (name, segment), several in of.items()
    }
    others = {index for several in of.values() for index in several[1:]}
    return [first.get(index, each) for index, each in enumerate(findings) if index not in others]


def _coming_in(plan: Plan, name: str, findings: Sequence[Finding]) -> Finding:
    """Return the finding that machines of a segment can use any source address, and that entries
    trust addresses of others.
    """
    points = [
        str(each.point)
        for device in plan.devices.values()
        for each in device.interfaces.values()
        if each.on == name
    ]
    return _of_several(
        plan,
        findings,
        f"{name} comes in at {first_of(points)} with any source address: no list on the way drops "
        "those of others, which",
    )


def _beside(plan: Plan, name: str, findings: Sequence[Finding]) -> Finding:
    """Return the finding that machines of a segment can take addresses of their neighbours which
    entries trust.
    """
    return _of_several(
        plan,
        findings,
        f"machines on {name} can take each other's addresses: no list where they are plugged in "
        "drops those, which",
    )


def _of_several(plan: Plan, findings: Sequence[Finding], what: str) -> Finding:
    entries = []
    for each in findings:
        entry = (
            None
            if each.access_list is None or each.entry is None
            else plan.lists[each.access_list].entry(each.entry)
        )
        if entry is not None:
            entries.append(f"{line_name(each.access_list or '', entry.number)} ({entry.text})")
    trust = f"{first_of(entries, between=' and ')} trust{'s' * (len(entries) == 1)}"
    return findings[0]._replace(
        access_list=None, entry=None, fault=Fault(f"{what} {trust}", findings[0].fault.mend)
    )


_BY_PLACE = {"spoofable": _coming_in, "neighbour-can-claim": _beside}


class Claims:
    """Finds who can claim the sources of entries; a question about many flows that are alike is
    asked once.
    """

    def __init__(self, case: Case, family: Family) -> None:
        self.case, self.family = case, family
        subnets = [segment for segment in case.plan.segments.values() if not segment.outside]
        self._inside = [
            block for segment in subnets for block in segment.prefixes if block.family is family
        ]
        self._foreign: dict[tuple[str, tuple[Pattern, ...]], frozenset[Pattern]] = {}
        self._nowhere: dict[tuple[object, ...], bool] = {}
        self._regions: dict[Entry, Region | None] = {}

    def claimed(
        self,
        access_list: AccessList,
        entry: Entry,
        flow: Flow,
        taken: AddressSet | None = None,
    ) -> Packet | None:
        """Return a packet of a flow with a source address of an entry that is not a machine's own
        there, and that the entry and all other lists permit; or with one of the `taken` addresses.
        """
        if entry not in self._regions:
            self._regions[entry] = entry_region(entry, self.family)
        region = self._regions[entry]
        sources = taken or AddressSet.of(
            self.family, self.claimable(flow.source.segment, entry.source.patterns)
        )
        if region is None or not sources:
            return None
        claimed = region.between(sources, region.destination)
        wanted = claimed.common(Region(everywhere(self.family), flow.receivers))
        there = flow.ways.there
        places = [Crossing(*each) for each in self.case.plan.places_of(access_list)]
        if there.seen or any(self.case.passages.seen(self.family, each) for each in places):
            return None  # what a rule makes of an address that is claimed is not looked at
        asked = placed_on(self.case.network, there, self.family)
        if (
            wanted is None
            or SequenceEnd.ARRIVED not in there.ends
            or all(each.access_list is not access_list for each in asked)
        ):
            return None
        ways = self.case.network.there_and_back(there, there, unanswered=True)
        for opened in self.case.states_of(asked, lambda: [claimed]):
            key = (opened, there.number, access_list.name, entry.number, flow.source.segment)
            if entry.in_force(opened) and not self._nowhere.get(key):
                asking, sent = self.case.asking(opened), flow._replace(ways=ways, others=())
                if key not in self._nowhere:
                    self._nowhere[key] = False  # as long as it is not known
                    self._nowhere[key] = (
                        getting_by(asking, sent, claimed, entry) is None
                    )  # wherever it is sent
                packet = None if self._nowhere[key] else getting_by(asking, sent, wanted, entry)
                if packet is not None:
                    return packet
        return None

    def claimable(self, name: str, sources: tuple[Pattern, ...]) -> frozenset[Pattern]:
        """Return the sources that machines of a segment can claim and that are not theirs;
        addresses that nothing is routed to are left out.
        """
        key = (name, sources)
        if key not in self._foreign:
            sources = tuple(less(sources, scoped_blocks(self.family)))
            segment = self.case.plan.segments[name]
            if segment.outside:
                self._foreign[key] = less(sources, less(sources, self._inside))
            else:
                self._foreign[key] = less(
                    sources, [block for block in segment.prefixes if block.family is self.family]
                )
        return self._foreign[key]


def getting_by(asking: Flows, flow: Flow, packets: Region, entry: Entry) -> Packet | None:
    """Return one of some packets that the lists on some way of a flow permit, one of them by the
    given entry; None where there is none.
    """
    anything = Course(every_packet(packets.family), ALONE)
    sent = flow._replace(senders=packets.source, receivers=packets.destination)
    for answer in answers(asking, sent, [Opening(anything, packets)]):
        for ending in answer.endings:
            if ending.verdict is Verdict.PERMITTED and any(
                each.decider.entry is entry for each in ending.passed
            ):
                return example(asking.network.plan, [answer.packets])
    return None
