"""Why an entry does not match a packet: the first field, in reading order, in which the two
differ.
"""

from __future__ import annotations

from collections.abc import Iterator
from enum import StrEnum
from typing import NamedTuple

from crossgate.core.model.accesslist import AccessList, Decider
from crossgate.core.model.condition import State
from crossgate.core.model.entry import Entry
from crossgate.core.model.packet import Packet
from crossgate.core.model.service import within


class Field(StrEnum):
    """The field of a packet, or the time, in which an entry does not match."""

    OFF = "off"
    WINDOW = "window"
    LIMIT = "limit"
    TLS = "tls"
    PROTOCOL = "protocol"
    PORT = "port"
    TYPE = "icmp type"
    SOURCE = "source"
    DESTINATION = "destination"
    SOURCE_PORT = "source port"
    FLAGS = "flags"
    FRAGMENT = "fragment"
    DSCP = "dscp"


class Passed(NamedTuple):
    """An entry that does not match a packet, and the field."""

    entry: Entry
    field: Field


def passed_over(
    access_list: AccessList, packet: Packet, state: State, decider: Decider
) -> Iterator[Passed]:
    """Yield the entries above the line that decides about a packet in a state, each with the first
    field that does not match.
    """
    for entry in access_list.entries:
        if entry is decider.entry or (
            decider.entry is not None and entry.number >= getattr(decider.entry, "number", 0)
        ):
            return
        field = differing(entry, packet, state)
        if field is not None:
            yield Passed(entry, field)


def differing(entry: Entry, packet: Packet, state: State) -> Field | None:
    """Return the first field in which an entry does not match a packet in a state; None where it
    matches.
    """
    if entry.off:
        return Field.OFF
    if entry.window is not None and entry.window not in state:
        return Field.WINDOW
    now = entry.in_state(state)
    if now is None:
        return Field.TLS if entry.tls is not None else Field.LIMIT
    found = _service(entry, packet)
    if found is not None:
        return found
    if not entry.source.contains(packet.source):
        return Field.SOURCE
    if not entry.destination.contains(packet.destination):
        return Field.DESTINATION
    return _qualifiers(entry, packet) or (None if now.matches(packet) else Field.LIMIT)


def _service(entry: Entry, packet: Packet) -> Field | None:
    if entry.service.matches(packet):
        return None
    terms = [each for each in entry.service.terms if each.protocol in (None, packet.protocol)]
    if not terms:
        return Field.PROTOCOL
    if packet.fragment:
        return Field.FRAGMENT
    return Field.PORT if any(each.ports is not None for each in terms) else Field.TYPE


def _qualifiers(entry: Entry, packet: Packet) -> Field | None:
    asked = entry.qualifiers
    if asked.fragments and not packet.fragment:
        return Field.FRAGMENT
    if asked.source_ports is not None and not within(packet.source_port, asked.source_ports):
        return Field.SOURCE_PORT
    if asked.flags and (
        packet.flags is None or not any(test.holds(packet.flags) for test in asked.flags)
    ):
        return Field.FLAGS
    if asked.dscp is not None and asked.dscp != packet.dscp:
        return Field.DSCP
    return None
