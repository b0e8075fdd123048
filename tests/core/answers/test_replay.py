"""Replay: every conversation fares as `trace` says at its own time, and the sums are those of the
conversations.
"""

from __future__ import annotations

import random
from collections import Counter
from datetime import UTC, datetime
from pathlib import Path
from zoneinfo import ZoneInfo

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from crossgate.core.answers.list_replay import ListReplay
from crossgate.core.answers.replay import Replay
from crossgate.core.answers.replay_clock import Clock
from crossgate.core.answers.sums import Sum, verdict_numbered
from crossgate.core.conversation.opening import Conversation
from crossgate.core.conversation.packets import Tracer
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.address import Address, Family, parse_address
from crossgate.core.model.packet import Packet
from crossgate.core.model.packets import packet_columns
from crossgate.core.model.window import open_at
from crossgate.core.network.endpoints import at_address
from crossgate.core.network.entrance import entrance
from crossgate.core.network.paths import Endpoint
from crossgate.core.network.ways import Network
from crossgate.core.traffic.seen import SECOND, Seen
from crossgate.language.reader import read_plan
from tests import net

MONDAY = int(datetime(2026, 11, 23, 7, 59, tzinfo=UTC).timestamp()) * SECOND


def seen(packets: list[Packet], times: list[int]) -> Seen:
    count = len(packets)
    ones, none = np.ones(count, np.int64), np.zeros(count, np.int64)
    flags = np.stack(
        [np.array([each.flags or 0 for each in packets], np.uint8), np.zeros(count, np.uint8)]
    )
    moments = np.array(times, np.int64)
    return Seen(
        packet_columns(packets[0].family, packets),
        moments,
        moments,
        np.stack([ones, none]),
        np.stack([ones * 60, none]),
        flags,
        none.astype(np.uint16),
        none.astype(np.bool_),
        none.astype(np.uint64),
        none.astype(np.uint64),
        none.astype(np.uint8),
    )


@settings(max_examples=25)
@given(
    text=net.plans(),
    other=net.plans(),
    family=st.sampled_from(Family),
    chosen=st.integers(0, 1_000),
)
def test_conversations_fare_as_traces_do_at_their_time(
    tmp_path: Path, text: str, other: str, family: Family, chosen: int
) -> None:
    networks = []
    for number, each in enumerate((text, other)):
        path = tmp_path / f"{number}.gate"
        path.write_text(each)
        networks.append(Network(read_plan(path)))
    packets = random.Random(chosen).sample(list(net.openings(family)), 60)
    # The window opens on the way; no limit is exceeded, since what a trace is asked about is
    # nobody's second conversation in a minute.
    times = [MONDAY + number * 61 * SECOND for number in range(len(packets))]
    replay = Replay(networks[0], UTC, other=networks[1])
    found = [*replay.add(family, seen(packets, times)), *replay.rest()]
    conversations = 0
    for part in found:
        for row in range(len(part.seen)):
            packet, moment = (
                part.seen.packets.packet(row),
                datetime.fromtimestamp(int(part.seen.first[row]) / SECOND, UTC),
            )
            for network, fates in ((networks[0], part.fates), (networks[1], part.other)):
                tracer = Tracer(
                    network, open_at(network.plan.windows.values(), moment.replace(tzinfo=None))
                )
                trace = tracer.trace(net.conversation(network, packet))
                assert fates is not None
                assert verdict_numbered(fates.verdict[row]) is (
                    Verdict.VARIES if trace.differing else trace.verdict
                )
            conversations += 1
    assert sum(each.conversations for each in replay.sums.verdicts.values()) == conversations
    assert sum(each.packets for each in replay.sums.verdicts.values()) == len(packets)
    differing = sum(
        1
        for part in found
        for row in range(len(part.seen))
        if part.other and part.fates.verdict[row] != part.other.verdict[row]
    )
    assert sum(each.conversations for each in replay.stopped().values()) == differing


def plan(tmp_path: Path, lists: str = "") -> Network:
    path = tmp_path / "plan.gate"
    path.write_text(net.NETWORK.format(left="", right="") + lists)
    return Network(read_plan(path))


def tcp(source: str, destination: str, port: int, client: int = 50_000, flags: int = 2) -> Packet:
    return Packet(
        Family.IPV4,
        parse_address(source).value,
        parse_address(destination).value,
        6,
        client,
        port,
        flags=flags,
    )


