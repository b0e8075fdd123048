"""The ways between all address classes of a network at once: a node number for every sender and
destination.

1. What follows for a packet that has come into a device is a row for each device, made column by
column (`columns`), with the last hops to each destination put in.

2. What a machine sends comes into its gateway, and what a device sends into its neighbours: the row
of such a sender is that of the next device with the tokens of the hop put before each sequence,
once for each different number. Where several next devices are equally good, their rows are united.

3. What goes neither by a gateway nor by least cost (to the sender's own link, or by a static route)
is asked pair by pair.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from crossgate.core.model.debug import log
from crossgate.core.network.crossed import CrossedGraphs
from crossgate.core.network.matrix_rows import MatrixRows, Numbers
from crossgate.core.network.paths import Endpoint
from crossgate.core.network.way_graphs import WayGraphs
from crossgate.core.sets.atoms import bits_of

_MOST_ALONE = 16
"""So many pairs an end are asked by themselves before it is faster to work all of them out."""


class Matrix:
    """`numbers[row[i], j]` is the node (`WayGraphs.node`) of what the end `i` sends to the end `j`.

    Ends that send alike share a row. Columns are worked out when they are asked for, so that asking
    about few destinations costs little.
    """

    def __init__(self, graphs: WayGraphs, ends: Sequence[Endpoint]) -> None:
        self.graphs = graphs
        self.ends = ends
        self._nodes = graphs.nodes
        self._origins: list[Endpoint] = []
        senders: dict[tuple[object, ...], int] = {}
        for end in ends:
            if end.sender not in senders:
                senders[end.sender] = len(senders)
                self._origins.append(end)
        self.row = np.array([senders[end.sender] for end in ends], dtype=np.intp)
        # Column by column, since memory that is never written takes no room.
        self._numbers = np.zeros((len(senders), len(ends)), dtype=np.int32, order="F")
        self._known = np.zeros(len(ends), dtype=bool)
        self._alone = 0
        self._plain, self._plain_row = self._numbers, self.row
        self.crossing: list[tuple[int, int]] = []
        """The pairs whose packets or answers cross a border of translations."""
        if isinstance(graphs, CrossedGraphs):
            self.work_out()
            self._cross(graphs)

    @property
    def numbers(self) -> Numbers:
        """The node numbers, a row for each group of senders that send alike and a column for each
        end.
        """
        self.work_out()
        return self._numbers

    def numbers_to(self, columns: NDArray[np.intp]) -> Numbers:
        """Return the columns of the given ends, in their order."""
        self.work_out(columns.tolist())
        found: Numbers = self._numbers[:, columns]
        return found

    @property
    def worked_out(self) -> frozenset[int]:
        """The ends whose columns are worked out."""
        return frozenset(self._known.nonzero()[0].tolist())

    def work_out(self, columns: Collection[int] | None = None) -> None:
        """Work out the columns of the given ends, of all where None is given, unless they are known
        already.
        """
        asked = np.arange(len(self.ends)) if columns is None else np.array(sorted(columns), np.intp)
        missing = asked[~self._known[asked]]
        if not missing.size:
            return
        rows = MatrixRows(self.graphs, [self.ends[column] for column in missing.tolist()])
        for row, origin in enumerate(self._origins):
            self._numbers[row, missing] = rows.of(origin)
        self._known[missing] = True
        if self._known.all():
            # From now on they are read row by row; nothing has been translated in them yet.
            self._plain = self._numbers = np.ascontiguousarray(self._numbers)
        self.__dict__.pop("_parted", None)
        self.__dict__.pop("_met", None)
        self.__dict__.pop("_by_token", None)
        log(
            __name__,
            "the ways of %s to %s of %s address classes, from %s sorts of senders: %s different",
            self.graphs.family.label,
            len(missing),
            len(self.ends),
            len(self._origins),
            len(self._nodes.of),
        )

    def _cross(self, graphs: CrossedGraphs) -> None:
        """Replace the numbers of pairs whose packets or answers cross a border of translations.
        Senders that share a row may be translated differently, so each of them gets its own row
        first.
        """
        plain = self._numbers[self.row]
        nodes, inverse = np.unique(plain, return_inverse=True)
        inverse = inverse.reshape(plain.shape)
        bits = [graphs.leaving(each.address) for each in self.ends]
        crossing = np.zeros(plain.shape, dtype=bool)
        met = [graphs.met(node) for node in nodes.tolist()]
        for own in set(bits) - {0}:
            meets = np.array([bool(each & own) for each in met], dtype=bool)
            rows = np.array([each == own for each in bits], dtype=bool)
            crossing[rows] = meets[inverse[rows]]
        public = np.array([graphs.translations.is_public(each.address) for each in self.ends])
        crossing[public] = crossing[:, public] = True
        as_met = np.array([graphs.unbordered(node) for node in nodes.tolist()], dtype=np.int32)
        self._numbers, self.row = as_met[inverse], np.arange(len(self.ends))
        pairs = np.argwhere(crossing | crossing.T).tolist()
        self.crossing = [(one, other) for one, other in pairs if one != other]
        for one, other in self.crossing:
            known = int(plain[one, other]), int(plain[other, one])
            self._numbers[one, other] = graphs.number(self.ends[one], self.ends[other], known)
        rows, self.row = np.unique(self._numbers, axis=0, return_inverse=True)
        self._numbers, self.row = rows, self.row.reshape(-1)

    def between(self, one: int, other: int) -> tuple[int, int]:
        """Return the nodes of what two ends send to each other, there and back."""
        return self._one(one, other), self._one(other, one)

    def between_each(self, one: int, others: Sequence[int]) -> tuple[list[int], list[int]]:
        """Return the nodes of what an end and each of others send to each other: all there, and all
        back.
        """
        if not (self._known[one] and self._known[others].all()):
            pairs = [self.between(one, other) for other in others]
            return [there for there, _ in pairs], [back for _, back in pairs]
        there, back = self._numbers[self.row[one], others], self._numbers[self.row[others], one]
        return there.tolist(), back.tolist()

    def _one(self, one: int, other: int) -> int:
        if not self._known[other]:
            if self._alone < _MOST_ALONE * len(self.ends):
                self._alone += 1
                return self.graphs.plain(self.ends[one], self.ends[other].address)
            self.work_out()
        return int(self._numbers[self.row[one], other])

    def plain_between(self, one: int, other: int) -> tuple[int, int]:
        """Return the nodes of what two ends send to each other, there and back, as if no device
        translated addresses (`WayGraphs.plain`).
        """
        if self._plain is self._numbers:
            return self.between(one, other)
        numbers, row = self._plain, self._plain_row
        return int(numbers[row[one], other]), int(numbers[row[other], one])

    def meeting(
        self, tokens: int, arriving: bool = False, columns: Collection[int] | None = None
    ) -> Iterator[tuple[int, NDArray[np.bool_]]]:
        """Yield the rows with a pair that meets any of the given tokens (a bit mask), each with
        which of its columns do (`WayGraphs.met`); only `columns` are looked at where they are
        given.
        """
        self.work_out(columns)
        rows = self.rows_meeting(tokens, arriving)
        if not rows:
            return
        there = self.nodes_meeting(tokens, arriving)[self._numbers[rows]]
        if columns is not None:
            chosen = np.zeros(len(self.ends), dtype=bool)
            chosen[list(columns)] = True
            there &= chosen
        for index in np.flatnonzero(there.any(axis=1)).tolist():
            yield rows[index], there[index]

    @cached_property
    def rows_in_order(self) -> list[int]:
        """The row of each end, as `row` has it, in a list, of which one item is read faster."""
        found: list[int] = self.row.tolist()
        return found

    def rows_meeting(self, tokens: int, arriving: bool = False) -> list[int]:
        """Return the rows in which some pair that is worked out meets any of the tokens."""
        return [row for row, met in enumerate(self._met[arriving]) if met & tokens]

    def nodes_meeting(self, tokens: int, arriving: bool = False) -> NDArray[np.bool_]:
        """Return, by node number, which ways meet any of the tokens, for pairs that are worked
        out.
        """
        meets = np.zeros(len(self._nodes.of), dtype=bool)
        for token in bits_of(tokens):
            meets[self._by_token[arriving].get(token, [])] = True
        return meets

    def number(self, one: int, other: int) -> int:
        """Return the node of what one end sends to another whose column is worked out."""
        return int(self._numbers[self.row[one], other])

    def met_between(self, pairs: NDArray[np.bool_], columns: NDArray[np.intp]) -> int:
        """Return the tokens (a bit mask) that are met between some pairs of ends, each of which has
        its own set of destination `columns`.
        """
        found = 0
        for node in np.unique(self.numbers_to(columns)[self.row][pairs]).tolist():
            found |= self.graphs.met(node)
        return found

    @cached_property
    def _by_token(self) -> tuple[dict[int, list[int]], dict[int, list[int]]]:
        """The numbers of pairs that meet each token, and those that meet it on paths that
        arrive.
        """
        found: tuple[dict[int, list[int]], dict[int, list[int]]] = {}, {}
        for node in np.unique(np.concatenate(self._parted)).tolist() if self._parted else ():
            for arriving, nodes in enumerate(found):
                for token in bits_of(self.graphs.met(node, bool(arriving))):
                    nodes.setdefault(token, []).append(node)
        return found

    @cached_property
    def _met(self) -> tuple[list[int], list[int]]:
        """The tokens that each row meets, and those it meets on paths that arrive."""
        met = self.graphs.met
        found: tuple[list[int], list[int]] = [], []
        for nodes in self._parted:
            for arriving, rows in enumerate(found):
                tokens = 0
                for node in nodes.tolist():
                    tokens |= met(node, bool(arriving))
                rows.append(tokens)
        return found

    def alike(self, one: int, other: int, among: NDArray[np.intp]) -> bool:
        """Whether two ends are known to have the same node numbers to and from some other ends."""
        if not (self._known[one] and self._known[other]):
            return False
        rows, columns = (
            self._numbers[self.row[[one, other]]][:, among],
            self._numbers[self.row[among]][:, [one, other]],
        )
        return bool((rows[0] == rows[1]).all() and (columns[:, 0] == columns[:, 1]).all())

    @cached_property
    def _parted(self) -> list[Numbers]:
        """The different numbers of each row, over the columns that are worked out."""
        return [np.unique(row) for row in self._numbers[:, self._known]]
