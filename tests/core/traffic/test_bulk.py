"""Conversations in bulk against `Tracer.trace`, one by one, on drawn networks."""

from __future__ import annotations

from collections import Counter
from pathlib import Path
from unittest import mock

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from crossgate.core.conversation.packets import Tracer
from crossgate.core.conversation.story import Trace
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.accesslist import DeciderKey
from crossgate.core.model.address import Family, parse_address
from crossgate.core.model.packet import Packet
from crossgate.core.model.packets import packet_columns
from crossgate.core.network.entrance import entrance
from crossgate.core.network.ways import Network
from crossgate.core.traffic import bulk as bulk_module
from crossgate.core.traffic import ends_in_columns, lane_table
from crossgate.core.traffic.bulk import BulkTracer
from crossgate.core.traffic.fates import NO_PLACE, VERDICTS, Fates
from crossgate.language.reader import read_plan
from tests import net

OPEN = [frozenset[str](), frozenset({"open"})]
LOOSE = settings(
    max_examples=30,
    suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow],
    deadline=None,
)


def of_trace(trace: Trace) -> Verdict:
    return Verdict.VARIES if trace.differing else trace.verdict


def check(tracer: BulkTracer, fates: Fates, row: int, trace: Trace) -> None:
    verdict = of_trace(trace)
    assert VERDICTS[fates.verdict[row]] is verdict, trace.conversation
    decided = trace.decided
    if decided is None or verdict is Verdict.VARIES:
        assert (fates.list[row], fates.entry[row], fates.crossing[row]) == (-1, -1, -1)
        return
    assert decided.decider is not None
    access_list, entry = decided.decider
    assert tracer.asked.lists[fates.list[row]].name == access_list.name
    assert tracer.places[int(fates.crossing[row])] == decided.crossing
    own = tracer.asked.lists[fates.list[row]]
    assert (None if entry is None else entry.number) == (
        None if fates.entry[row] < 0 else own.entries[fates.entry[row]].number
    )


@pytest.mark.parametrize("many", [0, 1_000], ids=["all at once", "one by one"])
@settings(LOOSE, max_examples=18)
@given(text=net.plans(), family=st.sampled_from(Family))
def test_many_conversations_fare_as_each_does(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, many: int, text: str, family: Family
) -> None:
    monkeypatch.setattr(ends_in_columns, "_MANY", many)
    monkeypatch.setattr(bulk_module, "_FEW", many)
    path = tmp_path / "plan.gate"
    path.write_text(text)
    network = Network(read_plan(path))
    tracers = [Tracer(network, each) for each in OPEN]
    openings = list(net.openings(family))
    bulk, windows = BulkTracer(network), np.arange(len(openings)) % 2
    counts = np.full(len(openings), 3), np.full(len(openings), 2)
    fates = bulk.trace(packet_columns(family, openings), windows, OPEN, *counts)
    legs: Counter[DeciderKey] = Counter()
    for row, packet in enumerate(openings):
        trace = tracers[windows[row]].trace(net.conversation(network, packet))
        check(bulk, fates, row, trace)
        legs.update(each.key for each in trace.deciders())
        assert fates.on_link[row] == (
            trace.conversation.source.segment == trace.conversation.destination.segment
        )
    found = {
        DeciderKey(each.name, entry.number if entry else None): int(hits.legs[place])
        for each, hits in zip(bulk.asked.lists, bulk.asked.hits, strict=True)
        for place, entry in enumerate((*each.entries, None))
    }
    assert {key: count for key, count in found.items() if count} == legs


FORKED = """
subnet a 10.0.0.0/24
subnet b 10.0.1.0/24
router one
    interface a 10.0.0.1/24 on a
    interface b 10.0.1.1/24 on b
router two
    interface a 10.0.0.2/24 on a
    interface b 10.0.1.2/24 on b
list l extended ipv4
    deny tcp/80 any to any
    deny tcp/81 any to any established
    otherwise permit
place l inbound on two.a
"""


def rows(texts: list[tuple[str, str, int]]) -> list[Packet]:
    return [
        Packet(
            Family.IPV4,
            parse_address(source).value,
            parse_address(destination).value,
            6,
            50_000,
            port,
            flags=2,
        )
        for source, destination, port in texts
    ]


