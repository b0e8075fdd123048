"""Entries with large groups of addresses, as bits: a bit for each row of an entry, and a vector of
bits for each class of addresses and of services.

Addresses that are in the same groups form a class. For each class of sources, of destinations, and
for each service rank there is a vector that says which rows take it. The rows that take a packet
are the bits that its three vectors have in common. A summary of each vector, with a bit for each of
its words that is not 0, says which words need to be looked at.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import NamedTuple

import numpy as np

from crossgate.core.lists.bulk.lookup import Entries, PacketBlock
from crossgate.core.lists.bulk.rows import AskedEntry, Extras
from crossgate.core.model.address import Family, Pattern
from crossgate.core.model.packets import Indices, Marks, Words, address_words
from crossgate.core.sets.addresses import spans_of
from crossgate.core.sets.bounds import BoundFinder
from crossgate.core.sets.spans import Spans, joined

_ONE = np.uint64(1)


class GroupRows:
    """The entries of a list that are not multiplied out, by index."""

    def __init__(
        self, family: Family, entries: Sequence[AskedEntry], services: int, extras: Extras
    ) -> None:
        """Make them; `services` is the number of service ranks."""
        flat = [
            (each, clients)
            for each in entries
            for clients in sorted({interval[1::2] for interval in each.asked.intervals})
        ]
        self._extras = extras
        self._entry = np.array([each.position for each, _ in flat], np.uint32)
        self._extra = np.array([each.asked.extra for each, _ in flat], np.int64)
        self._client = np.array([clients for _, clients in flat], np.int32)
        self._words = -(-len(flat) // 64)
        self._summaries = -(-self._words // 64)
        self._services = _Vectors([_members(each.asked.intervals) for each, _ in flat], services)
        self._ends = [
            _Ends(family, each)
            for each in (
                [each.sources for each, _ in flat],
                [each.destinations for each, _ in flat],
            )
        ]

    def decide(self, block: PacketBlock, found: Entries) -> None:
        """Write the index of the first entry that takes each packet into `found`, where it is lower
        than the one there.
        """
        packets = block.packets
        service = block.ranks[0].astype(np.int64)
        held = [(self._services, service)]
        held += [
            (each.vectors, each.classes(words))
            for each, words in zip(self._ends, (packets.source, packets.destination), strict=True)
        ]
        for summary in range(self._summaries):
            shared = _shared(
                [each.summaries[classes * self._summaries + summary] for each, classes in held]
            )
            live = np.flatnonzero(shared)
            shared = shared[live]
            while len(live):
                word = _lowest(shared) + 64 * summary
                shared &= shared - _ONE
                before = self._entry[word * 64] < found[live]  # later words hold later entries only
                live, shared, word = live[before], shared[before], word[before]
                bits = _shared(
                    [each.words[classes[live] * self._words + word] for each, classes in held]
                )
                done = self._in_word(block, live, word, bits, found)
                going = ~done & (shared != 0)
                live, shared = live[going], shared[going]

    def _in_word(
        self, block: PacketBlock, live: Indices, word: Indices, bits: Words, found: Entries
    ) -> Marks:
        """Look at the rows of the `bits` that are left of a word, in order, and return which
        packets one of them decides.
        """
        done = np.zeros(len(live), np.bool_)
        left = np.flatnonzero(bits)
        bits = bits[left]
        while len(left):
            row, rows = word[left] * 64 + _lowest(bits), live[left]
            bits &= bits - _ONE
            client = block.ranks[1][rows]
            takes = (
                (self._client[row, 0] <= client)
                & (client <= self._client[row, 1])
                & (self._entry[row] < found[rows])
            )
            asked = np.flatnonzero(takes & (self._extra[row] > 0))
            if len(asked):
                takes[asked] = self._extras.hold(
                    self._extra[row[asked]], block.packets, rows[asked]
                )
            found[rows[takes]] = self._entry[row[takes]]
            done[left[takes]] = True
            going = ~takes & (bits != 0)
            left, bits = left[going], bits[going]
        return done


class _Vectors:
    """The rows that take each class, as bits: all `words` in one array, and `summaries` of them."""

    def __init__(self, members: Sequence[Indices], classes: int) -> None:
        """Make them; `members` are the classes that each row takes."""
        self.count = -(-len(members) // 64)
        octets = np.zeros((classes, -(-self.count // 64) * 512), np.uint8)
        for row, each in enumerate(members):
            octets[each, row >> 3] |= 1 << (row & 7)
        self._write(octets.view("<u8").astype(np.uint64, copy=False))

    def _write(self, words: Words) -> None:
        marks = np.packbits(words != 0, axis=1, bitorder="little")
        self.summaries: Words = (
            np.ascontiguousarray(marks).view("<u8").astype(np.uint64, copy=False).ravel()
        )
        self.words: Words = np.ascontiguousarray(words[:, : self.count]).ravel()

    def joined(self, of: int, rows: Words) -> int:
        """Return a class that is taken by everything that takes `of`, and by further rows; a new
        class where necessary.
        """
        words = self.words.reshape(-1, self.count)
        both = words[of] | rows
        if (both == words[of]).all():
            return of
        wide = np.zeros((1, -(-self.count // 64) * 64), np.uint64)
        wide[0, : self.count] = both
        every = self.words, self.summaries
        self._write(wide)
        self.words, self.summaries = (
            np.concatenate([every[0], self.words]),
            np.concatenate([every[1], self.summaries]),
        )
        return len(words)


class _Ends:
    """The classes of one side's addresses: addresses are in one class if they are in the same of
    the rows' sets.

    Patterns that wildcards scatter over too many spans are tested one by one; an address in one
    changes to a class that the pattern's rows take as well.
    """

    def __init__(self, family: Family, sides: Sequence[tuple[Pattern, ...]]) -> None:
        distinct = {patterns: number for number, patterns in enumerate(dict.fromkeys(sides))}
        spans: list[Spans] = []
        scattered: dict[Pattern, set[int]] = {}
        for patterns, number in distinct.items():
            counted = [spans_of(each) for each in patterns]
            spans.append(joined(span for own in counted for span in own or ()))
            for pattern, own in zip(patterns, counted, strict=True):
                if own is None:
                    scattered.setdefault(pattern, set()).add(number)
        bounds = sorted(
            {0, *(bound for own in spans for span in own for bound in span if bound <= family.mask)}
        )
        self._finder = BoundFinder(family, bounds)
        self._class, members = _classes(bounds, spans)
        of_rows = [distinct[each] for each in sides]
        self.vectors = _Vectors(
            [members[each] for each in of_rows], int(self._class.max(initial=0)) + 1
        )
        self._scattered = [
            _Scattered.of(pattern, [number in sets for number in of_rows])
            for pattern, sets in scattered.items()
        ]
        self._changed: dict[tuple[int, int], int] = {}

    def classes(self, words: Words) -> Indices:
        """Return the class of each address."""
        found: Indices = self._class[self._finder.places(words)]
        for number, pattern in enumerate(self._scattered):
            inside = np.flatnonzero(((words ^ pattern.value) & pattern.care == 0).all(axis=0))
            if len(inside):
                of, inverse = np.unique(found[inside], return_inverse=True)
                found[inside] = np.array([self._with(int(each), number) for each in of])[inverse]
        return found

    def _with(self, of: int, number: int) -> int:
        if (of, number) not in self._changed:
            self._changed[of, number] = self.vectors.joined(of, self._scattered[number].rows)
        return self._changed[of, number]


class _Scattered(NamedTuple):
    """A pattern as words, and the rows with that pattern, as bits."""

    value: Words
    care: Words
    rows: Words

    @classmethod
    def of(cls, pattern: Pattern, rows: Sequence[bool]) -> _Scattered:
        """Return a pattern as words, with the rows that have it; `rows` says for each row whether
        it does.
        """
        value, care = (
            address_words(pattern.family, [each])
            for each in (pattern.value, ~pattern.wildcard & pattern.family.mask)
        )
        octets = np.zeros(-(-len(rows) // 64) * 8, np.uint8)
        packed = np.packbits(np.array(rows), bitorder="little")
        octets[: len(packed)] = packed
        return cls(value, care, octets.view("<u8").astype(np.uint64, copy=False))


def _classes(bounds: Sequence[int], sets: Sequence[Spans]) -> tuple[Indices, list[Indices]]:
    """Return the class of each stretch between bounds, and the classes in each of some sets of
    spans.
    """
    place = {bound: index for index, bound in enumerate(bounds)}
    held = np.zeros((len(bounds), -(-len(sets) // 8)), np.uint8)
    for number, spans in enumerate(sets):
        turns = np.zeros(len(bounds) + 1, np.int8)
        turns[[place[first] for first, _ in spans]] = 1
        turns[[place.get(end, len(bounds)) for _, end in spans]] = -1
        held[:, number >> 3] |= np.cumsum(turns[:-1], dtype=np.int8).astype(np.uint8) << (
            number & 7
        )
    kinds, of = np.unique(held, axis=0, return_inverse=True)
    return of.reshape(-1), [
        np.flatnonzero(kinds[:, number >> 3] >> (number & 7) & 1) for number in range(len(sets))
    ]


def _members(intervals: Iterable[tuple[int, int, int, int]]) -> Indices:
    """Return the service ranks in some intervals."""
    return np.concatenate([np.arange(first, last + 1) for first, _, last, _ in intervals])


def _shared(vectors: Sequence[Words]) -> Words:
    found: Words = np.bitwise_and.reduce(vectors)
    return found


def _lowest(words: Words) -> Indices:
    """Return the index of the lowest bit that is set in each word; no word may be 0."""
    return np.frexp((words & -words).astype(np.float64))[1].astype(np.int64) - 1
