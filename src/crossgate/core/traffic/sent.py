"""The opening packet of a conversation as its sender sent it, where it was seen after a translation
that can be undone without doubt.

- A packet that was seen after a device translated its destination was sent to the public address.

- A packet whose source is translated one to one was sent by the inside address.

A sender behind a pool cannot be known from outside, so its packet stays as it was seen.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from crossgate.core.model.address import Address
from crossgate.core.model.network import Translation, TranslationKind
from crossgate.core.model.packet import Packet
from crossgate.core.network.crossed import CrossedGraphs
from crossgate.core.network.endpoints import at_address
from crossgate.core.network.entrance import Entrance
from crossgate.core.network.paths import Endpoint
from crossgate.core.network.view import packet_in
from crossgate.core.network.ways import CrossedWays, Network


class CrossedPair(NamedTuple):
    """Two ends, whether they are on one link, and whether replies go to another machine than the
    sender.
    """

    source: Endpoint
    destination: Endpoint
    on_link: bool
    strays: bool = False


def as_sent(
    network: Network, entered: Entrance | None, pair: CrossedPair, packet: Packet
) -> tuple[CrossedPair, Packet]:
    """Return the ends of a conversation and its first packet with the addresses that the sender
    used, given those seen where the traffic was recorded.
    """
    if pair.strays:
        return pair, packet
    if entered is not None:
        return _to_outside(network, entered, pair, packet)
    for rule in network.plan.translations[packet.family]:
        if rule.kind is TranslationKind.BOTH_WAYS:
            for inside, public in rule.pairs():
                if public.contains(packet.source):
                    sender = packet.source - public.first + inside.first
                    start = at_address(network, Address(packet.family, sender))
                    return _between(start, pair.destination), packet._replace(source=sender)
    return pair, packet


def _to_outside(
    network: Network, entered: Entrance, pair: CrossedPair, packet: Packet
) -> tuple[CrossedPair, Packet]:
    graphs = network.graphs(packet.family)
    assert isinstance(graphs, CrossedGraphs)  # there is a rule, or nothing is crossed
    seen = Address(packet.family, packet.destination)
    for rule in network.plan.translations[packet.family]:
        candidates = list(_before(rule, packet))
        if candidates and entered.point not in {
            each.point for each in graphs.behind(rule.device, seen)
        }:
            continue
        for sent in candidates:
            end = at_address(network, Address(packet.family, sent.destination))
            for ways in network.of_packet(pair.source, end, sent):
                if isinstance(ways, CrossedWays) and ways.led and ways.arrived is not None:
                    last = [each for each in ways.arrived.view if each.side][-1]
                    kept = packet_in(ways.arrived.view, sent).source == packet.source
                    if kept and last.device == rule.device and ways.arrived.destination == seen:
                        return _between(pair.source, end), sent
    return pair, packet


def is_led_in(network: Network, destination: Address) -> bool:
    """Whether some rule translates another destination address to this one."""
    return any(
        inside.contains(destination.value)
        for rule in network.plan.translations[destination.family]
        for inside, _ in rule.pairs()
    )


def _before(rule: Translation, packet: Packet) -> Iterator[Packet]:
    """Yield the packets that a rule turns into this one by translating their destination."""
    if rule.port is not None and packet.destination_port != rule.port:
        return
    for inside, public in rule.pairs():
        if inside.contains(packet.destination):
            to = packet.destination - inside.first + public.first
            ports = [packet.destination_port]
            if rule.port is not None:
                ports = [
                    term.ports[0][0]
                    for term in rule.services or ()
                    if term.protocol == packet.protocol and term.ports
                ]
            for port in ports:
                sent = packet._replace(destination=to, destination_port=port)
                if rule.services is None or any(each.matches(sent) for each in rule.services):
                    yield sent


def _between(start: Endpoint, end: Endpoint) -> CrossedPair:
    return CrossedPair(start, end, start.segment == end.segment)
