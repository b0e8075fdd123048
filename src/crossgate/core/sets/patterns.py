"""Exact sets of addresses as patterns: the intersection of two, the rest of one, and the same set
in fewer patterns.
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Iterable, Iterator, Sequence
from operator import attrgetter, itemgetter
from typing import NamedTuple

from crossgate.core.model.address import Pattern
from crossgate.core.sets.effort import spend


class Excluded(NamedTuple):
    """Addresses to be left out of a set of packets: some as sources, some as destinations."""

    sources: tuple[Pattern, ...] = ()
    destinations: tuple[Pattern, ...] = ()


def common(one: Pattern, other: Pattern) -> Pattern | None:
    """Return what two patterns of a family have in common, or None."""
    if not one.overlaps(other):
        return None
    return Pattern(one.family, one.value | other.value, one.wildcard & other.wildcard)


class PatternIndex:
    """An index over patterns of a family that finds those sharing an address with another
    pattern.
    """

    def __init__(self, patterns: Iterable[Pattern]) -> None:
        every = list(enumerate(patterns))
        # Prefixes are nested or apart: in this order each stands before those inside it.
        self._prefixes = sorted(
            (each for each in every if each[1].is_prefix),
            key=lambda each: (each[1].first, -each[1].wildcard),
        )
        self._others = [each for each in every if not each[1].is_prefix]
        self._first = [each.first for _, each in self._prefixes]
        self._around: list[int] = []
        for index, (_, each) in enumerate(self._prefixes):
            self._around.append(self._innermost(index - 1, each))

    def _innermost(self, index: int, inner: Pattern) -> int:
        """Return the index of the smallest prefix around a pattern, among the prefixes up to
        `index`; -1 for none.
        """
        while index >= 0 and not self._prefixes[index][1].covers(inner):
            index = self._around[index]
        return index

    def overlapping(self, pattern: Pattern) -> list[Pattern]:
        """Return the patterns that share an address with the given one, in their order."""
        if not pattern.is_prefix:
            every = sorted((*self._prefixes, *self._others))
            return [each for _, each in every if each.overlaps(pattern)]
        start = bisect_left(self._first, pattern.first)
        found = self._prefixes[start : bisect_right(self._first, pattern.last)]
        outer = self._innermost(start - 1, pattern)
        while outer >= 0:
            found.append(self._prefixes[outer])
            outer = self._around[outer]
        found += (each for each in self._others if each[1].overlaps(pattern))
        return [each for _, each in sorted(found)]


def outside(pattern: Pattern, part: Pattern) -> Iterator[Pattern]:
    """Yield the rest of a pattern without a part of it, the largest piece first."""
    family, value, wildcard = pattern
    fixed = wildcard & ~part.wildcard
    while fixed:
        bit = 1 << (fixed.bit_length() - 1)
        wildcard ^= bit
        value |= part.value & bit
        yield Pattern(family, value ^ bit, wildcard)
        fixed ^= bit


def first_outside(pattern: Pattern, parts: tuple[Pattern, ...]) -> Pattern | None:
    """Return a piece of a pattern that shares no address with any of `parts`; None when these cover
    all of it.
    """
    _, value, wildcard = pattern
    parts = tuple(part for part in parts if not (part.value ^ value) & ~(part.wildcard | wildcard))
    if not parts:
        return pattern
    stack = [iter((pattern,))]
    while stack:
        piece = next(stack[-1], None)
        if piece is None:
            stack.pop()
            continue
        shared = next((found for part in parts if (found := common(piece, part)) is not None), None)
        if shared is None:
            return piece
        stack.append(outside(piece, shared))
    return None


Patterns = frozenset[Pattern]


_FEW = 32
"""So many patterns are gone through one by one."""
_is_prefix = attrgetter("is_prefix")


class _Prefixes:
    """Many prefixes of one family, sorted so that those that meet another pattern are found
    quickly.
    """

    def __init__(self, prefixes: Sequence[Pattern]) -> None:
        self._by_length: dict[int, set[int]] = {}
        for _, value, wildcard in prefixes:
            self._by_length.setdefault(wildcard, set()).add(value)
        self._sorted = sorted({(each.value, each.wildcard) for each in prefixes})

    def meeting(self, pattern: Pattern) -> list[tuple[int, int]]:
        """Return the values and wildcards of the prefixes that may share an address with a
        pattern.
        """
        first, last = pattern.first, pattern.last
        around = [
            (first & ~wildcard, wildcard)
            for wildcard, values in self._by_length.items()
            if first & ~wildcard in values and first & wildcard
        ]
        start = bisect_left(self._sorted, (first, 0))
        end = bisect_right(self._sorted, (last, 1 << 128))
        return [*around, *self._sorted[start:end]]


def less(patterns: Iterable[Pattern], excluded: Iterable[Pattern]) -> Patterns:
    """Return the addresses of some patterns without those of the excluded ones, as patterns."""
    kept: list[Pattern] = []
    out = list(excluded)
    meeting = _Prefixes(out).meeting if len(out) > _FEW and all(map(_is_prefix, out)) else None
    parts = [] if meeting else [(own, free) for _, own, free in out]
    stack = [(each, meeting(each) if meeting else parts) for each in patterns]
    while stack:
        each, near = stack.pop()
        family, value, wildcard = each
        near = [(own, free) for own, free in near if not (value ^ own) & ~(wildcard | free)]
        spend()
        if near:
            own, free = near[0]
            stack += [
                (piece, near[1:])
                for piece in outside(each, Pattern(family, value | own, wildcard & free))
            ]
        else:
            kept.append(each)
    return frozenset(kept)


def joined(patterns: Iterable[Pattern], wild: bool = False) -> Patterns:
    """Return the same addresses in fewer patterns: two that differ in one bit become one.

    Prefixes are joined to larger prefixes only, unless `wild` is set; scattered patterns are joined
    in any bit.
    """
    given = frozenset(patterns)
    if len(given) < 2:
        return given
    family = next(iter(given)).family
    prefixes_only = not wild and all(each.is_prefix for each in given)
    left, mask, changed = {(wildcard, value) for _, value, wildcard in given}, family.mask, True
    while changed:
        changed = False
        spend(len(left))
        for each in sorted(left, key=itemgetter(0)):
            if each not in left:
                continue
            wildcard, value = each
            fixed = mask & ~wildcard
            while fixed:
                bit = fixed & -fixed
                other = (wildcard, value ^ bit)
                if other in left:
                    left.discard(each)
                    left.discard(other)
                    left.add((wildcard | bit, value & ~bit))
                    changed = True
                    break
                fixed = 0 if prefixes_only else fixed ^ bit
    return frozenset(Pattern(family, value, wildcard) for wildcard, value in left)


def merged(patterns: Iterable[Pattern]) -> tuple[Pattern, ...]:
    """Return the patterns that no other one of the set covers, in their order."""
    given = list(dict.fromkeys(patterns))
    known: dict[int, set[int]] = {}
    for _, value, wildcard in given:
        known.setdefault(wildcard, set()).add(value)

    def covered(pattern: Pattern) -> bool:
        _, value, wildcard = pattern
        return any(
            value & ~free in values
            for free, values in known.items()
            if free != wildcard and not wildcard & ~free
        )

    return tuple(each for each in given if not covered(each))
