"""First match for many packets that share addresses and services.

For every source, destination and service met so far the index keeps the set of entries that take it, as the bits of
one integer; the lowest bit of the three sets' intersection is the entry that decides. `AccessList.decide` is the
definition; this is the same answer, faster from the second packet on.
"""

from __future__ import annotations

from collections.abc import Iterable

from crossgate.core.model.accesslist import AccessList, Decider
from crossgate.core.model.packet import Packet
from crossgate.core.model.service import NO_QUALIFIERS


class ListIndex:
    """Decides packets of a list's family while just `open_windows` are open."""

    def __init__(self, access_list: AccessList, open_windows: frozenset[str]) -> None:
        self.access_list = access_list
        self.entries = access_list.in_force(open_windows)
        self._sources: dict[int, int] = {}
        self._destinations: dict[int, int] = {}
        self._services: dict[tuple[object, ...], int] = {}
        self._deciders = [Decider(access_list, entry) for entry in self.entries]
        self._otherwise = Decider(access_list, None)

    def decide(self, packet: Packet) -> Decider:
        """Return what the list does with the packet, and the entry that decided."""
        sources = self._sources.get(packet.source)
        if sources is None:
            sources = self._sources[packet.source] = _bits(entry.source.contains(packet.source) for entry in reversed(self.entries))
        destinations = self._destinations.get(packet.destination)
        if destinations is None:
            destinations = _bits(entry.destination.contains(packet.destination) for entry in reversed(self.entries))
            self._destinations[packet.destination] = destinations
        hit = sources & destinations
        if hit:
            hit &= self._service_bits(packet)
        return self._deciders[(hit & -hit).bit_length() - 1] if hit else self._otherwise

    def _service_bits(self, packet: Packet) -> int:
        key = (
            packet.protocol, packet.source_port, packet.destination_port, packet.icmp_type, packet.icmp_code,
            packet.flags, packet.fragment, packet.dscp,
        )  # fmt: skip
        bits = self._services.get(key)
        if bits is None:
            bits = self._services[key] = _bits(
                entry.service.matches(packet) and (entry.qualifiers is NO_QUALIFIERS or entry.qualifiers.match(packet))
                for entry in reversed(self.entries)
            )
        return bits


def _bits(fits: Iterable[bool]) -> int:
    return int("".join("1" if fit else "0" for fit in fits) or "0", 2)
