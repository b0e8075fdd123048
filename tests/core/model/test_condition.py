"""Entries with limits: a list in a state is an ordinary list, whatever it is asked with."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from crossgate.core.lists.bulk.first_match import FirstMatch
from crossgate.core.lists.index import ListIndex
from crossgate.core.lists.redundancy import coverage
from crossgate.core.lists.split import ListRegions
from crossgate.core.model.accesslist import AccessList, Decider
from crossgate.core.model.address import Family
from crossgate.core.model.condition import State
from crossgate.core.model.conditions import exceeded, is_counted
from crossgate.core.model.packet import ACK, SYN, Packet
from crossgate.core.model.packets import packet_columns
from crossgate.core.sets.region import packet_region
from tests import small

RATES = ["", "", " at most 5 a second", " at most 1 a minute from each source"]


@st.composite
def limited_entries(draw: st.DrawFn) -> list[str]:
    found = []
    for words in draw(st.lists(small.entry_words(Family.IPV4), min_size=1, max_size=5)):
        found.append(words + (draw(st.sampled_from(RATES)) if words.startswith("permit") else ""))
    return found


def plainly(access_list: AccessList, packet: Packet, over: frozenset[object]) -> Decider:
    """Ask entry by entry: one whose limit is exceeded takes only what no limit counts."""
    for entry in access_list.entries:
        if entry.matches(packet) and not (entry.limit in over and is_counted(packet)):
            return Decider(access_list, entry)
    return Decider(access_list, None)


@given(limited_entries(), st.data())
def test_a_list_in_a_state_is_an_ordinary_list(
    tmp_path_factory: pytest.TempPathFactory, entries: list[str], data: st.DataObject
) -> None:
    found = small.read_list(tmp_path_factory.mktemp("small"), Family.IPV4, entries)
    over = frozenset(
        data.draw(st.lists(st.sampled_from(sorted(found.limits)), unique=True))
        if found.limits
        else []
    )
    packets = data.draw(
        st.lists(st.sampled_from(list(small.packets(Family.IPV4))), min_size=1, max_size=60)
    )
    index, regions = ListIndex(found, over), ListRegions(found, over)
    bulk = FirstMatch(found, over).decide(packet_columns(Family.IPV4, packets)).tolist()
    for packet, line in zip(packets, bulk, strict=True):
        wanted = plainly(found, packet, over)
        assert found.decide(packet, over).number == index.decide(packet).number == wanted.number
        assert (
            found.entries[line].number if 0 <= line < len(found.entries) else None
        ) == wanted.number
        (decider,) = {decider.number for _, decider in regions.split(packet_region(packet))}
        assert decider == wanted.number


@given(limited_entries())
def test_what_is_never_reached_is_so_in_every_state(
    tmp_path_factory: pytest.TempPathFactory, entries: list[str]
) -> None:
    """The few states that are looked at tell what all of them do."""
    found = small.read_list(tmp_path_factory.mktemp("small"), Family.IPV4, entries)
    limits = sorted(found.limits)
    every = [
        frozenset(each for bit, each in enumerate(limits) if mask >> bit & 1)
        for mask in range(1 << len(limits))
    ]

    def reached(states: list[State]) -> tuple[set[int], set[int]]:
        told = [each for state in states for each in coverage(ListRegions(found, state))]
        return {each.entry.number for each in told if each.reached}, {
            each.entry.number for each in told if each.needed
        }

    assert reached([*exceeded(limits)]) == reached([*every])


def test_segments_under_way_are_not_counted(tmp_path_factory: pytest.TempPathFactory) -> None:
    found = small.read_list(
        tmp_path_factory.mktemp("small"), Family.IPV4, ["permit ip any to any at most 1 a second"]
    )
    for flags, permitted in (
        (SYN, False),
        (SYN | ACK, True),
        (ACK, True),
        (0, True),
        (None, False),
    ):
        protocol = 17 if flags is None else 6
        packet = Packet(Family.IPV4, 1, 2, protocol, 1, 22, flags=flags)
        assert found.decide(packet, found.limits).permits is permitted
        assert found.decide(packet).permits
