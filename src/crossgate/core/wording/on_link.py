"""Which lines must name the messages that are answered on one link only.

Between links a neighbour solicitation opens nothing (RFC 4861), so `ip` and `icmp` are told without
asking for it. Where the ends of a line share a link it does open a conversation there: a line that
does not have it must say so, unless another line of the same traffic has it for them.
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Iterable, Sequence
from functools import cache
from typing import NamedTuple

from crossgate.core.model.address import Family, Pattern
from crossgate.core.model.packet import icmp_of
from crossgate.core.model.plan import Plan
from crossgate.core.sets import spans as line
from crossgate.core.sets.addresses import AddressSet, apart
from crossgate.core.sets.patterns import Patterns
from crossgate.core.sets.region import Services, protocol_line
from crossgate.core.sets.spans import Spans
from crossgate.core.traffic.courses import courses


class TrafficLine(NamedTuple):
    """Sources, destinations, and the services between all of them."""

    source: Patterns
    destination: Patterns
    services: frozenset[Services]


class OnLink:
    """Finds lines that must name what they have, or do not have, on a link of a plan."""

    def __init__(self, plan: Plan) -> None:
        self._prefixes: dict[Family, list[Pattern]] = {
            family: sorted(
                (
                    block
                    for segment in plan.segments.values()
                    if not segment.outside
                    for block in segment.prefixes
                    if block.family is family
                ),
                key=lambda block: block.first,
            )
            for family in Family
        }
        self._firsts = {
            family: [block.first for block in own] for family, own in self._prefixes.items()
        }

    def must_name(self, lines: Sequence[TrafficLine]) -> list[bool]:
        """Return for each line of the opening packets of some traffic whether it must name the
        messages of one link: it lacks some that no other line has for its ends, or it has some and
        no other ICMP.
        """
        with_some = [each for each in lines if _near_part(each)]
        return [self._must_name(each, with_some) for each in lines]

    def _must_name(self, own: TrafficLine, others: Iterable[TrafficLine]) -> bool:
        family = next(iter(own.source)).family
        what = _what(own)
        missing = line.less(_near(family), what)
        if not line.common(what, _elsewhere(family)):
            return bool(_near_part(own))  # beside these it may be all but ICMP
        if not missing:
            return False
        for block in self._shared(own, family):
            source, destination = _within(own, block)
            if not apart(source, destination):
                continue
            left = missing
            for other in others:
                if all(
                    one <= all_of
                    for one, all_of in zip(
                        (source, destination), _within(other, block), strict=True
                    )
                ):
                    left = line.less(left, _near_part(other))
            if left:
                return True
        return False

    def _shared(self, own: TrafficLine, family: Family) -> list[Pattern]:
        """Return the prefixes in which a line has sources and destinations."""
        both = [
            {number for each in side for number in self._overlapping(each, family)}
            for side in (own.source, own.destination)
        ]
        return [self._prefixes[family][number] for number in sorted(both[0] & both[1])]

    def _overlapping(self, pattern: Pattern, family: Family) -> range:
        """Return the indices of the prefixes that may have an address of a pattern."""
        firsts = self._firsts[family]
        start = max(bisect_right(firsts, pattern.first) - 1, 0)
        return range(start, bisect_left(firsts, pattern.last + 1))


def _within(own: TrafficLine, block: Pattern) -> tuple[AddressSet, AddressSet]:
    """Return the sources and destinations of a line that are in a prefix."""
    inside = AddressSet.of(block.family, (block,))
    source, destination = (AddressSet.of(block.family, each) for each in own[:2])
    return source & inside, destination & inside


def _near_part(own: TrafficLine) -> Spans:
    """Return what a line has of the messages that are answered on one link only."""
    return line.common(_what(own), _near(next(iter(own.source)).family))


def _what(own: TrafficLine) -> Spans:
    return line.joined(span for each in own.services for span in each[0])


@cache
def _near(family: Family) -> Spans:
    """Return the messages that open a conversation on one link only."""
    return line.joined(
        span for each in courses(family) if each.on_link for span in each.openings.what
    )


@cache
def _elsewhere(family: Family) -> Spans:
    """Return the ICMP messages that open a conversation wherever their receiver is."""
    found = line.joined(
        span
        for each in courses(family)
        if each.on_link is None and not each.stray
        for span in each.openings.what
    )
    return line.common(found, protocol_line(icmp_of(family)))
