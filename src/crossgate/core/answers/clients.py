"""What comes from the source ports that clients choose: conversations as people think of them.

An exact answer divides source ports wherever a list does, so that a single `source port 53` splits
every set in two. People ask about clients first: so the part of clients is written separately,
without mentioning source ports.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple, Protocol

from crossgate.core.sets.frame import PacketSet
from crossgate.core.sets.minimise import SetLine, fewest_lines
from crossgate.core.sets.region import ALL_PORTS, every_packet


class ClientLines(NamedTuple):
    """Answers as lines: all of them, the part that comes from client ports, and the packets that
    examples are taken from.
    """

    lines: list[SetLine]
    clients: list[SetLine]
    packets: list[PacketSet]


class WrittenPackets(Protocol):
    """Some packets, and these with the hidden addresses of their flow."""

    @property
    def packets(self) -> PacketSet:
        """The packets."""

    @property
    def written(self) -> PacketSet:
        """The packets with the hidden addresses, which are written in fewer lines."""


def told(answers: Sequence[WrittenPackets], ports: tuple[int, int], stray: bool) -> ClientLines:
    """Return some answers of one family as lines; `stray` packets open no conversation and have no
    client.
    """
    written, packets = [each.written for each in answers], [each.packets for each in answers]
    lines = fewest_lines(written)
    if stray or all(each.source_ports == ALL_PORTS for line in lines for each in line.services):
        return ClientLines(lines, lines, packets)
    return ClientLines(lines, client_lines(written, ports), from_clients(packets, ports) or packets)


def from_clients(sets: Sequence[PacketSet], ports: tuple[int, int]) -> list[PacketSet]:
    """Return the parts of some sets that come from client ports (first and last); empty parts are
    left out.
    """
    spans = ((ports[0], ports[1] + 1),)
    found = []
    for each in sets:
        cut = [each.frame.from_ports(product, spans) for product in each.products]
        if None in cut:
            part = each & PacketSet.of(every_packet(each.family)._replace(source_ports=spans))
        else:
            part = PacketSet(
                each.frame, [product for product in cut if product is not None and product[3]]
            )
        if part:
            found.append(part)
    return found


def client_lines(sets: Sequence[PacketSet], ports: tuple[int, int]) -> list[SetLine]:
    """Return the parts of some sets that come from client ports, as few lines; a line with all of
    these ports is written as having every port.
    """
    spans = ((ports[0], ports[1] + 1),)
    return [
        line._replace(
            services=frozenset(
                each._replace(source_ports=ALL_PORTS) if each.source_ports == spans else each
                for each in line.services
            )
        )
        for line in fewest_lines(from_clients(sets, ports))
    ]
