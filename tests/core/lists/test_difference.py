"""What two lists treat differently, against asking both about every packet of a small space."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from crossgate.core.lists.difference import compare_lists, same_lists, treated_otherwise
from crossgate.core.lists.split import ListRegions
from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.address import Family
from crossgate.core.model.entry import Action
from crossgate.core.model.packet import Packet
from tests import small


def action(access_list: AccessList | None, packet: Packet) -> Action:
    return Action.PERMIT if access_list is None else access_list.decide(packet).action


def regions(access_list: AccessList | None) -> ListRegions | None:
    return None if access_list is None else ListRegions(access_list)


@settings(max_examples=25)
@given(st.data(), st.sampled_from(Family))
def test_outside_of_what_is_treated_otherwise_two_lists_do_the_same(
    tmp_path: Path, data: st.DataObject, family: Family
) -> None:
    entries = data.draw(st.lists(small.entry_words(family), max_size=6))
    others = data.draw(st.permutations(entries).map(lambda own: own[: len(own) - 1]))
    old = small.read_list(tmp_path, family, entries)
    new = data.draw(st.sampled_from([None, small.read_list(tmp_path, family, others)]))
    for pair in ((old, new), (new, old)):
        found = treated_otherwise(*map(regions, pair))
        differing = [
            each for each in small.packets(family) if action(old, each) is not action(new, each)
        ]
        if found is not None:
            assert all(any(small.holds(own, each) for own in found) for each in differing)
        if not differing:
            assert not found


@settings(max_examples=25)
@given(st.data(), st.sampled_from(Family), st.sampled_from(["deny", "permit"]))
def test_versions_of_a_list_differ_just_where_they_decide_otherwise(
    tmp_path: Path, data: st.DataObject, family: Family, otherwise: str
) -> None:
    entries = data.draw(st.lists(small.entry_words(family), max_size=5))
    others = data.draw(st.permutations([*entries, data.draw(small.entry_words(family))]))
    old = small.read_list(tmp_path, family, entries)
    new = small.read_list(tmp_path, family, others[: len(entries)], otherwise)
    found = list(compare_lists(ListRegions(old), ListRegions(new)))
    for packet in small.packets(family):
        was, now = old.decide(packet), new.decide(packet)
        own = [
            (before.entry, after.entry)
            for packets, before, after in found
            if any(small.holds(each, packet) for each in packets.regions())
        ]
        assert own == ([(was.entry, now.entry)] if was.action is not now.action else [])


@pytest.mark.parametrize(
    ("old", "new", "otherwise", "same"),
    [
        (["10 permit tcp any to any"], ["20 permit tcp any to any"], "deny", True),
        (["10 permit tcp any to any"], ["10 permit tcp any to any"], "permit", False),
        (["10 permit tcp any to any"], ["10 permit udp any to any"], "deny", False),
        (
            ["10 permit tcp any to any"],
            ["10 permit tcp any to any", "deny gre any to any"],
            "deny",
            False,
        ),
        ([], [], "deny", True),
    ],
)
def test_lists_are_the_same_that_have_the_same_lines_whatever_their_numbers(
    tmp_path: Path, old: list[str], new: list[str], otherwise: str, same: bool
) -> None:
    before = small.read_list(tmp_path, Family.IPV4, old)
    after = small.read_list(tmp_path, Family.IPV4, new, otherwise)
    assert same_lists(before, before.entries, after, after.entries) is same


@pytest.mark.parametrize(
    ("old", "new", "count"),
    [
        (["permit ip any to any"], ["permit ip any to any", "deny tcp/22 any to any"], 0),
        (["permit tcp/80 any to any"], ["permit tcp/80 any to any", "deny udp any to any"], 0),
        (["permit tcp/80 any to any"], ["permit tcp/80 any to any", "reject udp any to any"], 1),
        (
            ["permit tcp/80 any to any"],
            ["deny tcp/81 any to any", "permit tcp/80-81 any to any"],
            0,
        ),
        (["permit tcp/80 any to any"], ["permit tcp/80-81 any to any"], 1),
        (None, ["permit ip 10.0.0.0/24 to any", "permit ip 0.0.0.0 to any"], 1),
        (None, ["permit ip any to any"], 0),
        (None, ["deny ip 10.0.0.0/24 to any", "permit ip any to any"], 1),
    ],
)
def test_a_line_that_changes_nothing_is_no_difference(
    tmp_path: Path, old: list[str] | None, new: list[str], count: int
) -> None:
    before = None if old is None else small.read_list(tmp_path, Family.IPV4, old)
    after = small.read_list(tmp_path, Family.IPV4, new)
    found = treated_otherwise(regions(before), regions(after))
    assert found is not None
    assert len(found) == count


def test_what_takes_too_long_to_tell_exactly_is_told_wider(tmp_path: Path) -> None:
    """Of a list that denies in many places all is told, of many differing entries each."""
    denied = [f"deny tcp/{2 * port} 10.0.{port}.0/24 to any" for port in range(9)]
    whole = small.read_list(tmp_path, Family.IPV4, [*denied, "permit ip any to any"])
    assert treated_otherwise(None, regions(whole)) is None
    fewer = small.read_list(tmp_path, Family.IPV4, [*denied[1:], "permit ip any to any"])
    found = treated_otherwise(None, regions(fewer))
    assert found is not None
    assert len(found) == 8
    for count, told in ((99, 0), (100, 1)):  # 199 and 201 entries are near
        many = [f"permit tcp/{port} 10.0.0.0/24 to 10.1.0.0/24" for port in range(count)]
        last = "deny tcp/0-2000 10.0.0.0/24 to 10.1.0.0/24"
        some = [small.read_list(tmp_path, Family.IPV4, each) for each in (many, [*many, last])]
        found = treated_otherwise(*map(regions, some))
        assert found is not None
        assert len(found) == told