def test_packets_count_for_the_line_that_decides_their_leg(tmp_path: Path) -> None:
    network = plan(
        tmp_path,
        (
            "list l extended ipv4\n    permit tcp/80 any to any\n    otherwise deny\nplace l "
            "inbound "
            "on left.a\n"
        ),
    )
    packets = [
        tcp("10.0.0.3", "10.0.1.2", 80),
        tcp("10.0.1.2", "10.0.0.3", 50_000, 80, 18),
        tcp("10.0.0.3", "10.0.1.2", 80, flags=16),
    ]
    packets += [tcp("10.0.0.3", "10.0.1.2", 81)] * 3
    replay = Replay(network, UTC)
    assert [*replay.add(Family.IPV4, seen(packets, [MONDAY + each for each in range(6)]))] == []
    (only,) = replay.rest()
    assert sorted(only.seen.counts.sum(axis=0).tolist()) == [3, 3]
    ((access_list, lines),) = replay.lines()
    assert access_list.name == "l"
    assert [(line.legs, line.packets) for line in lines] == [(2, 2), (1, 3)]
    assert replay.sums.verdicts[Verdict.PERMITTED] == Sum(1, 3, 180)
    assert replay.sums.verdicts[Verdict.DENIED] == Sum(1, 3, 180)
    ((sort, total),) = replay.stopped().items()
    assert (
        sort.service,
        sort.decider and sort.decider.number,
        str(sort.crossing and sort.crossing.point),
    ) == ("tcp/81", None, "left.a")
    assert total == Sum(1, 3, 180)


SPOOFED = (
    "list l extended ipv4\n    deny ip a to any\n    otherwise permit\nplace l inbound on "
    "right.sea\n"
)


def test_where_traffic_came_in_shows_a_claimed_source(tmp_path: Path) -> None:
    network = plan(tmp_path, SPOOFED)
    packets = [
        tcp("10.0.0.3", "10.0.1.2", 80),
        tcp("198.51.100.9", "10.0.1.2", 80),
        tcp("10.0.1.3", "10.0.1.2", 80),
    ]
    verdicts = []
    for came_in in (None, entrance(network.plan, "right.sea")):
        replay = Replay(network, UTC, entrance=came_in)
        list(replay.add(Family.IPV4, seen(packets, [MONDAY, MONDAY + 1, MONDAY + 2])))
        (only,) = replay.rest()
        assert only.fates.on_link.tolist() == [False, False, came_in is None]
        verdicts.append([verdict_numbered(only.fates.verdict[row]) for row in range(3)])
    assert verdicts[0] == [Verdict.PERMITTED] * 3
    # A claimed source is denied by the list, or its answers go to the machine that really has the
    # address.
    assert verdicts[1] == [Verdict.DENIED, Verdict.PERMITTED, Verdict.HALF_OPEN]
    sender = Endpoint("somebody", parse_address("198.51.100.7"), "sea")
    for row, packet in ((0, packets[0]), (2, packets[2])):
        claimed = Conversation(
            sender, at_address(network, Address(Family.IPV4, packet.destination)), packet
        )
        assert Tracer(network).trace(claimed).verdict is verdicts[1][row]


def test_what_passes_a_place_on_its_way_claims_nothing_there(tmp_path: Path) -> None:
    network = plan(tmp_path)
    replay = Replay(network, UTC, entrance=entrance(network.plan, "right.mid"))
    list(
        replay.add(
            Family.IPV4,
            seen(
                [tcp("10.0.0.3", "10.0.1.2", 80), tcp("10.0.2.1", "10.0.1.2", 80)], [MONDAY, MONDAY]
            ),
        )
    )
    (only,) = replay.rest()
    assert [verdict_numbered(only.fates.verdict[row]) for row in range(2)] == [
        Verdict.PERMITTED
    ] * 2


def test_addresses_that_have_no_place_are_counted(tmp_path: Path) -> None:
    path = tmp_path / "plan.gate"
    path.write_text("subnet a 10.0.0.0/24\nrouter r\n    interface a 10.0.0.1/24 on a\n")
    replay = Replay(Network(read_plan(path)), UTC)
    list(
        replay.add(
            Family.IPV4,
            seen(
                [tcp("10.0.0.3", "192.0.2.9", 80), tcp("10.0.0.3", "10.0.0.4", 80)],
                [MONDAY, MONDAY],
            ),
        )
    )
    list(replay.rest())
    assert replay.sums.nowhere == {parse_address("192.0.2.9"): 1}
    assert replay.sums.verdicts[None].conversations == 1
    assert replay.sums.on_link.conversations == 1


