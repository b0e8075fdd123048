"""Token buckets, against counting by hand; and replayed traffic under limits, against one packet
after the other.
"""

from __future__ import annotations

from collections.abc import Hashable
from fractions import Fraction

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from crossgate.core.answers.list_replay import ListReplay
from crossgate.core.answers.replay import Replay
from crossgate.core.conversation.opening import Conversation
from crossgate.core.conversation.packets import Tracer
from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.address import Address, Family
from crossgate.core.model.conditions import Limit, is_counted
from crossgate.core.model.packet import ACK, SYN, Packet
from crossgate.core.model.packets import packet_columns
from crossgate.core.model.plan import Plan
from crossgate.core.network.endpoints import at_address
from crossgate.core.network.ways import Network
from crossgate.core.traffic.fates import VERDICTS
from crossgate.core.traffic.rates import SECOND, Rates
from crossgate.core.traffic.seen import Seen
from crossgate.language.reader import read_plan

PLAN = """
subnet out 10.0.0.0/24
subnet mid 10.0.1.0/24
subnet end 10.0.2.0/24
router one
    interface out 10.0.0.1/24 on out
    interface mid 10.0.1.1/24 on mid
router two
    interface mid 10.0.1.2/24 on mid
    interface end 10.0.2.1/24 on end
list door extended ipv4
    10 permit tcp/80 any to any at most 2 a second
    20 permit tcp/80 10.0.0.8 to any at most 1 a minute
    30 permit udp any to any at most 3 a second from each source
    40 permit tcp any to any established
list inner extended ipv4
    10 permit ip any to any at most 4 a second
place door inbound on one.out
place inner inbound on two.mid
"""
TIMES = st.lists(
    st.integers(0, 5 * SECOND // 100).map(lambda each: each * 100), min_size=1, max_size=40
).map(sorted)


def taken(limit: Limit, times: list[int]) -> list[bool]:
    """Fill a bucket exactly, in fractions, and say at which times there was a token."""
    left, before, found = Fraction(limit.most), times[0], []
    for time in times:
        left = min(
            Fraction(limit.most),
            left + Fraction((time - before) * limit.most, limit.seconds * SECOND),
        )
        before = time
        found.append(left >= 1)
        left -= found[-1]
    return found


@given(TIMES, st.integers(1, 4), st.sampled_from([1, 60]))
def test_a_bucket_holds_what_it_says(times: list[int], most: int, seconds: int) -> None:
    limit, rates = Limit(most, seconds, False, "door", 10), Rates()
    found = [
        not rates.exceeded(time, "a", lambda over: [] if over else [("here", limit)])
        for time in times
    ]
    assert found == taken(limit, times)
    assert rates.beyond[limit] == found.count(False)


def test_each_source_has_a_bucket_where_the_limit_says_so_and_each_place_always() -> None:
    for each_source in (False, True):
        limit, rates = Limit(1, 1, each_source, "door", 10), Rates()

        def asked(source: str, place: str, rates: Rates = rates, limit: Limit = limit) -> bool:
            return not rates.exceeded(0, source, lambda over: [] if over else [(place, limit)])

        assert [asked("a", "x"), asked("b", "x"), asked("a", "y")] == [True, each_source, True]


def plain(plan: Plan, opened: list[tuple[int, Packet]]) -> tuple[list[str], dict[Limit, int]]:
    """Trace conversations in the order of time, each in the state that its own buckets leave it;
    buckets are lists of times.
    """
    network, seen, verdicts = Network(plan), dict[tuple[Hashable, ...], list[int]](), []
    beyond: dict[Limit, int] = {}
    for time, packet in opened:
        over: frozenset[Limit] = frozenset()
        counted: set[tuple[str, Limit]] = set()
        ends = [
            at_address(network, Address(Family.IPV4, value))
            for value in (packet.source, packet.destination)
        ]
        while True:
            trace = Tracer(network, over).trace(Conversation(ends[0], ends[1], packet))
            again = False
            for asked in trace.legs[0].asked:
                entry = asked.decider.entry if asked.decider else None
                limit = None if entry is None else entry.limit
                if (
                    limit is None
                    or limit in over
                    or (str(asked.crossing), limit) in counted
                    or not is_counted(packet)
                ):
                    continue
                times = seen.setdefault(
                    (str(asked.crossing), limit, packet.source if limit.each_source else None), []
                )
                if taken(limit, [*times, time])[-1]:
                    counted.add((str(asked.crossing), limit))
                    times.append(time)
                else:
                    over |= {limit}
                    beyond[limit] = beyond.get(limit, 0) + 1
                    times.append(time)
                    again = True
                    break
            if not again:
                verdicts.append(str(trace.verdict))
                break
    return verdicts, beyond


OPENED = st.tuples(
    st.integers(0, 300).map(lambda each: each * 20_000),
    st.sampled_from([8, 9]),
    st.sampled_from([(6, 80), (6, 22), (17, 53)]),
)


@given(st.lists(OPENED, min_size=1, max_size=60))
def test_a_replay_is_what_tracing_one_after_the_other_finds(
    tmp_path_factory: pytest.TempPathFactory, several: list[tuple[int, int, tuple[int, int]]]
) -> None:
    path = tmp_path_factory.mktemp("rates") / "a.gate"
    path.write_text(PLAN)
    plan = read_plan(path)
    opened = []
    for number, (time, low, (protocol, port)) in enumerate(sorted(several)):
        source, destination = (10 << 24) + low, (10 << 24) + (2 << 8) + 9
        flags = SYN if protocol == 6 else None
        # Those that begin first end last, so that they are traced in another order than they began.
        opened.append(
            (
                time,
                10**9 - time,
                Packet(
                    Family.IPV4, source, destination, protocol, 40_000 + number, port, flags=flags
                ),
            )
        )
    packets = packet_columns(Family.IPV4, [packet for _, _, packet in opened])
    count = len(opened)
    ones = np.ones((2, count), np.int64)
    seen = Seen(
        packets,
        np.array([first for first, _, _ in opened]),
        np.array([last for _, last, _ in opened]),
        ones,
        ones,
        np.full((2, count), SYN, np.uint8),
        np.zeros(count, np.uint16),
        np.ones(count, np.bool_),
        np.zeros(count, np.uint64),
        np.zeros(count, np.uint64),
        np.zeros(count, np.uint8),
    )
    replay, found = Replay(Network(plan)), dict[int, str]()
    for part in np.array_split(np.argsort(seen.last, kind="stable"), 3):
        replay._waiting = {Family.IPV4: [seen.take(part)]} if len(part) else {}
        for told in replay._traced(Family.IPV4) if len(part) else ():
            ports = told.seen.packets.source_port.tolist()
            found.update(
                zip(
                    ports,
                    [str(VERDICTS[each]) for each in told.fates.verdict.tolist()],
                    strict=True,
                )
            )
    for told in replay.rest():
        ports = told.seen.packets.source_port.tolist()
        found.update(
            zip(ports, [str(VERDICTS[each]) for each in told.fates.verdict.tolist()], strict=True)
        )
    verdicts, beyond = plain(plan, [(time, packet) for time, _, packet in opened])
    assert [found[packet.source_port or 0] for _, _, packet in opened] == verdicts
    assert dict(replay.rates.beyond) == beyond


@given(
    st.lists(
        st.tuples(
            st.integers(0, 60),
            st.sampled_from([8, 9]),
            st.sampled_from([SYN, ACK, SYN | ACK, None]),
        ),
        min_size=1,
        max_size=40,
    )
)
def test_packets_at_one_list_are_counted_one_by_one(
    tmp_path_factory: pytest.TempPathFactory, several: list[tuple[int, int, int | None]]
) -> None:
    path = tmp_path_factory.mktemp("rates") / "a.gate"
    path.write_text(PLAN)
    plan = read_plan(path)
    door: AccessList = plan.lists["door"]
    sent = [
        (
            tick * 50_000,
            Packet(
                Family.IPV4,
                (10 << 24) + low,
                167772681,
                17 if flags is None else 6,
                40_000,
                53 if flags is None else 80,
                flags=flags,
            ),
        )
        for tick, low, flags in sorted(several, key=lambda each: each[0])
    ]
    count = len(sent)
    there = np.stack([np.ones(count, np.int64), np.zeros(count, np.int64)])
    times = np.array([time for time, _ in sent])
    seen = Seen(
        packet_columns(Family.IPV4, [packet for _, packet in sent]),
        times,
        times,
        there,
        there,
        np.zeros((2, count), np.uint8),
        np.zeros(count, np.uint16),
        np.ones(count, np.bool_),
        np.zeros(count, np.uint64),
        np.zeros(count, np.uint64),
        np.zeros(count, np.uint8),
    )
    replay = ListReplay(Network(plan), door)
    replay.add(Family.IPV4, seen)
    asked: dict[tuple[Hashable, ...], list[int]] = {}
    decided = [0] * (len(door.entries) + 1)
    for time, packet in sent:
        over: frozenset[Limit] = frozenset()
        while True:
            entry = door.decide(packet, over).entry
            limit = None if entry is None or not is_counted(packet) else entry.limit
            if limit is None or limit in over:
                break
            times_of = asked.setdefault((limit, packet.source if limit.each_source else None), [])
            times_of.append(time)
            if taken(limit, times_of)[-1]:
                break
            over |= {limit}
        decided[
            -1 if entry is None else [each.number for each in door.entries].index(entry.number)
        ] += 1
    assert [line.packets for line in replay.lines()] == decided
