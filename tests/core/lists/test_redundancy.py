"""Never reached, no effect: against trying every class of packets on the list with and without the
entry.
"""

from __future__ import annotations

import sys
from contextlib import nullcontext
from pathlib import Path
from unittest.mock import patch

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from crossgate.core.lists import covered, redundancy, split
from crossgate.core.lists.covered import region_columns
from crossgate.core.lists.redundancy import coverage
from crossgate.core.lists.split import ListRegions
from crossgate.core.model.accesslist import AccessList, Decider
from crossgate.core.model.address import Family
from crossgate.core.model.packet import Packet
from crossgate.core.sets import uncovered
from crossgate.core.sets.boxes import LOW_BITS, Box, covers, overlap, whole
from crossgate.core.sets.columns import covering, covering_pairs, meeting, meeting_box, overlapping
from crossgate.language.reader import read_plan
from tests import small

sys.path.insert(0, str(Path(__file__).parents[3] / "benchmarks"))
import synthetic

slow = settings(
    max_examples=60,
    deadline=None,
    suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow],
)


def without(access_list: AccessList, packet: Packet, number: int) -> Decider:
    """Decide a packet as if one entry were not there."""
    for entry in access_list.entries:
        if entry.number != number and entry.matches(packet):
            return Decider(access_list, entry)
    return Decider(access_list, None)


@slow
@given(st.data(), st.sampled_from(Family), st.sampled_from(["permit", "deny"]), st.booleans())
def test_coverage_is_what_trying_every_packet_tells(
    tmp_path: Path, data: st.DataObject, family: Family, otherwise: str, searched: bool
) -> None:
    """Settled by packets that are tried, or all by the search that settles what they leave open."""
    entries = data.draw(st.lists(small.entry_words(family), min_size=1, max_size=6))
    access_list = small.read_list(tmp_path, family, entries, otherwise)
    reached: set[int] = set()
    needed: set[int] = set()
    for packet in small.packets(family):
        decision = access_list.decide(packet)
        if decision.entry is not None:
            reached.add(decision.entry.number)
            if without(access_list, packet, decision.entry.number).action is not decision.action:
                needed.add(decision.entry.number)
    with patch.multiple(redundancy, _TRIES=0, _AIMED_TRIES=0) if searched else nullcontext():
        settled = coverage(ListRegions(access_list))
    for known in settled:
        assert known.reached is (known.entry.number in reached), known.entry.text
        assert known.needed is (known.entry.number in needed), known.entry.text
        if known.packet is not None:
            assert access_list.decide(known.packet).entry == known.entry
        if not known.reached:
            others = [each for each in access_list.entries if each in known.because]
            for packet in small.packets(family):
                if known.entry.matches(packet):
                    assert any(each.matches(packet) for each in others)


@settings(slow, max_examples=30)
@given(st.data(), st.sampled_from([0, 2_000]), st.sampled_from([0, 1]))
def test_large_entries_are_settled_like_small_ones(
    tmp_path: Path, data: st.DataObject, framed: int, few: int
) -> None:
    """A group makes an entry that is not multiplied out; in one frame for the list or one a
    question, it is settled as if it were.
    """
    entries = data.draw(st.lists(small.entry_words(Family.IPV4), min_size=1, max_size=4))
    place = data.draw(st.integers(0, len(entries)))
    action = data.draw(st.sampled_from(["permit", "deny"]))
    members = [small.text(Family.IPV4, low) for low in (0, 1, 3)]
    path = tmp_path / "group.gate"
    grouped = [*entries[:place], f"{action} tcp/22 some to some", *entries[place:]]
    path.write_text(
        f"group some {', '.join(members)}\n" + small.list_text("small", Family.IPV4, grouped)
    )
    access_list = read_plan(path).lists["small"]
    with patch.object(split, "_MOST_FRAMED", framed), patch.object(covered, "FEW_BOXES", few):
        settled = coverage(ListRegions(access_list))
    for known in settled:
        number = known.entry.number
        deciding = [
            packet
            for packet in small.packets(Family.IPV4)
            if access_list.decide(packet).entry == known.entry
        ]
        assert known.reached is bool(deciding)
        assert known.needed is any(
            without(access_list, packet, number).action is not known.entry.action
            for packet in deciding
        )


@pytest.mark.parametrize(
    ("entries", "otherwise", "needed"),
    [
        (["permit tcp/22 10.0.0.1 to any", "deny tcp/22 some to any"], "permit", [False, True]),
        (
            ["permit tcp/22 10.0.0.1 to any", "deny tcp/22 some to any", "permit ip any to any"],
            "permit",
            [False, True, False],
        ),
        (["deny tcp/22 some to any", "permit tcp/22 10.0.0.1 to any"], "deny", [False, True]),
        (["permit tcp/22 some to any", "permit tcp/22 10.0.0.0/30 to any"], "deny", [False, True]),
        (["permit tcp/22 10.0.0.0/30 to any", "permit tcp/22 some to any"], "deny", [True, False]),
    ],
)
def test_what_only_the_hull_of_a_large_entry_has_is_not_decided_by_it(
    tmp_path: Path, entries: list[str], otherwise: str, needed: list[bool]
) -> None:
    path = tmp_path / "group.gate"
    path.write_text(
        "group some 10.0.0.0, 10.0.0.3\n" + small.list_text("l", Family.IPV4, entries, otherwise)
    )
    access_list = read_plan(path).lists["l"]
    for framed in (0, 2_000):
        with patch.object(split, "_MOST_FRAMED", framed), patch.object(covered, "FEW_BOXES", 1):
            assert [each.needed for each in coverage(ListRegions(access_list))] == needed


