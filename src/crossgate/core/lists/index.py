"""First match for many single packets.

The entries that take a source are the bits of one integer, and likewise for a destination and for a
service; the lowest bit that all three have in common is the entry that decides. Addresses are
looked up by the wildcards that the list uses, of which there are few; each service of the list is
tried once for each different service met. `AccessList.decide` is the definition; this gives the
same answer, faster from the second packet on.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterable
from functools import cached_property

from crossgate.core.model.accesslist import AccessList, Decider
from crossgate.core.model.address import Addresses
from crossgate.core.model.condition import State
from crossgate.core.model.entry import Entry
from crossgate.core.model.packet import Packet
from crossgate.core.model.service import NO_QUALIFIERS, Qualifiers, Service


class ListIndex:
    """Decides packets of a list's family in one `state` of its conditions."""

    def __init__(self, access_list: AccessList, state: State) -> None:
        self.access_list = access_list
        self.entries = access_list.in_force(state)
        self._sources = _Ends(entry.source for entry in self.entries)
        self._destinations = _Ends(entry.destination for entry in self.entries)
        self._services: dict[tuple[object, ...], int] = {}
        self._deciders = [Decider(access_list, entry) for entry in self.entries]
        self._otherwise = Decider(access_list, None)

    def decide(self, packet: Packet) -> Decider:
        """Return what the list does with a packet, and the entry that decides."""
        taking = self._taking(packet)
        return self._deciders[(taking & -taking).bit_length() - 1] if taking else self._otherwise

    def decide_after(self, packet: Packet, entry: Entry) -> Decider:
        """Return what the list does with a packet after the given entry, and the later entry that
        decides.
        """
        place = bisect_left(self.entries, entry.number, key=lambda each: each.number)
        later = self._taking(packet) >> place + 1
        return self._deciders[place + (later & -later).bit_length()] if later else self._otherwise

    def _taking(self, packet: Packet) -> int:
        """Return the entries that take a packet, a bit for each."""
        hit = self._sources.bits(packet.source) & self._destinations.bits(packet.destination)
        return hit and hit & self._service_bits(packet)

    def _service_bits(self, packet: Packet) -> int:
        key = (
            packet.protocol,
            packet.source_port,
            packet.destination_port,
            packet.icmp_type,
            packet.icmp_code,
            packet.flags,
            packet.fragment,
            packet.dscp,
        )
        bits = self._services.get(key)
        if bits is None:
            bits = 0
            for service, qualifiers, entries in self._asked:
                if service.matches(packet) and (
                    qualifiers is NO_QUALIFIERS or qualifiers.match(packet)
                ):
                    bits |= entries
            self._services[key] = bits
        return bits

    @cached_property
    def _asked(self) -> list[tuple[Service, Qualifiers, int]]:
        """The different demands of entries besides addresses, each with the entries that make it, a
        bit for each. The text of a service says all of it.
        """
        found: dict[tuple[str, Qualifiers], list[int]] = {}
        for index, entry in enumerate(self.entries):
            found.setdefault((entry.service.text, entry.qualifiers), []).append(index)
        return [
            (self.entries[indices[0]].service, qualifiers, sum(1 << index for index in indices))
            for (_, qualifiers), indices in found.items()
        ]


class _Ends:
    """Which entries take an address at one of their ends: for each wildcard, by the bits that it
    fixes.
    """

    def __init__(self, ends: Iterable[Addresses]) -> None:
        self._known: dict[int, int] = {}
        self._by_wildcard: dict[int, dict[int, int]] = {}
        for index, addresses in enumerate(ends):
            for pattern in addresses.patterns:
                fixed = self._by_wildcard.setdefault(pattern.wildcard, {})
                fixed[pattern.value] = fixed.get(pattern.value, 0) | 1 << index

    def bits(self, address: int) -> int:
        """Return the entries that take an address, a bit for each."""
        found = self._known.get(address)
        if found is None:
            found = 0
            for wildcard, fixed in self._by_wildcard.items():
                found |= fixed.get(address & ~wildcard, 0)
            self._known[address] = found
        return found
