"""A list as regions: the packets that each entry takes, and any box split by the entry that decides it.

Nothing is ever multiplied out that need not be: an entry with many sources, destinations and services keeps the three
apart (`EntryRegion`) and gives the one box that is asked for.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import cached_property
from typing import TYPE_CHECKING

from crossgate.core.model.accesslist import AccessList, Decider, Entry
from crossgate.core.model.address import Family
from crossgate.core.model.service import NO_QUALIFIERS, FlagTest, Ports
from crossgate.core.sets.boxes import ALL_PORTS, DSCP_SHIFT, FRAGMENT_BIT, LOW_BITS, Box, minus, overlap
from crossgate.core.sets.effort import spend
from crossgate.core.sets.services import ServicePart, service_parts

if TYPE_CHECKING:
    from crossgate.core.sets.columns import Columns


def _qualified(part: ServicePart, entry: Entry) -> Iterator[ServicePart]:
    """Yield the parts that are left of a service part under an entry's qualifiers."""
    asked = entry.qualifiers
    value, wildcard, spans = part
    if asked.fragments:
        if not wildcard & FRAGMENT_BIT:
            return
        value, wildcard = value | FRAGMENT_BIT, wildcard & ~FRAGMENT_BIT
    if asked.dscp is not None:
        value, wildcard = value | asked.dscp << DSCP_SHIFT, wildcard & ~(63 << DSCP_SHIFT)
    if asked.source_ports is not None or asked.flags:
        if value & FRAGMENT_BIT:
            return
        wildcard &= ~FRAGMENT_BIT
    source_ports: Ports = asked.source_ports if asked.source_ports is not None else (ALL_PORTS,)
    for first, last in source_ports:
        for test in _apart(asked.flags):
            if test.value & ~test.care:
                continue
            yield ServicePart(value | test.value, wildcard & ~test.care, (*spans[:2], first, last, *spans[4:]))


def _apart(tests: Sequence[FlagTest]) -> Sequence[FlagTest]:
    return tests or (FlagTest(0, 0),)


_FEW = 100
"""Up to so many regions a loop over them is faster than columns."""


_FEW_ENDS = 8
"""Up to so many addresses of one side a loop over them is faster than looking them up."""


_TESTS_A_PIECE = 16
"""So many tests of one address against another cost about as much as a piece."""


