"""What lines above take of an entry, against trying every class of packets."""

from __future__ import annotations

from pathlib import Path

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from crossgate.core.lists.taken import taken
from crossgate.core.model.address import Family
from crossgate.core.model.packet import Packet
from crossgate.core.sets.frame import PacketSet
from crossgate.core.sets.region import packet_region
from tests import small


def holds(parts: tuple[PacketSet, ...], packet: Packet) -> bool:
    return any(PacketSet.of(packet_region(packet)) <= each for each in parts)


@settings(
    max_examples=60,
    deadline=None,
    suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow],
)
@given(st.data(), st.sampled_from(Family))
def test_each_taker_has_just_what_it_decides_of_the_entry(
    tmp_path: Path, data: st.DataObject, family: Family
) -> None:
    entries = data.draw(st.lists(small.entry_words(family), min_size=1, max_size=5))
    access_list = small.read_list(tmp_path, family, entries)
    for entry in access_list.entries:
        found = taken(access_list, entry, entry.number, [frozenset()])
        takers: dict[int, list[Packet]] = {}
        left = False
        for packet in small.packets(family):
            if entry.matches(packet):
                decider = access_list.decide(packet).entry
                assert decider is not None
                left |= decider.number == entry.number
                if decider.number != entry.number:
                    takers.setdefault(decider.number, []).append(packet)
        assert [each.taker.number for each in found.parts] == sorted(takers)
        assert found.left is left
        for part in found.parts:
            for packet in takers[part.taker.number][:6]:
                assert holds(part.packets, packet)
            others = [each for number, each in takers.items() if number != part.taker.number]
            assert not any(holds(part.packets, packet) for each in others for packet in each[:3])
        opposed = [
            each.number
            for each in access_list.entries
            if each.number in takers and each.action is not entry.action
        ]
        assert [each.taker.number for each in found.opposed] == opposed


def test_an_entry_asleep_takes_nothing_and_gets_nothing(tmp_path: Path) -> None:
    from crossgate.language.reader import read_plan

    path = tmp_path / "p.gate"
    path.write_text(
        "window day daily 08:00-18:00\nlist l extended ipv4\n    permit tcp/80 any to any during "
        "day\n    off deny ip any to any\n    deny tcp/80 any to any\n"
    )
    access_list = read_plan(path).lists["l"]
    asleep, awake = frozenset[str](), frozenset(("day",))
    last, first = access_list.entries[2], access_list.entries[0]
    assert taken(access_list, last, 30, [asleep]).parts == ()
    assert [each.taker.number for each in taken(access_list, last, 30, [asleep, awake]).parts] == [
        10
    ]
    assert taken(access_list, last, 30, [asleep, awake]).left
    assert not taken(access_list, last, 30, [awake]).left
    assert not taken(access_list, first, None, [asleep]).left
