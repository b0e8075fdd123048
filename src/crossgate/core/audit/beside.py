"""Other packets between the ends of an entry, and the line of its list that permits them."""

from __future__ import annotations

from collections.abc import Iterator

from crossgate.core.audit.context import Case
from crossgate.core.model.accesslist import AccessList, Decider, Entry, line_name
from crossgate.core.sets import spans as line
from crossgate.core.sets.effort import answered
from crossgate.core.sets.frame import PacketSet
from crossgate.core.sets.region import ALL_FLAGS, ALL_PORTS, PROTOCOL_SHIFT, Region
from crossgate.core.sets.spans import Spans
from crossgate.core.wording.sentences import DOES

MOST_PORTS = 1 << 10
"""Who denies more ports than these means no service."""


def ports_of(region: Region, protocol: int) -> Spans:
    """Return the ports of a protocol in a region."""
    base = protocol << PROTOCOL_SHIFT
    return line.joined(
        (first - base, end - base)
        for first, end in line.common(region.what, ((base, base + (1 << 16)),))
    )


def permitted_beside(
    case: Case, access_list: AccessList, entry: Entry, region: Region, what: Spans
) -> tuple[PacketSet, Decider] | None:
    """Return packets between the ends of an entry that carry something else and that its list
    permits while the entry is in force, where the entry denies something between those ends.
    """
    wanted = region._replace(what=what, flags=ALL_FLAGS, source_ports=ALL_PORTS)
    with answered(f"what passes beside {line_name(access_list.name, entry.number)}", case.missed):
        for packets, decider in decided(case, access_list, wanted, entry):
            if decider.permits and _stops_there(case, access_list, entry, region, packets):
                return packets, decider
    return None


def _stops_there(
    case: Case, access_list: AccessList, entry: Entry, region: Region, packets: PacketSet
) -> bool:
    """Whether a list denies some packet of a region between the ends of some packets; lines above
    the entry may permit them all.
    """
    return any(
        not decider.permits
        for each in packets.regions()
        for _, decider in decided(
            case, access_list, region.between(each.source, each.destination), entry
        )
    )


def decided(
    case: Case, access_list: AccessList, region: Region, entry: Entry | None = None
) -> Iterator[tuple[PacketSet, Decider]]:
    """Yield the parts of a region that lines of a list decide, in every state of its windows; with
    an entry, only in states in which it is in force.
    """
    for opened in case.states(access_list):
        if entry is None or entry.in_force(opened):
            yield from case.session.regions.of(access_list, opened).split(region)


def does(decider: Decider) -> str:
    """Say which line of a list decides, and how."""
    return (
        f"{'the otherwise line' if decider.number is None else decider.number} "
        f"{DOES[decider.action]} it"
    )
