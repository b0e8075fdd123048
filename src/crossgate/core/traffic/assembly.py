"""Packets and flow records assembled into conversations, in one pass, keeping in memory only those
that are open.

1. A conversation is all that goes between two ends with the same protocol and ports, in both
directions: the unordered 5-tuple. For ICMP messages that are answered, the identifier takes the
place of the ports, and two conversations with one identifier differ by who asks; non-initial
fragments have no ports and are conversations of their own.

2. A conversation ends once nothing of it was seen for longer than the idle time, by the times in
the input. After a RST, or a FIN in both directions, a new SYN begins the next one.

3. Its opener is the sender of the first packet, unless something tells better: the SYN, the ICMP
request, or in flow records the end with a client's port. A SYN+ACK or an ICMP reply that comes
first is reversed.

4. The same IP packet seen again within 10 ms, as on both sides of a router, counts once.

Open conversations are rows like packets, each with the counts of many packets. A batch of packets
is put after them, all rows are sorted by conversation, and each run of rows that belong together
becomes one row again.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from crossgate.core.model import iana
from crossgate.core.model.address import Family
from crossgate.core.model.packet import ACK, SYN, TCP, icmp_of
from crossgate.core.model.packets import Indices, Marks, Packets, Words, picked
from crossgate.core.traffic.arrivals import NEVER, Arrived, not_alone
from crossgate.core.traffic.seen import SECOND, Seen, joined

_LEAST_MERGED = 1 << 15
_PART_ROWS = 1 << 15
"""More rows than these are parted before they are merged."""
_FOLDED, _UNFOLDED = 0.75, 8
"""A batch that folds to no less than this part of its rows was not worth it, and so many further
ones are not folded.
"""
_FEW_SHARED = 0.2
"""Where less than this part of the rows belongs with others, the rest is left as it is."""
_FEW_ENDED = 4
"""Conversations that have ended are only parted from the others once they are so large a part of
all: the fourth.
"""

_FIN, _RST = iana.FLAGS["FIN"], iana.FLAGS["RST"]


class Assembler:
    """Assembles the rows of one family into conversations; rows are given in batches, roughly in
    the order of their times.
    """

    def __init__(self, idle: int = 300 * SECOND) -> None:
        """Make it; a conversation ends when nothing of it is seen for more than `idle`
        microseconds.
        """
        self._idle = idle
        self._open: Seen | None = None
        self._begun = np.zeros(0, np.int64)
        """For each open conversation, the time that had been reached when it began."""
        self._waiting: list[tuple[Seen, Indices]] = []
        """Rows that are not put together with the open ones yet, with the time that had been
        reached when each came.
        """
        self._latest = NEVER
        self._unfolded = 0
        """How many batches are not folded, since the last one that was became hardly shorter."""

    def add(self, arrived: Arrived) -> Seen:
        """Take a batch, and return the conversations that have ended by now, in the order in which
        they ended.
        """
        before = None
        seen = arrived.seen
        if arrived.anew:
            before, self._latest = self.rest(), NEVER
        if len(seen):
            self._latest = max(self._latest, arrived.clock, int(seen.first[-1]))
            self._waiting.append(self._folded(seen, arrived.clocks()))
        # Merging costs as much as is open, so it waits for as many.
        waiting, open_ones = sum(len(each) for each, _ in self._waiting), len(self._begun)
        ended = (
            self._merge() if waiting >= max(_LEAST_MERGED, open_ones) else seen.take(slice(0, 0))
        )
        return ended if before is None else joined([before, ended])

    def rest(self) -> Seen | None:
        """Return the conversations that are still open, in the order of their last packets, and
        forget them.
        """
        ended = self._merge() if self._waiting else None
        left, self._open, self._begun = self._open, None, self._begun[:0]
        parts = [each for each in (ended, left) if each is not None and len(each)]
        if not parts:
            return None
        whole = joined(parts)
        return whole.take(np.argsort(whole.last, kind="stable"))

    def _folded(self, seen: Seen, clocks: Indices) -> tuple[Seen, Indices]:
        """Return a batch in which rows that certainly belong together are one; where that has
        hardly made fewer rows recently, return it unchanged.
        """
        if self._unfolded:
            self._unfolded -= 1
            return seen, clocks
        folded = self._merged_in_parts(seen, clocks, batch=True)
        self._unfolded = _UNFOLDED if len(folded[0]) > _FOLDED * len(seen) else 0
        return folded

    def _merge(self) -> Seen:
        """Add the waiting rows to the open conversations, and return those that have ended."""
        waiting, self._waiting = self._waiting, []
        if self._open is not None:
            waiting.insert(0, (self._open, self._begun))
        found, begun = self._merged_in_parts(
            joined([each for each, _ in waiting]), np.concatenate([each for _, each in waiting])
        )
        ended = found.last < self._latest - self._idle
        if ended.sum() < len(found) // _FEW_ENDED:
            self._open, self._begun = found, begun
            return found.take(slice(0, 0))
        self._open, self._begun = found.take(~ended), begun[~ended]
        ended_ones = np.flatnonzero(ended)
        return found.take(ended_ones[np.argsort(found.last[ended_ones], kind="stable")])

    def _merged_in_parts(
        self, seen: Seen, clocks: Indices, batch: bool = False
    ) -> tuple[Seen, Indices]:
        """Return the same as `_merged`, the conversations in any order. Of many rows those that are
        alone in their conversation stay as they are, and the others are first divided into parts
        that fit into the processor's cache.
        """
        if len(seen) <= _PART_ROWS:
            return self._merged(seen, clocks, batch)
        digest = conversation_digest(seen)
        several = not_alone(digest)
        if np.count_nonzero(several) < _FEW_SHARED * len(several):
            if not several.any():
                return seen, clocks
            merged, begun = self._merged_in_parts(seen.take(several), clocks[several], batch)
            kept = ~several
            kept[np.flatnonzero(several)[: len(merged)]] = True
            places, left, clocks = np.flatnonzero(several[kept]), seen.take(kept), clocks[kept]
            left.put(places, merged)
            clocks[places] = begun
            return left, clocks
        bits = min(int(len(seen) // _PART_ROWS).bit_length(), 16)
        part = (digest >> np.uint64(64 - bits)).astype(np.uint16)
        order = np.argsort(part, kind="stable")
        seen, clocks = seen.take(order), clocks[order]
        bounds = np.searchsorted(part[order], np.arange(1 << bits, dtype=np.uint16)).tolist()
        parts = [
            self._merged(seen.take(slice(start, end)), clocks[start:end], batch)
            for start, end in zip(bounds, [*bounds[1:], len(seen)], strict=True)
        ]
        return joined([each for each, _ in parts]), np.concatenate([each for _, each in parts])

    def _merged(self, seen: Seen, clocks: Indices, batch: bool) -> tuple[Seen, Indices]:
        """Return one row for each conversation among rows that are in the order of arrival, and the
        clock of its first row.

        In a `batch` nothing is known of earlier rows, so each SYN that may open a conversation
        begins a row of its own.
        """
        order, key = _sorted_by_conversation(seen)
        first, last, told = seen.first[order], seen.last[order], seen.told[order]
        begins = np.ones(len(seen), np.bool_)
        begins[1:] = (key[1:] != key[:-1]).any(axis=1)
        clock = clocks[order]
        begins[1:] |= clock[1:] - _running_maximum(last, begins)[:-1] > self._idle
        begins |= _may_open(seen)[order] if batch else _reopened(seen, order, begins)
        if begins.all():
            return seen, clocks
        starts = np.flatnonzero(begins)
        run = np.cumsum(begins) - 1
        chosen = starts.copy()
        sure = np.flatnonzero(told)[::-1]
        chosen[run[sure]] = sure
        # The rows stay in the order in which they came, so that those of one time lie together in
        # memory.
        kept = np.argsort(order[chosen])
        place = np.empty_like(kept)
        place[kept] = np.arange(len(kept))
        opener = seen.take(order[chosen[kept]])
        against = ~_same_direction(seen.packets, order, opener.packets, place[run])
        pairs = []
        for column, add in (
            (seen.counts, np.add),
            (seen.octets, np.add),
            (seen.flags, np.bitwise_or),
        ):
            ordered = picked(column, order)
            pairs.append(
                picked(
                    add.reduceat(np.where(against, ordered[::-1], ordered), starts, axis=1), kept
                )
            )
        bounds = np.minimum.reduceat(first, starts)[kept], np.maximum.reduceat(last, starts)[kept]
        hello = picked(np.maximum.reduceat(picked(seen.hello, order), starts), kept)
        whole = replace(
            opener,
            first=bounds[0],
            last=bounds[1],
            counts=pairs[0],
            octets=pairs[1],
            flags=pairs[2],
            hello=hello,
            said=picked(np.bitwise_or.reduceat(picked(seen.said, order), starts), kept),
        )
        return whole, clock[starts][kept]


def _key_words(seen: Seen) -> list[Words]:
    """Return the words that all rows of a conversation share, in both directions. For an ICMP
    message that is answered they include who asked, since two ends may ask each other with the same
    identifier.
    """
    packets = seen.packets
    icmp = (packets.protocol == icmp_of(packets.family)) & ~packets.fragment
    some = icmp.any()
    ends = []
    for address, port in (
        (packets.source, packets.source_port),
        (packets.destination, packets.destination_port),
    ):
        ends.append([*address, (np.where(icmp, 0, port) if some else port).astype(np.uint64)])
    number = (
        np.where(icmp, packets.destination_port, 0).astype(np.uint64) << np.uint64(16)
        if some
        else np.uint64(0)
    )
    kind = packets.protocol.astype(np.uint64) << np.uint64(1) | packets.fragment
    rest = kind << np.uint64(32) | number | seen.identifier
    if packets.family is Family.IPV4:
        one, other = (address << np.uint64(16) | port for address, port in ends)
        return [
            np.minimum(one, other),
            np.maximum(one, other),
            _asked_by(icmp & seen.told & (one > other), rest),
        ]
    higher, equal = np.zeros(len(seen), np.bool_), np.ones(len(seen), np.bool_)
    for one, other in zip(*ends, strict=True):
        higher |= equal & (one > other)
        equal &= one == other
    low = [np.where(higher, other, one) for one, other in zip(*ends, strict=True)]
    high = [np.where(higher, one, other) for one, other in zip(*ends, strict=True)]
    ports = low[2] << np.uint64(16) | high[2]
    return [low[0], low[1], high[0], high[1], ports, _asked_by(icmp & seen.told & higher, rest)]


def _asked_by(higher: Marks, rest: Words) -> Words:
    """Return the last word of the keys, with a mark where the end with the higher address asked."""
    return rest | higher.astype(np.uint64) << np.uint64(48) if higher.any() else rest


def conversation_digest(seen: Seen) -> Words:
    """Return a number for each row that all rows of its conversation share, evenly distributed."""
    return _digest(_key_words(seen))


def _digest(words: Sequence[Words]) -> Words:
    digest = np.zeros(len(words[0]), np.uint64)
    for word in words:
        digest = (digest ^ word) * np.uint64(0x9E3779B97F4A7C15)
        digest ^= digest >> np.uint64(29)
    return digest


def _sorted_by_conversation(seen: Seen) -> tuple[Indices, Words]:
    """Return the order that brings the rows of each conversation together, each in order of
    arrival, and the keys in that order.
    """
    words = _key_words(seen)
    digest = _digest(words)
    order = np.argsort(digest, kind="stable")
    key = np.take(np.stack(words, axis=1), order, axis=0)
    ordered = digest[order]
    if ((ordered[1:] == ordered[:-1]) & (key[1:] != key[:-1]).any(axis=1)).any():
        order = np.lexsort(words)  # two conversations of one digest
        key = np.take(np.stack(words, axis=1), order, axis=0)
    return order, key


def _same_direction(packets: Packets, order: Indices, openers: Packets, of: Indices) -> Marks:
    """Tell which rows, in a given order, have the direction of their conversation's opener."""
    same: Marks = (picked(packets.source, order) == picked(openers.source, of)).all(axis=0)
    same &= (picked(packets.destination, order) == picked(openers.destination, of)).all(axis=0)
    itself = np.flatnonzero((openers.source == openers.destination).all(axis=0))
    if len(itself):
        same &= ~np.isin(of, itself) | (packets.source_port[order] == openers.source_port[of])
    return same


