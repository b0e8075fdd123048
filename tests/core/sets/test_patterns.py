"""Which patterns share an address with another one, and what is left of some without others,
against each address asked by itself.
"""

from __future__ import annotations

from hypothesis import example, given
from hypothesis import strategies as st

from crossgate.core.model.address import Family, Pattern, pattern
from crossgate.core.sets.patterns import PatternIndex, less, merged

ANY = st.builds(
    pattern, st.just(Family.IPV4), st.integers(0, 63), st.sampled_from([0, 1, 3, 7, 15, 63, 5, 32])
)


@given(st.lists(ANY, max_size=12), ANY)
def test_those_that_share_an_address_are_found_in_their_order(
    patterns: list[Pattern], other: Pattern
) -> None:
    expected = [each for each in patterns if each.overlaps(other)]
    assert PatternIndex(patterns).overlapping(other) == expected


@example([pattern(Family.IPV4, 32, 15)], [pattern(Family.IPV4, 1, 32)], True)
@given(st.lists(ANY, max_size=4), st.lists(ANY, max_size=6), st.booleans())
def test_what_is_left_has_each_address_that_no_excluded_one_has(
    patterns: list[Pattern], excluded: list[Pattern], many: bool
) -> None:
    # So many are looked up instead of gone through one by one.
    others = (pattern(Family.IPV4, 1024 + each, 0) for each in range(40 if many else 0))
    excluded = [*excluded, *others]
    left = less(patterns, excluded)
    for address in range(64):
        found = [each for each in left if each.contains(address)]
        wanted = any(each.contains(address) for each in patterns) and not any(
            each.contains(address) for each in excluded
        )
        assert bool(found) is wanted


@given(st.lists(ANY, max_size=12))
def test_those_that_no_other_covers_stay_in_their_order(patterns: list[Pattern]) -> None:
    kept = [
        each
        for number, each in enumerate(patterns)
        if each not in patterns[:number]
        and not any(other != each and other.covers(each) for other in patterns)
    ]
    assert merged(patterns) == (*kept,)