def test_one_list_is_asked_packet_by_packet(tmp_path: Path) -> None:
    network = plan(
        tmp_path,
        "list l extended ipv4\n    permit tcp/80 any to any during open\n    otherwise deny\n",
    )
    replay = ListReplay(network, network.plan.lists["l"], UTC)
    packets = [tcp("10.0.0.3", "10.0.1.2", 80)] * 3
    replay.add(Family.IPV4, seen(packets, [MONDAY, MONDAY + 60 * SECOND, MONDAY + 61 * SECOND]))
    replay.add(Family.IPV6, seen([Packet(Family.IPV6, 1, 2, 17, 1, 2)], [MONDAY]))
    assert [line.packets for line in replay.lines()] == [2, 1]
    assert (replay.packets, replay.octets, replay.foreign) == (3, 180, 1)
    assert Counter({sort.service: each.packets for sort, each in replay.denied().items()}) == {
        "tcp/80": 1
    }


def test_a_record_of_both_ways_is_asked_there_and_back(tmp_path: Path) -> None:
    lists = (
        "list l extended ipv4\n    permit tcp/80 any to any\n    permit tcp any to any "
        "established\n    permit icmp/0 any to any\n    otherwise deny\n"
    )
    network = plan(tmp_path, lists)
    replay = ListReplay(network, network.plan.lists["l"], UTC)
    ping = Packet(Family.IPV4, 1, 2, 1, icmp_type=8, icmp_code=0)
    both = seen([tcp("10.0.0.3", "10.0.1.2", 80), ping], [MONDAY, MONDAY])
    both.counts[1], both.flags[1] = [5, 7], [18, 0]
    replay.add(Family.IPV4, both)
    assert [line.packets for line in replay.lines()] == [1, 5, 7, 1]


def test_windows_follow_the_wall_clock_of_the_zone(tmp_path: Path) -> None:
    network = plan(tmp_path)
    for zone, opened in ((UTC, False), (ZoneInfo("Europe/Madrid"), True)):
        clock = Clock(network, zone)
        number = int(clock.of(np.array([MONDAY]))[0])
        assert (clock.states[number] == {"open"}) is opened


def test_what_an_outside_leaves_out_and_no_subnet_has_has_no_place(tmp_path: Path) -> None:
    path = tmp_path / "plan.gate"
    path.write_text(
        "subnet a 10.0.0.0/24\noutside net but private\nrouter r\n"
        "    interface a 10.0.0.1/24 on a\n    interface net 192.0.2.1/24 on net\n"
        # With limits in the plan what came is looked at in the order of time.
        "list l extended ipv4\n    permit ip any to any at most 9 a second\n"
        "place l inbound on r.a\n"
    )
    packets = [tcp("10.0.0.3", each, 80) for each in ("198.51.100.9", "10.0.1.9", "10.0.0.4")]
    replay = Replay(Network(read_plan(path)), UTC)
    list(replay.add(Family.IPV4, seen([*packets, tcp("172.16.0.1", "10.0.0.3", 80)], [MONDAY] * 4)))
    list(replay.rest())
    assert replay.sums.nowhere == {parse_address("10.0.1.9"): 1, parse_address("172.16.0.1"): 1}
    assert replay.sums.verdicts[None].conversations == 2


def test_a_source_that_any_link_may_have_has_a_place_only_where_it_came_in(tmp_path: Path) -> None:
    path = tmp_path / "plan.gate"
    path.write_text(
        "subnet a 10.0.0.0/24\nrouter r\n    interface a 10.0.0.1/24 on a\n"
        "list l extended ipv4\n    deny udp/67 0.0.0.0 to any\n    otherwise permit\n"
        "place l inbound on r.a\n"
    )
    nobody, everybody = (parse_address(each).value for each in ("0.0.0.0", "255.255.255.255"))
    lease = seen([Packet(Family.IPV4, nobody, everybody, 17, 68, 67)], [MONDAY])
    plan = read_plan(path)
    for came_in, verdict in ((None, None), (entrance(plan, "r.a"), Verdict.DENIED)):
        replay = Replay(Network(plan), UTC, entrance=came_in)
        list(replay.add(Family.IPV4, lease))
        list(replay.rest())
        assert replay.sums.verdicts[verdict].conversations == 1
        assert len(replay.sums.nowhere) == (came_in is None)
