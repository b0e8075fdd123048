"""Distilled entries permit all that was seen and answered, and nothing else unless room is
given.
"""

from __future__ import annotations

import random
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from crossgate.core.answers.distil import Distiller
from crossgate.core.answers.distilled_groups import rounded_up
from crossgate.core.answers.groups import NoPattern, Term, grouped
from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.address import Family, parse_address
from crossgate.core.model.conditions import Limit
from crossgate.core.model.packet import ACK, SYN, Packet
from crossgate.core.model.packets import packet_columns
from crossgate.core.model.plan import Plan
from crossgate.core.traffic.rates import Rates
from crossgate.core.traffic.seen import SECOND, Seen
from crossgate.language.reader import read_plan
from crossgate.library import parse

PLAN = """
subnet a 10.0.0.0/29 2001:db8:a::/126
router r
    interface a 10.0.0.1/29 2001:db8:a::1/126 on a
host one 10.0.0.2 2001:db8:a::2 on a
group pair 10.0.0.4-10.0.0.5
service web tcp/80, tcp/443
"""


def conversations(packets: list[Packet], back: list[int], back_flags: int = 18) -> Seen:
    count = len(packets)
    none, ones = np.zeros(count, np.int64), np.ones(count, np.int64)
    flags = np.stack([np.full(count, 2, np.uint8), np.full(count, back_flags, np.uint8)])
    return Seen(
        packet_columns(packets[0].family, packets),
        none,
        none,
        np.stack([ones, np.array(back)]),
        np.stack([ones, none]),
        flags,
        none.astype(np.uint16),
        none.astype(np.bool_),
        none.astype(np.uint64),
        none.astype(np.uint64),
        none.astype(np.uint8),
    )


@pytest.fixture
def plan(tmp_path: Path) -> Plan:
    path = tmp_path / "plan.gate"
    path.write_text(PLAN)
    return read_plan(path)


def listed(tmp_path: Path, family: Family, texts: list[str]) -> AccessList:
    path = tmp_path / "list.gate"
    path.write_text(
        "\n".join([PLAN, f"list seen extended {family.word}", *(f"    {text}" for text in texts)])
    )
    return read_plan(path).lists["seen"]


def distilled(plan: Plan, packets: list[Packet], room: float = 0) -> list[str]:
    distiller = Distiller(plan, packets[0].family)
    distiller.add(conversations(packets, [1] * len(packets)))
    return [each.text for each in distiller.entries(room)]


def packet(
    source: int, destination: int, kind: str, port: int, family: Family = Family.IPV4
) -> Packet:
    base = parse_address("10.0.0.0" if family is Family.IPV4 else "2001:db8:a::").value
    ends = base + source, base + destination
    if kind == "ping":
        return Packet(
            family,
            *ends,
            1 if family is Family.IPV4 else 58,
            icmp_type=8 if family is Family.IPV4 else 128,
            icmp_code=0,
        )
    if kind == "fragment":
        return Packet(family, *ends, 17, fragment=True)
    protocol = {"tcp": 6, "udp": 17, "gre": 47}[kind]
    if kind == "gre":
        return Packet(family, *ends, protocol)
    return Packet(family, *ends, protocol, 50_000, port, flags=SYN if kind == "tcp" else None)


@settings(max_examples=50)
@given(st.integers(0, 10_000), st.sampled_from(Family))
@example(2801, Family.IPV4)
@example(4590, Family.IPV4)
def test_it_permits_just_what_was_seen(tmp_path: Path, seed: int, family: Family) -> None:
    rng = random.Random(seed)
    path = tmp_path / "plan.gate"
    path.write_text(PLAN)
    universe = [
        packet(source, destination, kind, port, family)
        for source in range(8)
        for destination in range(3)
        if source != destination
        for kind, port in (
            ("tcp", 80),
            ("tcp", 443),
            ("tcp", 444),
            ("udp", 53),
            ("ping", 0),
            ("gre", 0),
            ("fragment", 0),
        )
    ]
    seen = rng.sample(universe, rng.randint(1, 40))
    texts = distilled(read_plan(path), seen)
    access_list = listed(tmp_path, family, texts)
    permitted = {each for each in universe if access_list.decide(each).permits}
    wanted = set(seen)
    # `gre` takes its fragments too, and nothing else was drawn that one entry cannot tell from
    # another. A subnet's name
    # stands where all machines were seen that can be in it: the first and last address and the
    # router's send nothing.
    assert wanted <= permitted
    nobodys = {0, 1, 7} if family is Family.IPV4 else set()
    assert all(
        {each.source & 7, each.destination & 7} & nobodys and " a " in f" {' '.join(texts)} "
        for each in permitted - wanted
    )
    for left_out in range(len(texts)):
        fewer = listed(tmp_path, family, texts[:left_out] + texts[left_out + 1 :])
        assert any(not fewer.decide(each).permits for each in wanted), "an entry can go"


