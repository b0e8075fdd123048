"""In words, why entries do not match a packet; and a wildcard mask against an address, bit by
bit.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import groupby
from typing import NamedTuple

from crossgate.core.lists.why import Field, Passed
from crossgate.core.model.address import Address, Addresses, Family
from crossgate.core.model.entry import AnyEntry
from crossgate.core.model.iana import FLAGS
from crossgate.core.model.packet import Packet
from crossgate.core.model.service import protocol_word
from crossgate.core.model.window import of_window

_MOST = 3
"""So many entries that follow each other and differ in one field are told one by one."""


class EntryReason(NamedTuple):
    """Why one entry, or several neighbouring ones, do not match a packet."""

    first: Passed
    last: Passed
    text: str


def reasons(passed: Sequence[Passed], packet: Packet, every: bool = False) -> Iterator[EntryReason]:
    """Yield why entries do not match a packet; long runs that fail in the same field are joined,
    unless `every` entry is to be told.
    """
    for field, run in groupby(passed, key=lambda each: each.field):
        several = list(run)
        if len(several) > _MOST and not every:
            yield EntryReason(several[0], several[-1], _SEVERAL[field])
        else:
            for each in several:
                yield EntryReason(each, each, _text(each, packet))


_SEVERAL = {
    Field.OFF: "are off",
    Field.WINDOW: "their windows are shut",
    Field.LIMIT: "beyond what they permit at most",
    Field.TLS: "ask for another TLS",
    Field.PROTOCOL: "other protocols",
    Field.PORT: "other ports",
    Field.TYPE: "other ICMP types",
    Field.SOURCE: "other sources",
    Field.DESTINATION: "other destinations",
    Field.SOURCE_PORT: "other source ports",
    Field.FLAGS: "other flags",
    Field.FRAGMENT: "a fragment, or none",
    Field.DSCP: "other markings",
}


def _shut(entry: AnyEntry) -> str:
    window = of_window(entry.window or "")
    day = "" if entry.until is None else f"its last day is {entry.until}"
    return " or ".join(filter(None, [f"{window} is shut" if window else "", day]))


def _text(passed: Passed, packet: Packet) -> str:
    """Return the field of a packet in which an entry does not match."""
    source, destination = (
        Address(packet.family, each) for each in (packet.source, packet.destination)
    )
    code = f"/{packet.icmp_code}" if packet.icmp_code else ""
    found = [name for name, bit in FLAGS.items() if (packet.flags or 0) & bit]
    return {
        Field.OFF: "it is off",
        Field.WINDOW: _shut(passed.entry),
        Field.LIMIT: "beyond what it permits at most",
        Field.TLS: "it asks for a TLS that is not spoken",
        Field.PROTOCOL: f"another protocol, {protocol_word(packet.protocol, packet.family)}",
        Field.PORT: f"another port, {packet.destination_port}",
        Field.TYPE: f"another ICMP type, {packet.icmp_type}{code}",
        Field.SOURCE: f"another source, {source}",
        Field.DESTINATION: f"another destination, {destination}",
        Field.SOURCE_PORT: f"another source port, {packet.source_port}",
        Field.FLAGS: f"other flags, {','.join(found) or 'none'}",
        Field.FRAGMENT: "a later fragment has no ports" if packet.fragment else "no later fragment",
        Field.DSCP: f"another marking, {packet.dscp}",
    }[passed.field]


def bits(addresses: Addresses, address: Address) -> list[tuple[str, str]]:
    """Return, bit by bit, a wildcard mask with scattered 1 bits against an address: the address of
    the entry, the mask, the packet's address, and marks where they differ although the mask asks;
    nothing for an entry with another kind of address.
    """
    if len(addresses.patterns) != 1 or address.family is not Family.IPV4:
        return []
    (pattern,) = addresses.patterns
    if pattern.is_prefix:
        return []
    differ = (pattern.value ^ address.value) & ~pattern.wildcard
    rows = (
        (str(Address(address.family, pattern.value)), pattern.value, "01"),
        (str(Address(address.family, pattern.wildcard)), pattern.wildcard, "01"),
        (str(address), address.value, "01"),
        ("", differ, " ^"),
    )
    return [(label, _octets(value, marks)) for label, value, marks in rows]


def _octets(value: int, marks: str) -> str:
    """Return 32 bits as four octets, written with two marks for 0 and 1."""
    text = "".join(marks[value >> bit & 1] for bit in range(31, -1, -1))
    gap = " " if marks[0] == " " else "."
    return gap.join(text[at : at + 8] for at in range(0, 32, 8))
