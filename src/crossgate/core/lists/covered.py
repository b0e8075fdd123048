"""What is known of one entry of a list: whether it is reached, and whether it is needed."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from crossgate.core.lists.split import EntryRegion
from crossgate.core.model.entry import Entry
from crossgate.core.model.packet import Packet
from crossgate.core.sets.boxes import Box
from crossgate.core.sets.columns import (
    BoxColumns,
    box_columns,
)


class Coverage(NamedTuple):
    """What is known of one entry: whether it is reached, and whether it is needed; a packet that
    reaches it where it is not needed. `because` are the earlier entries that take its packets, when
    it is never reached.
    """

    entry: Entry
    reached: bool
    needed: bool
    packet: Packet | None = None
    because: tuple[Entry, ...] = ()


FEW_BOXES = 8
"""Up to so many boxes an entry is multiplied out."""


def region_columns(regions: Sequence[EntryRegion]) -> tuple[BoxColumns, list[Box]]:
    """Return the rows of a list's regions, and the same rows as boxes.

    An entry with few boxes has a row for each; one with many has a single row, the box around them,
    which is marked `loose`.
    """
    boxes: list[Box] = []
    entry: list[int] = []
    loose: list[bool] = []
    for index, region in enumerate(regions):
        if region.hull is None:
            continue
        few = region.size <= FEW_BOXES
        rows = [region.hull] if not few or region.size == 1 else list(region.boxes())
        boxes += rows
        entry += [index] * len(rows)
        loose += [not few] * len(rows)
    return box_columns(boxes, entry, loose), boxes
