"""Conversations that are captured behind a translation fare as where they were sent."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import numpy as np
import pytest
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

from crossgate.core.conversation.opening import conversations
from crossgate.core.model.address import Address, Family, parse_address
from crossgate.core.model.packet import Packet
from crossgate.core.model.packets import packet_columns
from crossgate.core.model.plan import Plan
from crossgate.core.network.endpoints import at_address
from crossgate.core.network.entrance import Entrance, entrance
from crossgate.core.network.view import View, choosing, packet_in
from crossgate.core.network.ways import CrossedWays, Network
from crossgate.core.traffic.bulk import BulkTracer
from crossgate.core.traffic.fates import VERDICTS
from tests.core.conversation.test_crossing import FAR, INSIDE, SERVICES, plan_text

Read = Callable[[str], Plan]
Fared = tuple[int, int, int]
MANY = settings(
    max_examples=25,
    deadline=None,
    suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow],
)


def fared(network: Network, packets: list[Packet], entered: Entrance | None = None) -> list[Fared]:
    ones = np.ones(len(packets), np.int64)
    fates = BulkTracer(network, entered).trace(
        packet_columns(packets[0].family, packets), ones * 0, [frozenset()], ones, ones
    )
    columns = (fates.verdict, fates.list, fates.entry)
    return [(int(a), int(b), int(c)) for a, b, c in zip(*columns, strict=True)]


def openings(network: Network, one: Address, other: Address) -> Iterator[tuple[Packet, View]]:
    """Yield what opens conversations of each service, with how it is seen where it arrives."""
    start, end = (at_address(network, each) for each in (one, other))
    for service in SERVICES:
        (wanted,) = conversations(network.plan.service(service, one.family), start, end)
        views = {
            each.arrived.view
            for each in network.of_packet(start, end, wanted.first)
            if isinstance(each, CrossedWays) and each.arrived is not None
        }
        if len(views) == 1:
            yield wanted.first, views.pop()


@MANY
@example(2215)  # a rule that would have led it in translates its source, too
@given(st.integers(0, 1 << 32))
def test_what_was_led_in_fares_alike_seen_from_inside(plan_of: Read, seed: int) -> None:
    network = Network(plan_of(plan_text(seed)))
    for family in Family:
        rules = network.plan.translations[family]
        far = parse_address(FAR[family][0])
        public = {
            Address(family, value - inside.first + outside.first)
            for value in (parse_address(each).value for each in INSIDE[family])
            for rule in rules
            for inside, outside in rule.pairs()
            if inside.contains(value)
        }
        sent: dict[Packet, list[Packet]] = {}
        for address in public:
            for packet, view in openings(network, far, address):
                if view:
                    sent.setdefault(packet_in(view, packet), []).append(packet)
        for seen, every in sent.items():
            place = at_address(network, Address(family, seen.destination)).segment
            if len(every) > 1 or place is None:
                continue  # nobody can tell which of them it was
            if Address(family, seen.source) in network.plan.interface_of:
                continue  # the device that has it may have sent it by itself
            entered = entrance(network.plan, f"subnet {place}")
            assert fared(network, [seen], entered) == fared(network, every), (seen, every)


@MANY
@given(st.integers(0, 1 << 32))
def test_what_left_one_to_one_fares_alike_seen_from_outside(plan_of: Read, seed: int) -> None:
    network = Network(plan_of(plan_text(seed)))
    for family in Family:
        far = parse_address(FAR[family][0])
        for one in map(parse_address, INSIDE[family]):
            for packet, view in openings(network, one, far):
                if view and choosing(view) is None:
                    seen = packet_in(view, packet)
                    assert fared(network, [seen]) == fared(network, [packet]), (seen, packet)


SITE = """\
outside world
subnet hall 10.64.8.0/24
router edge stateful
    interface wan 203.0.113.2/30 on world
    interface lan 10.64.8.1/24 on hall
    route default via 203.0.113.1
    translate hall leaving wan as 198.51.100.8/30
    translate 198.51.100.90 tcp/443 entering wan to kiosk port 8443
host kiosk 10.64.8.21 on hall
list in extended ipv4
    10 permit https any to 198.51.100.90
    otherwise deny
place in inbound on edge.wan
"""


@pytest.mark.parametrize(
    ("place", "to", "port", "verdict"),
    [
        (None, "198.51.100.90", 443, "permitted"),
        ("world", "198.51.100.90", 443, "permitted"),
        ("edge.wan", "198.51.100.90", 443, "permitted"),
        ("hall", "10.64.8.21", 8443, "permitted"),
        ("edge.lan", "10.64.8.21", 8443, "permitted"),
        ("hall", "10.64.8.21", 8442, "denied"),
        ("hall", "10.64.8.22", 8443, "denied"),
        ("world", "10.64.8.21", 8443, "denied"),
        ("edge.wan", "10.64.8.21", 8443, "denied"),
        (None, "10.64.8.21", 8443, "denied"),
    ],
)
def test_only_behind_the_device_was_it_led_in(
    plan_of: Read, place: str | None, to: str, port: int, verdict: str
) -> None:
    network = Network(plan_of(SITE))
    packet = Packet(
        Family.IPV4, parse_address("192.0.2.77").value, parse_address(to).value, 6, 50_000, port
    )
    entered = None if place is None else entrance(network.plan, place)
    # Many rows besides, so that kinds are looked for.
    rest = [packet._replace(destination_port=each) for each in range(20_000, 24_200)]
    (found, *_) = fared(network, [packet, *rest], entered)
    assert VERDICTS[found[0]] == verdict
