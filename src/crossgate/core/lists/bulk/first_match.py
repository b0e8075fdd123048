"""A list that decides packets by the million: its trees and groups, put together."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from crossgate.core.lists.bulk.groups import GroupRows
from crossgate.core.lists.bulk.lookup import BLOCK, NONE, Lanes, Lookup, Preparation
from crossgate.core.lists.bulk.rows import Extras, Rows, make_rows, multiplied
from crossgate.core.lists.bulk.service_line import PortLine, ServiceLine
from crossgate.core.lists.bulk.tree import TreeBuilder
from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.packet import PORT_PROTOCOLS, TCP
from crossgate.core.model.packets import Marks, Packets
from crossgate.core.sets.region import entry_region, term_line

_ONE_TREE = 5_000
"""Up to so many rows one tree is faster than three."""
_LEAF_ROWS = 4


class FirstMatch:
    """Decides packets of a list's family while just `open_windows` are open; an entry is told by its index in `entries`."""

    def __init__(self, access_list: AccessList, open_windows: frozenset[str] = frozenset()) -> None:
        self.access_list = access_list
        self.entries = access_list.in_force(open_windows)
        family = access_list.family
        whats = {entry.service.text: term_line(entry.service.terms) for entry in self.entries}
        regions = [
            (index, region)
            for index, entry in enumerate(self.entries)
            if (region := entry_region(entry, family, whats[entry.service.text])) is not None
        ]
        services = ServiceLine({region.what for _, region in regions}, self._named())
        ports = PortLine({region.source_ports for _, region in regions})
        extras, ranks = Extras(), (services.count, ports.count)
        flat = [each for each in regions if multiplied(each[1])]
        large = [each for each in regions if not multiplied(each[1])]
        rows = make_rows(family, flat, services, ports, extras)
        lanes = Lanes(tuple((count - 1).bit_length() for count in ranks))
        self._trees = [Lookup(TreeBuilder(part, ranks, _LEAF_ROWS).build(), part, lanes, extras) for part in _parts(rows)]
        self._groups = GroupRows(family, large, services, ports, extras) if large else None
        self._prepared = Preparation(services, ports, lanes, rows.words)

    def _named(self) -> set[int]:
        """Return the protocols that some entry treats in its own way."""
        found = {term.protocol for entry in self.entries for term in entry.service.terms if term.protocol is not None}
        if any(entry.qualifiers.source_ports is not None for entry in self.entries):
            found |= PORT_PROTOCOLS
        if any(entry.qualifiers.flags for entry in self.entries):
            found.add(TCP)
        return found

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


def _parts(rows: Rows) -> list[Rows]:
    """Return the rows of each tree: all together, or those that ask of both sides or of neither, of the source, of the destination."""
    if len(rows) <= _ONE_TREE:
        return [rows]
    half = rows.words // 2
    if half:
        sources, destinations = ((each != 0).any(axis=1) for each in (rows.care[:, :half], rows.care[:, half:]))
    else:
        sources, destinations = (rows.care[:, 0] >> np.uint64(32)) != 0, (rows.care[:, 0] & np.uint64((1 << 32) - 1)) != 0
    parts: list[Marks] = [sources == destinations, sources & ~destinations, destinations & ~sources]
    return [rows.take(each) for each in parts if each.any()]
