"""A list as regions: the packets that each entry takes, and any set of packets divided by the entry
that decides it.

Nothing is multiplied out: an entry with many sources, destinations and services is one product of
sets.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from functools import cached_property
from typing import TYPE_CHECKING

from crossgate.core.model.accesslist import AccessList, Decider
from crossgate.core.model.address import Family, Pattern
from crossgate.core.model.condition import State
from crossgate.core.model.entry import Entry
from crossgate.core.sets import products as algebra
from crossgate.core.sets.addresses import AddressSet
from crossgate.core.sets.boxes import LOW_BITS, Box, meets
from crossgate.core.sets.frame import PacketSet, SetFrame
from crossgate.core.sets.products import Product
from crossgate.core.sets.region import Region, entry_region, entry_services, every_packet, term_line
from crossgate.core.sets.services import ServicePart, service_hull, service_parts

if TYPE_CHECKING:
    from crossgate.core.sets.columns import BoxColumns

_FEW = 100
"""Up to so many regions a loop over them is faster than columns."""


_MOST_FRAMED = 2_000
"""Up to so many entries one frame for all of a list costs less than one for each question."""


class EntryRegion:
    """The packets that one entry takes: a `region`, None where it takes none, and the smallest box
    around it.
    """

    __slots__ = ("entry", "family", "hull", "region", "size")

    def __init__(self, entry: Entry, family: Family, region: Region | None = None) -> None:
        """Make it; `region` is the entry's where it is known already."""
        self.entry = entry
        self.family = family
        self.region = region or entry_region(entry, family)
        parts = () if self.region is None else service_parts(self.region)
        self.size = len(entry.source.patterns) * len(entry.destination.patterns) * len(parts)
        """How many boxes it would be when multiplied out."""
        self.hull = None if self.region is None else region_hull(self.region)

    def boxes(self) -> Iterator[Box]:
        """Yield all of it as boxes."""
        if self.region is not None:
            for part in service_parts(self.region):
                for source in self.region.source.patterns:
                    for destination in self.region.destination.patterns:
                        yield _box(source, destination, part)

    def touches(self, box: Box) -> bool:
        """Whether it may have a packet of a box."""
        return self.hull is not None and meets(self.hull, box)


def _box(source: Pattern, destination: Pattern, part: ServicePart) -> Box:
    shift = source.family.bits
    value = (source.value << shift | destination.value) << LOW_BITS | part.value
    wildcard = (source.wildcard << shift | destination.wildcard) << LOW_BITS | part.wildcard
    return Box(source.family, value, wildcard, *part.spans)


def region_hull(region: Region) -> Box:
    """Return the smallest box around a region."""
    return _box(region.source.hull, region.destination.hull, service_hull(region))


