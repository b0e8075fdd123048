"""Lists that stop the ICMPv6 messages which other traffic needs (RFC 4890)."""

from __future__ import annotations

from collections.abc import Iterator

from crossgate.core.audit.context import Case
from crossgate.core.audit.registry import finds
from crossgate.core.lists.split import ListRegions
from crossgate.core.model.accesslist import Decider
from crossgate.core.model.address import Family, Pattern
from crossgate.core.model.finding import Fault, Finding
from crossgate.core.model.packet import ICMPV6, Packet
from crossgate.core.model.plan import Plan
from crossgate.core.sets import spans as line
from crossgate.core.sets.addresses import AddressSet
from crossgate.core.sets.effort import answered
from crossgate.core.sets.frame import PacketSet
from crossgate.core.sets.region import (
    ALL_WHAT,
    PROTOCOL_SHIFT,
    Region,
    every_packet,
    protocol_line,
)
from crossgate.core.traffic.examples import example

RFC_4890 = {
    "destination-unreachable": (1 << 8, 1 << 8 | 255),
    "packet-too-big": (2 << 8, 2 << 8 | 255),
    "time-exceeded": (3 << 8, 3 << 8),
    "parameter-problem": (4 << 8 | 1, 4 << 8 | 2),
}
"""The error messages that RFC 4890 section 4.3.1 says must not be dropped, by type and code (`type
* 256 + code`).

It names echo request and reply beside them; whether ping is to pass is the author's to say, so they
are not looked for.
"""


@finds("icmp6-needed")
def icmp6_needed(case: Case) -> Iterator[Finding]:
    """Yield the IPv6 lists that permit traffic between two addresses but not the error messages
    that belong to it.
    """
    for access_list in case.placed():
        if access_list.family is Family.IPV6:
            for opened in case.states(access_list):
                stopped = {}
                with answered(f"whether {access_list.name} stops needed ICMPv6", case.missed):
                    regions = case.session.regions.of(access_list, opened)
                    passing = _Passing(regions)
                    stopped = {
                        name: found
                        for name, span in RFC_4890.items()
                        if (found := _stops(case.plan, regions, passing, span)) is not None
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
                    yield Finding(
                        "icmp6-needed",
                        place,
                        access_list.name,
                        decider.number,
                        fault,
                        packet=packet,
                    )
                    break


class _Passing:
    """What an IPv6 list permits apart from ICMPv6, between given ends: these are the same for most
    messages, and asked about once.
    """

    def __init__(self, regions: ListRegions) -> None:
        self._regions = regions
        self._found: dict[
            tuple[tuple[Pattern, ...], tuple[Pattern, ...]], tuple[AddressSet, AddressSet] | None
        ] = {}
        self._others = line.less(ALL_WHAT, protocol_line(ICMPV6))

    def between(
        self, source: AddressSet, destination: AddressSet
    ) -> tuple[AddressSet, AddressSet] | None:
        """Return some of these ends between which something is permitted, None where nothing is."""
        key = source.patterns, destination.patterns
        if key not in self._found:
            asked = Region(source, destination, self._others)
            ends = (
                (piece.frame.addresses(0, each[0]), piece.frame.addresses(1, each[1]))
                for piece, _ in self._regions.split(asked, permitted=True)
                for each in piece.products
            )
            self._found[key] = next(ends, None)
        return self._found[key]


def _stops(
    plan: Plan, regions: ListRegions, passing: _Passing, span: tuple[int, int]
) -> tuple[Decider, Packet] | None:
    """Return the line that denies a message between addresses between which the list permits other
    packets, and the message.
    """
    icmp = ICMPV6 << PROTOCOL_SHIFT
    messages = every_packet(Family.IPV6)._replace(what=((icmp + span[0], icmp + span[1] + 1),))
    for piece, decider in regions.split(messages, permitted=False):
        for own in piece.regions():
            ends = passing.between(own.source, own.destination)
            if ends is not None:
                return decider, example(plan, [PacketSet.of(own.between(*ends))])
    return None
