"""One packet as an example of a set: a witness that no address left out has, between machines of the plan where there are any."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from itertools import islice

from crossgate.core.model.address import Address, Family, Pattern, single
from crossgate.core.model.packet import Packet
from crossgate.core.model.plan import Plan
from crossgate.core.network.address_classes import device_addresses, unrouted
from crossgate.core.network.routing import Forwarding
from crossgate.core.sets.boxes import (
    Box,
    between,
    witness,
)
from crossgate.core.sets.effort import spend
from crossgate.core.sets.patterns import Excluded, first_outside

_PIECES_A_PACKET = 5
"""What looking for a packet costs, in pieces (`effort`)."""


def some_packet(box: Box, excluded: Excluded) -> Packet | None:
    """Return a packet of a box, with no excluded address and not from an address to itself; None when there is none."""
    spend(_PIECES_A_PACKET)
    source, destination = first_outside(box.source, excluded.sources), first_outside(box.destination, excluded.destinations)
    if source is None or destination is None:
        return None
    packet = witness(between(box, source, destination))
    if packet.source != packet.destination:
        return packet
    itself = single(Address(packet.family, packet.source))
    for start, end in (
        (source, first_outside(box.destination, (*excluded.destinations, itself))),
        (first_outside(box.source, (*excluded.sources, itself)), destination),
    ):
        if start is not None and end is not None:
            found = witness(between(box, start, end))
            if found.source != found.destination:
                return found
    return None


_MOST_TRIED = 50
"""How many pieces of a set are searched for a packet between two hosts of the plan."""


def example(plan: Plan, pieces: Sequence[tuple[Box, Excluded]]) -> Packet:
    """Return a packet of a set that is not empty: between machines of the plan where there are some in it, else from its middle."""
    best, most = None, -1
    for box, excluded in pieces[:_MOST_TRIED]:
        sources = _host_in(plan, box.source, excluded.sources)
        destinations = _host_in(plan, box.destination, excluded.destinations)
        pairs = ((one, other) for one in sources or (box.source,) for other in destinations or (box.destination,))
        found = next((packet for pair in pairs if (packet := some_packet(between(box, *pair), excluded)) is not None), None)
        known = bool(sources) + bool(destinations)
        if found is not None and known > most:
            best, most = found, known
            if known == 2:
                break
    if best is None:
        return next(packet for box, excluded in pieces if (packet := some_packet(box, excluded)) is not None)
    return best


def _host_in(plan: Plan, addresses: Pattern, excluded: tuple[Pattern, ...]) -> list[Pattern]:
    """Return the first two addresses of hosts in a set: two, so that two ends of one set can be two machines."""
    found = (single(address) for address in plan.hosts_in(addresses) if not any(each.contains(address.value) for each in excluded))
    return list(islice(found, 2))


def mentioned(excluded: Excluded, unmentioned: Collection[Pattern]) -> Excluded:
    """Return the exclusions that are to be written: those that are not among the `unmentioned`."""
    return Excluded(*(tuple(each for each in side if each not in unmentioned) for side in excluded))


def unmentioned(network: Forwarding, devices: bool) -> set[Pattern]:
    """Return the addresses whose absence is not mentioned when a set of machines is written.

    Those are the addresses that nothing is routed to and, unless the set is one of `devices`, the devices' own.
    """
    scoped = {each for family in Family for each in unrouted(network, family)}
    return scoped if devices else scoped | device_addresses(network)
