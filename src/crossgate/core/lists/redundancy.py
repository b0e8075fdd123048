"""Which entries of a list are never reached, and which have no effect: exact, with a proof or a
packet for each.

An entry is never reached when earlier entries take all of its packets. It has no effect when it
could be removed and no packet would be treated differently: every packet that reaches it meets the
same action further down.

Most entries are settled for many rows at once (`columns`): one earlier entry covers the row, or a
sample packet gets through to it. A sample packet can only prove that an entry is needed. What is
left is settled by `_search`, which takes entries out of a row until nothing or a packet is left.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from itertools import islice

import numpy as np
from numpy.typing import NDArray

from crossgate.core.lists.covered import Coverage, region_columns
from crossgate.core.lists.split import ListRegions, numbered
from crossgate.core.model.accesslist import line_name
from crossgate.core.model.entry import Action, Entry
from crossgate.core.model.packet import Packet
from crossgate.core.model.progress import Tell
from crossgate.core.sets import products as algebra
from crossgate.core.sets.boxes import Box, overlap, packet_box
from crossgate.core.sets.columns import (
    CACHED_CELLS,
    BoxColumns,
    Numbers,
    box_columns,
    common,
    covering,
    covering_pairs,
    meeting,
    meeting_box,
    row_box,
)
from crossgate.core.sets.effort import TooManyPieces, answered
from crossgate.core.sets.frame import SetFrame, witness
from crossgate.core.sets.products import Product
from crossgate.core.sets.services import box_region
from crossgate.core.sets.uncovered import first_uncovered

_TRIES = 3
_AIMED_TRIES = 4
_MOST_PIECES = 2_000
_FEW = 24
"""Up to so many rows a loop is faster than columns."""


def coverage(
    regions: ListRegions,
    tell: Tell | None = None,
    only: Collection[int] | None = None,
    missed: list[TooManyPieces] | None = None,
) -> list[Coverage]:
    """Settle the entries in force of a list: every one, or those with the numbers `only`.

    `tell` is told from time to time how many boxes are done, of how many. An entry whose question
    falls into too many pieces is added to `missed`, and counts as reached and needed.
    """
    return _Settling(regions, [] if missed is None else missed).settle(
        tell or (lambda done, total: None), only
    )


class _Settling:
    """The work on one list: its rows, and what is known of each."""

    def __init__(self, regions: ListRegions, missed: list[TooManyPieces]) -> None:
        self.missed = missed
        self.name = regions.access_list.name
        self.list_regions = regions
        self.regions = regions.regions
        self.table, self.boxes = region_columns(self.regions)
        self.starts: list[int] = np.searchsorted(
            self.table.entry, np.arange(len(self.regions) + 1)
        ).tolist()
        """The first row of each region."""
        actions = list(Action)
        self.actions = np.array(
            [actions.index(region.entry.action) for region in self.regions], np.int64
        )[self.table.entry]
        self.otherwise = actions.index(regions.access_list.otherwise.action)
        self.random = np.random.default_rng(64)
        self.position = np.full(len(self.boxes), -1, np.int64)
        self.covered, self.reached, self.needed = (
            np.zeros(len(self.boxes), np.bool_) for _ in range(3)
        )
        self.proof_value = np.zeros_like(self.table.value)
        self.proof_spans = np.zeros_like(self.table.spans)
        """For a reached row: a packet of it that no earlier entry has."""
        self.takers: dict[int, tuple[set[int], set[int]]] = {}
        """For a covered row: the earlier regions that each cover it alone, or else those that do it
        together.
        """

    def settle(self, tell: Tell, only: Collection[int] | None) -> list[Coverage]:
        """Settle one group of rows after the other, then combine the rows of each entry."""
        wanted = np.array(
            [only is None or region.entry.number in only for region in self.regions], np.bool_
        )
        asked = np.flatnonzero(wanted[self.table.entry])
        done = 0
        for rows, left, right in meeting(self.table, asked):
            self._group(rows, left, right)
            done += len(rows)
            tell(done, len(asked))
        count = len(self.regions)
        reached, needed = np.zeros(count, np.bool_), np.zeros(count, np.bool_)
        np.logical_or.at(reached, self.table.entry, self.reached)
        np.logical_or.at(needed, self.table.entry, self.needed)
        return [
            self._known(index, bool(reached[index]), bool(needed[index]))
            for index in range(count)
            if wanted[index]
        ]

    def _known(self, index: int, reached: bool, needed: bool) -> Coverage:
        """Return what is known of a region's entry; with a packet only where the entry has no
        effect and a packet is wanted.
        """
        entry = self.regions[index].entry
        if not reached:
            return Coverage(entry, False, False, None, self._because(index))
        if needed:
            return Coverage(entry, True, True)
        first = self.starts[index]
        row = first + int(np.argmax(self.reached[first:]))
        box = row_box(self.regions[index].family, self.proof_value[row], self.proof_spans[row])
        return Coverage(entry, True, False, witness(box_region(box)))

    def _group(self, rows: Numbers, left: Numbers, right: Numbers) -> None:
        """Settle `rows`, given all pairs of them with rows that they overlap."""
        table = self.table
        later = table.entry[right] > table.entry[left]
        inside = np.flatnonzero(~later & ~table.loose[right] & ~table.loose[left])
        inside = inside[covering_pairs(table, right[inside], table, left[inside])]
        self.covered[left[inside]] = True
        for row, other in zip(
            left[inside].tolist(), table.entry[right[inside]].tolist(), strict=True
        ):
            if row not in self.takers:
                self.takers[row] = set(), set()
            self.takers[row][0].add(other)
        opposite = np.flatnonzero(later & (self.actions[right] != self.actions[left]))
        contested = self.actions[rows] != self.otherwise
        self.position[rows] = np.arange(len(rows))
        contested[self.position[left[opposite]]] = True
        self.position[rows] = -1
        self._try_packets(rows, left, right, opposite, contested)
        starts, ends = np.searchsorted(left, rows), np.searchsorted(left, rows, side="right")
        settled = self.covered[rows] | self.needed[rows] | (self.reached[rows] & ~contested)
        for nth in np.flatnonzero(~settled):
            row = int(rows[nth])
            number = self.regions[int(table.entry[row])].entry.number
            given_up = len(self.missed)
            with answered(
                f"whether {line_name(self.name, number)} is ever reached and has an effect",
                self.missed,
            ):
                self._search(row, right[starts[nth] : ends[nth]])
            if len(self.missed) > given_up:
                # Nobody knows, so nothing is said of it.
                self.reached[row] = self.needed[row] = True

    def _try_packets(
        self,
        rows: Numbers,
        left: Numbers,
        right: Numbers,
        opposite: Numbers,
        contested: NDArray[np.bool_],
    ) -> None:
        """Try sample packets for the rows that are still open, at random and then where a later
        entry would decide differently.
        """
        table = self.table
        live = ~self.covered[rows] & ~table.loose[rows]
        opposite = opposite[~table.loose[right[opposite]]]
        aims = right[opposite]
        starts, ends = (
            np.searchsorted(left[opposite], rows),
            np.searchsorted(left[opposite], rows, side="right"),
        )
        for attempt in range(_TRIES + _AIMED_TRIES):
            aim = attempt - _TRIES
            if aim >= 0:
                live &= starts + aim < ends
            indices = np.flatnonzero(live)
            if not len(indices):
                continue
            self.position[rows[indices]] = 0
            kept = self.position[left] == 0
            self.position[rows[indices]] = -1
            left, right = left[kept], right[kept]
            tried = table.take(rows[indices])
            if aim >= 0:
                tried = common(table.take(aims[starts[indices] + aim]), tried)
            self._prove(rows[indices], self._packets(tried, corner=attempt == 0), left, right)
            live &= ~self.needed[rows] & (contested | ~self.reached[rows])

    def _packets(self, boxes: BoxColumns, corner: bool) -> BoxColumns:
        """Choose one packet in each box: its lowest corner, or a random one."""
        first, last = boxes.spans[:, ::2], boxes.spans[:, 1::2]
        if corner:
            value, chosen = boxes.value, first
        else:
            value = boxes.value | (
                self.random.integers(0, 1 << 64, boxes.value.shape, np.uint64) & boxes.wildcard
            )
            chosen = first + (self.random.random(first.shape) * (last - first + 1)).astype(np.int32)
        return BoxColumns(
            value, np.zeros_like(value), np.repeat(chosen, 2, axis=1), boxes.entry, boxes.loose
        )

    def _prove(self, rows: Numbers, packets: BoxColumns, left: Numbers, right: Numbers) -> None:
        """Note which rows their packets prove: reached when no earlier entry takes the packet,
        needed when the next entry that does decides differently.
        """
        self.position[rows] = np.arange(len(rows))
        owner = self.position[left]
        self.position[rows] = -1
        before = self.table.entry[right] < self.table.entry[left]
        _, taken = self._hits(packets, owner, right, before)
        reached = np.ones(len(rows), np.bool_)
        reached[taken] = False
        untaken = np.append(reached, False)  # the last for pairs of other rows, whose owner is -1
        other, owner = self._hits(packets, owner, right, ~before & untaken[owner])
        # Pairs are sorted, so the first later hit of each owner is the entry that would decide
        # next.
        owners, first = np.unique(owner, return_index=True)
        action = np.full(len(rows), self.otherwise, np.int64)
        action[owners] = self.actions[other[first]]
        unsure = np.zeros(len(rows), np.bool_)
        unsure[owner[self.table.loose[other]]] = True
        self.reached[rows[reached]] = True
        self.proof_value[rows[reached]] = packets.value[reached]
        self.proof_spans[rows[reached]] = packets.spans[reached]
        self.needed[rows[reached & ~unsure & (action != self.actions[rows])]] = True

    def _hits(
        self, packets: BoxColumns, owner: Numbers, right: Numbers, which: NDArray[np.bool_]
    ) -> tuple[Numbers, Numbers]:
        """Return, of the pairs marked in `which` whose row owns a packet, the other rows that
        contain that packet, with its index.
        """
        pairs = np.flatnonzero(which & (owner >= 0))
        pairs = pairs[covering_pairs(self.table, right[pairs], packets, owner[pairs])]
        return right[pairs], owner[pairs]

    def _search(self, row: int, others: Numbers) -> None:
        """Settle one row for certain, given every row it overlaps.

        It is needed when some packet of it that no earlier entry takes next meets another action:
        in a later entry of another action, before any entry of the same action, or in the otherwise
        line.
        """
        if self.table.loose[row] or self.table.loose[others].any():
            self._search_sets(row, others)
            return
        table, index, action = self.table, int(self.table.entry[row]), int(self.actions[row])
        box, earlier = self.boxes[row], others[table.entry[others] < index]
        if not self.reached[row]:
            proof = first_uncovered(box, [self.boxes[each] for each in earlier.tolist()])
            if proof is None:
                frame = SetFrame(
                    box_region(box), regions := [box_region(self.boxes[each]) for each in earlier]
                )
                entries = table.entry[earlier].tolist()
                self._cover(
                    row,
                    frame,
                    frame.whole,
                    [(product, entries[each]) for product, each in numbered(frame, regions)],
                )
                return
            self._reach(row, witness(box_region(proof)))
        later = others[table.entry[others] > index]
        alike = np.sort(np.concatenate((earlier, later[self.actions[later] == action])))
        targets = later[self.actions[later] != action]
        if (
            action != self.otherwise
            and first_uncovered(box, [self.boxes[each] for each in alike.tolist()]) is not None
        ):
            self.needed[row] = True
            return
        for target in self._open(row, targets, alike):
            part = overlap(box, self.boxes[target])
            if (
                part is not None
                and self._left(part, alike[table.entry[alike] < table.entry[target]]) is not None
            ):
                self.needed[row] = True
                return

    def _search_sets(self, row: int, others: Numbers) -> None:
        """Settle one row as `_search` does, where it or a row that it overlaps consists of many
        boxes.
        """
        index = int(self.table.entry[row])
        if self.list_regions.frame is not None:
            # All of the entry at once, for all of its rows.
            frame, products = self.list_regions.frame, self.list_regions.products
            whole = next(product for product, each in products if each == index)
        else:
            region = (
                self.regions[index].region if self.table.loose[row] else box_region(self.boxes[row])
            )
            entries = [
                each for each in np.unique(self.table.entry[others]).tolist() if each != index
            ]
            regions = [self.regions[each].region for each in entries]
            assert region is not None  # it has a row
            frame = SetFrame(region, [each for each in regions if each is not None])
            products = [(product, entries[each]) for product, each in numbered(frame, regions)]
            whole = frame.whole
        near = [
            (product, each)
            for own, each in products
            if each != index and (product := algebra.meet(own, whole)) is not None
        ]
        earlier = [(product, each) for product, each in near if each < index]
        if not self.reached[row]:
            proof = next(
                algebra.left(whole, [product for product, _ in earlier], frame.order), None
            )
            if proof is None:
                self._cover(row, frame, whole, earlier)
                return
            self._reach(row, frame.witness(proof))
        own = self.regions[index].entry.action
        acts = {each: self.regions[each].entry.action for _, each in near}
        alike = [(product, each) for product, each in near if each < index or acts[each] is own]
        if self.actions[row] != self.otherwise and algebra.is_left(
            whole, [product for product, _ in alike], frame.order
        ):
            self.needed[row] = True
            return
        for product, target in near:
            if target < index or acts[target] is own:
                continue
            if algebra.is_left(
                product, [before for before, each in alike if each < target], frame.order
            ):
                self.needed[row] = True
                return

    def _reach(self, row: int, packet: Packet) -> None:
        """Note a packet that proves that a row is reached."""
        self.reached[row] = True
        one = box_columns([packet_box(packet)], [0], [False])
        self.proof_value[row], self.proof_spans[row] = one.value[0], one.spans[0]

    def _cover(
        self, row: int, frame: SetFrame, whole: Product, earlier: Sequence[tuple[Product, int]]
    ) -> None:
        """Note that earlier entries, together or one alone, cover a row."""
        self.covered[row] = True
        alone = {entry for product, entry in earlier if product == whole}
        pieces = (
            [entry for _, entry in islice(algebra.split(whole, earlier, frame.order), _MOST_PIECES)]
            if not alone
            else []
        )
        # Where bits are scattered the pieces have no end; then all that share packets with it are
        # named.
        every = len(pieces) == _MOST_PIECES
        self.takers[row] = (
            alone,
            {entry for _, entry in earlier}
            if every
            else {entry for entry in pieces if entry is not None},
        )

    def _open(self, row: int, targets: Numbers, blocking: Numbers) -> Iterator[int]:
        """Yield the target rows whose overlap with a row is not covered by any single one of the
        `blocking` rows before them.
        """
        own, across = self.table.take(np.array([row])), self.table.take(blocking).across()
        most = max(CACHED_CELLS // max(len(blocking), 1), 1)
        for start in range(0, len(targets), most):
            several = targets[start : start + most]
            parts = common(own, self.table.take(several)).down()
            blocked = covering(across, parts) & (across.entry < parts.entry) & ~across.loose
            yield from several[~blocked.any(axis=1)].tolist()

    def _left(self, box: Box, rows: Numbers) -> Box | None:
        """Return a part of a box that is in none of these rows' regions, or None."""
        if len(rows) > _FEW:
            rows = rows[meeting_box(self.table.take(rows), box)]
        return first_uncovered(box, [self.boxes[row] for row in rows.tolist()])

    def _because(self, index: int) -> tuple[Entry, ...]:
        """Return the earlier entries that take all packets of one that is never reached: a single
        one where possible.
        """
        takers = [self.takers[row] for row in range(self.starts[index], self.starts[index + 1])]
        alone = (
            takers[0][0]
            if len(takers) == 1
            else set.intersection(*(alone for alone, _ in takers))
            if takers
            else set()
        )
        chosen = (
            {min(alone)}
            if alone
            else {each for alone, together in takers for each in together or {min(alone)}}
        )
        return tuple(self.regions[each].entry for each in sorted(chosen))
