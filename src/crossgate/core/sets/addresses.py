"""Exact sets of addresses of one family, as one side of a set of packets.

A set is kept as spans of numbers, or as patterns where wildcards scatter it over more spans than
can be listed.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from functools import cache
from typing import NamedTuple, Self

from crossgate.core.model.address import Address, Family, Pattern, everything, range_patterns
from crossgate.core.sets import patterns as scattered
from crossgate.core.sets import spans as line
from crossgate.core.sets.spans import Spans

MOST_SPANS = 64
"""A pattern that falls into more spans is not counted out."""


class Cube(NamedTuple):
    """The addresses of a pattern without those of some patterns inside it; it is not empty."""

    pattern: Pattern
    holes: tuple[Pattern, ...]

    def patterns(self) -> Iterable[Pattern]:
        """Return its addresses as patterns that do not overlap."""
        family = self.pattern.family
        largest = scattered.merged(sorted(self.holes, key=lambda each: -each.wildcard.bit_count()))
        return (
            (AddressSet.of(family, (self.pattern,)) - AddressSet.of(family, largest)).patterns
            if largest
            else (self.pattern,)
        )


class AddressSet:
    """An immutable set of addresses; it equals any set with the same addresses, however that was
    made.

    It is `wild` where a wildcard mask that is no prefix took part in making it.
    """

    __slots__ = ("_cubes", "_hash", "_hull", "_patterns", "_spans", "_spread", "family", "wild")

    def __init__(
        self,
        family: Family,
        patterns: tuple[Pattern, ...] | None = None,
        spans: Spans | None = None,
        wild: bool = False,
        cubes: Sequence[Cube] = (),
    ) -> None:
        self.family = family
        self.wild = wild
        self._patterns = patterns
        self._spans = spans
        self._cubes = cubes
        self._spread = patterns is not None and spans is None
        self._hull: Pattern | None = None
        self._hash: int | None = None

    @classmethod
    def of(cls, family: Family, patterns: Iterable[Pattern]) -> Self:
        """Return the set of all addresses of some patterns of a family."""
        found = tuple(patterns)
        wild = (
            not found[0].is_prefix if len(found) == 1 else not all(each.is_prefix for each in found)
        )
        return cls(family, found, wild=wild)

    @property
    def spans(self) -> Spans | None:
        """The addresses as spans; None where wildcards scatter them."""
        if self._spread:
            self._spread = False
            counted = [spans_of(each) for each in self._patterns or ()]
            self._spans = (
                None
                if any(each is None for each in counted)
                else line.joined(span for each in counted for span in each or ())
            )
        return self._spans

    @property
    def patterns(self) -> tuple[Pattern, ...]:
        """The addresses as patterns."""
        if self._patterns is None and self._cubes:
            self._patterns = tuple(each for cube in self._cubes for each in cube.patterns())
        elif self._patterns is None:
            found = [
                each
                for first, end in self._spans or ()
                for each in range_patterns(self.family, first, end - 1)
            ]
            self._patterns = tuple(found)
        return self._patterns

    def __bool__(self) -> bool:
        return bool(self._spans or self._cubes if self._patterns is None else self._patterns)

    def __and__(self, other: AddressSet) -> AddressSet:
        if other is self or other is everywhere(self.family):
            return self
        if self is everywhere(self.family):
            return other
        here, there = self.spans, other.spans
        if here is not None and there is not None:
            return AddressSet(
                self.family, spans=line.common(here, there), wild=self.wild or other.wild
            )
        pairs = (
            scattered.common(one, another) for one in self.patterns for another in other.patterns
        )
        return AddressSet.of(self.family, (each for each in pairs if each is not None))

    def meets(self, other: AddressSet) -> bool:
        """Whether some address is in both sets."""
        here, there = self.spans, other.spans
        if here is not None and there is not None:
            return line.meet(here, there)
        return bool(self & other)

    def __or__(self, other: AddressSet) -> AddressSet:
        return AddressSet.union((self, other))

    @classmethod
    def union(cls, several: Sequence[AddressSet]) -> AddressSet:
        """Return the addresses of all of some sets of one family, at least one."""
        if all(each.spans is not None for each in several):
            spans = line.joined(span for each in several for span in each.spans or ())
            return AddressSet(
                several[0].family, spans=spans, wild=any(each.wild for each in several)
            )
        return AddressSet(
            several[0].family,
            tuple(dict.fromkeys(one for each in several for one in each.patterns)),
            wild=True,
        )

    def __sub__(self, other: AddressSet) -> AddressSet:
        here, there = self.spans, other.spans
        if here is not None and there is not None:
            return AddressSet(
                self.family, spans=line.less(here, there), wild=self.wild or other.wild
            )
        return AddressSet.of(self.family, scattered.less(self.patterns, other.patterns))

    def __le__(self, other: AddressSet) -> bool:
        return self is other or not self - other

    def __eq__(self, other: object) -> bool:
        if self is other:
            return True
        if not isinstance(other, AddressSet) or self.family is not other.family:
            return False
        here, there = self.spans, other.spans
        if here is not None and there is not None:
            return here == there
        return self <= other <= self

    def __hash__(self) -> int:
        if self._hash is None:
            self._hash = (
                hash(self.hull) if self else hash(self.family)
            )  # equal sets have one hull, however they are written
        return self._hash

    def __repr__(self) -> str:
        return f"<AddressSet {self.family.label} size={self.size}>"

    @property
    def size(self) -> int:
        """The number of addresses."""
        if self.spans is not None:
            return line.size(self.spans)
        pieces = (
            each
            for index, own in enumerate(self.patterns)
            for each in scattered.less((own,), self.patterns[:index])
        )
        return sum(each.size for each in pieces)

    def witness(self) -> Address:
        """Return one of its addresses. The set may not be empty."""
        return Address(self.family, self.middle())

    def lines(self) -> list[str]:
        """Return the addresses written in few words: addresses, prefixes, and wildcards where these
        are shorter.
        """
        return sorted(map(str, scattered.joined(self.patterns, wild=self.wild)))

    def middle(self) -> int:
        """Return an address from the middle of its largest part: the first one of the upper
        half.
        """
        if self._cubes:
            cube = max(self._cubes, key=lambda each: each.pattern.wildcard.bit_count())
            chosen = scattered.first_outside(cube.pattern, cube.holes)
        else:
            chosen = max(self.patterns, key=lambda each: each.wildcard.bit_count())
        assert chosen is not None  # no cube is empty
        _, value, wildcard = chosen
        return value | (1 << wildcard.bit_length() >> 1)

    @property
    def hull(self) -> Pattern:
        """The smallest pattern that contains the whole set."""
        if self._hull is None:
            if self._patterns is not None and len(self._patterns) == 1:
                self._hull = self._patterns[0]
                return self._hull
            if self._patterns is None and self._spans:
                # All bits vary in a span from the first on in which its ends differ.
                parts = [
                    (first, (1 << (first ^ (end - 1)).bit_length()) - 1)
                    for first, end in self._spans
                ]
            else:
                parts = [(value, wildcard) for _, value, wildcard in self.patterns]
            value, wildcard = parts[0]
            for other, free in parts[1:]:
                wildcard |= free | (value ^ other)
            self._hull = Pattern(self.family, value & ~wildcard, wildcard)
        return self._hull

    @property
    def single(self) -> int | None:
        """The only address of the set; None where it has several."""
        if self.spans is not None:
            return (
                self.spans[0][0]
                if len(self.spans) == 1 and self.spans[0][1] - self.spans[0][0] == 1
                else None
            )
        if any(each.pattern.wildcard and not each.holes for each in self._cubes):
            return None
        alone = (
            {each.value for each in self.patterns}
            if all(not each.wildcard for each in self.patterns)
            else set()
        )
        return alone.pop() if len(alone) == 1 else None

    def contains(self, address: int) -> bool:
        """Whether the set has an address."""
        if self.spans is not None:
            return line.contains(self.spans, address)
        return any(each.contains(address) for each in self.patterns)


def apart(one: AddressSet, other: AddressSet) -> bool:
    """Whether an address of one set differs from some address of the other, so that two machines
    can talk.
    """
    return bool(one) and bool(other) and (one.single is None or one.single != other.single)


@cache
def everywhere(family: Family) -> AddressSet:
    """Return the set of all addresses of a family."""
    return AddressSet.of(family, (everything(family),))


def spans_of(pattern: Pattern, most: int = MOST_SPANS) -> Spans | None:
    """Return a pattern's addresses as spans; None where there would be more than `most`."""
    wildcard = pattern.wildcard
    run = wildcard + 1 & ~wildcard  # the free bits at the low end stand together
    high = wildcard & ~(run - 1)
    if not high:
        return ((pattern.value, pattern.value + run),)
    if 1 << high.bit_count() > most:
        return None
    found, bits = [], 0
    while True:
        found.append((pattern.value | bits, (pattern.value | bits) + run))
        bits = bits - high & high
        if not bits:
            return tuple(found)
