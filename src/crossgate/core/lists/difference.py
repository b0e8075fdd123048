"""Exactly which packets two versions of a list treat differently.

Two lists can only differ on packets that match an entry which just one of them has: on all others
the same entries decide in the same order. (Where their otherwise lines differ, every packet is
looked at.) So only the packets of such entries are divided by both lists.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterator, Sequence
from difflib import SequenceMatcher
from typing import TypeVar

from crossgate.core.lists.split import EntryRegion, ListRegions, numbered, region_hull
from crossgate.core.model.accesslist import AccessList, Decider
from crossgate.core.model.entry import Action, Entry
from crossgate.core.sets import products as algebra
from crossgate.core.sets.boxes import meets
from crossgate.core.sets.frame import PacketSet, SetFrame
from crossgate.core.sets.products import Product
from crossgate.core.sets.region import Region, every_packet

Item = TypeVar("Item")


def compare_lists(
    old: ListRegions, new: ListRegions
) -> Iterator[tuple[PacketSet, Decider, Decider]]:
    """Yield the packets that two lists of a family treat differently, in sets that do not
    overlap.
    """
    suspected = suspects(old, new)
    hulls = [region_hull(each) for each in suspected]
    for index, (region, hull) in enumerate(zip(suspected, hulls, strict=True)):
        earlier = [suspected[each] for each in range(index) if meets(hulls[each], hull)]
        before, after = old.near(hull), new.near(hull)
        frame = SetFrame(
            region,
            [*earlier, *(each.region for each in (*before, *after) if each.region is not None)],
        )
        for own in algebra.left(frame.whole, frame.products(earlier), frame.order):
            for piece, was, now in _divided(frame, own, before, after):
                deciders = old.decider(_at(before, was)), new.decider(_at(after, now))
                if deciders[0].action is not deciders[1].action:
                    yield PacketSet(frame, (piece,)), *deciders


def _divided(
    frame: SetFrame, whole: Product, before: Sequence[EntryRegion], after: Sequence[EntryRegion]
) -> Iterator[tuple[Product, int | None, int | None]]:
    """Yield a product of a frame in pieces, each with the index of the region that takes it in each
    of two lists; None where none does.
    """
    here, there = (numbered(frame, (each.region for each in side)) for side in (before, after))
    for part, was in algebra.split(whole, here, frame.order):
        for piece, now in algebra.split(part, there, frame.order):
            yield piece, was, now


def same_lists(
    old: AccessList, before: Sequence[Entry], new: AccessList, after: Sequence[Entry]
) -> bool:
    """Whether two lists with just these entries decide alike, whatever they and their entries are
    called.
    """
    return (
        len(before) == len(after)
        and old.otherwise.action is new.otherwise.action
        and all(
            one.has_only_moved(other) or one.meaning == other.meaning
            for one, other in zip(before, after, strict=True)
        )
    )


def unshared(
    old: Sequence[Item], new: Sequence[Item], meaning: Callable[[Item], Hashable]
) -> list[Item]:
    """Return the items that only one of two sequences has, or has at another position; items with
    equal `meaning` are the same.
    """
    before, after = [meaning(each) for each in old], [meaning(each) for each in new]
    alone: list[Item] = []
    if before != after:
        for kind, first, last, start, end in SequenceMatcher(
            None, before, after, autojunk=False
        ).get_opcodes():
            if kind != "equal":
                alone += [*old[first:last], *new[start:end]]
    return alone


def treated_otherwise(old: ListRegions | None, new: ListRegions | None) -> list[Region] | None:
    """Return regions outside of which two lists treat every packet alike; they may overlap. None
    for all packets, where a smaller set costs too much. Where there is no list, which None stands
    for, every packet is permitted.
    """
    if old is None or new is None:
        only = old or new
        assert only is not None
        return _exactly(old, new, every_packet(only.access_list.family), _MOST_DENIED)
    found = []
    for region in suspects(old, new):
        exact = _exactly(old, new, region, 1)
        found += [region] if exact is None else exact
    return found


_MOST_NEAR, _MOST_PIECES = 200, 1_000
"""With more entries near a region, or more pieces of it, what two lists do with it is not worked
out exactly.
"""
_MOST_DENIED = 8
"""In so many regions at most what a list denies is told."""


def _exactly(
    old: ListRegions | None, new: ListRegions | None, region: Region, most: int
) -> list[Region] | None:
    """Return the part of a region that two lists treat differently, as at most so many regions;
    None where it has more, or too many entries are near.
    """
    hull = region_hull(region)
    before, after = ([] if each is None else each.near(hull) for each in (old, new))
    if len(before) + len(after) > _MOST_NEAR:
        return None
    frame = SetFrame(region, [each.region for each in (*before, *after) if each.region is not None])
    found: list[Region] = []
    for number, (piece, was, now) in enumerate(_divided(frame, frame.whole, before, after)):
        if number == _MOST_PIECES:
            return None
        if _action(old, before, was) is not _action(new, after, now):
            if len(found) == most:
                return None
            found.append(frame.region(piece))
    return found


def _action(regions: ListRegions | None, near: Sequence[EntryRegion], index: int | None) -> Action:
    """Return what a list does with the packets that one of some of its regions takes, given by
    index; None for its otherwise line.
    """
    return Action.PERMIT if regions is None else regions.decider(_at(near, index)).action


def _at(near: Sequence[EntryRegion], index: int | None) -> EntryRegion | None:
    return None if index is None else near[index]


def suspects(old: ListRegions, new: ListRegions) -> list[Region]:
    """Return regions outside of which two lists treat every packet alike; they may overlap."""
    if old.access_list.otherwise.action is not new.access_list.otherwise.action:
        return [every_packet(new.access_list.family)]
    alone = unshared(old.regions, new.regions, lambda region: region.entry.meaning)
    return [each.region for each in alone if each.region is not None]
