"""What passes a place: whether a packet that a machine sends from its own address gets there and
matches an entry.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import cache

from crossgate.core.audit.context import Case
from crossgate.core.model.address import Family, parse_block
from crossgate.core.model.entry import Entry
from crossgate.core.network.paths import Crossing
from crossgate.core.sets.addresses import AddressSet, apart
from crossgate.core.sets.region import Region


def comes_by(case: Case, entry: Entry, region: Region, crossing: Crossing) -> bool:
    """Whether some packet that a machine sends from its own address passes a place and is in the
    region that an entry takes.
    """
    if case.passages.comes_by(region, crossing):
        return True
    # The innermost first: they leave nothing out, so that it is easy to find a packet in them.
    receivers = case.machines.meant(region.family, entry.destination.patterns)[::-1]
    return any(
        _reaches(case, entry, region, crossing, each)
        for each in case.passages.in_turn(region.family, receivers)
    )


def _reaches(
    case: Case, entry: Entry, region: Region, crossing: Crossing, receivers: Sequence[int]
) -> bool:
    """Whether some packet that a machine sends to certain address classes passes a place and is in
    the region that an entry takes.
    """
    family = region.family
    passing = case.passages.crossing(family, crossing, receivers)
    classes = passing.classes
    senders = passing.senders(case.machines.meant(family, entry.source.patterns))
    for index in receivers if passing else ():
        if classes[index].scoped:
            if index in passing.anyone_to and (
                _unaddressed(region.source) or any(passing.sends(start, index) for start in senders)
            ):
                return True
            continue
        for start in senders:
            if passing.sends(start, index):
                ends = (
                    case.machines.own_addresses(family, start) & region.source,
                    case.machines.own_addresses(family, index) & region.destination,
                )
                if apart(*ends):
                    return True
    return False


def _unaddressed(source: AddressSet) -> bool:
    """Whether some addresses are those of machines that have no address of their own yet."""
    return bool(source & _without_address(source.family))


@cache
def _without_address(family: Family) -> AddressSet:
    """Return the source addresses of a machine that has no address yet, or only one for its link
    (RFC 1122, RFC 3927, RFC 4291).
    """
    blocks = {Family.IPV4: ("0.0.0.0", "169.254.0.0/16"), Family.IPV6: ("::", "fe80::/10")}[family]
    return AddressSet.of(family, [parse_block(each) for each in blocks])