@given(st.sets(st.tuples(*[st.integers(0, 3)] * 3), min_size=1), st.booleans())
def test_what_agrees_in_two_respects_is_put_together_again_and_again(
    drawn: set[tuple[int, int, int]], reply: bool
) -> None:
    keys = [(one, other, Term(6, port, reply=reply)) for one, other, port in sorted(drawn)]
    found: list[tuple[frozenset[Any], ...]] = [
        tuple(frozenset((value,)) for value in each) for each in keys
    ]
    before = 0
    while before != len(found):
        before = len(found)
        for side in (0, 1) if reply else (0, 1, 2):
            alike: dict[object, list[tuple[frozenset[Any], ...]]] = {}
            for each in found:
                alike.setdefault((each[:side], each[side + 1 :]), []).append(each)
            found = [
                tuple(
                    frozenset().union(*(each[own] for each in same))
                    if own == side
                    else same[0][own]
                    for own in (0, 1, 2)
                )
                for same in alike.values()
            ]
    assert [tuple(each) for each in grouped(keys, len(found))] == found
    if len(found) > 1:
        with pytest.raises(NoPattern) as error:
            grouped(keys, len(found) - 1)
        assert error.value.groups == len(found)


def test_names_stand_where_they_say_just_the_set(plan: Plan) -> None:
    assert distilled(
        plan,
        [
            packet(4, 2, "tcp", 80),
            packet(5, 2, "tcp", 80),
            packet(4, 2, "tcp", 443),
            packet(5, 2, "tcp", 443),
        ],
    ) == ["permit web pair to one"]
    assert distilled(
        plan, [packet(4, 2, "tcp", 80), packet(5, 2, "tcp", 80), packet(6, 2, "tcp", 80)]
    ) == ["permit tcp/80 10.0.0.4-10.0.0.6 to one"]
    assert distilled(
        plan, [packet(2, 6, "ping", 0), packet(2, 6, "udp", 53), packet(2, 6, "gre", 0)]
    ) == ["permit udp/53,ping,gre one to 10.0.0.6"]
    assert distilled(plan, [packet(2, 6, "fragment", 0)]) == [
        "permit udp one to 10.0.0.6 fragments"
    ]


def test_what_the_name_of_a_subnet_permits_has_no_entry_of_its_own(plan: Plan) -> None:
    machines = [
        packet(source, destination, "ping", 0)
        for source in (8, 9)
        for destination in (2, 3, 4, 5, 6)
    ]
    assert distilled(plan, [*machines, packet(8, 1, "ping", 0)]) == ["permit ping 10.0.0.8/31 to a"]
    assert distilled(plan, [*machines, packet(8, 1, "udp", 53)]) == [
        "permit ping 10.0.0.8/31 to a",
        "permit udp/53 10.0.0.8 to 10.0.0.1",
    ]
    assert distilled(plan, [*machines, packet(8, 1, "ping", 0), packet(7, 1, "ping", 0)])[1:] == [
        "permit ping 10.0.0.7-10.0.0.8 to 10.0.0.1"
    ]
    distiller = Distiller(plan, Family.IPV4)
    distiller.add(conversations([*machines, packet(8, 1, "ping", 0)], [1] * 11))
    assert [each.conversations for each in distiller.entries()] == [11]


def test_what_nobody_answered_is_left_out_unless_all_is_wanted(plan: Plan) -> None:
    packets = [packet(2, 6, "tcp", 80), packet(2, 6, "tcp", 81)]
    for every, texts in (
        (False, ["permit tcp/80 one to 10.0.0.6"]),
        (True, ["permit tcp/80-81 one to 10.0.0.6"]),
    ):
        distiller = Distiller(plan, Family.IPV4)
        distiller.add(conversations(packets, [1, 0]), every)
        assert [each.text for each in distiller.entries()] == texts
        assert distiller.unanswered == (0 if every else 1)
    refused = Distiller(plan, Family.IPV4)
    refused.add(
        conversations(packets, [1, 1], back_flags=20)
    )  # RST and ACK: somebody is there, and does not want it
    assert refused.entries() == []