def _running_maximum(values: Indices, begins: Marks) -> Indices:
    """Return for each row the greatest value so far in its run."""
    run = np.cumsum(begins)
    low, known = values.min(initial=1 << 62), None
    if (int(values.max(initial=-(1 << 62))) - int(low) + 1) * len(
        values
    ) >= 1 << 62:  # times that are ages apart: by their order then
        known, values = np.unique(values, return_inverse=True)
        low = np.int64(0)
    span = int(values.max(initial=low) - low) + 1
    raised: Indices = np.maximum.accumulate(values - low + run * span) - run * span + low
    return raised if known is None else known[raised]


def _may_open(seen: Seen) -> Marks:
    packets = seen.packets
    found: Marks = (
        (packets.protocol == TCP)
        & ~packets.fragment
        & seen.told
        & (packets.flags & (SYN | ACK) == SYN)
    )
    return found


def _reopened(seen: Seen, order: Indices, begins: Marks) -> Marks:
    """Tell which SYNs, among rows in a given order, begin a new conversation after one that has
    ended.
    """
    packets = seen.packets
    found = np.zeros(len(seen), np.bool_)
    asking = np.flatnonzero(_may_open(seen)[order] & ~begins)
    if not len(asking):
        return found
    run = np.cumsum(begins) - 1
    starts = np.flatnonzero(begins)
    against = ~_same_direction(packets, order, packets.take(order[starts]), run)
    flags = picked(seen.flags, order)
    there, back = (np.where(against, flags[1 - side], flags[side]) for side in range(2))
    ends = np.flatnonzero((there | back) & (_FIN | _RST))
    since = starts[run[asking]]
    between = np.searchsorted(ends, since), np.searchsorted(ends, asking)
    after = np.flatnonzero(between[0] < between[1])
    for row, start, low, high in zip(
        *(each[after].tolist() for each in (asking, since, *between)), strict=True
    ):
        begun = np.flatnonzero(found[start:row])
        own = ends[int(np.searchsorted(ends, start + begun[-1])) if len(begun) else low : high]
        over = (there[own] | back[own]) & _RST
        if over.any() or ((there[own] & _FIN).any() and (back[own] & _FIN).any()):
            found[row] = True
    return found
