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
