"""First match of many packets against `AccessList.decide`, with trees and groups of every shape."""

from __future__ import annotations

import os
import random
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from crossgate.core.lists.bulk import first_match, rows
from crossgate.core.lists.bulk.first_match import FirstMatch
from crossgate.core.lists.bulk.lookup import BLOCK
from crossgate.core.lists.bulk.tree import TreeBuilder
from crossgate.core.lists.index import ListIndex
from crossgate.core.model.address import Family, Pattern, format_address
from crossgate.core.model.entry import Entry
from crossgate.core.model.packet import Packet
from crossgate.core.model.packets import Packets, packet_columns
from crossgate.language.reader import read_plan
from tests.core.lists.test_first_match import entry_words, packets

SHAPES = {
    "one tree": {},
    "three trees": {"_ONE_TREE": 0},
    "deep trees": {"_ONE_TREE": 0, "_LEAF_ROWS": 1},
    "groups": {"MOST_PAIRS": 0},
    "some groups": {"MOST_PAIRS": 1},
}
"""What is set otherwise, so that small lists take every way through the code."""


FUZZED = 250_000 if os.environ.get("CROSSGATE_FUZZ") else 3_000
"""So many packets a shape and family are drawn; with `make fuzz` a million a family."""


def reshape(monkeypatch: pytest.MonkeyPatch, shape: str) -> None:
    for name, value in SHAPES[shape].items():
        monkeypatch.setattr(rows if name == "MOST_PAIRS" else first_match, name, value)


def agree(path: Path, drawer: Drawer, text: str, count: int) -> None:
    path.write_text(text)
    access_list = read_plan(path).lists["tested"]
    bulk, index = FirstMatch(access_list), ListIndex(access_list, frozenset())
    drawn = drawer.packets(access_list.entries, count)
    found = bulk.decide(drawn)
    for row, number in enumerate(found.tolist()):
        entry = index.decide(drawn.packet(row)).entry
        assert entry is (None if number < 0 else access_list.entries[number]), drawn.packet(row)


@pytest.mark.parametrize("shape", SHAPES)
@settings(
    max_examples=30,
    suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow],
    deadline=None,
)
@given(st.data(), st.sampled_from(Family))
def test_many_packets_are_decided_as_one_is(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, shape: str, data: st.DataObject, family: Family
) -> None:
    reshape(monkeypatch, shape)
    texts = data.draw(st.lists(entry_words(family), max_size=20))
    path = tmp_path / "list.gate"
    path.write_text(
        "\n".join(
            [
                f"list tested extended {family.word}",
                *(f"    {text}" for text in texts),
                "    otherwise deny",
            ]
        )
    )
    access_list = read_plan(path).lists["tested"]
    drawn = data.draw(st.lists(packets(family), min_size=1, max_size=40))
    columns = packet_columns(family, drawn)
    assert [columns.packet(row) for row in range(len(columns))] == [
        _as_read(each) for each in drawn
    ]
    bulk = FirstMatch(access_list)
    for packet, number in zip(drawn, bulk.decide(columns).tolist(), strict=True):
        assert access_list.decide(packet).entry is (
            None if number < 0 else access_list.entries[number]
        )


def _as_read(packet: Packet) -> Packet:
    """A packet of the other family's ICMP is one of a protocol like any other."""
    other = 58 if packet.family is Family.IPV4 else 1
    return packet._replace(icmp_type=None, icmp_code=None) if packet.protocol == other else packet


