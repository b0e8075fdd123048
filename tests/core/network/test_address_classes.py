"""The address classes that have addresses of a pattern: against trying every class."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from crossgate.core.model.address import Address, Family, Pattern
from crossgate.core.network.address_classes import AddressClass, AddressClasses
from crossgate.core.network.paths import Endpoint
from crossgate.core.sets.patterns import common, first_outside

BITS = 5
"""The space that is searched: the last bits of an address."""


def prefix(value: int, free: int) -> Pattern:
    wildcard = (1 << free) - 1
    return Pattern(Family.IPV4, value & ~wildcard, wildcard)


PREFIXES = st.builds(prefix, st.integers(0, (1 << BITS) - 1), st.integers(0, BITS))
PATTERNS = st.builds(
    lambda value, wildcard: Pattern(Family.IPV4, value & ~wildcard, wildcard),
    st.integers(0, (1 << BITS) - 1),
    st.integers(0, (1 << BITS) - 1),
)


def classes(prefixes: set[Pattern]) -> AddressClasses:
    edges = sorted(prefixes, key=lambda each: (each.value, -each.wildcard))
    found = []
    for edge in edges:
        inside = [each for each in edges if each != edge and edge.covers(each)]
        nearest = tuple(
            each
            for each in inside
            if not any(other != each and other.covers(each) for other in inside)
        )
        end = Endpoint("", Address(Family.IPV4, edge.value), "")
        found.append(AddressClass(end, edge, nearest))
    return AddressClasses(found)


@given(
    st.sets(PREFIXES, min_size=1, max_size=10), st.lists(st.one_of(PREFIXES, PATTERNS), max_size=3)
)
def test_no_class_with_an_address_of_a_pattern_is_missed(
    prefixes: set[Pattern], wanted: list[Pattern]
) -> None:
    every = classes(prefixes)
    near = [
        index
        for index, each in enumerate(every)
        if any(each.pattern.overlaps(pattern) for pattern in wanted)
    ]
    assert every.overlapping(wanted) == near
    own = {
        index
        for index, each in enumerate(every)
        for pattern in wanted
        if (part := common(each.pattern, pattern)) is not None
        and first_outside(part, each.excluded) is not None
    }
    held = every.holding(wanted)
    assert own <= set(held) <= set(near)
    if all(each.is_prefix for each in wanted) and len(wanted) == 1:
        around = [index for index in held if every[index].pattern.covers(wanted[0])]
        assert len(around) <= 1 + (wanted[0] in prefixes)
