"""First match in one list for millions of packets: its trees and groups put together."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray

from crossgate.core.lists.bulk.groups import GroupRows
from crossgate.core.lists.bulk.lookup import BLOCK, NONE, Lookup, Preparation, RankLanes
from crossgate.core.lists.bulk.rows import AskedEntry, AskedRows, EntryRows, Extras, make_rows
from crossgate.core.lists.bulk.service_line import PortLine, ServiceLine
from crossgate.core.lists.bulk.tree import TreeBuilder
from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.condition import State
from crossgate.core.model.entry import Entry
from crossgate.core.model.packet import PORT_PROTOCOLS, TCP
from crossgate.core.model.packets import Marks, Packets
from crossgate.core.sets.region import Services, entry_services

_ONE_TREE = 5_000
"""Up to so many rows one tree is faster than three."""
_LEAF_ROWS = 4


class FirstMatch:
    """Decides packets of a list's family in one `state` of its conditions; entries are given by
    their index in the list.
    """

    def __init__(self, access_list: AccessList, state: State = frozenset()) -> None:
        self.access_list = access_list
        in_force = [
            (index, own)
            for index, entry in enumerate(access_list.entries)
            if (own := entry.in_state(state)) is not None
        ]
        family = access_list.family
        services = {(entry.service.text, entry.qualifiers): entry for _, entry in in_force}
        asked = {
            key: found
            for key, entry in services.items()
            if (found := entry_services(entry)) is not None
        }
        services_line = ServiceLine(
            {each.what for each in asked.values()}, _named(entry for _, entry in in_force)
        )
        ports = PortLine({each.source_ports for each in asked.values()})
        extras, ranks = Extras(), (services_line.count, ports.count)
        rows_of = {
            key: _asked_rows(each, services_line, ports, extras) for key, each in asked.items()
        }
        entries = [
            AskedEntry(index, entry.source.patterns, entry.destination.patterns, asked_rows)
            for index, entry in in_force
            if (asked_rows := rows_of.get((entry.service.text, entry.qualifiers))) is not None
        ]
        rows = make_rows(family, (each for each in entries if each.multiplied))
        large = [each for each in entries if not each.multiplied]
        lanes = RankLanes(tuple((count - 1).bit_length() for count in ranks))
        self._trees = [
            Lookup(TreeBuilder(part, ranks, _LEAF_ROWS).build(), part, lanes, extras)
            for part in _parts(rows)
        ]
        self._groups = GroupRows(family, large, services_line.count, extras) if large else None
        self._prepared = Preparation(services_line, ports, lanes, rows.words)

    def decide(self, packets: Packets) -> NDArray[np.int32]:
        """Return the index of the entry that decides each packet, -1 where none does."""
        found = np.full(len(packets), NONE, np.uint32)
        for first in range(0, len(packets), BLOCK):
            part = slice(first, min(first + BLOCK, len(packets)))
            block = self._prepared.block(packets.take(part))
            for number, tree in enumerate(self._trees):
                tree.decide(block, found[part], bounded=number > 0)
            if self._groups is not None:
                self._groups.decide(block, found[part])
        return found.view(np.int32)


def _named(entries: Iterable[Entry]) -> set[int]:
    """Return the protocols that some entry treats differently from others."""
    found: set[int] = set()
    for entry in entries:
        found.update(term.protocol for term in entry.service.terms if term.protocol is not None)
        if entry.qualifiers.source_ports is not None:
            found |= PORT_PROTOCOLS
        if entry.qualifiers.flags:
            found.add(TCP)
    return found


def _asked_rows(
    services: Services, line: ServiceLine, ports: PortLine, extras: Extras
) -> AskedRows:
    clients = ports.intervals(services.source_ports)
    intervals = [
        (first, client, last, last_client)
        for first, last in line.intervals(services.what)
        for client, last_client in clients
    ]
    return AskedRows(tuple(intervals), extras.number(services))


def _parts(rows: EntryRows) -> list[EntryRows]:
    """Return the rows of each tree: all together, or separately those that ask for both ends or for
    neither, for the source only, and for the destination only.
    """
    if len(rows) <= _ONE_TREE:
        return [rows]
    half = rows.words // 2
    if half:
        sources, destinations = (
            (each != 0).any(axis=1) for each in (rows.care[:, :half], rows.care[:, half:])
        )
    else:
        sources, destinations = (
            (rows.care[:, 0] >> np.uint64(32)) != 0,
            (rows.care[:, 0] & np.uint64((1 << 32) - 1)) != 0,
        )
    parts: list[Marks] = [sources == destinations, sources & ~destinations, destinations & ~sources]
    return [rows.take(each) for each in parts if each.any()]