class Drawer:
    """Draws lists of many entries, groups of many members among them, and packets that meet
    them.
    """

    def __init__(self, family: Family, seed: int) -> None:
        self.family = family
        self.rng = random.Random(seed)
        self.base = 10 << 24 if family is Family.IPV4 else 0x20010DB8 << 96
        self.step = 0 if family is Family.IPV4 else 56
        self.known = [self.base | self.rng.getrandbits(22) << self.step for _ in range(200)]
        self.ports = [self.rng.randrange(65_536) for _ in range(30)]

    def address(self) -> int:
        value = self.rng.choice(self.known)
        return value ^ self.rng.getrandbits(8) << self.step if self.rng.random() < 0.3 else value

    def word(self) -> str:
        value, kind = self.address(), self.rng.random()
        if kind < 0.05:
            return "any"
        if kind < 0.2:
            wildcard = self.rng.choice((0x0005, 0x5500, 0xF0F0, 0xFFF5)) << self.step | (
                (1 << self.step) - 1
            )
            return (
                f"{format_address(self.family, value)} wild {format_address(self.family, wildcard)}"
            )
        length = self.family.bits - self.step - self.rng.choice((0, 0, 2, 8, 12))
        return (
            f"{format_address(self.family, value)}/{length}"
            if length < self.family.bits
            else format_address(self.family, value)
        )

    def end(self) -> str:
        return f"group{self.rng.randrange(4)}" if self.rng.random() < 0.2 else self.word()

    def port(self) -> str:
        first = self.rng.choice(self.ports)
        return (
            f"{first}-{self.rng.randrange(first, 65_536)}"
            if self.rng.random() < 0.4
            else str(first)
        )

    def entry(self) -> str:
        service = self.rng.choice(
            ("ip", "tcp", "udp", "gre", "ping", "icmp/3", "tcp/P", "tcp/P", "udp/P", "udp/P,P")
        ).split("P")
        words = [
            self.rng.choice(("permit", "deny")),
            self.port().join(service),
            self.end(),
            "to",
            self.end(),
        ]
        if words[1][:3] in ("tcp", "udp") and self.rng.random() < 0.2:
            words.append(f"source port {self.port()}")
        if words[1][:3] == "tcp" and self.rng.random() < 0.2:
            words.append(self.rng.choice(("established", "flags SYN")))
        elif self.rng.random() < 0.1:
            words.append(self.rng.choice(("dscp ef", "dscp 10")))
        return " ".join(words)

    def plan(self, count: int) -> str:
        groups = [
            f"group group{number} {', '.join(self.word() for _ in range(60)).replace('any, ', '')}"
            for number in range(4)
        ]
        return "\n".join(
            [
                *groups,
                f"list tested extended {self.family.word}",
                *(f"    {self.entry()}" for _ in range(count)),
            ]
        )

    def packets(self, entries: Sequence[Entry], count: int) -> Packets:
        """Draw packets, most of them of addresses and ports that some entry takes."""
        drawn = []
        for _ in range(count):
            packet = self.packet()
            if entries and self.rng.random() < 0.8:
                entry = self.rng.choice(entries)
                source, destination = (
                    self.rng.choice(each.patterns) for each in (entry.source, entry.destination)
                )
                packet = packet._replace(
                    source=self.inside(source), destination=self.inside(destination)
                )
                ports = self.rng.choice(entry.service.terms).ports
                if ports and packet.destination_port is not None and self.rng.random() < 0.8:
                    packet = packet._replace(
                        destination_port=self.rng.randint(*self.rng.choice(ports))
                    )
            drawn.append(packet)
        return packet_columns(self.family, drawn)

    def inside(self, pattern: Pattern) -> int:
        return pattern.value | self.rng.getrandbits(self.family.bits) & pattern.wildcard

    def packet(self) -> Packet:
        ends, dscp = (self.address(), self.address()), self.rng.choice((0, 0, 10, 46))
        kind, ports = (
            self.rng.random(),
            (self.rng.randrange(65_536), self.rng.choice([*self.ports, 0, 65_535])),
        )
        if kind < 0.5:
            return Packet(
                self.family, *ends, 6, *ports, flags=self.rng.choice((2, 16, 18)), dscp=dscp
            )
        if kind < 0.8:
            return Packet(self.family, *ends, 17, *ports, dscp=dscp)
        if kind < 0.9:
            icmp = 1 if self.family is Family.IPV4 else 58
            return Packet(
                self.family,
                *ends,
                icmp,
                icmp_type=self.rng.choice((3, 8, 128)),
                icmp_code=self.rng.choice((0, 1)),
                dscp=dscp,
            )
        fragment = self.rng.random() < 0.5
        return Packet(
            self.family,
            *ends,
            self.rng.choice((6, 17, 47)) if fragment else 47,
            fragment=fragment,
            dscp=dscp,
        )


@pytest.mark.parametrize("family", Family)
@pytest.mark.parametrize("shape", ["one tree", "three trees", "deep trees", "groups"])
def test_long_drawn_lists_with_groups_are_decided_alike(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, family: Family, shape: str
) -> None:
    reshape(monkeypatch, shape)
    drawer = Drawer(family, 7)
    agree(tmp_path / "list.gate", drawer, drawer.plan(300), FUZZED)


@pytest.mark.parametrize("shape", ["one tree", "deep trees"])
def test_many_port_ranges_between_few_addresses_are_decided_alike(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, shape: str
) -> None:
    reshape(monkeypatch, shape)
    drawer = Drawer(Family.IPV4, 3)
    drawer.ports = [drawer.rng.randrange(65_536) for _ in range(600)]
    drawer.known = [drawer.base | number for number in range(64)]
    lines = [
        (
            f"    permit udp/{drawer.port()} "
            f"{format_address(drawer.family, drawer.rng.choice(drawer.known))} to any"
        )
        for _ in range(600)
    ]
    agree(tmp_path / "list.gate", drawer, "\n".join(["list tested extended ipv4", *lines]), 6_000)


def test_equal_digests_of_different_rows_are_told_apart(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    reshape(monkeypatch, "deep trees")
    made = TreeBuilder.__init__

    def alike(self: TreeBuilder, *given: Any) -> None:
        made(self, *given)
        self._weights[:] = 0

    monkeypatch.setattr(TreeBuilder, "__init__", alike)
    drawer = Drawer(Family.IPV4, 5)
    agree(tmp_path / "list.gate", drawer, drawer.plan(100), 1_000)


def test_more_than_a_block_of_packets_and_none(tmp_path: Path) -> None:
    path = tmp_path / "list.gate"
    path.write_text(
        "list tested extended ipv4\n    permit tcp/80 10.0.0.0/9 to any\n    deny ip 10.0.0.1 to "
        "any\n"
    )
    access_list = read_plan(path).lists["tested"]
    few = packet_columns(
        Family.IPV4,
        [Packet(Family.IPV4, 10 << 24 | low, 1, 6, 1, 80 + low % 2, flags=2) for low in range(4)],
    )
    many = few.take(np.arange(BLOCK + 9) % 4)
    bulk = FirstMatch(access_list)
    assert bulk.decide(many).tolist() == [(0, 1, 0, -1)[row % 4] for row in range(BLOCK + 9)]
    assert bulk.decide(few.take(slice(0, 0))).tolist() == []


def test_a_list_without_entries_leaves_all_to_its_otherwise_line(tmp_path: Path) -> None:
    path = tmp_path / "list.gate"
    path.write_text("list tested extended ipv6\n    off permit ip any to any\n    otherwise deny\n")
    drawer = Drawer(Family.IPV6, 1)
    assert set(
        FirstMatch(read_plan(path).lists["tested"]).decide(drawer.packets((), 5)).tolist()
    ) == {-1}
