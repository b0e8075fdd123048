"""How translations have changed the packets of a conversation, at the place that sees them.

A *view* is the rewritings that hold at a place, in the order in which they were made. It turns the
packet that opens the conversation into the packet as it is seen there.
"""

from __future__ import annotations

from typing import NamedTuple

from crossgate.core.model.address import Pattern
from crossgate.core.model.packet import PORT_PROTOCOLS, Packet

FIRST_CHOICE, LAST_CHOICE = 1024, 65_535
"""The ports of which a device chooses one for who is hidden behind another address (RFC 6056
section 3.2).
"""


class Rewriting(NamedTuple):
    """What a device makes of one end of the packets that one of its rules, given by number, takes:
    of the source (side 0) or of the destination (side 1).

    The address becomes one of the `pool`, with a port of the device's choice, or is shifted by an
    `offset`. A destination gets another `port` where one is given.
    """

    device: str
    rule: int
    side: int
    offset: int = 0
    pool: tuple[Pattern, ...] = ()
    port: int | None = None


View = tuple[Rewriting, ...]
NOT_TRANSLATED: View = ()


class Choice(NamedTuple):
    """The source address and port that a device may have chosen."""

    address: int
    port: int


def choosing(view: View) -> Rewriting | None:
    """Return the last rewriting of a view that leaves the source open to choice; None where there
    is no choice.
    """
    return next((each for each in reversed(view) if each.pool), None)


def packet_in(view: View, packet: Packet, choice: Choice | None = None) -> Packet:
    """Return the packet that opens a conversation as it is seen in a view, given the last choice
    for its source.
    """
    last = choosing(view)
    for each in view:
        if each.side:
            packet = packet._replace(
                destination=packet.destination + each.offset,
                destination_port=packet.destination_port if each.port is None else each.port,
            )
        elif each.pool:
            value = choice.address if choice is not None and each is last else each.pool[0].first
            packet = packet._replace(source=value)
            if choice is not None and packet.protocol in PORT_PROTOCOLS and not packet.fragment:
                packet = packet._replace(source_port=choice.port)
        else:
            packet = packet._replace(source=packet.source + each.offset)
    return packet
