"""What translations have made of the packets of a conversation, where they are seen.

A *view* is the rewritings that hold at a place, in the order in which they were made. By it a
packet there is told from the one that opens the conversation.
"""

from __future__ import annotations

from typing import NamedTuple

from crossgate.core.model.address import Address, Pattern
from crossgate.core.model.packet import PORT_PROTOCOLS, Packet

FIRST_CHOICE, LAST_CHOICE = 1024, 65_535
"""The ports of which a device chooses one for who is hidden behind another address (RFC 6056
section 3.2).
"""


class Rewriting(NamedTuple):
    """What a device makes of one end of the packets that its rule, by its number, takes: of the
    source (side 0) or of the destination (side 1).

    An address becomes one of the `pool`, with a port of the device's choice, or another by an
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
    """What a device may have chosen for a source: an address, and a port."""

    address: int
    port: int


def end_in(view: View, side: int, address: Address) -> Address:
    """Return what an end's address becomes in a view; of a pool the first."""
    for each in view:
        if each.side == side:
            value = each.pool[0].first if each.pool else address.value + each.offset
            address = Address(address.family, value)
    return address


def choosing(view: View) -> Rewriting | None:
    """Return the last rewriting that leaves a choice of the source; None where all is settled."""
    return next((each for each in reversed(view) if each.pool), None)


def packet_in(view: View, packet: Packet, choice: Choice | None = None) -> Packet:
    """Return what becomes of a packet that opens a conversation in a view, given what was chosen
    for its source last.
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
