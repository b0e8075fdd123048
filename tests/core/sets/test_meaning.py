"""Several words for addresses, and what is left out of them: against the addresses of each word,
and pasted back after being written.
"""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from crossgate.core.model.address import (
    AddressError,
    Family,
    Pattern,
    parse_address,
    parse_block,
    pattern,
)
from crossgate.core.model.plan import Plan
from crossgate.core.sets.addresses import AddressSet
from crossgate.core.sets.meaning import WordKind, meaning_of, written_as
from crossgate.core.sets.patterns import joined
from crossgate.core.wording.sets import Wording

Read = Callable[[str], Plan]
PLAN = """
outside internet but private, 192.0.2.0/24
outside partner 198.51.100.0/24
subnet hall 10.0.8.0/22 2001:db8:8::/64
subnet office 10.0.20.0/24
router r
    interface h 10.0.8.1/22 2001:db8:8::1/64 on hall
    interface o 10.0.20.1/24 on office
    interface i 203.0.113.1/30 on internet
    interface p 198.51.100.1/30 on partner
host kiosk 10.0.9.21 2001:db8:8::21
host box 10.0.20.10
group some 10.0.9.0/24, office but box
group most 10.0.0.0/16 but kiosk, 10.0.8.0/30
"""
WORDS = [
    "any",
    "hall",
    "office",
    "kiosk",
    "box",
    "some",
    "most",
    "r.h",
    "r",
    "10.0.9.0/28",
    "10.0.8.200-10.0.9.3",
    "10.0.0.1 wild 0.0.255.0",
    "private",
]
slow = settings(
    max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture]
)


def addresses(plan: Plan, text: str) -> AddressSet:
    meaning = meaning_of(plan, text)
    assert meaning is not None
    return (
        AddressSet.of(Family.IPV4, own)
        if (own := meaning.in_family(Family.IPV4))
        else AddressSet(Family.IPV4, spans=())
    )


@slow
@given(
    st.lists(st.sampled_from(WORDS), min_size=1, max_size=3),
    st.lists(st.sampled_from(WORDS), max_size=3),
)
def test_several_words_are_all_of_them_without_those_behind_but(
    plan_of: Read, taken: list[str], left_out: list[str]
) -> None:
    plan, text = plan_of(PLAN), written_as(taken, left_out)
    expected = AddressSet.union([addresses(plan, each) for each in taken])
    for each in left_out:
        expected = expected - addresses(plan, each)
    found = None
    with suppress(AddressError):
        found = addresses(plan, text)
    assert found == (expected or found)
    assert found is not None or not expected


@st.composite
def some_addresses(draw: st.DrawFn) -> frozenset[Pattern]:
    """Draw addresses in and around the plan's, as a few prefixes and wildcards without others."""
    base = parse_address("10.0.8.0").value
    block = st.builds(
        lambda value, bits: pattern(Family.IPV4, base + value, (1 << bits) - 1),
        st.integers(0, 0x17FF),
        st.integers(0, 11),
    )
    wide = st.sampled_from(
        [
            parse_block(each)
            for each in (
                "0.0.0.0/0",
                "10.0.0.0/16",
                "10.0.8.0/22",
                "10.0.20.0/24",
                "198.51.100.0/24",
                "10.0.9.21",
                "10.0.20.1",
            )
        ]
    )
    scattered = st.builds(
        lambda value: pattern(Family.IPV4, base | value, 0x300), st.integers(0, 255)
    )
    several = st.lists(st.one_of(wide, block, scattered), min_size=1, max_size=3)
    kept = AddressSet.of(Family.IPV4, draw(several)) - AddressSet.of(Family.IPV4, draw(several))
    return joined(kept.patterns)


@slow
@given(some_addresses())
def test_what_is_written_means_the_same_where_it_is_pasted(
    plan_of: Read, patterns: frozenset[Pattern]
) -> None:
    plan = plan_of(PLAN)
    if not patterns:
        return
    text = Wording(plan).addresses(patterns)
    wanted = AddressSet.of(Family.IPV4, patterns)
    meaning = meaning_of(plan, text)
    assert meaning is not None
    if meaning.kind is WordKind.OUTSIDE:
        segment = plan.segments[meaning.outside]
        own = AddressSet.of(Family.IPV4, segment.prefixes or (parse_block("0.0.0.0/0"),))
        others = [
            each
            for other in plan.segments.values()
            if other is not segment
            for each in other.prefixes
            if each.family is Family.IPV4
        ]
        left_out = [
            each
            for each in (*others, *segment.left_out, *meaning.left_out)
            if each.family is Family.IPV4
        ]
        assert own - AddressSet.of(Family.IPV4, left_out) == wanted, text
        return
    assert addresses(plan, text) == wanted, text
    read = plan_of(
        f"{PLAN}list l extended ipv4\n    permit tcp/22 {text} to any\n    permit ip any to "
        f"{text}\nexpect permit ssh {text} to hall\n"
    )
    first, second = read.lists["l"].entries
    assert AddressSet.of(Family.IPV4, first.source.patterns) == wanted
    assert AddressSet.of(Family.IPV4, second.destination.patterns) == wanted
    assert read.expectations[0].source == text


def test_groups_and_outsides_leave_out(plan_of: Read) -> None:
    plan = plan_of(PLAN)
    assert addresses(plan, "some") == addresses(plan, "10.0.9.0/24, office but box")
    assert not addresses(plan, "most").contains(parse_address("10.0.9.21").value)
    assert plan.segment_of(parse_address("8.8.8.8")) is plan.segments["internet"]
    for each in ("10.200.0.1", "172.16.0.1", "192.168.3.4", "100.64.0.1", "fd00::1", "192.0.2.9"):
        assert plan.segment_of(parse_address(each)) is None
    own = plan_of(
        "group private 192.0.2.0/24\noutside net but private\nrouter r\n    interface n "
        "203.0.113.1/30 on net\n"
    )
    assert own.segment_of(parse_address("10.0.0.1")) is own.segments["net"]
    assert own.segment_of(parse_address("192.0.2.1")) is None
