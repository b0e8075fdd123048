"""What devices do on the way: hop limits, what they tell senders, what they remember and for how
long, how much they let by, which way they take.
"""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime

import dpkt
import pytest

from crossgate.core.model.address import Family, parse_address
from crossgate.core.model.packet import ACK, SYN, Packet
from crossgate.core.model.plan import Plan
from crossgate.rehearsal import frames
from tests.rehearsal.wire import Got, Wire, frame_of, packet_of

Read = Callable[[str], Plan]
MONDAY = datetime(2026, 11, 30, 12)
ROW = """
subnet a 10.0.0.0/24 2001:db8:a::/64
subnet b 10.0.1.0/24 2001:db8:b::/64
subnet m 10.0.9.0/30 2001:db8:9::/64
outside net
router one{one}
    interface a 10.0.0.1/24 2001:db8:a::1/64 on a
    interface m 10.0.9.1/30 2001:db8:9::1/64 on m
router two{two}
    interface m 10.0.9.2/30 2001:db8:9::2/64 on m
    interface b 10.0.1.1/24 2001:db8:b::1/64 on b
    interface net 203.0.113.2/30 on net
{rules}
switch hub
    port 1
    port 2
host x 10.0.0.9 2001:db8:a::9 on a
host z 10.0.0.8 on a at hub.1
host y 10.0.1.9 2001:db8:b::9 on b
host far 198.51.100.7 on net
"""


def row(more: str = "", one: str = "", two: str = "", rules: str = "") -> str:
    return ROW.format(one=one, two=two, rules=rules) + more


def packet(source: str, end: str, service: str, flags: int = SYN, port: int = 5000) -> Packet:
    start, stop = parse_address(source), parse_address(end)
    family = start.family
    if service == "ping":
        icmp, kind = (1, 8) if family is Family.IPV4 else (58, 128)
        return Packet(family, start.value, stop.value, icmp, icmp_type=kind, icmp_code=0)
    protocol, _, number = service.partition("/")
    tcp = protocol == "tcp"
    return Packet(
        family,
        start.value,
        stop.value,
        6 if tcp else 17,
        port,
        int(number),
        flags=flags if tcp else None,
    )


def told(wire: Wire, machine: str, sent: Packet, hops: int = 64) -> tuple[str, str, int, int]:
    """Return who tells a sender what about a packet: the machine that gets it, who says it, and the
    ICMP type and code; what it quotes is the packet as it was sent.
    """
    (got,) = wire.sent(machine, sent, hops)
    quoted = bytes(got.ip.data.data)[4:] if sent.family is Family.IPV4 else bytes(got.ip.data)[8:]
    own = frame_of(sent, wire.fabric.machines[machine].mac, hops)[14:]
    assert quoted == own[: len(quoted)]
    assert len(quoted) >= 28
    names = {
        each.value: str(each)
        for machine in wire.fabric.machines.values()
        for each in machine.addresses
    }
    said = packet_of(sent.family, got)
    assert said.icmp_type is not None
    assert said.icmp_code is not None
    return got.machine, names.get(got.ends[0], "nobody"), said.icmp_type, said.icmp_code


def arrives(got: list[Got]) -> bool:
    return any(not isinstance(each.ip.data, (dpkt.icmp.ICMP, dpkt.icmp6.ICMP6)) for each in got)


def test_hop_limits_are_lowered_and_end(plan_of: Read) -> None:
    wire = Wire(plan_of(row()), MONDAY)
    sent = packet("10.0.0.9", "10.0.1.9", "udp/33434")
    (got,) = wire.sent("x", sent)
    assert (got.machine, got.ip.ttl) == ("y", 62)
    assert told(wire, "x", sent, 1) == ("x", "10.0.0.1", 11, 0)
    assert told(wire, "x", sent, 2) == ("x", "10.0.9.2", 11, 0)
    (got,) = wire.sent("x", sent, 3)
    assert got.ip.ttl == 1
    six = packet("2001:db8:a::9", "2001:db8:b::9", "udp/33434")
    assert told(wire, "x", six, 2) == ("x", "2001:db8:9::2", 3, 0)
    (got,) = wire.sent("x", six)
    assert got.ip.hlim == 62
    # A device does not pass on what is for itself.
    assert wire.sent("x", packet("10.0.0.9", "10.0.0.1", "udp/7"), 1)[0].machine == "one"


