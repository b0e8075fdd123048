"""One packet as the example of a set: between machines of the plan where possible, or else from the
middle of the set.
"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import islice

from crossgate.core.model.address import Family, Pattern, single
from crossgate.core.model.packet import Packet
from crossgate.core.model.plan import Plan
from crossgate.core.network.address_classes import device_addresses, unrouted
from crossgate.core.network.forwarding import Forwarding
from crossgate.core.sets.addresses import AddressSet, apart
from crossgate.core.sets.frame import PacketSet, witness

_MOST_TRIED = 50
"""How many pieces of a set are searched for a packet between two hosts of the plan."""


def example(plan: Plan, pieces: Sequence[PacketSet]) -> Packet:
    """Return a packet of sets that are not empty: between machines of the plan where it has some in
    them, or else from their middle.
    """
    best, most = None, -1
    regions = (region for each in pieces for region in each.regions())
    for region in islice(regions, _MOST_TRIED):
        sources, destinations = _hosts_in(plan, region.source), _hosts_in(plan, region.destination)
        known = bool(sources) + bool(destinations)
        if known > most:
            pairs = (
                region.between(one, other)
                for one in sources or (region.source,)
                for other in destinations or (region.destination,)
            )
            found = next(
                (witness(pair) for pair in pairs if apart(pair.source, pair.destination)), None
            )
            if found is not None:
                best, most = found, known
                if known == 2:
                    break
    if best is None:
        return pieces[0].witness()
    return best


def _hosts_in(plan: Plan, addresses: AddressSet) -> list[AddressSet]:
    """Return the first two addresses of hosts in a set, so that two ends from the same set can be
    two machines.
    """
    found = (each for each in plan.hosts_in(addresses.hull) if addresses.contains(each.value))
    return [AddressSet.of(addresses.family, (single(each),)) for each in islice(found, 2)]


def unmentioned(network: Forwarding, devices: bool) -> set[Pattern]:
    """Return the addresses that may be missing when a set of machines is written without mentioning
    it.

    These are the addresses that nothing is routed to and, unless the set is one of `devices`, the
    devices' own addresses.
    """
    scoped = {each for family in Family for each in unrouted(network, family)}
    return scoped if devices else scoped | device_addresses(network)
