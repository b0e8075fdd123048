"""A list as regions: what its entries take and who decides, against trying every class of packets."""

from __future__ import annotations

from pathlib import Path

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from crossgate.core.lists.split import EntryRegion, ListRegions
from crossgate.core.model.address import Family, Pattern
from crossgate.core.sets.boxes import address_box, covers, overlap, packet_box, whole, witness
from tests import small

slow = settings(max_examples=40, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow])


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