def test_a_list_before_the_device_is_asked_first(plan_of: Read) -> None:
    text = row("list l extended ipv4\n    deny udp any to any\nplace l inbound on one.a\n")
    wire = Wire(plan_of(text), MONDAY)
    assert wire.sent("x", packet("10.0.0.9", "10.0.1.9", "udp/9"), 1) == []


def test_senders_are_told_of_rejections_and_missing_routes(plan_of: Read) -> None:
    lists = (
        "list l extended ipv4\n    reject udp/9 any to any\n    deny udp/10 any to any\n"
        "    otherwise permit\nplace l inbound on two.m\n"
        "list p extended ipv4\n    reject udp/9 any to any\n    otherwise permit\n"
        "place p inbound on hub.1\n"
    )
    wire = Wire(plan_of(row(lists)), MONDAY)
    assert told(wire, "x", packet("10.0.0.9", "10.0.1.9", "udp/9")) == ("x", "10.0.9.2", 3, 13)
    assert wire.sent("x", packet("10.0.0.9", "10.0.1.9", "udp/10")) == []
    # A switch without an address lets who was asked for speak.
    assert told(wire, "z", packet("10.0.0.8", "10.0.1.9", "udp/9")) == ("z", "10.0.1.9", 3, 13)
    lone = Wire(plan_of("routing static\n" + row()), MONDAY)
    nowhere = packet("10.0.0.9", "10.0.1.9", "udp/9")
    assert told(lone, "x", nowhere) == ("x", "10.0.0.1", 3, 0)
    dropped = row().replace(
        "    interface m 10.0.9.1", "    route 10.0.1.0/24 discard\n    interface m 10.0.9.1"
    )
    quiet = Wire(plan_of(dropped), MONDAY)
    assert quiet.sent("x", packet("10.0.0.9", "10.0.1.9", "udp/9")) == []


def test_what_is_told_is_asked_of_lists_too(plan_of: Read) -> None:
    text = row(
        "list l extended ipv4\n    reject udp any to any\n    otherwise permit\n"
        "place l inbound on two.m\n"
        "list o extended ipv4\n    deny icmp any to x\n    otherwise permit\n"
        "place o outbound on one.a\n"
    )
    wire = Wire(plan_of(text), MONDAY)
    assert wire.sent("x", packet("10.0.0.9", "10.0.1.9", "udp/9")) == []
    assert (
        wire.fabric.lists.tally[next(each for each in wire.fabric.lists.tally if each[0] == "o")]
        == 1
    )


STATEFUL = (
    "list in extended ipv4\n    permit udp/53 x to y\n    permit tcp/80 x to y\n"
    "place in inbound on one.a\n"
    "list out extended ipv4\nplace out outbound on one.a\n"
)


@pytest.mark.parametrize(("service", "idle"), [("udp/53", 300), ("tcp/80", 7440)])
def test_a_stateful_device_remembers_so_long(plan_of: Read, service: str, idle: int) -> None:
    wire = Wire(plan_of(row(STATEFUL, one=" stateful")), MONDAY)
    there = packet("10.0.0.9", "10.0.1.9", service)
    back = there._replace(
        source=there.destination,
        destination=there.source,
        source_port=there.destination_port,
        destination_port=there.source_port,
        flags=there.flags and SYN | ACK,
    )
    assert not arrives(wire.sent("y", back))  # what answers nothing is nobody's
    assert arrives(wire.sent("x", there))
    assert arrives(wire.sent("y", back))
    later = back._replace(flags=back.flags and ACK)
    wire.now += idle
    assert arrives(wire.sent("y", later))
    wire.now += idle + 1
    assert not arrives(wire.sent("y", later))


def test_an_ended_conversation_is_opened_anew(plan_of: Read) -> None:
    wire = Wire(plan_of(row(STATEFUL, one=" stateful")), MONDAY)
    there = packet("10.0.0.9", "10.0.1.9", "tcp/80")
    hits = wire.fabric.lists.tally
    wire.sent("x", there)
    wire.sent("x", there)
    assert sum(hits.values()) == 1  # sent again it is the same conversation
    wire.sent("x", there._replace(flags=4 | ACK))
    wire.sent("x", there)
    assert sum(hits.values()) == 2


