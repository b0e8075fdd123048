"""Which patterns share an address with another one, against each asked by itself."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from crossgate.core.model.address import Family, Pattern, pattern
from crossgate.core.sets.patterns import PatternIndex

ANY = st.builds(
    pattern, st.just(Family.IPV4), st.integers(0, 63), st.sampled_from([0, 1, 3, 7, 15, 63, 5, 32])
)


@given(st.lists(ANY, max_size=12), ANY)
def test_those_that_share_an_address_are_found_in_their_order(
    patterns: list[Pattern], other: Pattern
) -> None:
    expected = [each for each in patterns if each.overlaps(other)]
    assert PatternIndex(patterns).overlapping(other) == expected
