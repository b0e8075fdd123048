"""A list as regions: what its entries take and who decides, against trying every class of
packets.
"""

from __future__ import annotations

from pathlib import Path

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from crossgate.core.lists.split import EntryRegion, ListRegions
from crossgate.core.model.address import Family, Pattern
from crossgate.core.sets.addresses import AddressSet
from crossgate.core.sets.boxes import covers, packet_box
from crossgate.core.sets.frame import PacketSet
from crossgate.core.sets.region import Region, every_packet
from crossgate.core.sets.services import box_region
from tests import small

slow = settings(
    max_examples=40,
    deadline=None,
    suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow],
)


@settings(slow, max_examples=25)
@given(st.data(), st.sampled_from(Family))
def test_a_region_has_just_the_packets_that_its_entry_matches(
    tmp_path: Path, data: st.DataObject, family: Family
) -> None:
    (entry,) = small.read_list(
        tmp_path, family, [data.draw(small.entry_words(family, marked=True))]
    ).entries
    own = EntryRegion(entry, family)
    parts = list(own.boxes())
    for packet in small.packets(family, marked=True):
        assert (own.region is not None and small.holds(own.region, packet)) is entry.matches(
            packet
        ), packet
        assert any(covers(part, packet_box(packet)) for part in parts) is entry.matches(packet), (
            packet
        )
        assert not entry.matches(packet) or (
            own.hull is not None and covers(own.hull, packet_box(packet))
        )
    if own.region is not None:
        assert entry.matches(PacketSet.of(own.region).witness())
    for part in parts:
        packet = PacketSet.of(box_region(part)).witness()
        assert entry.matches(packet)
        assert covers(part, packet_box(packet))
        assert PacketSet.of(box_region(part)) <= PacketSet.of(own.region or every_packet(family))


@slow
@given(st.data(), st.sampled_from(Family))
def test_a_split_parts_all_packets_as_the_list_decides(
    tmp_path: Path, data: st.DataObject, family: Family
) -> None:
    entries = data.draw(st.lists(small.entry_words(family), max_size=6))
    access_list = small.read_list(tmp_path, family, entries)
    asked = every_packet(family)
    if data.draw(st.booleans()):
        (one,) = small.read_list(tmp_path, family, [data.draw(small.entry_words(family))]).entries
        asked = EntryRegion(one, family).region or asked
    regions = ListRegions(access_list)
    pieces = [
        (each, decider) for packets, decider in regions.split(asked) for each in packets.regions()
    ]
    every = [packet for packet in small.packets(family) if small.holds(asked, packet)]
    some = st.lists(st.sampled_from(every), min_size=60, max_size=60)
    for packet in data.draw(some) if every else ():
        # A packet without ports stands in a piece for each span of ports; all of these have one
        # decision.
        deciders = {decider.number for piece, decider in pieces if small.holds(piece, packet)}
        decided = access_list.decide(packet).entry
        assert deciders == {None if decided is None else decided.number}, packet
    for permitted in (True, False):
        assert [
            (each, decider)
            for packets, decider in regions.split(asked, permitted)
            for each in packets.regions()
        ] == [(each, decider) for each, decider in pieces if decider.permits is permitted]


@slow
@given(st.data())
def test_a_long_list_is_split_as_a_short_one(tmp_path: Path, data: st.DataObject) -> None:
    entries = data.draw(st.lists(small.entry_words(Family.IPV4), min_size=1, max_size=4))
    padding = [f"deny tcp/{port} 192.0.2.1 to 192.0.2.2" for port in range(120)]
    short, long = (
        small.read_list(tmp_path, Family.IPV4, [*more, *entries]) for more in ([], padding)
    )
    few = AddressSet.of(Family.IPV4, (Pattern(Family.IPV4, 0x0A000000, 3),))
    told = [
        [
            (next(piece.regions()).services, decider.entry and decider.entry.text)
            for piece, decider in ListRegions(each).split(Region(few, few))
        ]
        for each in (short, long)
    ]
    assert told[0] == told[1]


def test_an_entry_that_excludes_itself_has_no_packets(tmp_path: Path) -> None:
    access_list = small.read_list(
        tmp_path, Family.IPV4, ["permit tcp any to any established flags !ACK,!RST"]
    )
    assert list(EntryRegion(access_list.entries[0], Family.IPV4).boxes()) == []


def test_a_group_is_never_multiplied_out(tmp_path: Path) -> None:
    members = ", ".join(f"10.{number}.0.{number}" for number in range(1, 101))
    path = tmp_path / "big.gate"
    path.write_text(
        f"group many {members}\nlist big extended ipv4\n    permit tcp/1,3,5,7,9 many to many\n"
    )
    from crossgate.language.reader import read_plan

    region = EntryRegion(read_plan(path).lists["big"].entries[0], Family.IPV4)
    assert region.size == 50_000
    assert region.region is not None
    assert (
        len(region.region.source.patterns)
        + len(region.region.destination.patterns)
        + len(region.region.what)
        == 205
    )
    one, other = (
        AddressSet.of(Family.IPV4, (Pattern(Family.IPV4, 0x0A000000 | number << 16 | number, 0),))
        for number in (5, 7)
    )
    shared = PacketSet.of(Region(one, other)) & PacketSet.of(region.region)
    assert len(shared.products) == 1
    assert [len(each.what) for each in shared.regions()] == [5]
