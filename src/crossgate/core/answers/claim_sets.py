"""What a claim is about: which packets, between which addresses, and what it demands of them."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from crossgate.core.model.address import Address, Family
from crossgate.core.model.claim import Claim, Expectation, Only, Promise
from crossgate.core.model.service import ServiceError
from crossgate.core.network.address_classes import AddressClass, meant
from crossgate.core.network.endpoints import EndpointSet, claim_ends, is_elsewhere
from crossgate.core.sets.addresses import AddressSet
from crossgate.core.sets.frame import PacketSet
from crossgate.core.sets.patterns import PatternIndex, first_outside
from crossgate.core.sets.region import Region
from crossgate.core.traffic.between import Flow, flows
from crossgate.core.traffic.courses import Opening, openings, segments
from crossgate.core.traffic.session import Session


class ClaimPart(NamedTuple):
    """What a claim demands of some packets: the opening packets, the demand, and whether it is met
    by packets that find no path.
    """

    claim: Expectation
    begun: list[Opening]
    without_way: bool


class ClaimDemand(NamedTuple):
    """What a claim demands of some opening packets."""

    claim: Claim
    region: Region


class ClaimsAsSets:
    """The claims of one plan as sets of packets."""

    def __init__(self, session: Session) -> None:
        self._session, self._network = session, session.network
        self._says: dict[Promise, list[ClaimDemand]] = {}

    def says(self, promise: Promise) -> list[ClaimDemand]:
        """Return all that a claim of the plan demands, whether it holds or not."""
        if promise not in self._says:
            self._says[promise] = list(self._said(promise))
        return self._says[promise]

    def _said(self, promise: Promise) -> Iterator[ClaimDemand]:
        for family in Family:
            if promise.over in (None, family):
                source, destination = self.ends(promise, family)
                between = Region(source, destination)
                for part in self.parts(promise, family) if source and destination else ():
                    regions = (each.region.common(between) for each in part.begun)
                    yield from (
                        ClaimDemand(part.claim.claim, region)
                        for region in regions
                        if region is not None
                    )

    def ends(self, promise: Promise, family: Family) -> tuple[AddressSet, AddressSet]:
        """Return the addresses of a family that a claim is about, as senders and as receivers; for
        an outside, only addresses on it.
        """
        senders, receivers = self.classes(promise, family)
        source, destination = claim_ends(self._network.plan, promise, family)
        return _machines(family, senders, source), _machines(family, receivers, destination)

    def parts(self, promise: Promise, family: Family) -> list[ClaimPart]:
        """Return what a claim demands of packets of a family; nothing where its service has no part
        in it.
        """
        plan, deny_without_way = self._network.plan, bool(self._network.plan.down)
        if isinstance(promise, Expectation):
            begun = self._begun(promise, promise.service, family)
            # While something is down, what finds no way counts as denied: that nothing gets through
            # is what was claimed.
            return (
                []
                if begun is None
                else [ClaimPart(promise, begun, promise.claim is Claim.DENY and deny_without_way)]
            )
        off_subnet = is_elsewhere(plan, promise)
        permitted = {
            service: self._begun(promise, service, family) or [] for service in promise.services
        }
        parts = [
            ClaimPart(promise.claim(Claim.PERMIT, service, promise.destination), begun, off_subnet)
            for service, begun in permitted.items()
            if begun
        ]
        regions = [
            each.region for begun in permitted.values() for each in begun
        ] + self._permitted_beside(promise, family)
        rest = []
        for course, region in self._begun(promise, "ip", family) or []:
            left = (
                PacketSet.of(region) - PacketSet.of(*regions) if regions else PacketSet.of(region)
            )
            rest += [Opening(course, each) for each in left.regions()]
        return [*parts, ClaimPart(promise.claim(Claim.DENY, "ip", promise.destination), rest, True)]

    def _begun(self, promise: Promise, service: str, family: Family) -> list[Opening] | None:
        """Return the packets of a family that open conversations of a service as a claim means it;
        None where it has no part in the family.
        """
        try:
            read = self._network.plan.service(service, family)
        except ServiceError:
            return None
        port = promise.source_port
        ports = self._network.plan.client_ports if port is None else (port, port)
        return (
            openings(read, family, ports)
            if promise.flags is None
            else segments(read, family, promise.flags, ports)
        )

    def _permitted_beside(self, promise: Only, family: Family) -> list[Region]:
        """Return what other `only` lines permit, at the hours and in the family of this one, so
        that this one does not deny it.
        """
        found: list[Region] = []
        for other in self._network.plan.only_lines:
            same = (
                other.over in (None, family)
                and other.at in (None, promise.at)
                and other.hours in (None, promise.hours)
                and other.flooding is promise.flooding
                and other.spoken in (None, promise.spoken)
            )
            if other is not promise and same:
                source, destination = self.ends(other, family)
                if source and destination:
                    found += [
                        each.region._replace(source=source, destination=destination)
                        for service in other.services
                        for each in self._begun(other, service, family) or []
                    ]
        return found

    def classes(
        self, expectation: Promise, family: Family
    ) -> tuple[list[AddressClass], list[AddressClass]]:
        """Return the address classes that a claim is about, as senders and as receivers, without
        the addresses of parts that are down.
        """
        plan, found = self._network.plan, self._session.address_classes(family)
        senders, receivers = (
            [each for each in meant(found, end) if not self._network.sends_nothing(each.end)]
            for end in claim_ends(plan, expectation, family)
        )
        return senders, receivers

    def flows(self, expectation: Promise, family: Family) -> list[Flow]:
        """Return the flows that a claim is about."""
        senders, receivers = self.classes(expectation, family)
        source, destination = claim_ends(self._network.plan, expectation, family)
        return flows(self._network, senders, receivers, source.patterns, destination.patterns)

    def is_nobodys(self, expectation: Promise, sends: bool) -> bool:
        """Whether no machine can have any address of an end, or send with it: no subnet contains
        it, and there is no outside.
        """
        ends = {
            family: claim_ends(self._network.plan, expectation, family)[0 if sends else 1]
            for family in Family
        }
        patterns = {family: PatternIndex(end.patterns) for family, end in ends.items()}
        return not any(
            first_outside(part, address_class.excluded) is not None
            for family in Family
            for address_class in meant(self._session.address_classes(family), ends[family])
            for part in address_class.within(patterns[family])
            if not (sends and address_class.scoped)
        )

    def is_one_machine(self, expectation: Promise) -> bool:
        """Whether both ends of a claim are the same single machine, under whatever names."""
        plan = self._network.plan
        named: tuple[set[str], set[str]] = (set(), set())
        for family in Family:
            if expectation.over not in (None, family):
                continue
            for names, end in zip(named, claim_ends(plan, expectation, family), strict=True):
                for pattern in end.patterns:
                    if pattern.wildcard:
                        return False
                    address = Address(family, pattern.value)
                    host, interface = plan.host_of.get(address), plan.interface_of.get(address)
                    names.add(
                        host.name if host else interface.device if interface else str(address)
                    )
        return len(named[0]) == 1 and named[0] == named[1]


def _machines(family: Family, classes: Sequence[AddressClass], end: EndpointSet) -> AddressSet:
    """Return the addresses of an end that belong to some address classes."""
    patterns = PatternIndex(end.patterns)
    own = [
        AddressSet.of(family, each.within(patterns)) - AddressSet.of(family, each.excluded)
        for each in classes
    ]
    return AddressSet.union(own) if own else AddressSet.of(family, ())
