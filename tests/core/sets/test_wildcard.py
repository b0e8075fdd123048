"""Wildcard arithmetic against counting out, on fields of eight bits; and where a new entry
belongs.
"""

from __future__ import annotations

from itertools import combinations

from hypothesis import given, settings
from hypothesis import strategies as st

from crossgate.core.model.address import Family, Pattern, pattern, single
from crossgate.core.sets.wildcard import addresses_of, fewest_patterns, slips, smallest_around

EVERY = [
    Pattern(Family.IPV4, value, wildcard)
    for wildcard in range(16)
    for value in range(16)
    if not value & wildcard
]
"""Every pattern of four bits."""


def members(each: Pattern) -> frozenset[int]:
    return frozenset(value for value in range(256) if each.contains(value))


@given(st.integers(0, 255), st.integers(0, 255))
def test_addresses_are_those_that_match(value: int, wildcard: int) -> None:
    one = pattern(Family.IPV4, value, wildcard)
    found = list(addresses_of([one]))
    assert frozenset(found) == members(one)
    assert found == sorted(found)


@given(st.sets(st.integers(0, 255), min_size=1, max_size=12))
def test_the_smallest_pattern_has_all_and_none_smaller_does(values: set[int]) -> None:
    around = smallest_around([Pattern(Family.IPV4, value, 0) for value in values])
    assert values <= members(around)
    for place in range(8):
        bit = 1 << place
        if around.wildcard & bit:
            assert {value & bit for value in values} == {0, bit}


@given(st.sets(st.integers(0, 15), min_size=1))
def test_the_fewest_patterns_are_the_fewest(values: set[int]) -> None:
    found, proved = fewest_patterns(Family.IPV4, values)
    assert proved
    assert frozenset().union(*map(members, found)) == values
    usable = [members(each) for each in EVERY if members(each) <= values]
    largest = [each for each in usable if not any(each < other for other in usable)]
    for fewer in range(1, len(found)):
        assert not any(
            frozenset().union(*chosen) == values for chosen in combinations(largest, fewer)
        )


@settings(max_examples=40, deadline=None)
@given(st.sets(st.integers(0, 255), min_size=1, max_size=60))
def test_a_cover_of_eight_bits_is_exact_and_no_longer_than_one_by_one(values: set[int]) -> None:
    found, _ = fewest_patterns(Family.IPV6, values)
    assert set(addresses_of(found)) == values
    assert len(found) <= len(values)


def test_slips_are_told() -> None:
    assert (
        "one address in 1,024 of every network"
        in slips(pattern(Family.IPV4, 0x0A400800, 0xFFFFFC00))[0]
    )
    assert "no prefix and no netmask says the same" in slips(pattern(Family.IPV4, 0, 0x300))[0]
    assert slips(pattern(Family.IPV4, 0, 0xFF)) == []
    assert slips(Pattern(Family.IPV4, 0, Family.IPV4.mask)) == []


def test_patterns_overlapping_are_covered_once() -> None:
    around = smallest_around([single_of(0x0A000001), pattern(Family.IPV4, 0x0A000000, 3)])
    assert (around.value, around.wildcard) == (0x0A000000, 3)


def single_of(value: int) -> Pattern:
    from crossgate.core.model.address import Address

    return single(Address(Family.IPV4, value))
