"""Sets of packets in few lines: products of services, sources and destinations.

A set comes in many pieces. Pieces that agree in all sides but one are joined in that side, again
and again; then each line is made as wide as the others allow, and lines that add nothing are
dropped.
"""

from __future__ import annotations

from collections.abc import Hashable, Iterable, Sequence
from typing import NamedTuple, TypeVar

from crossgate.core.sets import products as algebra
from crossgate.core.sets import spans as numbers
from crossgate.core.sets.addresses import AddressSet
from crossgate.core.sets.effort import spend
from crossgate.core.sets.frame import PacketSet, in_one_frame
from crossgate.core.sets.patterns import Patterns, joined
from crossgate.core.sets.products import Product
from crossgate.core.sets.region import Services

_Key = TypeVar("_Key", bound=Hashable)


_Item = TypeVar("_Item")


_PIECES_A_LINE = 10
"""What comparing a line with the others costs, in pieces (`effort`)."""


MOST_COMPARED = 200
"""How many lines are compared with each other; more are left as they are."""


_MOST_PASSES = 3
"""How often lines are widened: what one gains, the others may use."""


class SetLine(NamedTuple):
    """A set of packets as one product: any of these services, sources and destinations."""

    services: frozenset[Services]
    source: Patterns
    destination: Patterns

    @property
    def size(self) -> int:
        """Roughly how many packets it has, to tell which of two lines is larger."""
        services = sum(
            numbers.size(what) * numbers.size(ports) * flags.bit_count()
            for what, ports, flags, _ in self.services
        )
        return (
            services
            * sum(each.size for each in self.source)
            * sum(each.size for each in self.destination)
        )


def fewest_lines(sets: Iterable[PacketSet]) -> list[SetLine]:
    """Return a union of sets of packets of one family as few lines, which may overlap."""
    frame, several = in_one_frame([each for each in sets if each])
    if frame is None:
        return []
    products = algebra.joined(product for own in several for product in own)
    found = _by_ends((frozenset((each[2:],)), each[0], each[1]) for each in products)
    if len(found) <= MOST_COMPARED:
        found = _by_ends(_widened(found))
    known: dict[tuple[int, int], Patterns] = {}

    def written(side: int, mask: int) -> Patterns:
        if (side, mask) not in known:
            known[side, mask] = _patterns(frame.addresses(side, mask))
        return known[side, mask]

    return [
        SetLine(
            frozenset(frame.region((source, destination, *each)).services for each in services),
            written(0, source),
            written(1, destination),
        )
        for services, source, destination in found
    ]


def _patterns(addresses: AddressSet) -> Patterns:
    """Return addresses as prefixes; as wildcards where one took part in making them and says it far
    more shortly.
    """
    prefixes = (
        frozenset(addresses.patterns) if addresses.spans is not None else joined(addresses.patterns)
    )
    wild = joined(prefixes, wild=True) if addresses.wild else prefixes
    return wild if _SHORTER * len(wild) <= len(prefixes) else prefixes


_SHORTER = 4


_Services = frozenset[tuple[int, int, int, int]]
"""A union of the sides of products that say nothing of addresses."""


class _Line(NamedTuple):
    """A line in a frame: services, and bit masks of sources and destinations."""

    services: _Services
    source: int
    destination: int

    @property
    def products(self) -> list[Product]:
        """Return the line as products, one for each of its services."""
        return [(self.source, self.destination, *each) for each in self.services]


def _by_ends(lines: Iterable[tuple[_Services, int, int]]) -> list[_Line]:
    """Join lines that agree in two of services, sources and destinations, until none do."""
    found = [_Line(*each) for each in lines]
    before = 0
    while len(found) != before:
        before = len(found)
        spend(_PIECES_A_LINE * before)
        rows = grouped(((each.source, each.destination), each.services) for each in found)
        found = [
            _Line(_joined(services) if len(services) > 1 else services, *ends)
            for ends, services in rows
        ]
        sources: dict[tuple[_Services, int], int] = {}
        for line in found:
            sources[line.services, line.destination] = (
                sources.get((line.services, line.destination), 0) | line.source
            )
        destinations: dict[tuple[_Services, int], int] = {}
        for (services, destination), source in sources.items():
            destinations[services, source] = destinations.get((services, source), 0) | destination
        found = [
            _Line(services, source, destination)
            for (services, source), destination in destinations.items()
        ]
    return found


def _widest(line: _Line, others: Sequence[_Line]) -> _Line:
    """Return a line extended by every other line's services, sources or destinations that agrees
    with it in the other two.
    """
    for other in others:
        spend()
        ends = not line.source & ~other.source, not line.destination & ~other.destination
        inside = any(ends) and _inside(line.services, other.services)
        if inside + sum(ends) == 2:
            line = _Line(
                line.services if inside else _joined({*line.services, *other.services}),
                line.source if ends[0] else line.source | other.source,
                line.destination if ends[1] else line.destination | other.destination,
            )
    return line


def _widened(found: list[_Line]) -> list[_Line]:
    """Return the same packets in lines that may overlap: each as wide as the others allow, and none
    that adds nothing.
    """
    before: list[_Line] = []
    for _ in range(_MOST_PASSES):
        if found == before:
            break
        before = list(found)
        for index, line in enumerate(found):
            found[index] = _widest(line, found)
    kept = list(dict.fromkeys(found))
    for line in sorted(
        kept,
        key=lambda each: (
            len(each.services) + each.source.bit_count() + each.destination.bit_count()
        ),
        reverse=True,
    ):
        others = [each for each in kept if each is not line]
        rows = [product for each in others for product in each.products]
        if not any(algebra.is_left(product, rows) for product in line.products):
            kept = others
    return kept


def _joined(services: Iterable[tuple[int, int, int, int]]) -> _Services:
    return frozenset(each[2:] for each in algebra.joined((1, 1, *each) for each in services))


def _inside(services: _Services, others: _Services) -> bool:
    """Whether all of some services are among others."""
    rows = [(1, 1, *each) for each in others]
    return services <= others or not any(algebra.is_left((1, 1, *each), rows) for each in services)


def within(patterns: Patterns, others: Patterns) -> bool:
    """Whether all of some addresses of a family are among others."""
    if patterns <= others:
        return True
    family = next(iter(patterns)).family
    return not AddressSet.of(family, patterns) - AddressSet.of(family, others)


def grouped(pairs: Iterable[tuple[_Key, frozenset[_Item]]]) -> list[tuple[_Key, frozenset[_Item]]]:
    """Return each key once, with all values that it came with."""
    groups: dict[_Key, set[_Item]] = {}
    for key, members in pairs:
        groups.setdefault(key, set()).update(members)
    return [(key, frozenset(members)) for key, members in groups.items()]