class EntryRegion:
    """The packets that one entry takes: sources, destinations and services, each a union and never multiplied out."""

    __slots__ = ("_tables", "destinations", "entry", "family", "hull", "services", "sources")

    def __init__(self, entry: Entry, family: Family, parts: tuple[ServicePart, ...] | None = None) -> None:
        """Make it; `parts` are those of the entry's service where they are known already."""
        self.entry = entry
        self.family = family
        shift = LOW_BITS + family.bits
        self.sources = [(each.value << shift, each.wildcard << shift) for each in entry.source.patterns]
        self.destinations = [(each.value << LOW_BITS, each.wildcard << LOW_BITS) for each in entry.destination.patterns]
        if parts is None:
            parts = service_parts(entry.service)
        self.services = parts if entry.qualifiers is NO_QUALIFIERS else tuple(each for part in parts for each in _qualified(part, entry))
        self._tables: list[dict[int, dict[int, tuple[int, int]]] | None] = [None, None]
        self.hull = self._hull()

    def _hull(self) -> Box | None:
        """Return the smallest box that holds all of it; None when it takes no packet at all."""
        if not self.services:
            return None
        if len(self.sources) == len(self.destinations) == len(self.services) == 1:
            (source, source_wild), (destination, destination_wild), (part,) = self.sources[0], self.destinations[0], self.services
            bits_of, wild = source | destination | part.value, source_wild | destination_wild | part.wildcard
            return Box(self.family, bits_of, wild, *part.spans)
        bits = [_joined(self.sources), _joined(self.destinations), _joined([(part.value, part.wildcard) for part in self.services])]
        spans = list(zip(*(part.spans for part in self.services), strict=True))
        return Box(
            self.family, bits[0][0] | bits[1][0] | bits[2][0], bits[0][1] | bits[1][1] | bits[2][1],
            min(spans[0]), max(spans[1]), min(spans[2]), max(spans[3]), min(spans[4]), max(spans[5]),
        )  # fmt: skip

    @property
    def size(self) -> int:
        """How many boxes it would be when multiplied out."""
        return len(self.sources) * len(self.destinations) * len(self.services)

    def boxes(self) -> Iterator[Box]:
        """Yield all of it as boxes."""
        if self.hull is not None:
            yield from self.within(self.hull)

    def within(self, box: Box) -> Iterator[Box]:
        """Yield the parts of the entry that lie within a box, each cut to it."""
        shift = LOW_BITS + self.family.bits
        mask = self.family.mask
        sources = self._near(0, self.sources, box, mask << shift)
        destinations = self._near(1, self.destinations, box, mask << LOW_BITS) if sources else []
        for source, source_wild in sources:
            for destination, destination_wild in destinations:
                for part in self.services:
                    whole_part = Box(
                        self.family, source | destination | part.value, source_wild | destination_wild | part.wildcard, *part.spans
                    )
                    common = overlap(box, whole_part)
                    if common is not None:
                        yield common

    def _near(self, side: int, ends: list[tuple[int, int]], box: Box, mask: int) -> list[tuple[int, int]]:
        """Return the addresses of one side that a box may have some of; many are looked up by the wildcards that they have."""
        value, wildcard = box.value & mask, box.wildcard & mask
        if len(ends) <= _FEW_ENDS:
            spend(1 + len(ends) // _TESTS_A_PIECE)
            return [each for each in ends if not (value ^ each[0]) & ~(wildcard | each[1]) & mask]
        if self._tables[side] is None:
            table: dict[int, dict[int, tuple[int, int]]] = {}
            for each in ends:
                table.setdefault(each[1], {})[each[0]] = each
            self._tables[side] = table
        found: list[tuple[int, int]] = []
        for own_wild, known in (self._tables[side] or {}).items():
            if wildcard & ~own_wild:
                spend(1 + len(known) // _TESTS_A_PIECE)
                found += [each for each in known.values() if not (value ^ each[0]) & ~(wildcard | own_wild) & mask]
            else:
                spend()
                one = known.get(value & ~own_wild)
                if one is not None:
                    found.append(one)
        return found

    def part(self, box: Box) -> Box | None:
        """Return one part of the entry within a box, or None when they do not overlap."""
        if self.hull is None or overlap(self.hull, box) is None:
            return None
        return next(self.within(box), None)


def _joined(bits: Sequence[tuple[int, int]]) -> tuple[int, int]:
    """Return the smallest value and wildcard that hold all of these."""
    value, wildcard = bits[0]
    for other, other_wildcard in bits[1:]:
        wildcard |= other_wildcard | (value ^ other)
        value &= ~wildcard
    return value & ~wildcard, wildcard


class ListRegions:
    """An access list as regions, while just `open_windows` are open."""

    def __init__(self, access_list: AccessList, open_windows: frozenset[str] = frozenset()) -> None:
        self.access_list = access_list
        entries = access_list.in_force(open_windows)
        # Within a list a service's text says all of it.
        parts = {text: service_parts(service) for text, service in {entry.service.text: entry.service for entry in entries}.items()}
        self.regions = [EntryRegion(entry, access_list.family, parts[entry.service.text]) for entry in entries]

    @cached_property
    def _hulls(self) -> Columns:
        from crossgate.core.sets.columns import box_columns

        hulls = [(index, region.hull) for index, region in enumerate(self.regions) if region.hull is not None]
        return box_columns([hull for _, hull in hulls], [index for index, _ in hulls], [False] * len(hulls))

    def _touching(self, box: Box) -> list[int]:
        """Return which regions may have a part in a box."""
        if len(self.regions) <= _FEW:
            return [index for index, region in enumerate(self.regions) if region.hull is not None and overlap(region.hull, box) is not None]
        from crossgate.core.sets.columns import box_columns, overlapping

        found: list[int] = self._hulls.entry[overlapping(box_columns([box], [0], [False]), self._hulls)].tolist()
        return found

    def touching(self, box: Box) -> list[Entry]:
        """Return the entries that may take packets of a box."""
        return [self.regions[index].entry for index in self._touching(box)]

    def split(self, box: Box) -> Iterator[tuple[Box, Decider]]:
        """Yield a box in pieces that do not overlap, each with the line that decides it.

        Lazy: what is not asked for is not worked out.
        """
        touching = [self.regions[index] for index in self._touching(box)]
        for piece, index in split(touching, box):
            yield piece, Decider(self.access_list, None if index is None else touching[index].entry)


class Regions:
    """Lists as regions; what was worked out for one before is kept."""

    def __init__(self) -> None:
        self._kept: dict[tuple[AccessList, frozenset[str]], ListRegions] = {}

    def of(self, access_list: AccessList, open_windows: frozenset[str] = frozenset()) -> ListRegions:
        """Return a list as regions, while just `open_windows` are open."""
        key = (access_list, open_windows & access_list.windows)
        if key not in self._kept:
            self._kept[key] = ListRegions(*key)
        return self._kept[key]


def split(regions: Sequence[EntryRegion], box: Box) -> Iterator[tuple[Box, int | None]]:
    """Yield a box in pieces, each with the index of the first region that has it; None where none has."""
    touching = [index for index, region in enumerate(regions) if region.hull is not None and overlap(region.hull, box) is not None]
    stack = [(box, touching, 0)]
    while stack:
        spend()
        piece, candidates, start = stack.pop()
        for nth in range(start, len(candidates)):
            index = candidates[nth]
            taken = regions[index].part(piece)
            if taken is None:
                continue
            yield taken, index
            left = list(minus(piece, taken))
            if len(candidates) - nth > 8:
                hulls = [(each, hull) for each in candidates[nth:] if (hull := regions[each].hull) is not None]
                stack += ((rest, [each for each, hull in hulls if overlap(hull, rest) is not None], 0) for rest in left)
            else:
                stack += ((rest, candidates, nth) for rest in left)
            break
        else:
            yield piece, None
