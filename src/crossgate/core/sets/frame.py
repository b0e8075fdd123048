"""Sets of packets with the operators of set algebra, and the frames in which they are computed.

A `SetFrame` is made for one question: it finds the atoms into which the given regions divide each
side, so that every region is a product of bit masks, however many addresses and ports it has. A
`PacketSet` is a union of products of one frame. Sets of different frames can be combined, in a new
frame made for both.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from functools import lru_cache

from crossgate.core.model.address import Family
from crossgate.core.model.packet import Packet
from crossgate.core.sets import products as algebra
from crossgate.core.sets.addresses import AddressSet, apart
from crossgate.core.sets.atoms import Atoms, address_atoms, swept
from crossgate.core.sets.products import Product
from crossgate.core.sets.region import Region, every_packet, some_service
from crossgate.core.sets.spans import Spans


class SetFrame:
    """The atoms into which some regions divide the packets `within` another region; the regions may
    reach beyond it.
    """

    __slots__ = (
        "_addresses",
        "_known",
        "_ports",
        "_services",
        "atoms",
        "family",
        "order",
        "whole",
        "within",
    )

    def __init__(self, within: Region, regions: Iterable[Region]) -> None:
        self.family = within.family
        self.within = within
        sides: list[dict[object, None]] = [{}, {}, {}, {}]
        for region in regions:
            for own, side in zip(sides, region[:4], strict=False):
                own[side] = None
        sources, destinations, services, ports = map(list, sides)
        self.atoms: tuple[Atoms, Atoms, Atoms, Atoms] = (
            _of_addresses(tuple(sources), within.source),  # type: ignore[arg-type]
            _of_addresses(tuple(destinations), within.destination),  # type: ignore[arg-type]
            _of_numbers(tuple(services), within.what),  # type: ignore[arg-type]
            _of_numbers(tuple(ports), within.source_ports),  # type: ignore[arg-type]
        )
        self._known = [
            dict(zip(own, atoms.masks, strict=True))
            for own, atoms in zip(sides, self.atoms, strict=True)
        ]
        masks = [atoms.full for atoms in self.atoms]
        self.whole: Product = (masks[0], masks[1], masks[2], masks[3], within.flags, within.dscp)
        # The side with the fewest atoms is told apart first; flags and source ports only after what
        # is carried (`Region`).
        first = sorted((0, 1, 2), key=lambda side: len(self.atoms[side].sizes))
        self.order = tuple(
            each for side in first for each in ((2, 4, 3, 5) if side == 2 else (side,))
        )
        self._addresses: dict[tuple[int, int], AddressSet] = {}
        self._services: dict[tuple[int, int], Spans] = {}
        self._ports: dict[Spans, int | None] = {}

    def product(self, region: Region) -> Product | None:
        """Return one of the regions that the frame was made for as a product, limited to what the
        frame is within; None where nothing is left.
        """
        known = self._known
        a, b = known[0][region.source], known[1][region.destination]
        if not (a and b):
            return None
        c, d = known[2][region.what], known[3][region.source_ports]
        e, f = region.flags & self.whole[4], region.dscp & self.whole[5]
        return (a, b, c, d, e, f) if c and d and e and f else None

    def products(self, regions: Iterable[Region]) -> list[Product]:
        """Return regions as products (`product`), without those of which nothing is left."""
        return [found for each in regions if (found := self.product(each)) is not None]

    def mask(self, side: int, addresses: AddressSet) -> int:
        """Return the mask of one of the address sets that the frame was made for, limited to what
        the frame is within.
        """
        return self._known[side][addresses]

    def from_ports(self, product: Product, ports: Spans) -> Product | None:
        """Return the part of a product that comes from some source ports, all zeros in the place of
        the ports where there is none; None where the frame does not divide them so.
        """
        if ports not in self._ports:
            self._ports[ports] = self.atoms[3].mask_of(ports)
        mask = self._ports[ports]
        return None if mask is None else (*product[:3], product[3] & mask, *product[4:])

    def region(self, product: Product) -> Region:
        """Return a product of the frame as a region."""
        return Region(
            self.addresses(0, product[0]),
            self.addresses(1, product[1]),
            self.numbers(2, product[2]),
            self.numbers(3, product[3]),
            product[4],
            product[5],
        )

    def addresses(self, side: int, mask: int) -> AddressSet:
        """Return the addresses of a mask of a side (0 sources, 1 destinations); equal masks give
        the same object.
        """
        if mask == self.whole[side]:
            return self.within.source if side == 0 else self.within.destination
        found = self._addresses.get((side, mask))
        if found is None:
            found = self._addresses[side, mask] = self.atoms[side].address_set(self.family, mask)
        return found

    def numbers(self, side: int, mask: int) -> Spans:
        """Return what is carried (side 2) or the source ports (side 3) of a mask; equal masks give
        the same object.
        """
        if mask == self.whole[side]:
            return self.within.what if side == 2 else self.within.source_ports
        found = self._services.get((side, mask))
        if found is None:
            found = self._services[side, mask] = self.atoms[side].span_set(mask)
        return found

    def has_two_ends(self, product: Product) -> bool:
        """Whether a product has a packet whose source and destination differ."""
        if any(self.atoms[side].size(product[side]) > 1 for side in (0, 1)):
            return True
        return apart(self.addresses(0, product[0]), self.addresses(1, product[1]))

    def witness(self, product: Product) -> Packet:
        """Return a packet of a product (`witness`)."""
        return witness(self.region(product))

    def size(self, product: Product) -> int:
        """Return how many packets a product has; a packet without ports counts once for every
        port.
        """
        count = product[4].bit_count() * product[5].bit_count()
        for atoms, mask in zip(self.atoms, product, strict=False):
            count *= atoms.size(mask)
        return count


def witness(region: Region) -> Packet:
    """Return a packet of a region, of a familiar service and between two machines where there is
    one.
    """
    source, destination = region.source.middle(), region.destination.middle()
    if source == destination and apart(region.source, region.destination):
        itself = AddressSet(region.family, spans=((source, source + 1),))
        others = region.destination - itself
        source, destination = (
            (source, others.middle())
            if others
            else ((region.source - itself).middle(), destination)
        )
    return some_service(region.family, *region[2:])._replace(source=source, destination=destination)


def is_left(region: Region, others: Sequence[Region]) -> bool:
    """Whether something is left of a region once some others are taken out of it."""
    frame = SetFrame(region, others)
    return algebra.is_left(frame.whole, frame.products(others), frame.order)


_FEW = 64
"""The atoms of up to so many sets are kept: most frames of an answer ask for the same ones."""


def _of_numbers(sets: tuple[Spans, ...], within: Spans) -> Atoms:
    return _swept_before(sets, within) if len(sets) <= _FEW else swept(sets, within)


_swept_before = lru_cache(maxsize=256)(swept)


def _of_addresses(sets: tuple[AddressSet, ...], within: AddressSet) -> Atoms:
    if len(sets) > _FEW or any(each.spans is None for each in (*sets, within)):
        return address_atoms(sets, within)
    return _told_before(sets, tuple(each.wild for each in sets), within)


@lru_cache(maxsize=256)
def _told_before(sets: tuple[AddressSet, ...], wild: tuple[bool, ...], within: AddressSet) -> Atoms:
    """Return the atoms of sets that are spans; equal sets share them, whether they are `wild` or
    not.
    """
    return address_atoms(sets, within)


class PacketSet:
    """An immutable set of packets of one family; it equals any set with the same packets, however
    that was made.

    It is a union of products of a frame, none of them empty; they may overlap.
    """

    __slots__ = ("frame", "products")

    def __init__(self, frame: SetFrame, products: Sequence[Product]) -> None:
        self.frame = frame
        self.products = products

    @classmethod
    def of(cls, *regions: Region) -> PacketSet:
        """Return the set of all packets of some regions of one family, at least one region."""
        frame = SetFrame(
            regions[0] if len(regions) == 1 else every_packet(regions[0].family), regions
        )
        return cls(frame, frame.products(regions))

    @property
    def family(self) -> Family:
        """The family of its addresses."""
        return self.frame.family

    def regions(self) -> Iterator[Region]:
        """Yield its products as regions."""
        return map(self.frame.region, self.products)

    def __bool__(self) -> bool:
        return bool(self.products)

    def __or__(self, other: PacketSet) -> PacketSet:
        frame, here, there = _together(self, other)
        return PacketSet(frame, [*here, *there])

    def __and__(self, other: PacketSet) -> PacketSet:
        frame, here, there = _together(self, other)
        return PacketSet(
            frame,
            [
                found
                for one in here
                for another in there
                if (found := algebra.meet(one, another)) is not None
            ],
        )

    def __sub__(self, other: PacketSet) -> PacketSet:
        frame, here, there = _together(self, other)
        return PacketSet(
            frame, [piece for each in here for piece in algebra.left(each, there, frame.order)]
        )

    def __le__(self, other: PacketSet) -> bool:
        _, here, there = _together(self, other)
        return not any(algebra.is_left(each, there) for each in here)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, PacketSet) and self <= other <= self

    def __hash__(self) -> int:
        # What all of its packets have on each side together does not depend on the products that it
        # is kept as.
        if not self.products:
            return hash(self.family)
        flags = dscp = 0
        for each in self.products:
            flags, dscp = flags | each[4], dscp | each[5]
        ends = [
            AddressSet.union([self.frame.addresses(side, each[side]) for each in self.products])
            for side in (0, 1)
        ]
        return hash((ends[0], ends[1], flags, dscp))

    def __repr__(self) -> str:
        return f"<PacketSet {self.family.label} size={self.size}>"

    @property
    def size(self) -> int:
        """The number of packets; a packet without ports counts once for every port that it could
        have.
        """
        found, total = list[Product](), 0
        for each in self.products:
            total += sum(map(self.frame.size, algebra.left(each, found, self.frame.order)))
            found.append(each)
        return total

    def witness(self) -> Packet:
        """Return one of its packets, of a familiar service and between two machines where there is
        one. The set may not be empty.
        """
        between = (each for each in self.products if self.frame.has_two_ends(each))
        return self.frame.witness(next(between, self.products[0]))


def in_one_frame(sets: Sequence[PacketSet]) -> tuple[SetFrame | None, list[Sequence[Product]]]:
    """Return the products of some sets of a family in one frame, which is a new one where theirs
    differ; without sets there is no frame.
    """
    if not sets:
        return None, []
    frame = sets[0].frame
    if all(each.frame is frame for each in sets):
        return frame, [each.products for each in sets]
    regions = [list(each.regions()) for each in sets]
    frame = SetFrame(every_packet(frame.family), [each for several in regions for each in several])
    return frame, [frame.products(several) for several in regions]


def _together(
    one: PacketSet, other: PacketSet
) -> tuple[SetFrame, Sequence[Product], Sequence[Product]]:
    """Return the products of two sets in a frame that both share."""
    frame, (here, there) = in_one_frame((one, other))
    assert frame is not None
    return frame, here, there
