"""Exactly which packets two versions of a list treat differently.

Two lists can only differ on packets that match an entry which just one of them has: on all others
the same entries decide in the same order. (Where their otherwise lines differ, every packet is
looked at.) So only the packets of such entries are divided by both lists.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterator, Sequence
from difflib import SequenceMatcher
from typing import TypeVar

from crossgate.core.lists.split import ListRegions, numbered, region_hull
from crossgate.core.model.accesslist import AccessList, Action, Decider, Entry
from crossgate.core.sets import products as algebra
from crossgate.core.sets.boxes import meets
from crossgate.core.sets.frame import Frame, PacketSet
from crossgate.core.sets.region import Region, every_packet

Item = TypeVar("Item")


def compare_lists(
    old: ListRegions, new: ListRegions
) -> Iterator[tuple[PacketSet, Decider, Decider]]:
    """Yield the packets that two lists of a family treat differently, in sets that do not overlap."""
    suspected = suspects(old, new)
    hulls = [region_hull(each) for each in suspected]
    for index, (region, hull) in enumerate(zip(suspected, hulls, strict=True)):
        earlier = [suspected[each] for each in range(index) if meets(hulls[each], hull)]
        before, after = old.near(hull), new.near(hull)
        frame = Frame(
            region,
            [*earlier, *(each.region for each in (*before, *after) if each.region is not None)],
        )
        here, there = (numbered(frame, (each.region for each in side)) for side in (before, after))
        for own in algebra.left(frame.whole, frame.products(earlier), frame.order):
            for part, was in algebra.split(own, here, frame.order):
                for piece, now in algebra.split(part, there, frame.order):
                    deciders = old.decider(before, was), new.decider(after, now)
                    if deciders[0].action is not deciders[1].action:
                        yield PacketSet(frame, (piece,)), *deciders


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


def stopped_by(regions: ListRegions) -> list[Region] | None:
    """Return regions that contain every packet that a list denies, and perhaps others; None for all
    packets.

    With two or more denying entries, looking at the packets of each costs more than looking at all
    packets at once.
    """
    found = [
        each.region
        for each in regions.regions
        if each.region is not None and each.entry.action is not Action.PERMIT
    ]
    return (
        None
        if regions.access_list.otherwise.action is not Action.PERMIT or len(found) > 1
        else found
    )


def suspects(old: ListRegions, new: ListRegions) -> list[Region]:
    """Return regions outside of which two lists treat every packet alike; they may overlap."""
    if old.access_list.otherwise.action is not new.access_list.otherwise.action:
        return [every_packet(new.access_list.family)]
    alone = unshared(old.regions, new.regions, lambda region: region.entry.meaning)
    return [each.region for each in alone if each.region is not None]
