"""Exactly which packets two versions of a list treat differently.

Two lists can only differ on packets that match an entry which just one of them has: on all others the same entries
decide in the same order (or both otherwise lines, when these differ everything is looked at). So only the boxes of such
entries are split by both lists.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterator, Sequence
from difflib import SequenceMatcher
from typing import TypeVar

from crossgate.core.lists.split import EntryRegion, ListRegions, split
from crossgate.core.model.accesslist import AccessList, Decider, Entry
from crossgate.core.sets.boxes import Box, whole

Item = TypeVar("Item")


def compare_lists(old: ListRegions, new: ListRegions) -> Iterator[tuple[Box, Decider, Decider]]:
    """Yield the packets that two lists of a family treat differently, in boxes that are apart."""
    for box in suspects(old, new):
        for part, was in old.split(box):
            for piece, now in new.split(part):
                if now.action is not was.action:
                    yield piece, was, now


def same_lists(old: AccessList, before: Sequence[Entry], new: AccessList, after: Sequence[Entry]) -> bool:
    """Whether two lists with just these entries read alike, whatever they and their entries are called."""
    return (
        len(before) == len(after)
        and old.otherwise.action is new.otherwise.action
        and all(one is other or one.meaning == other.meaning for one, other in zip(before, after, strict=True))
    )


def unshared(old: Sequence[Item], new: Sequence[Item], meaning: Callable[[Item], Hashable]) -> list[Item]:
    """Return what just one of two sequences has, or has elsewhere; items of one meaning are the same."""
    before, after = [meaning(each) for each in old], [meaning(each) for each in new]
    alone: list[Item] = []
    if before != after:
        for kind, first, last, start, end in SequenceMatcher(None, before, after, autojunk=False).get_opcodes():
            if kind != "equal":
                alone += [*old[first:last], *new[start:end]]
    return alone


def suspects(old: ListRegions, new: ListRegions) -> Iterator[Box]:
    """Yield boxes, apart from each other, outside of which two lists treat every packet alike."""
    family = new.access_list.family
    if old.access_list.otherwise.action is not new.access_list.otherwise.action:
        yield whole(family)
        return
    alone = unshared(old.regions, new.regions, lambda region: region.entry.meaning)
    for index, region in enumerate(alone):
        for box in region.boxes():
            yield from _apart(box, alone[:index], region)


def _apart(box: Box, earlier: Sequence[EntryRegion], own: EntryRegion) -> Iterator[Box]:
    """Yield what is left of a region's box without earlier regions and without the region's own boxes before it."""
    for piece, taker in split([*earlier, own], box):
        if taker is None or taker == len(earlier):
            yield piece
