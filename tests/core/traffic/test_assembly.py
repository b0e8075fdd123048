"""Conversations put together in batches of columns, against putting them together packet by
packet.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any
from unittest import mock

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from crossgate.core.model.address import Family
from crossgate.core.model.packet import Packet
from crossgate.core.model.packets import packet_columns
from crossgate.core.traffic import assembly
from crossgate.core.traffic.arrivals import Arrivals
from crossgate.core.traffic.assembly import Assembler
from crossgate.core.traffic.seen import SECOND, Seen, joined, opened

IDLE = 300 * SECOND
SYN, ACK, FIN, RST = 2, 16, 1, 4


def seen(
    family: Family,
    packets: list[Packet],
    times: list[int],
    identifiers: list[int] | None = None,
    octets: int = 60,
) -> Seen:
    count = len(packets)
    flags = np.array([[each.flags or 0 for each in packets], [0] * count], np.uint8).reshape(
        2, count
    )
    one = np.array([[1] * count, [0] * count], np.int64).reshape(2, count)
    moments = np.array(times, np.int64)
    return Seen(
        packet_columns(family, packets),
        moments,
        moments,
        one,
        one * octets,
        flags,
        np.array(identifiers or [0] * count, np.uint16),
        np.zeros(count, np.bool_),
        np.zeros(count, np.uint64),
        np.zeros(count, np.uint64),
        np.zeros(count, np.uint8),
    )


@dataclass
class Plain:
    """A conversation as the reference has it: packets one after the other."""

    rows: list[tuple[int, Packet]] = field(default_factory=list)

    def opener(self) -> tuple[Packet, bool]:
        """Return the packet that tells who opened it, and whether its sender did."""
        for _, each in self.rows:
            if each.protocol == 6 and not each.fragment and (each.flags or 0) & SYN:
                return each, not (each.flags or 0) & ACK
            if each.icmp_type in (8, 0):
                return each, each.icmp_type == 8  # all of one conversation say the same
        return self.rows[0][1], True

    def ended(self) -> bool:
        finished = {
            each.source for _, each in self.rows if each.protocol == 6 and (each.flags or 0) & FIN
        }
        return len(finished) == 2 or any(
            (each.flags or 0) & RST for _, each in self.rows if each.protocol == 6
        )

    def told(self) -> tuple[object, ...]:
        packet, opens = self.opener()
        source, destination = (
            (packet.source, packet.destination) if opens else (packet.destination, packet.source)
        )
        there = sum(1 for _, each in self.rows if each.source == source)
        return (
            source,
            destination,
            packet.protocol,
            packet.fragment,
            self.rows[0][0],
            self.rows[-1][0],
            there,
            len(self.rows) - there,
        )


def reference(packets: list[Packet], times: list[int]) -> list[tuple[object, ...]]:
    latest: dict[object, Plain] = {}
    every: list[Plain] = []
    for moment, packet in sorted(zip(times, packets, strict=True), key=lambda each: each[0]):
        ends = sorted(
            [
                (packet.source, packet.source_port or 0),
                (packet.destination, packet.destination_port or 0),
            ]
        )
        message = (
            None
            if packet.icmp_type is None
            else (0 if packet.icmp_type in (0, 8) else packet.icmp_type, packet.icmp_code)
        )
        asker = {8: packet.source, 0: packet.destination}.get(
            -1 if packet.icmp_type is None else packet.icmp_type
        )
        key = (tuple(ends), packet.protocol, packet.fragment, message, asker)
        known = latest.get(key)
        pure = (
            packet.protocol == 6
            and not packet.fragment
            and (packet.flags or 0) & (SYN | ACK) == SYN
        )
        if known is None or moment - known.rows[-1][0] > IDLE or (pure and known.ended()):
            known = latest[key] = Plain()
            every.append(known)
        known.rows.append((moment, packet))
    return [each.told() for each in every]


def columns(found: Seen) -> list[tuple[object, ...]]:
    packets = [found.packets.packet(row) for row in range(len(found))]
    numbers = zip(found.first.tolist(), found.last.tolist(), *found.counts.tolist(), strict=True)
    return [
        (each.source, each.destination, each.protocol, each.fragment, *own)
        for each, own in zip(packets, numbers, strict=True)
    ]


@st.composite
def drawn_packets(draw: st.DrawFn) -> list[Packet]:
    found = []
    for _ in range(draw(st.integers(0, 40))):
        ends = draw(st.sampled_from([(1, 2), (2, 1), (1, 3)]))
        kind = draw(st.sampled_from(["tcp", "tcp", "tcp", "udp", "ping", "other", "fragment"]))
        ports = draw(st.sampled_from([(50_000, 80), (50_001, 80)]))
        ports = ports if ends[0] == 1 else ports[::-1]
        if kind == "tcp":
            found.append(
                Packet(
                    Family.IPV4,
                    *ends,
                    6,
                    *ports,
                    flags=draw(st.sampled_from([SYN, SYN | ACK, ACK, FIN | ACK, RST, ACK])),
                )
            )
        elif kind == "udp":
            found.append(Packet(Family.IPV4, *ends, 17, *ports))
        elif kind == "ping":
            found.append(
                Packet(
                    Family.IPV4, *ends, 1, icmp_type=draw(st.sampled_from([0, 8, 3])), icmp_code=0
                )
            )
        else:
            found.append(
                Packet(
                    Family.IPV4, *ends, 6 if kind == "fragment" else 47, fragment=kind == "fragment"
                )
            )
    return found


@settings(max_examples=120, deadline=None)
@given(
    data=st.data(),
    packets=drawn_packets(),
    part_rows=st.sampled_from([2, 1_000]),
    least_merged=st.sampled_from([1, 1_000]),
    few_shared=st.sampled_from([0.2, 1.0]),
    unfolded=st.sampled_from([0, 3]),
)
def test_batches_come_to_what_packet_by_packet_does(
    data: st.DataObject,
    packets: list[Packet],
    part_rows: int,
    least_merged: int,
    few_shared: float,
    unfolded: int,
) -> None:
    sizes: dict[str, Any] = {
        "_PART_ROWS": part_rows,
        "_LEAST_MERGED": least_merged,
        "_FEW_SHARED": few_shared,
        "_UNFOLDED": unfolded,
    }
    with mock.patch.multiple(assembly, **sizes):
        compare_with_reference(data, packets)


def compare_with_reference(data: st.DataObject, packets: list[Packet]) -> None:
    gaps = data.draw(
        st.lists(
            st.sampled_from([1, SECOND, 200 * SECOND, 301 * SECOND]),
            min_size=len(packets),
            max_size=len(packets),
        )
    )
    times = np.cumsum(gaps).tolist() if packets else []
    whole = opened(seen(Family.IPV4, packets, times))
    arrivals, assembler, found, at = Arrivals(IDLE), Assembler(IDLE), [], 0
    while at < len(packets):
        step = data.draw(st.integers(1, 15))
        found.append(assembler.add(arrivals.take(whole.take(slice(at, at + step)))))
        at += step
    rest = assembler.rest()
    found += [] if rest is None else [rest]
    every = [row for each in found for row in columns(each)]
    assert sorted(every, key=str) == sorted(reference(packets, times), key=str)
    assert arrivals.backwards == 0


def test_a_late_packet_in_the_batch_of_the_next_syn_belongs_to_the_conversation_before() -> None:
    there, back = (1, 2, 6, 50_000, 80), (2, 1, 6, 80, 50_000)
    batches = (
        [(there, SYN), (back, SYN | ACK), (there, FIN | ACK), (back, FIN | ACK)],
        [(there, ACK), (there, SYN), (back, SYN | ACK)],
    )
    arrivals, assembler = Arrivals(IDLE), Assembler(IDLE)
    for number, batch in enumerate(batches):
        packets = [Packet(Family.IPV4, *ends, flags=flags) for ends, flags in batch]
        assembler.add(
            arrivals.take(
                opened(
                    seen(Family.IPV4, packets, [10 * number + each for each in range(len(packets))])
                )
            )
        )
    rest = assembler.rest()
    assert rest is not None
    assert sorted(row[4:] for row in columns(rest)) == [(0, 10, 3, 2), (11, 12, 1, 1)]


def test_the_same_ip_packet_within_ten_milliseconds_counts_once_across_batches_too() -> None:
    packets = [Packet(Family.IPV4, 1, 2, 17, 50_000, 53)] * 4
    whole = opened(seen(Family.IPV4, packets, [0, 9_000, 30_000, 39_000]))
    whole.identity[:] = [7, 7, 7, 8]
    arrivals, assembler = Arrivals(), Assembler()
    for row in range(4):
        assembler.add(arrivals.take(whole.take(slice(row, row + 1))))
    rest = assembler.rest()
    assert rest is not None
    assert (arrivals.again, rest.counts[0].tolist()) == (1, [3])


def test_times_that_run_backwards_are_counted() -> None:
    packets = [Packet(Family.IPV4, 1, 2, 17, 50_000, port) for port in (1, 2, 3)]
    arrivals = Arrivals()
    arrivals.take(opened(seen(Family.IPV4, packets, [20, 10, 15])))
    arrivals.take(opened(seen(Family.IPV4, packets, [18, 30, 31])))
    assert arrivals.backwards == 3


def test_a_file_that_begins_long_before_the_one_before_begins_anew() -> None:
    packets = [Packet(Family.IPV4, 1, 2, 17, 50_000, 53)] * 2
    arrivals, assembler = Arrivals(IDLE), Assembler(IDLE)
    found = [
        assembler.add(arrivals.take(opened(seen(Family.IPV4, packets, [start, start + SECOND]))))
        for start in (1_000 * SECOND, 0, 2 * SECOND)
    ]
    rest = assembler.rest()
    assert rest is not None
    assert [row[4:7] for each in [*found, rest] for row in columns(each)] == [
        (1_000 * SECOND, 1_001 * SECOND, 2),
        (0, 3 * SECOND, 4),
    ]
    assert arrivals.backwards == 0


def test_in_records_of_flows_the_end_without_a_clients_port_is_the_server() -> None:
    flows = [
        Packet(Family.IPV4, 2, 1, 6, 443, 50_000, flags=SYN | ACK | FIN),
        Packet(Family.IPV4, 1, 2, 6, 50_000, 443, flags=SYN | ACK),
    ]
    found = opened(seen(Family.IPV4, flows, [0, 5]), client_ports=(49_152, 65_535))
    rest = Assembler()
    rest.add(Arrivals().take(found))
    assert columns(joined([each for each in [rest.rest()] if each])) == [
        (1, 2, 6, False, 0, 5, 1, 1)
    ]


def test_pings_with_other_identifiers_are_other_conversations() -> None:
    pings = [
        Packet(Family.IPV6, 1, 2, 58, icmp_type=128, icmp_code=0),
        Packet(Family.IPV6, 2, 1, 58, icmp_type=129, icmp_code=0),
    ]
    arrivals, assembler = Arrivals(), Assembler()
    assembler.add(arrivals.take(opened(seen(Family.IPV6, pings * 2, [0, 1, 2, 3], [9, 9, 8, 8]))))
    rest = assembler.rest()
    assert rest is not None
    assert [row[:2] + row[-2:] for row in columns(rest)] == [(1, 2, 1, 1), (1, 2, 1, 1)]