class ListRegions:
    """An access list as regions, in one `state` of its conditions."""

    def __init__(self, access_list: AccessList, state: State = frozenset()) -> None:
        self.access_list = access_list
        family = access_list.family
        entries = access_list.in_force(state)
        # Within a list a service's text says all of it, and the same addresses are one object.
        what = {
            text: term_line(service.terms)
            for text, service in {entry.service.text: entry.service for entry in entries}.items()
        }
        ends: dict[tuple[Pattern, ...], AddressSet] = {}

        def addresses(patterns: tuple[Pattern, ...]) -> AddressSet:
            found = ends.get(patterns)
            if found is None:
                found = ends[patterns] = AddressSet.of(family, patterns)
            return found

        self.regions: list[EntryRegion] = []
        for entry in entries:
            services = entry_services(entry, what[entry.service.text])
            source, destination = (
                addresses(entry.source.patterns),
                addresses(entry.destination.patterns),
            )
            self.regions.append(
                EntryRegion(
                    entry,
                    family,
                    None if services is None else Region(source, destination, *services),
                )
            )

    @cached_property
    def _hulls(self) -> BoxColumns:
        from crossgate.core.sets.columns import box_columns

        hulls = [
            (index, region.hull)
            for index, region in enumerate(self.regions)
            if region.hull is not None
        ]
        return box_columns(
            [hull for _, hull in hulls], [index for index, _ in hulls], [False] * len(hulls)
        )

    @cached_property
    def frame(self) -> SetFrame | None:
        """One frame for all entries; None where there are so many, or so scattered, that frames for
        parts of the list cost less.
        """
        regions = [each.region for each in self.regions if each.region is not None]
        if len(regions) > _MOST_FRAMED or any(
            end.spans is None for each in regions for end in each[:2]
        ):
            return None
        return SetFrame(every_packet(self.access_list.family), regions)

    @cached_property
    def products(self) -> list[tuple[Product, int]]:
        """Every entry as a product of `frame`, with its index; empty where there is no frame."""
        return (
            []
            if self.frame is None
            else numbered(self.frame, (each.region for each in self.regions))
        )

    def near(self, box: Box) -> list[EntryRegion]:
        """Return the regions that may have a packet of a box, in order."""
        if len(self.regions) <= _FEW:
            return [region for region in self.regions if region.touches(box)]
        from crossgate.core.sets.columns import meeting_box

        rows = self._hulls.entry[meeting_box(self._hulls, box)]
        return [self.regions[index] for index in rows.tolist()]

    def near_any(self, boxes: Sequence[Box], close: Sequence[EntryRegion]) -> list[EntryRegion]:
        """Return the regions that may have a packet of any of some boxes, in order; they are all
        among the `close` ones.
        """
        if len(close) <= _FEW:
            return [region for region in close if any(region.touches(box) for box in boxes)]
        if len(boxes) == 1:
            return self.near(boxes[0])
        found = {region for box in boxes for region in self.near(box)}
        return [region for region in self.regions if region in found]

    def touching(self, box: Box) -> list[Entry]:
        """Return the entries that may take packets of a box."""
        return [region.entry for region in self.near(box)]

    def split(
        self, region: Region, permitted: bool | None = None
    ) -> Iterator[tuple[PacketSet, Decider]]:
        """Yield a region in pieces that do not overlap, each with the line that decides it; only
        those that are `permitted`, or that are not, where this is given. Pieces are worked out as
        they are asked for.
        """
        regions, deciders = self._deciding(region)
        if permitted is not None and all(each.permits is not permitted for each in deciders):
            return
        if len(deciders) == 1:
            frame = SetFrame(region, ())
            yield PacketSet(frame, (frame.whole,)), deciders[0]
            return
        for piece, index in split(region, regions):
            decider = deciders[-1 if index is None else index]
            if permitted is None or decider.permits is permitted:
                yield piece, decider

    def _deciding(self, asked: Region) -> tuple[list[Region], list[Decider]]:
        """Return the regions that have a packet of another one, up to the first that has all of it,
        and the lines of the list that they stand for; where none has all, the otherwise line is the
        last one.
        """
        found, deciders = [], []
        for each in self.near(region_hull(asked)):
            if each.region is not None and each.region.meets(asked):
                found.append(each.region)
                deciders.append(self.decider(each))
                if each.region.holds(asked):
                    return found, deciders
        return found, [*deciders, self.decider(None)]

    def decider(self, region: EntryRegion | None) -> Decider:
        """Return the line of the list for one of its regions; the otherwise line for None."""
        return Decider(self.access_list, None if region is None else region.entry)


class Regions:
    """A plan's lists as regions. What was worked out for a list in the regions `beside` is used
    again where this plan has the very same list.
    """

    def __init__(self, lists: Mapping[str, AccessList], beside: Regions | None = None) -> None:
        self._lists = lists
        self._beside = beside
        self._kept: dict[tuple[AccessList, State], ListRegions] = {}
        self._conditional: dict[AccessList, list[EntryRegion]] = {}

    def of(self, access_list: AccessList, state: State = frozenset()) -> ListRegions:
        """Return a list as regions, in one `state` of its conditions."""
        if self._beside is not None and self._beside.has(access_list):
            return self._beside.of(access_list, state)
        key = (access_list, access_list.relevant(state))
        if key not in self._kept:
            self._kept[key] = ListRegions(*key)
        return self._kept[key]

    def conditional(self, access_list: AccessList) -> list[EntryRegion]:
        """Return the `conditional_regions` of a list."""
        if access_list not in self._conditional:
            self._conditional[access_list] = conditional_regions(access_list)
        return self._conditional[access_list]

    def has(self, access_list: AccessList) -> bool:
        """Whether it is one of the plan's lists."""
        return self._lists.get(access_list.name) is access_list


def conditional_regions(access_list: AccessList) -> list[EntryRegion]:
    """Return the regions of the entries of a list whose effect depends on a state."""
    return [
        EntryRegion(entry, access_list.family) for entry in access_list.entries if entry.needs_state
    ]


def split(
    whole: Region, regions: Sequence[Region | None]
) -> Iterator[tuple[PacketSet, int | None]]:
    """Yield a region in pieces, each with the index of the first region that has it; None where
    none has.
    """
    frame = SetFrame(whole, [each for each in regions if each is not None])
    for piece, index in algebra.split(frame.whole, numbered(frame, regions), frame.order):
        yield PacketSet(frame, (piece,)), index


def numbered(frame: SetFrame, regions: Iterable[Region | None]) -> list[tuple[Product, int]]:
    """Return regions as products of a frame, each with its index; those with no packet in the frame
    are left out.
    """
    return [
        (row, index)
        for index, each in enumerate(regions)
        if each is not None and (row := frame.product(each)) is not None
    ]
