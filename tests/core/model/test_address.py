"""Patterns, prefixes and ranges in both families, against counting them out."""

from __future__ import annotations

import ipaddress

import pytest
from hypothesis import given
from hypothesis import strategies as st

from crossgate.core.model import address
from crossgate.core.model.address import Address, AddressError, Family, Pattern
from crossgate.core.sets.patterns import merged

families = st.sampled_from(Family)


@st.composite
def values(draw: st.DrawFn, family: Family) -> int:
    return draw(st.integers(0, family.mask))


@given(families.flatmap(lambda family: st.tuples(st.just(family), values(family))))
def test_text_agrees_with_the_standard_library(pair: tuple[Family, int]) -> None:
    family, value = pair
    told = str(ipaddress.ip_address(value.to_bytes(family.bits // 8)))
    assert address.parse_address(told) == Address(family, value)
    assert address.parse_address(str(Address(family, value))) == Address(family, value)


@given(families, st.integers(0, 255), st.integers(0, 255), st.integers(0, 255))
def test_a_pattern_contains_what_agrees_bit_by_bit(
    family: Family, value: int, wildcard: int, other: int
) -> None:
    low = address.pattern(family, value, wildcard)
    agrees = all(wildcard >> bit & 1 or (value ^ other) >> bit & 1 == 0 for bit in range(8))
    assert low.contains(other) is agrees
    assert low.size == 2 ** sum(wildcard >> bit & 1 for bit in range(8))


@given(*[st.integers(0, 63)] * 4)
def test_overlap_and_cover_are_those_of_the_sets(
    value: int, wildcard: int, other_value: int, other_wildcard: int
) -> None:
    one = address.pattern(Family.IPV4, value, wildcard)
    two = address.pattern(Family.IPV4, other_value, other_wildcard)
    ones = {each for each in range(64) if one.contains(each)}
    twos = {each for each in range(64) if two.contains(each)}
    assert one.overlaps(two) is bool(ones & twos)
    assert one.covers(two) is (twos <= ones)
    assert (one.first, one.last) == (min(ones), max(ones))


@given(families, st.integers(0, 300), st.integers(0, 300))
def test_a_range_is_exactly_its_prefixes_and_they_are_few(
    family: Family, one: int, other: int
) -> None:
    first, last = sorted((one, other))
    prefixes = address.range_patterns(family, first, last)
    held = [each for pattern in prefixes for each in range(pattern.first, pattern.last + 1)]
    assert held == list(range(first, last + 1))
    summary = list(
        ipaddress.summarize_address_range(ipaddress.IPv4Address(first), ipaddress.IPv4Address(last))
    )
    assert len(prefixes) == len(summary)


def test_the_whole_space_is_one_pattern() -> None:
    for family in Family:
        assert address.range_patterns(family, 0, family.mask) == (address.everything(family),)


@pytest.mark.parametrize(
    ("text", "shown"),
    [
        ("10.1.2.3/8", "10.0.0.0/8"),
        ("10.1.2.3", "10.1.2.3"),
        ("0.0.0.0/0", "any"),
        ("2001:db8::1/64", "2001:db8::/64"),
        ("::/0", "any"),
    ],
)
def test_blocks_are_shown_as_people_write_them(text: str, shown: str) -> None:
    assert str(address.parse_block(text)) == shown


def test_scattered_bits_are_shown_as_a_wildcard() -> None:
    assert str(address.pattern(Family.IPV4, 0x0A40200A, 0x00000300)) == "10.64.32.10 wild 0.0.3.0"
    six = address.pattern(
        Family.IPV6,
        address.parse_address("2001:db8::a").value,
        address.parse_address("::ffff:0:0:0:0").value,
    )
    assert str(six) == "2001:db8::a wild 0:0:0:ffff::"


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("10.0.0.256", "256 is more than 255"),
        ("10.0.0", "four numbers"),
        ("10.0.0.01", "write 1 for 01"),
        ("2001:db8::1::2", "no IPv6 address"),
        ("10.0.0.0/33", "0 to 32"),
        ("2001:db8::/129", "0 to 128"),
        ("10.0.0.0/x", "0 to 32"),
    ],
)
def test_what_is_no_address_is_told_why(text: str, says: str) -> None:
    with pytest.raises(AddressError, match=says):
        address.parse_block(text)


def test_netmasks_and_ranges_are_checked() -> None:
    assert address.parse_netmask("255.255.252.0") == 0x3FF
    with pytest.raises(AddressError, match=r"as a wildcard write wild 0\.0\.3\.255"):
        address.parse_netmask("0.0.3.255")
    with pytest.raises(AddressError, match=r"upside down: write 10\.0\.0\.1-10\.0\.0\.9"):
        address.parse_range("10.0.0.9-10.0.0.1")
    with pytest.raises(AddressError, match="starts in IPv4 and ends in IPv6"):
        address.parse_range("10.0.0.9-2001:db8::1")


def test_merging_drops_what_another_covers() -> None:
    wide, narrow = Pattern(Family.IPV4, 0, 255), Pattern(Family.IPV4, 3, 0)
    assert merged([narrow, wide, narrow]) == (wide,)
