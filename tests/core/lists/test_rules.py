"""Entries taken apart into rules, and what a format that knows less cannot say of them."""

from __future__ import annotations

from collections.abc import Callable

import pytest
from hypothesis import given
from hypothesis import strategies as st

from crossgate.core.lists.rules import rule_region, rules_of
from crossgate.core.model.address import Family
from crossgate.core.model.condition import Abilities
from crossgate.core.model.packet import TCP, UDP
from crossgate.core.model.plan import Plan
from crossgate.core.sets.frame import PacketSet
from crossgate.core.sets.region import entry_region
from tests import small

PLAIN = Abilities("plain", ported=(TCP, UDP))


@pytest.mark.parametrize(
    ("entry", "why"),
    [
        ("permit tcp/22 any to any", ""),
        ("permit sctp any to any", ""),
        ("permit sctp/22 any to any", "plain cannot ask for ports of sctp"),
        ("permit sctp any to any source port 22", "plain cannot ask for ports of sctp"),
        ("permit icmp/8 any to any", ""),
        ("permit tcp any to any log", "plain has no log"),
        ("reject tcp any to any", "plain has no reject"),
    ],
)
def test_what_cannot_be_said_is_told(plan_of: Callable[[str], Plan], entry: str, why: str) -> None:
    own = plan_of(f"list l extended ipv4\n    {entry}\n    otherwise deny\n").lists["l"]
    taken = rules_of(own, PLAIN, 16)
    assert [each.why for each in taken.unsaid] == [why] * bool(why)
    assert len(taken.rules) == (0 if why else 1)


@pytest.mark.parametrize(
    ("wildcard", "prefixes"),
    [
        ("0.0.0.3", 1),
        ("0.0.0.11", 2),
        ("0.0.0.5", 2),
        ("0.0.0.9", 2),
        ("0.0.1.2", 4),
        ("0.0.2.15", 2),
    ],
)
def test_a_wildcard_is_as_many_prefixes_as_are_told(
    plan_of: Callable[[str], Plan], wildcard: str, prefixes: int
) -> None:
    entry = f"permit ip 10.0.0.0 wild {wildcard} to any"
    own = plan_of(f"list l extended ipv4\n    {entry}\n").lists["l"]
    assert len(rules_of(own, PLAIN, prefixes).rules) == prefixes
    (short,) = rules_of(own, PLAIN, prefixes - 1).unsaid if prefixes > 1 else [None]
    if short is not None:
        assert short.why == (
            f"10.0.0.0 wild {wildcard} is {prefixes} prefixes, and --limit is {prefixes - 1}"
        )


@given(st.data(), st.sampled_from(Family))
def test_rules_take_together_what_their_entry_takes(
    tmp_path_factory: pytest.TempPathFactory, data: st.DataObject, family: Family
) -> None:
    words = data.draw(small.entry_words(family, marked=True))
    own = small.read_list(tmp_path_factory.mktemp("l"), family, [words])
    able = Abilities(
        "all",
        (TCP, UDP),
        established=True,
        exact_flags=True,
        icmp_code=True,
        log=True,
        conditions=("dscp", "fragments", "flags"),
        masked_flags=255,
    )
    taken = rules_of(own, able, 1 << 16)
    region = entry_region(own.entries[0], family)
    if taken.unsaid or region is None:
        return
    regions = [each for each in map(rule_region, taken.rules) if each is not None]
    assert PacketSet.of(*regions) == PacketSet.of(region)
