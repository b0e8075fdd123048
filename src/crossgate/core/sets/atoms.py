"""Atoms of one side: two values that lie in the same ones of the given sets belong to one *atom*. A
set is then a bit mask over atoms, a plain integer.

There are two ways to find the atoms.

1. `swept`: sets that are spans are swept from the lowest to the highest number. At each bound the
bit of a set is flipped; the sets that are on make up the mark of an atom.

2. `closed`: sets of addresses that wildcards scatter. Every address has a smallest intersection of
the patterns that contain it, and addresses with the same one form an atom. Its size is that of the
intersection less those of the intersections inside it, so an atom is empty exactly where nothing is
left. Where there are too many intersections, the addresses are halved by the bit that divides the
patterns best.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from itertools import pairwise
from typing import TYPE_CHECKING, NamedTuple

from crossgate.core.model.address import Family, Pattern
from crossgate.core.sets import spans as line
from crossgate.core.sets.addresses import AddressSet, Cube
from crossgate.core.sets.effort import spend
from crossgate.core.sets.patterns import common, less
from crossgate.core.sets.spans import Span, Spans

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

_MOST_CLOSED = 256
"""Up to so many patterns are closed under intersection at once."""
_SAMPLE = 400
_CUBES_A_PIECE = 4
_FEW_BITS, _MANY_BITS = 40, 4_000
"""Where arrays are faster than a loop: so many bits that are set, and so many in all marks."""


class Atoms:
    """The atoms of one side; `masks` has the bit mask of each set that was asked for, in the same
    order.

    `spans` are the numbers of each atom, or `cubes` where they are scattered; `sizes` are the
    numbers of their values. They are `wild` where a wildcard mask divides some of them.
    """

    __slots__ = ("_in_order", "cubes", "full", "masks", "sizes", "spans", "wild")

    def __init__(
        self,
        masks: list[int],
        sizes: list[int],
        spans: list[list[Span]] | None = None,
        cubes: list[list[Cube]] | None = None,
    ) -> None:
        self.masks = masks
        self.sizes = sizes
        self.spans = spans
        self.cubes = cubes
        self.full = (1 << len(sizes)) - 1
        self.wild = cubes is not None
        self._in_order: tuple[list[Span], NDArray[np.int64], NDArray[np.bool_]] | None = None

    def span_set(self, mask: int) -> Spans:
        """Return the numbers of all atoms in a mask, for atoms that are spans."""
        spans = self.spans or []
        if mask.bit_count() <= _FEW_BITS:
            return line.joined(span for atom in bits_of(mask) for span in spans[atom])
        import numpy as np

        if self._in_order is None:
            owned = sorted((span, atom) for atom, several in enumerate(spans) for span in several)
            touching = np.array(
                [one[0][1] == other[0][0] for one, other in pairwise(owned)], np.bool_
            )
            self._in_order = (
                [span for span, _ in owned],
                np.array([atom for _, atom in owned]),
                touching,
            )
        pieces, owners, meet = self._in_order
        held = _digits(mask, len(spans))[owners]
        # A span of the set begins where its piece does not go on from one before that is in it too.
        goes_on = np.zeros(len(pieces) + 1, np.bool_)
        goes_on[1:-1] = held[:-1] & held[1:] & meet
        firsts, lasts = (
            np.flatnonzero(held & ~goes_on[:-1]).tolist(),
            np.flatnonzero(held & ~goes_on[1:]).tolist(),
        )
        return tuple(
            (pieces[first][0], pieces[last][1]) for first, last in zip(firsts, lasts, strict=True)
        )

    def mask_of(self, numbers: Spans) -> int | None:
        """Return the mask of the atoms inside some numbers; None where an atom lies only partly
        inside, or is no span.
        """
        mask = 0
        for index, spans in enumerate(self.spans or ()):
            shared = line.size(line.common(tuple(spans), numbers))
            if shared == self.sizes[index]:
                mask |= 1 << index
            elif shared:
                return None
        return mask

    def address_set(self, family: Family, mask: int) -> AddressSet:
        """Return the addresses of all atoms in a mask."""
        if self.spans is not None:
            return AddressSet(family, spans=self.span_set(mask), wild=self.wild)
        return AddressSet(
            family,
            cubes=[cube for atom in bits_of(mask) for cube in (self.cubes or ())[atom]],
            wild=True,
        )

    def size(self, mask: int) -> int:
        """Return the number of values in all atoms of a mask."""
        return sum(self.sizes[atom] for atom in bits_of(mask))


def bits_of(mask: int) -> list[int]:
    """Return the indices of the bits that are set, the lowest first."""
    found: list[int] = []
    if mask.bit_count() > _FEW_BITS:
        return _digits(mask, mask.bit_length()).nonzero()[0].tolist()
    while mask:
        low = mask & -mask
        found.append(low.bit_length() - 1)
        mask ^= low
    return found


def _digits(mask: int, count: int) -> NDArray[np.bool_]:
    """Return the lowest bits of a mask as an array."""
    import numpy as np

    octets = np.frombuffer(mask.to_bytes(count // 8 + 1, "little"), np.uint8)
    return np.unpackbits(octets, count=count, bitorder="little").astype(np.bool_)


def _masks(marks: Collection[int], count: int) -> list[int]:
    """Transpose the marks of atoms (which sets contain each atom) into masks of sets (which atoms
    each set has).
    """
    if len(marks) * count > _MANY_BITS:
        import numpy as np

        size = count // 8 + 1
        rows = np.frombuffer(
            b"".join(mark.to_bytes(size, "little") for mark in marks), np.uint8
        ).reshape(-1, size)
        columns = np.packbits(
            np.unpackbits(rows, axis=1, bitorder="little").T, axis=1, bitorder="little"
        )
        return [int.from_bytes(columns[index].tobytes(), "little") for index in range(count)]
    found = [0] * count
    for atom, mark in enumerate(marks):
        for index in bits_of(mark):
            found[index] |= 1 << atom
    return found


def swept(sets: Sequence[Spans], within: Spans) -> Atoms:
    """Return the atoms into which some sets divide the numbers `within`."""
    parts = [line.common(each, within) for each in sets]
    if all(part == within or not part for part in parts):
        return Atoms([int(bool(part)) for part in parts], [line.size(within)], [list(within)])
    turned: dict[int, int] = {}
    gate = 1 << len(parts)
    for index, spans in enumerate((*parts, within)):
        bit = 1 << index
        for first, end in spans:
            turned[first] = turned.get(first, 0) ^ bit
            turned[end] = turned.get(end, 0) ^ bit
    spend(len(turned) // 16)
    cuts = sorted(turned)
    on, marks = 0, dict[int, list[Span]]()
    for first, end in pairwise(cuts):
        on ^= turned[first]
        if on & gate:
            marks.setdefault(on ^ gate, []).append((first, end))
    found = list(marks.values())
    return Atoms(
        _masks(marks, len(parts)),
        [sum(end - first for first, end in spans) for spans in found],
        found,
    )


def address_atoms(sets: Sequence[AddressSet], within: AddressSet) -> Atoms:
    """Return the atoms into which some sets divide the addresses `within`."""
    gate = within.spans
    counted = [each.spans for each in sets]
    if gate is not None and all(each is not None for each in counted):
        found = swept([each for each in counted if each is not None], gate)
        found.wild = any(each.wild for each in sets)
        return found
    return _closed([each.patterns for each in sets], within)


class _Part(NamedTuple):
    """A part of all addresses: those with the given bits, the patterns that divide it, and the sets
    that contain all of it.
    """

    value: int
    wildcard: int
    patterns: dict[tuple[int, int], int]
    mark: int


def _closed(sets: Sequence[Sequence[Pattern]], within: AddressSet) -> Atoms:
    """Return the atoms into which sets of patterns divide some addresses."""
    family, done = within.family, list[Pattern]()
    stack: list[_Part] = []
    for whole in within.patterns:
        for part in less((whole,), done):
            told: dict[tuple[int, int], int] = {}
            for index, patterns in enumerate(sets):
                for each in patterns:
                    shared = common(each, part)
                    if shared is not None:
                        key = shared.value & part.wildcard, shared.wildcard
                        told[key] = told.get(key, 0) | 1 << index
            stack.append(_Part(part.value, part.wildcard, told, 0))
        done.append(whole)
    cubes: dict[int, list[Cube]] = {}
    sizes: dict[int, int] = {}

    def add(
        mark: int, size: int, value: int, wildcard: int, holes: Iterable[tuple[int, int]] = ()
    ) -> None:
        spend(_CUBES_A_PIECE)
        sizes[mark] = sizes.get(mark, 0) + size
        cube = Cube(
            Pattern(family, value, wildcard), tuple(Pattern(family, *each) for each in holes)
        )
        cubes.setdefault(mark, []).append(cube)

    while stack:
        value, wildcard, inside, mark = stack.pop()
        mark |= inside.pop((0, wildcard), 0)
        if not inside:
            add(mark, 1 << wildcard.bit_count(), value, wildcard)
            continue
        met = _intersections(inside, 2 * len(inside) + 8) if len(inside) <= _MOST_CLOSED else None
        if met is None:
            stack += _halves(value, wildcard, inside, mark)
            continue
        met.append((0, wildcard))
        met.sort(key=lambda each: each[1].bit_count())
        left: list[int] = []
        for index, (own, free) in enumerate(met):
            smaller = [
                each for each in range(index) if not ((met[each][0] ^ own) | met[each][1]) & ~free
            ]
            left.append((1 << free.bit_count()) - sum(left[each] for each in smaller))
            if left[index]:
                around = (
                    bit
                    for (start, loose), bit in inside.items()
                    if not ((own ^ start) | free) & ~loose
                )
                holes = ((value | met[each][0], met[each][1]) for each in smaller if left[each])
                add(_united(mark, around), left[index], value | own, free, holes)
    return Atoms(_masks(sizes, len(sets)), list(sizes.values()), cubes=list(cubes.values()))


def _united(mark: int, marks: Iterable[int]) -> int:
    for each in marks:
        mark |= each
    return mark


def _intersections(patterns: Iterable[tuple[int, int]], most: int) -> list[tuple[int, int]] | None:
    """Return the patterns together with all their intersections; None when these are more than
    `most`.
    """
    found: dict[tuple[int, int], None] = {}
    for value, wildcard in patterns:
        met = {(value, wildcard): None}
        for other, free in found:
            if not (other ^ value) & ~(free | wildcard):
                met[other | value, free & wildcard] = None
        found.update(met)
        if len(found) > most:
            return None
    return list(found)


def _halves(
    value: int, wildcard: int, patterns: dict[tuple[int, int], int], mark: int
) -> Iterable[_Part]:
    """Return the two halves of a part, divided by the bit that most patterns fix and that separates
    them best.
    """
    spend(1 + len(patterns) // 16)
    sample = list(patterns)[:: max(len(patterns) // _SAMPLE, 1)]
    best, most, free = 0, -1, wildcard
    while free:
        bit = free & -free
        free ^= bit
        ones = sum(1 for own, _ in sample if own & bit)
        zeros = sum(1 for own, loose in sample if not (own | loose) & bit)
        if ones * zeros + ones + zeros > most:
            best, most = bit, ones * zeros + ones + zeros
    low: dict[tuple[int, int], int] = {}
    high: dict[tuple[int, int], int] = {}
    for (own, loose), bits in patterns.items():
        key = own & ~best, loose & ~best
        for half, there in ((low, not own & best), (high, (own | loose) & best)):
            if there:
                half[key] = half.get(key, 0) | bits
    return _Part(value, wildcard & ~best, low, mark), _Part(
        value | best, wildcard & ~best, high, mark
    )
