"""Ethernet lists: entries about the hardware addresses of a frame and what it carries, and which of
them decide.

A hardware address is 48 bits (IEEE 802; RFC 7042 section 2.1), written as six octets with colons. A
wildcard works as for other addresses: a 1 bit does not matter. What a frame carries is given by its
EtherType (IEEE 802 numbers, IANA).
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from typing import NamedTuple

from crossgate.core.model.accesslist import AccessList, AnyList
from crossgate.core.model.address import Address, Family, anywhere
from crossgate.core.model.entry import Action, AnyEntry, Entry
from crossgate.core.model.errors import PlanError
from crossgate.core.model.service import IP, NO_QUALIFIERS

MOST_MAC = (1 << 48) - 1
BROADCAST = MOST_MAC
"""The address of every station of a link (RFC 7042 section 2.1)."""
MOST_ETHERTYPE = 0xFFFF
ETHERTYPES = {"ipv4": 0x0800, "arp": 0x0806, "ipv6": 0x86DD}
"""What most frames carry, by name (IEEE 802 numbers, RFC 7042 section 3)."""
CARRIES = {Family.IPV4: ETHERTYPES["ipv4"], Family.IPV6: ETHERTYPES["ipv6"]}
VRRP_MACS = {Family.IPV4: 0x00005E000100, Family.IPV6: 0x00005E000200}
"""The hardware address of a virtual router is this and its number (RFC 9568 section 7.3)."""

_MAC = re.compile(r"[0-9A-Fa-f]{2}([:-][0-9A-Fa-f]{2}){5}\Z")


class MacError(PlanError):
    """A text meant as a hardware address that is not one."""


def is_group_mac(mac: int) -> bool:
    """Whether a hardware address is that of a group of machines, as the lowest bit of its first
    octet says (RFC 7042 section 2.1).
    """
    return bool(mac >> 40 & 1)


def group_mac(destination: Address) -> int | None:
    """Return the hardware address for packets to every machine of a link, or to a multicast group;
    None for an address of one machine.

    RFC 1112 section 6.4 for IPv4 multicast, RFC 2464 section 7 for IPv6.
    """
    family, value = destination
    if family is Family.IPV6:
        return 0x333300000000 | value & 0xFFFFFFFF if value >> 120 == 0xFF else None
    if value >> 28 == 0xE:
        return 0x01005E000000 | value & 0x7FFFFF
    return None if value >> 16 == 0xA9FE else BROADCAST


def looks_like_mac(text: str) -> bool:
    """Whether a word is meant as a hardware address rather than as a name: it has two colons or
    five hyphens, or begins with a digit.
    """
    return text.count(":") > 1 or text.count("-") == 5 or text[:1].isdigit()


def is_mac(text: str) -> bool:
    """Whether a word is a correctly written hardware address."""
    return bool(_MAC.match(text)) and not ("-" in text and ":" in text)


def parse_mac(text: str) -> int:
    """Read six octets in hexadecimal, with colons or hyphens between them. Raises `MacError`."""
    if not is_mac(text):
        raise MacError(f"{text} is no hardware address: write six octets, as 00:00:5e:00:53:21")
    return int(text.replace(":", "").replace("-", ""), 16)


def format_mac(value: int) -> str:
    """Write a hardware address with colons, in lower case."""
    return ":".join(f"{value >> shift & 255:02x}" for shift in range(40, -8, -8))


class Stations(NamedTuple):
    """A set of hardware addresses: pairs of a value and a wildcard, and the text it was written
    as.
    """

    text: str
    patterns: tuple[tuple[int, int], ...]

    def contains(self, mac: int | None) -> bool:
        """Whether an address is in the set; an unknown one (None) is only in the set of all."""
        if mac is None:
            return any(wildcard == MOST_MAC for _, wildcard in self.patterns)
        return any((mac ^ value) & ~wildcard == 0 for value, wildcard in self.patterns)

    def covers(self, other: Stations) -> bool:
        """Whether each pattern of another set lies in one of this set; patterns that only several
        together cover do not count.
        """
        return all(
            any(theirs & ~own == 0 and (value ^ base) & ~own == 0 for base, own in self.patterns)
            for value, theirs in other.patterns
        )


ANY_STATION = Stations("any", ((0, MOST_MAC),))


class Frame(NamedTuple):
    """A frame on one link: the hardware addresses of its ends, None where the plan does not give
    them.
    """

    source: int | None
    destination: int | None


class Ruling(NamedTuple):
    """A line of an ethernet list that may decide about a frame: an entry's number, None for the
    otherwise line, its action and its window.
    """

    entry: int | None
    action: Action
    window: str | None


@dataclass(slots=True, eq=False, repr=False)
class EthernetEntry(AnyEntry):
    """An entry for frames; a standard one is for every EtherType (None) and every destination."""

    ethertype: int | None
    source: Stations
    destination: Stations

    def covers(self, other: EthernetEntry) -> bool:
        """Whether the entry, while it is in force, takes every frame that another one takes."""
        carried = self.ethertype in (None, other.ethertype)
        return (
            carried
            and self.window in (None, other.window)
            and self.source.covers(other.source)
            and self.destination.covers(other.destination)
        )

    def matches(self, frame: Frame, ethertype: int) -> bool:
        """Whether the entry takes a frame."""
        own = self.ethertype is None or self.ethertype == ethertype
        return (
            own
            and self.source.contains(frame.source)
            and self.destination.contains(frame.destination)
        )


@dataclass(frozen=True, eq=False, repr=False)
class EthernetList(AnyList[EthernetEntry]):
    """A list for the frames of a link, whatever they carry."""

    by_rulings: dict[tuple[tuple[Ruling, ...], Family], AccessList] = field(
        default_factory=dict, repr=False
    )
    """What `for_packets` has returned."""

    @property
    def about(self) -> str:
        """The word of its head."""
        return "ethernet"

    @property
    def label(self) -> str:
        """What it is about, in everyday words."""
        return "Ethernet"

    @property
    def says(self) -> tuple[object, ...]:
        """All that decides what the list does, in the order in which it is checked."""
        lines = [
            (
                each.number,
                each.action,
                each.window,
                each.ethertype,
                each.source.patterns,
                each.destination.patterns,
            )
            for each in self.entries
            if not each.off
        ]
        return (*lines, self.otherwise.action)

    def rulings(self, frame: Frame, ethertype: int) -> tuple[Ruling, ...]:
        """Return the lines that may decide about a frame, in order: the first whose window is open
        decides; the last one has no window.
        """
        found = []
        for entry in self.entries:
            if not entry.off and entry.matches(frame, ethertype):
                found.append(Ruling(entry.number, entry.action, entry.window))
                if entry.window is None:
                    return tuple(found)
        return (*found, Ruling(None, self.otherwise.action, None))

    def for_packets(self, rulings: tuple[Ruling, ...], family: Family) -> AccessList:
        """Return the list as one for packets of a family, carried in frames that these lines may
        decide.

        Its entries are those lines, each taking every packet, so that code that asks packet lists
        can ask this one too, in every state.
        """
        key = rulings, family
        if key not in self.by_rulings:
            every = anywhere(family)
            lines = (self.entry(each.entry) for each in rulings if each.entry is not None)
            entries = tuple(
                Entry(
                    each.number,
                    each.action,
                    each.conditions,
                    each.off,
                    each.log,
                    each.comment,
                    each.owner,
                    each.text,
                    each.place,
                    IP,
                    every,
                    every,
                    NO_QUALIFIERS,
                )
                for each in lines
                if each is not None
            )
            self.by_rulings[key] = AccessList(
                self.name, self.kind, entries, self.otherwise, self.place, self.notes, family
            )
        return self.by_rulings[key]