def test_what_equal_paths_do_not_agree_on_varies(tmp_path: Path) -> None:
    path = tmp_path / "plan.gate"
    path.write_text(FORKED)
    network = Network(read_plan(path))
    packets = rows([("10.0.0.9", "10.0.1.9", port) for port in (80, 81, 82)])
    ones = np.ones(3, np.int64)
    fates = BulkTracer(network).trace(
        packet_columns(Family.IPV4, packets), np.zeros(3, np.int64), OPEN, ones, ones
    )
    assert [VERDICTS[each] for each in fates.verdict] == [
        Verdict.VARIES,
        Verdict.VARIES,
        Verdict.PERMITTED,
    ]
    assert [
        of_trace(Tracer(network).trace(net.conversation(network, each))) for each in packets
    ] == [VERDICTS[e] for e in fates.verdict]


@LOOSE
@given(text=net.ladders(), enters=st.booleans())
def test_ways_that_get_no_lane_each_fare_as_they_do_one_by_one(
    tmp_path: Path, text: str, enters: bool
) -> None:
    """Where packets come in at one end, answers to those of addresses elsewhere go astray."""
    path = tmp_path / "plan.gate"
    path.write_text(text)
    network = Network(read_plan(path))
    ends = [host.addresses[0].value for host in network.plan.hosts.values()]
    elsewhere = parse_address("10.0.1.77").value
    tcp, udp = (Packet(Family.IPV4, 0, 0, protocol, 51_000, 53) for protocol in (6, 17))
    kinds = [
        udp,
        *(tcp._replace(destination_port=port, flags=2) for port in (80, 22)),
        Packet(Family.IPV4, 0, 0, 6, fragment=True),
    ]
    kinds += [
        Packet(Family.IPV4, 0, 0, 1, icmp_type=message, icmp_code=0) for message in (8, 3)
    ] + [Packet(Family.IPV4, 0, 0, 47)]
    between = [(elsewhere, ends[1])] if enters else [(ends[0], ends[1]), (ends[1], ends[0])]
    packets = [
        each._replace(source=one, destination=other) for one, other in between for each in kinds
    ]
    ones, none = np.ones(len(packets), np.int64), np.zeros(len(packets), np.int64)
    told = []
    for most in (0, 1_000):
        with mock.patch.object(lane_table, "_MOST_LANES", most):
            bulk = BulkTracer(network, entrance(network.plan, "subnet s0") if enters else None)
            fates = bulk.trace(
                packet_columns(Family.IPV4, packets), none, [frozenset()], ones, ones
            )
        told.append(
            [
                (*map(int, row),)
                for row in zip(fates.verdict, fates.list, fates.entry, fates.met, strict=True)
            ]
        )
        for row, packet in enumerate(() if enters else packets):
            if not packet.fragment:
                check(bulk, fates, row, Tracer(network).trace(net.conversation(network, packet)))
    assert told[0] == told[1]


def test_what_has_no_place_gets_no_verdict(tmp_path: Path) -> None:
    path = tmp_path / "plan.gate"
    path.write_text(FORKED)
    packets = packet_columns(
        Family.IPV4,
        rows(
            [
                ("10.0.0.9", "192.0.2.1", 80),
                ("192.0.2.1", "10.0.0.9", 80),
                ("10.0.1.9", "10.0.0.9", 1),
            ]
        ),
    )
    ones = np.ones(3, np.int64)
    fates = BulkTracer(Network(read_plan(path))).trace(
        packets, np.zeros(3, np.int64), OPEN, ones, ones
    )
    assert fates.verdict.tolist()[:2] == [NO_PLACE, NO_PLACE]
    assert fates.verdict[2] >= 0


def test_no_conversations_at_all(tmp_path: Path) -> None:
    path = tmp_path / "plan.gate"
    path.write_text(FORKED)
    none = np.zeros(0, np.int64)
    fates = BulkTracer(Network(read_plan(path))).trace(
        packet_columns(Family.IPV6, []), none, OPEN, none, none
    )
    assert len(fates.verdict) == 0