def test_room_makes_fewer_entries_and_no_more_is_unseen(plan: Plan) -> None:
    seen = [
        packet(source, destination, "tcp", 80)
        for source, destination in ((2, 6), (4, 6), (4, 7), (5, 7), (2, 7))
    ]
    distiller = Distiller(plan, Family.IPV4)
    distiller.add(conversations(seen, [1] * len(seen)))
    exact = distiller.entries()
    assert all(each.unseen == 0 for each in exact)
    for room in (0.2, 0.4, 0.6, 0.9):
        wide = distiller.entries(room)
        assert len(wide) <= len(exact)
        assert all(each.unseen <= room for each in wide)
        assert sum(each.conversations for each in wide) >= len(seen)
    assert [each.text for each in distiller.entries(0.4)] == [
        "permit tcp/80 10.0.0.2-10.0.0.5 to 10.0.0.6/31"
    ]


def test_answers_are_entries_where_they_come_by(plan: Plan) -> None:
    seen = [
        packet(2, 6, "tcp", 80),
        packet(2, 6, "udp", 53),
        packet(2, 6, "ping", 0),
        packet(2, 6, "fragment", 0),
    ]
    distiller = Distiller(plan, Family.IPV4)
    distiller.add(conversations(seen, [1] * len(seen)))
    kinds = distiller.kinds
    there, back = dict.fromkeys(kinds, ()), {each: (each,) for each in kinds}
    assert sorted(each.text for each in distiller.entries(0, there, back)) == [
        "permit icmp/0 10.0.0.6 to one",
        "permit tcp/32768- 10.0.0.6 to one source port 80 established",
        "permit udp/32768- 10.0.0.6 to one source port 53",
    ]


@given(
    st.lists(st.tuples(st.integers(0, 300), st.sampled_from(["tcp", "udp"])), min_size=1),
    st.sampled_from([0, 0.5, 1]),
)
def test_a_limit_of_its_busiest_minute_lets_all_that_was_seen_by(
    times: list[tuple[int, str]], headroom: float
) -> None:
    plan = parse(PLAN)
    distiller = Distiller(plan, Family.IPV4)
    packets = [packet(2, 5, kind, 443) for _, kind in times]
    seen = conversations(packets, [1] * len(packets))
    first = np.array([time * SECOND for time, _ in times], np.int64)
    flags = np.array([[SYN if kind == "tcp" else 0 for _, kind in times], [0] * len(times)])
    seen = replace(seen, first=first, last=first, flags=flags.astype(np.uint8))
    distiller.add(seen)
    distiller.add_times(seen, flows=False)
    (entry,) = distiller.entries(headroom=headroom)
    moments = sorted(time for time, _ in times)
    busiest = max(sum(start <= each < start + 60 for each in moments) for start in moments)
    assert entry.busiest == busiest
    most = int(entry.text.split(" at most ")[1].removesuffix(" a minute"))
    assert busiest * (1 + headroom) <= most < max(busiest * (1 + headroom) * 1.1, 1) + 1
    rates, limit = Rates(), Limit(most, 60, False, "seen", 10)
    assert not any(
        rates.exceeded(each * SECOND, 0, lambda over: () if limit in over else [("", limit)])
        for each in moments
    )


def test_what_a_limit_counts_is_what_opens(plan: Plan) -> None:
    distiller = Distiller(plan, Family.IPV4)
    packets = [packet(2, 5, "tcp", 443)] * 3 + [packet(3, 6, "udp", 53)]
    seen = conversations(packets, [1] * 4)
    flags = np.array([[SYN, SYN | ACK, ACK, 0], [0] * 4], np.uint8)
    counts = np.array([[1, 1, 1, 7], [1] * 4], np.int64)
    last = np.array([0, 0, 0, 180 * SECOND], np.int64)
    seen = replace(seen, flags=flags, counts=counts, last=last)
    distiller.add(seen)
    distiller.add_times(seen, flows=False)
    # Seven packets of three minutes are one each half a minute.
    assert {each.text.split()[1]: each.busiest for each in distiller.entries(headroom=0)} == {
        "tcp/443": 1,
        "udp/53": 2,
    }


@pytest.mark.parametrize(
    ("number", "rounded"), [(1, 1), (1.2, 2), (99, 99), (99.5, 100), (101, 110), (12_345, 13_000)]
)
def test_limits_are_round_numbers(number: float, rounded: int) -> None:
    assert rounded_up(number) == rounded
