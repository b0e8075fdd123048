"""What words for addresses mean, everywhere alike."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from crossgate.core.model.address import AddressError, Family
from crossgate.core.model.errors import PlanError
from crossgate.core.model.plan import Plan
from crossgate.core.sets.meaning import WordKind, meaning_of

PLAN = """
subnet quay 10.0.1.0/24 2001:db8:1::/64
outside sea 198.51.100.0/24
outside rest
router bell
    interface quay 10.0.1.1/24 2001:db8:1::1/64 on quay
    interface sea  198.51.100.1/24 on sea
    interface rest 203.0.113.1/30 on rest
switch mole
    port 7
host crane 10.0.1.9 2001:db8:1::9 on quay
group some crane, 10.0.1.64/26, bell.quay
"""


@pytest.mark.parametrize(
    ("word", "kind", "four", "six", "named"),
    [
        ("any", WordKind.ANY, ["any"], ["any"], []),
        ("10.0.1.9", WordKind.ADDRESS, ["10.0.1.9"], [], ["10.0.1.9"]),
        ("10.0.1.9/32", WordKind.ADDRESS, ["10.0.1.9"], [], ["10.0.1.9"]),
        ("10.0.1.9/30", WordKind.ADDRESS, ["10.0.1.8/30"], [], []),
        ("10.0.1.1-10.0.1.2", WordKind.ADDRESS, ["10.0.1.1", "10.0.1.2"], [], []),
        ("2001:db8::", WordKind.ADDRESS, [], ["2001:db8::"], ["2001:db8::"]),
        ("crane", WordKind.HOST, ["10.0.1.9"], ["2001:db8:1::9"], ["10.0.1.9", "2001:db8:1::9"]),
        (
            "bell",
            WordKind.DEVICE,
            ["10.0.1.1", "198.51.100.1", "203.0.113.1"],
            ["2001:db8:1::1"],
            ["10.0.1.1", "198.51.100.1", "2001:db8:1::1", "203.0.113.1"],
        ),
        ("bell.sea", WordKind.INTERFACE, ["198.51.100.1"], [], ["198.51.100.1"]),
        ("mole.7", WordKind.PORT, [], [], []),
        ("quay", WordKind.SUBNET, ["10.0.1.0/24"], ["2001:db8:1::/64"], []),
        ("sea", WordKind.OUTSIDE, ["198.51.100.0/24"], [], []),
        ("rest", WordKind.OUTSIDE, [], [], []),
        (
            "some",
            WordKind.GROUP,
            ["10.0.1.9", "10.0.1.64/26", "10.0.1.1"],
            ["2001:db8:1::9", "2001:db8:1::1"],
            ["10.0.1.1", "10.0.1.9", "2001:db8:1::1", "2001:db8:1::9"],
        ),
    ],
)
def test_a_word_means_these_addresses(
    plan_of: Callable[[str], Plan],
    word: str,
    kind: WordKind,
    four: list[str],
    six: list[str],
    named: list[str],
) -> None:
    meaning = meaning_of(plan_of(PLAN), word)
    assert meaning is not None
    assert meaning.kind is kind
    assert [[str(each) for each in meaning.in_family(family)] for family in Family] == [four, six]
    assert sorted(map(str, meaning.named)) == named
    assert all(meaning.has(address) for address in meaning.named)


def test_a_word_that_means_nothing(plan_of: Callable[[str], Plan]) -> None:
    plan = plan_of(PLAN)
    assert meaning_of(plan, "crate") is None
    with pytest.raises(AddressError, match="300 is more than 255"):
        meaning_of(plan, "10.0.1.300")
    with pytest.raises(PlanError, match=r"no interface or port mole\.9; there is mole\.7"):
        meaning_of(plan, "mole.9")


@pytest.mark.parametrize(
    "word", ["10.0.1.9 wild", "10.0.1.9 at 0.0.0.3", "10.0.1.9 wild 0.0.0.3 4"]
)
def test_words_behind_an_address_that_are_no_mask_are_told(
    plan_of: Callable[[str], Plan], word: str
) -> None:
    with pytest.raises(AddressError, match="write ADDRESS wild WILDCARD or ADDRESS mask NETMASK"):
        meaning_of(plan_of(PLAN), word)
