"""The pairs of addresses whose traffic a change may touch."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, NamedTuple

from crossgate.core.model.address import Pattern
from crossgate.core.network.address_classes import AddressClass
from crossgate.core.network.paths import Endpoint
from crossgate.core.sets.patterns import Excluded

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    from crossgate.core.network.matrix import Matrix
    from crossgate.core.network.way_graphs import WayGraphs


class Side(NamedTuple):
    """The addresses of a class as one end of a pair, and one of them as an endpoint in each plan,
    None where no machine there can have it.
    """

    pattern: Pattern
    ends: tuple[Endpoint | None, Endpoint | None]


class Suspect(NamedTuple):
    """A pair of address classes that the plans can treat differently.

    `excluded` are the addresses in them that belong to other classes, `nodes` the numbers of the
    pair's graphs there and back in the old and in the new plan.
    """

    source: Side
    destination: Side
    excluded: Excluded
    nodes: tuple[tuple[int, int], tuple[int, int]]


class Treatment(NamedTuple):
    """How one plan treats the address classes of both: its own class for each of these, or None,
    and a number for each of them as a sender and for each that is a column.

    `numbers` are those of the graphs, -1 where there is none; classes with equal `segments` are on
    one link.
    """

    classes: list[AddressClass | None]
    numbers: NDArray[np.int32]
    segments: NDArray[np.intp]


@dataclass(frozen=True, eq=False)
class ComparedClasses:
    """The address classes of both plans, how each plan treats them, and which pairs are suspect: a
    row for each sender, a column for each receiver in `columns`; other receivers are treated alike.

    `there` are the pairs whose way there may differ, whatever address the sender claims.
    """

    patterns: list[Pattern]
    number: dict[Pattern, int]
    known: tuple[Treatment, Treatment]
    columns: NDArray[np.intp]
    there: NDArray[np.bool_]
    suspect: NDArray[np.bool_]

    @cached_property
    def place(self) -> NDArray[np.intp]:
        """The column of each class, -1 where it has none."""
        return positions(self.columns, len(self.patterns))


class TouchedPairs(NamedTuple):
    """Pairs of address classes: a row of the `mask` for each sender, a column for each receiver in
    `columns`; all other pairs are untouched.
    """

    mask: NDArray[np.bool_]
    columns: NDArray[np.intp]

    def receivers(self, sender: int) -> set[int]:
        """Return the receivers of a sender's touched traffic."""
        return set(self.columns[self.mask[sender]].tolist())

    @property
    def all_receivers(self) -> list[int]:
        """The receivers of any touched traffic."""
        found: list[int] = self.columns[self.mask.any(axis=0)].tolist()
        return found


def treatment(
    classes: Sequence[AddressClass], matrix: Matrix, patterns: Sequence[Pattern]
) -> Treatment:
    """Return how a plan treats its classes, in the order of some patterns."""
    import numpy as np

    index = {each.pattern: number for number, each in enumerate(classes)}
    order = [index.get(pattern, -1) for pattern in patterns]
    own = [classes[number] if number >= 0 else None for number in order]
    numbers = matrix.numbers[matrix.row[order]][:, order]
    absent = np.array(order) < 0
    numbers[absent] = -1
    numbers[:, absent] = -1
    return Treatment(own, numbers, links_of(own))


def links_of(classes: Sequence[AddressClass | None]) -> NDArray[np.intp]:
    """Return a number for the link of each class, -1 for none."""
    import numpy as np

    names: dict[str, int] = {}
    return np.array(
        [
            -1 if each is None else names.setdefault(each.end.segment, len(names))
            for each in classes
        ],
        dtype=np.intp,
    )


def positions(columns: NDArray[np.intp], count: int) -> NDArray[np.intp]:
    """Return, for each of `count` classes, its index among the columns, -1 where it is not a
    column.
    """
    import numpy as np

    found = np.full(count, -1, dtype=np.intp)
    found[columns] = np.arange(len(columns))
    return found


def are_alike(
    every: ComparedClasses, routed: NDArray[np.intp], one: int, other: int, sends: bool
) -> bool:
    """Whether both plans treat two classes, which are columns as those in `routed` are, alike as
    senders or as receivers.
    """
    place, places = every.place, every.place[routed]
    for known in every.known:
        first, second = known.classes[one], known.classes[other]
        if first is None or second is None:
            if first is not second:
                return False
            continue
        if (first.end.device is None) is not (second.end.device is None) or (
            not sends and first.scoped is not second.scoped
        ):
            return False
        numbers, segments = known.numbers, known.segments[routed]
        if (
            (numbers[one, places] != numbers[other, places]).any()
            or (numbers[routed, place[one]] != numbers[routed, place[other]]).any()
            or ((known.segments[one] == segments) != (known.segments[other] == segments)).any()
        ):
            return False
    return True


def pairs_meeting(graphs: WayGraphs, both: Sequence[Treatment], bit: int) -> NDArray[np.bool_]:
    """Return which pairs meet a place in at least one of the plans."""
    return pairs_with(both, lambda number: bool(graphs.met(number) & bit))


def pairs_with(both: Sequence[Treatment], asked: Callable[[int], bool]) -> NDArray[np.bool_]:
    """Return which pairs have a number of which something is true, in at least one of the plans."""
    import numpy as np

    found = np.zeros(both[0].numbers.shape, dtype=bool)
    for known in both:
        holds = np.zeros(
            int(known.numbers.max(initial=0)) + 2, dtype=bool
        )  # the last one is for -1
        holds[known.numbers] = True
        holds[-1] = False
        numbers = holds.nonzero()[0]
        holds[numbers] = [asked(number) for number in numbers.tolist()]
        found |= holds[known.numbers]
    return found
