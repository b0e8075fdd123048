"""The part of an answer that comes from client ports, against the whole answer packet by packet."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from ipaddress import IPv4Address, IPv4Network

from hypothesis import given
from hypothesis import strategies as st

from crossgate.core.answers.clients import client_lines, from_clients
from crossgate.core.answers.compare import differences
from crossgate.core.answers.difference import Difference
from crossgate.core.answers.reach import reach
from crossgate.core.model.address import Family
from crossgate.core.model.conditions import When
from crossgate.core.model.packet import Packet
from crossgate.core.sets.frame import PacketSet
from crossgate.core.sets.minimise import SetLine
from crossgate.core.sets.region import ALL_PORTS, every_packet
from crossgate.core.traffic.session import Session
from tests.conftest import Read
from tests.small import packets, serves

NET = (
    "client ports 1000-1999\nrouter r\n    interface a 10.0.0.1/24 on a\n    interface b "
    "10.0.1.1/24 on b\n"
    "subnet a 10.0.0.0/24\nsubnet b 10.0.1.0/24\nplace l inbound on r.a\n"
)
LIST = (
    "list l extended ipv4\n    10 permit udp a to b source port 53\n    20 permit tcp/80 a to "
    "b source port 900-1499\n    30 permit tcp/22 a to b\n"
)


def has(lines: Sequence[SetLine], packet: Packet) -> bool:
    return any(
        any(each.contains(packet.source) for each in line.source)
        and any(each.contains(packet.destination) for each in line.destination)
        and any(serves(services, packet) for services in line.services)
        for line in lines
    )


def sent_by_a(found: Sequence[Difference]) -> list[Difference]:
    inside = IPv4Network("10.0.0.0/24")
    return [
        each
        for each in found
        if not each.stray and not each.devices and IPv4Address(each.packet.source) in inside
    ]


@given(st.data())
def test_they_are_the_lines_less_the_other_ports(data: st.DataObject) -> None:
    every = list(packets(Family.IPV4))
    known = sorted({each.source_port for each in every if each.source_port is not None})
    spans = st.tuples(st.sampled_from(known), st.sampled_from(known)).map(sorted)
    first, last = data.draw(spans)
    regions = [
        every_packet(Family.IPV4)._replace(source_ports=((low, high + 1),))
        for low, high in data.draw(st.lists(spans, min_size=1))
    ]
    sets = [PacketSet.of(each) for each in regions]
    ports = (first, last)
    lines, kept = client_lines(sets, ports), from_clients(sets, ports)
    for packet in every:
        if packet.source_port is not None and first <= packet.source_port <= last:
            inside = any(
                low <= packet.source_port < high
                for each in regions
                for low, high in each.source_ports
            )
            assert has(lines, packet) is inside
            assert (
                any(serves(each.services, packet) for part in kept for each in part.regions())
                is inside
            )


def test_reach_and_compare_tell_clients_apart(plan_of: Read) -> None:
    old, new = (
        Session(plan_of(NET + LIST)),
        Session(plan_of(NET + LIST.replace("    30 permit tcp/22 a to b\n", ""))),
    )
    (reached,) = [
        each for each in reach(old, "a", "b", When(datetime(2026, 12, 1))) if not each.devices
    ]
    permitted, denied = reached.parts
    ports = {line.source_ports for each in permitted.clients for line in each.services}
    assert ports == {
        ALL_PORTS,
        ((1000, 1500),),
    }  # SSH from every client port, HTTP from half of them, and nothing from port 53
    assert permitted.packet.source_port is not None
    assert 1000 <= permitted.packet.source_port <= 1999
    assert {line.source_ports for each in denied.clients for line in each.services} == {
        ALL_PORTS,
        ((1500, 2000),),
    }
    (gone,) = sent_by_a(differences(old, new))
    assert {line.source_ports for each in gone.lines for line in each.services} == {ALL_PORTS}
    assert gone.clients == gone.lines


def test_what_no_client_sends_has_no_lines_of_clients(plan_of: Read) -> None:
    old, new = (
        Session(plan_of(NET + LIST)),
        Session(plan_of(NET + LIST.replace("source port 53", "source port 54"))),
    )
    found = sent_by_a(differences(old, new))
    assert found
    for each in found:
        assert each.lines
        assert not each.clients