def test_so_many_a_second_are_let_by_and_counted_in_time(plan_of: Read) -> None:
    text = row(
        "list l extended ipv4\n    10 permit udp any to any at most 3 a second\n"
        "place l inbound on one.a\n"
    )
    wire = Wire(plan_of(text), MONDAY)
    sent = [
        arrives(wire.sent("x", packet("10.0.0.9", "10.0.1.9", "udp/9", port=n + 1)))
        for n in range(5)
    ]
    assert sent == [True, True, True, False, False]
    wire.now += 0.4
    again = [
        arrives(wire.sent("x", packet("10.0.0.9", "10.0.1.9", "udp/9", port=n + 9)))
        for n in range(2)
    ]
    assert again == [True, False]
    assert {each[1]: hits for each, hits in wire.fabric.lists.tally.items()} == {10: 4, None: 3}


def test_a_window_opens_and_a_plan_changes_while_conversations_run(plan_of: Read) -> None:
    text = row(
        "window day mon 08:00-13:00\n"
        "list l extended ipv4\n    permit udp any to any during day\nplace l inbound on one.a\n"
    )
    plan = plan_of(text)
    wire, sent = Wire(plan, MONDAY), packet("10.0.0.9", "10.0.1.9", "udp/9")
    assert arrives(wire.sent("x", sent))
    wire.fabric.clock = lambda: MONDAY.replace(hour=13)
    assert not arrives(wire.sent("x", sent))
    wire.fabric.change(plan_of(text.replace(" during day", "")))
    assert arrives(wire.sent("x", sent))
    down = plan_of(text.replace(" during day", ""))
    wire.fabric.change(down.without([down.devices["two"].itself]))
    assert not arrives(wire.sent("x", sent))


FORK = """
subnet a 10.0.0.0/24
subnet b 10.0.1.0/24
router one
    interface a 10.0.0.1/24 on a
    interface b 10.0.1.1/24 on b
router two
    interface a 10.0.0.2/24 on a
    interface b 10.0.1.2/24 on b
host x 10.0.0.9 on a
host y 10.0.1.9 on b
list l extended ipv4
    deny udp any to any
place l inbound on two.a
"""


def test_equal_ways_are_taken_by_the_flow_and_can_be_told(plan_of: Read) -> None:
    plan = plan_of(FORK)
    flows = [packet("10.0.0.9", "10.0.1.9", "udp/9", port=n) for n in range(1, 41)]
    by_flow = Wire(plan, MONDAY, None)
    found = [arrives(by_flow.sent("x", each)) for each in flows]
    assert 8 < sum(found) < 32
    assert [arrives(by_flow.sent("x", each)) for each in flows] == found
    for way, wanted in ((1, True), (2, False)):
        told = Wire(plan, MONDAY, way)
        assert {arrives(told.sent("x", each)) for each in flows} == {wanted}


def asks(mac: int, asker: str, target: str) -> bytes:
    """Return an ARP request, or a neighbour solicitation."""
    one, other = parse_address(asker), parse_address(target)
    if one.family is Family.IPV4:
        arp = dpkt.arp.ARP(
            sha=mac.to_bytes(6), spa=one.value.to_bytes(4), tpa=other.value.to_bytes(4)
        )
        return bytes(
            dpkt.ethernet.Ethernet(src=mac.to_bytes(6), dst=b"\xff" * 6, type=0x806, data=arp)
        )
    message = b"\x87\0\0\0" + b"\0" * 4 + other.value.to_bytes(16) + b"\1\1" + mac.to_bytes(6)
    return frames.framed(Family.IPV6, frames.icmp_packet(one, other, message, 255), 0, mac)


def resolved(wire: Wire, machine: str, asker: str, target: str) -> int | None:
    mac = wire.fabric.machines[machine].mac
    found = list(wire.fabric.receive(machine, asks(mac, asker, target), wire.now))
    if not found:
        return None
    ((name, octets),) = found
    assert name == machine
    own = dpkt.ethernet.Ethernet(octets)
    assert own.dst == mac.to_bytes(6)
    return int.from_bytes(own.src)


