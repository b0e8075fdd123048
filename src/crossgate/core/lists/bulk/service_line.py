"""What packets carry as small numbers, so that every service of a list is a few intervals of
numbers.

The line of `core.sets.region` has a number for every protocol with every port or message, and for
its fragments. A list treats few of these differently. Here each protocol that the list names has a
stretch of numbers, all other protocols share the first stretch, and numbers that no entry treats
differently form one *rank*. A packet's rank is found by two table lookups.
"""

from __future__ import annotations

from collections.abc import Iterable
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from crossgate.core.model.packets import Packets
from crossgate.core.sets import spans as line
from crossgate.core.sets.region import FRAGMENT, PROTOCOL_SHIFT, PROTOCOLS
from crossgate.core.sets.spans import Span, Spans

Ranks = NDArray[np.int32]

_STRETCH = 1 << PROTOCOL_SHIFT


class ServiceLine:
    """The ranks of what packets carry, for entries that carry `whats`; `count` is the number of
    ranks.
    """

    def __init__(self, whats: Iterable[Spans], named: Iterable[int]) -> None:
        """Make it; `named` are the protocols that some of `whats` treat differently from others."""
        named = sorted(set(named))
        self._stretches = [
            next(each for each in range(PROTOCOLS) if each not in named)
            if len(named) < PROTOCOLS
            else named[0],
            *named,
        ]
        whats = list(whats)
        cuts = {0, len(self._stretches) * _STRETCH}
        for what in whats:
            cuts.update(bound for span in self._placed(what) for bound in span)
        self._bounds = np.array(sorted(cuts), np.int64)
        self.count = len(self._bounds) - 1
        self._tables(len(named))

    def _placed(self, what: Spans) -> Spans:
        """Return what is carried as spans in the stretches, laid one after the other."""
        found: list[Span] = []
        for position, protocol in enumerate(self._stretches):
            base, place = protocol * _STRETCH, position * _STRETCH
            found += [
                (place + first - base, place + end - base)
                for first, end in line.common(what, ((base, base + _STRETCH),))
            ]
        return line.joined(found)

    def _tables(self, named: int) -> None:
        """Make the tables: for each stretch one rank, or one for each of its ports."""
        inside = (
            np.bincount(
                self._bounds[:-1] // _STRETCH,
                self._bounds[:-1] % _STRETCH % FRAGMENT != 0,
                minlength=named + 1,
            )
            > 0
        )
        self._mask = np.zeros(PROTOCOLS, np.int64)
        self._offset = np.zeros(PROTOCOLS, np.int64)
        self._fragment = np.full(PROTOCOLS, self._rank(np.array([FRAGMENT]))[0], np.int32)
        tables, filled = [], 0
        for position, protocol in enumerate(self._stretches):
            numbers = position * _STRETCH + np.arange(FRAGMENT if inside[position] else 1)
            tables.append(self._rank(numbers))
            if position:
                self._offset[protocol] = filled
                self._mask[protocol] = len(numbers) - 1
                self._fragment[protocol] = self._rank(numbers[:1] + FRAGMENT)[0]
            filled += len(numbers)
        self._table = np.concatenate(tables)

    def _rank(self, numbers: NDArray[np.int64]) -> Ranks:
        return (np.searchsorted(self._bounds, numbers, side="right") - 1).astype(np.int32)

    def intervals(self, what: Spans) -> list[tuple[int, int]]:
        """Return the ranks of what is carried, as intervals with both ends included."""
        placed = np.array(self._placed(what), np.int64).reshape(-1, 2)
        first, last = self._rank(placed[:, 0]), self._rank(placed[:, 1] - 1)
        return list(zip(first.tolist(), last.tolist(), strict=True))

    def ranks(self, packets: Packets) -> Ranks:
        """Return the rank of each packet."""
        protocol = packets.protocol.astype(np.int64)
        place = packets.destination_port & self._mask[protocol]
        place += self._offset[protocol]
        found: Ranks = self._table[place]
        if packets.fragment.any():
            pieces = np.flatnonzero(packets.fragment)
            found[pieces] = self._fragment[protocol[pieces]]
        return found


class PortLine:
    """The ranks of source ports, for entries that ask for `several` sets of them; `count` is the
    number of ranks.
    """

    def __init__(self, several: Iterable[Spans]) -> None:
        cuts = {0, FRAGMENT} | {bound for spans in several for span in spans for bound in span}
        bounds = sorted(cuts)
        self.count = len(bounds) - 1
        self._table = np.repeat(
            np.arange(self.count, dtype=np.int32), [end - first for first, end in pairwise(bounds)]
        )

    def intervals(self, spans: Spans) -> list[tuple[int, int]]:
        """Return the ranks of some ports, as intervals with both ends included."""
        return [(int(self._table[first]), int(self._table[end - 1])) for first, end in spans]

    def ranks(self, packets: Packets) -> Ranks:
        """Return the rank of each packet's source port."""
        found: Ranks = self._table[packets.source_port]
        return found
