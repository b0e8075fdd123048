"""Boxes against sets that are counted out, and lists as regions against the list itself, packet by packet."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from crossgate.core.lists.split import EntryRegion, ListRegions
from crossgate.core.model.address import Family, Pattern
from crossgate.core.sets.boxes import LOW_BITS, Box, address_box, covers, first_left, minus, overlap, packet_box, whole, without, witness
from tests import small

slow = settings(max_examples=40, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow])


@st.composite
def boxes(draw: st.DrawFn) -> Box:
    """Draw boxes that differ in two bits of each address and in a small span of each number."""
    wildcard = draw(st.integers(0, 3)) << LOW_BITS | draw(st.integers(0, 3)) << (LOW_BITS + 32) | draw(st.sampled_from([0, 256]))
    value = draw(st.integers(0, 3)) << LOW_BITS | draw(st.integers(0, 3)) << (LOW_BITS + 32) | draw(st.sampled_from([0, 256]))
    spans = [sorted((draw(st.integers(0, 3)), draw(st.integers(0, 3)))) for _ in range(3)]
    return Box(Family.IPV4, value & ~wildcard, wildcard, *(end for span in spans for end in span))


def points(box: Box) -> set[tuple[int, ...]]:
    """Count a small box out."""
    bits = [bit for bit in (1 << LOW_BITS, 2 << LOW_BITS, 1 << LOW_BITS + 32, 2 << LOW_BITS + 32, 256) if box.wildcard & bit]
    values = [box.value]
    for bit in bits:
        values += [value | bit for value in values]
    return {
        (value, protocol, client, port)
        for value in values
        for protocol in range(box.protocol_first, box.protocol_last + 1)
        for client in range(box.source_first, box.source_last + 1)
        for port in range(box.port_first, box.port_last + 1)
    }


@given(boxes(), boxes())
def test_overlap_and_cover_are_those_of_the_sets(one: Box, other: Box) -> None:
    common = overlap(one, other)
    assert (points(common) if common else set()) == points(one) & points(other)
    assert covers(one, other) is (points(other) <= points(one))


@given(boxes(), boxes())
def test_what_is_left_are_boxes_apart_that_hold_just_the_rest(box: Box, other: Box) -> None:
    part = overlap(box, other)
    if part is None:
        return
    pieces = [points(piece) for piece in minus(box, part)]
    assert sum(map(len, pieces)) == len(set().union(*pieces))
    assert set().union(*pieces) == points(box) - points(other)


@given(st.lists(boxes(), max_size=4), st.lists(boxes(), max_size=4))
def test_without_and_first_left_agree_with_the_sets(here: list[Box], parts: list[Box]) -> None:
    rest = set().union(*map(points, here)) - set().union(*map(points, parts))
    assert set().union(*map(points, without(here, parts))) == rest
    found = first_left(here, parts)
    assert (found is not None) is bool(rest)
    assert found is None or points(found) <= rest


@slow
@given(st.data(), st.sampled_from(Family))
def test_a_region_has_just_the_packets_that_its_entry_matches(tmp_path: Path, data: st.DataObject, family: Family) -> None:
    (entry,) = small.read_list(tmp_path, family, [data.draw(small.entry_words(family, marked=True))]).entries
    parts = list(EntryRegion(entry, family).boxes())
    for packet in small.packets(family, marked=True):
        own = packet_box(packet)
        assert any(covers(part, own) for part in parts) is entry.matches(packet), packet
    for part in parts:
        assert entry.matches(witness(part))
        assert covers(part, packet_box(witness(part)))


@slow
@given(st.data(), st.sampled_from(Family))
def test_a_split_parts_all_packets_as_the_list_decides(tmp_path: Path, data: st.DataObject, family: Family) -> None:
    entries = data.draw(st.lists(small.entry_words(family), max_size=6))
    access_list = small.read_list(tmp_path, family, entries)
    pieces = list(ListRegions(access_list).split(whole(family)))
    every = list(small.packets(family))
    for packet in data.draw(st.lists(st.sampled_from(every), min_size=60, max_size=60)):
        own = packet_box(packet)
        # A packet without ports stands in a piece for each span of ports; all of these have one decision.
        deciders = {decider.number for piece, decider in pieces if overlap(piece, own) is not None}
        decided = access_list.decide(packet).entry
        assert deciders == {None if decided is None else decided.number}, packet


@slow
@given(st.data())
def test_a_long_list_is_split_as_a_short_one(tmp_path: Path, data: st.DataObject) -> None:
    entries = data.draw(st.lists(small.entry_words(Family.IPV4), min_size=1, max_size=4))
    padding = [f"deny tcp/{port} 192.0.2.1 to 192.0.2.2" for port in range(120)]
    short, long = (small.read_list(tmp_path, Family.IPV4, [*more, *entries]) for more in ([], padding))
    box = address_box(Pattern(Family.IPV4, 0x0A000000, 3), Pattern(Family.IPV4, 0x0A000000, 3))
    told = [
        [(piece, decider.entry and decider.entry.text) for piece, decider in ListRegions(access_list).split(box)]
        for access_list in (short, long)
    ]
    assert told[0] == told[1]


@pytest.mark.parametrize("family", Family)
def test_everything_is_one_box_and_its_witness_is_what_people_know(family: Family) -> None:
    packet = witness(whole(family))
    assert (packet.protocol, packet.destination_port, packet.flags) == (6, 443, 2)
    assert covers(whole(family), packet_box(packet))


def test_an_entry_that_excludes_itself_has_no_packets(tmp_path: Path) -> None:
    access_list = small.read_list(tmp_path, Family.IPV4, ["permit tcp any to any established flags !ACK,!RST"])
    assert list(EntryRegion(access_list.entries[0], Family.IPV4).boxes()) == []


def test_a_group_is_never_multiplied_out(tmp_path: Path) -> None:
    members = ", ".join(f"10.{number}.0.{number}" for number in range(1, 101))
    path = tmp_path / "big.gate"
    path.write_text(f"group many {members}\nlist big extended ipv4\n    permit tcp/1,3,5,7,9 many to many\n")
    from crossgate.language.reader import read_plan

    region = EntryRegion(read_plan(path).lists["big"].entries[0], Family.IPV4)
    assert region.size == 50_000
    assert len(region.sources) + len(region.destinations) + len(region.services) == 205
    one = address_box(Pattern(Family.IPV4, 0x0A050005, 0), Pattern(Family.IPV4, 0x0A070007, 0))
    assert len(list(region.within(one))) == 5