def test_addresses_are_resolved_as_the_lists_allow(plan_of: Read) -> None:
    wire = Wire(plan_of(row()), MONDAY)
    macs = {name: each.mac for name, each in wire.fabric.machines.items()}
    assert resolved(wire, "x", "10.0.0.9", "10.0.0.8") == macs["z"]
    assert resolved(wire, "x", "10.0.0.9", "10.0.0.1") == macs["one"]
    assert resolved(wire, "x", "2001:db8:a::9", "2001:db8:a::1") == macs["one"]
    assert resolved(wire, "x", "10.0.0.9", "10.0.0.77") is None  # nobody has it
    assert resolved(wire, "x", "10.0.0.9", "10.0.0.9") is None  # nobody else has it
    assert resolved(wire, "far", "198.51.100.7", "192.0.2.1") == macs["two"]
    frames_list = (
        "list f extended ethernet\n    deny arp any to any\n    otherwise permit\n"
        "place f inbound on hub.1\n"
    )
    kept = Wire(plan_of(row(frames_list)), MONDAY)
    assert resolved(kept, "z", "10.0.0.8", "10.0.0.1") is None
    assert resolved(kept, "x", "10.0.0.9", "10.0.0.1") is not None
    apart = row().replace("on a at hub.1", "on a at hub.1").replace("port 1\n", "port 1 isolated\n")
    apart = apart.replace("port 2\n", "port 2 isolated\n").replace(
        "host x 10.0.0.9 2001:db8:a::9 on a", "host x 10.0.0.9 2001:db8:a::9 on a at hub.2"
    )
    alone = Wire(plan_of(apart), MONDAY)
    assert resolved(alone, "z", "10.0.0.8", "10.0.0.9") is None
    assert resolved(alone, "z", "10.0.0.8", "10.0.0.1") is not None


def test_messages_about_what_is_translated_come_back_translated(plan_of: Read) -> None:
    rules = "    translate 10.0.0.0/16 leaving net as itself"
    lists = (
        "list l extended ipv4\n    reject udp/9 any to any\n    otherwise permit\n"
        "place l outbound on two.net\n"
    )
    wire = Wire(plan_of(row(lists, two=" stateful", rules=rules)), MONDAY)
    assert told(wire, "x", packet("10.0.0.9", "198.51.100.7", "udp/9"))[0] == "x"
    sent = packet("10.0.0.9", "198.51.100.7", "udp/53")
    (got,) = wire.sent("x", sent)
    seen = packet_of(Family.IPV4, got)
    assert seen.source == parse_address("203.0.113.2").value
    # The far machine has nobody there, and says so of what it got.
    far = wire.fabric.machines["far"]
    quoted = b"\3\3\0\0" + b"\0" * 4 + bytes(got.ip)[:28]
    answer = frames.icmp_packet(parse_address("198.51.100.7"), parse_address("203.0.113.2"), quoted)
    ((name, octets),) = wire.fabric.receive(
        "far", frames.framed(Family.IPV4, answer, 0, far.mac), wire.now
    )
    ip = dpkt.ethernet.Ethernet(octets).data
    inner = dpkt.ip.IP(bytes(ip.data)[8:])
    assert (name, ip.dst, inner.src) == ("x", bytes((10, 0, 0, 9)), bytes((10, 0, 0, 9)))
    assert (inner.data.sport, inner.data.dport) == (5000, 53)


def test_ports_are_chosen_anew_where_two_would_be_one(plan_of: Read) -> None:
    rules = "    translate 10.0.0.0/16 leaving net as itself"
    wire = Wire(plan_of(row(two=" stateful", rules=rules)), MONDAY)
    seen = []
    for machine, address in (("x", "10.0.0.9"), ("z", "10.0.0.8"), ("x", "10.0.0.9")):
        (got,) = wire.sent(machine, packet(address, "198.51.100.7", "udp/53"))
        seen.append(packet_of(Family.IPV4, got).source_port)
    assert seen[0] == seen[2] == 5000
    assert seen[1] != 5000
    # An answer finds its way to the one that it is for.
    for machine, port in (("x", 5000), ("z", seen[1])):
        assert port is not None
        back = packet("198.51.100.7", "203.0.113.2", f"udp/{port}", port=53)
        (got,) = wire.sent("far", back)
        assert (got.machine, packet_of(Family.IPV4, got).destination_port) == (machine, 5000)


def test_damaged_frames_are_dropped(plan_of: Read) -> None:
    wire = Wire(plan_of(row()), MONDAY)
    mac = wire.fabric.machines["x"].mac
    whole = frame_of(packet("2001:db8:a::9", "2001:db8:b::9", "tcp/80"), mac)
    four = frame_of(packet("10.0.0.9", "10.0.1.9", "tcp/80"), mac)
    for octets in (whole, four):
        for length in range(len(octets)):
            list(wire.fabric.receive("x", octets[:length], 0.0))
        for at in range(12, len(octets)):
            for value in (0, 255):
                list(
                    wire.fabric.receive("x", octets[:at] + bytes((value,)) + octets[at + 1 :], 0.0)
                )