def test_only_the_entries_asked_for_are_settled(tmp_path: Path) -> None:
    access_list = small.read_list(
        tmp_path,
        Family.IPV4,
        ["permit ip any to any", "deny tcp any to any", "deny udp any to any"],
    )
    known = coverage(ListRegions(access_list), only={30})
    assert [each.entry.number for each in known] == [30]
    assert [each.number for each in known[0].because] == [10]


def test_entries_that_cover_together_are_all_named(tmp_path: Path) -> None:
    entries = [
        "permit tcp/-1023 any to any",
        "deny tcp/1024- any to any",
        "permit tcp/80-9000 any to any",
    ]
    known = coverage(ListRegions(small.read_list(tmp_path, Family.IPV4, entries)))
    assert [each.number for each in known[2].because] == [10, 20]


@pytest.mark.parametrize("scattered", [0.03, 1.0])
def test_rows_meet_just_where_their_boxes_overlap(tmp_path: Path, scattered: float) -> None:
    path = tmp_path / "big.gate"
    path.write_text(synthetic.plan(300, scattered=scattered))
    table, boxes = region_columns(ListRegions(read_plan(path).lists["big"]).regions)
    met: dict[int, list[int]] = {}
    for rows, left, right in meeting(table, np.arange(len(boxes))):
        for row in rows.tolist():
            assert row not in met
            met[row] = []
        for row, other in zip(left.tolist(), right.tolist(), strict=True):
            met[row].append(other)
    for row, box in enumerate(boxes):
        wanted = [
            other
            for other, each in enumerate(boxes)
            if table.entry[other] != table.entry[row] and overlap(box, each) is not None
        ]
        assert met[row] == wanted


def test_columns_cover_and_overlap_as_boxes_do(tmp_path: Path) -> None:
    path = tmp_path / "big.gate"
    path.write_text(synthetic.plan(60, scattered=0.3))
    table, boxes = region_columns(ListRegions(read_plan(path).lists["big"]).regions)
    down, across = table.down(), table.across()
    over, cover = overlapping(down, across), covering(down, across)
    pairs = [(one, other) for one in range(len(boxes)) for other in range(len(boxes))]
    for one, other in pairs:
        assert over[one, other] == (overlap(boxes[one], boxes[other]) is not None)
        assert cover[one, other] == covers(boxes[one], boxes[other])
    left, right = (np.array(side) for side in zip(*pairs, strict=True))
    assert [pairs[place] for place in covering_pairs(table, left, table, right)] == [
        pair for pair in pairs if covers(boxes[pair[0]], boxes[pair[1]])
    ]
    for box in boxes:
        assert meeting_box(table, box).tolist() == [
            other for other, each in enumerate(boxes) if overlap(box, each) is not None
        ]


def test_a_thousand_made_up_entries_are_settled_as_pairs_would(tmp_path: Path) -> None:
    """What one earlier entry covers alone is never reached, in a list too long to be tried out."""
    path = tmp_path / "big.gate"
    path.write_text(synthetic.plan(1_500))
    regions = ListRegions(read_plan(path).lists["big"])
    boxes = [list(region.boxes()) for region in regions.regions]
    known = coverage(regions)
    for index, own in enumerate(boxes):
        alone = any(
            all(any(covers(outer, box) for outer in earlier) for box in own)
            for earlier in boxes[:index]
        )
        if alone:
            assert not known[index].reached
        packet = known[index].packet
        if packet is not None:
            assert regions.access_list.decide(packet).entry is known[index].entry


@settings(max_examples=80, deadline=None)
@given(
    st.lists(
        st.tuples(st.integers(0, 63), st.integers(0, 63), st.integers(0, 3), st.integers(0, 3)),
        max_size=30,
    ),
    st.booleans(),
    st.booleans(),
)
def test_what_scattered_boxes_leave_is_found(
    parts: list[tuple[int, int, int, int]], by_bits: bool, lucky: bool
) -> None:
    """Boxes with bits anywhere and spans of ports, against trying every address and port; settled
    in either way, also where the first guess finds nothing.
    """

    def box(value: int, wildcard: int, one: int, other: int) -> Box:
        shift, every = LOW_BITS + 32, whole(Family.IPV4)
        narrowed = every._replace(
            value=(value & ~wildcard) << shift,
            wildcard=every.wildcard & ((1 << shift) - 1) | wildcard << shift,
        )
        return narrowed._replace(port_first=min(one, other), port_last=max(one, other))

    outer = box(0, 63, 0, 3)
    boxes = [box(*part) for part in parts]
    left = {
        (value, port)
        for value in range(64)
        for port in range(4)
        if not any(
            each.source.contains(value) and each.port_first <= port <= each.port_last
            for each in boxes
        )
    }
    with (
        patch.object(uncovered, "_FEW_PARTS", -1 if by_bits else 30),
        patch.object(uncovered, "_lucky", uncovered._lucky if lucky else lambda rows: None),
        patch.object(uncovered, "_FEW_BITS", 14 if lucky else 2),
    ):
        found = uncovered.first_uncovered(outer, boxes)
    assert (found is not None) is bool(left)
    if found is not None:
        held = {
            (value, port)
            for value in range(64)
            for port in range(found.port_first, found.port_last + 1)
            if found.source.contains(value)
        }
        assert held <= left
