"""Edits of placements: lists placed at points, taken from them, put in the place of others."""

from __future__ import annotations

from bisect import bisect_right
from typing import Any

from crossgate.core.model.accesslist import AnyList
from crossgate.core.model.errors import PlanError
from crossgate.core.model.network import Direction, Placement, Point, PointKind, stands_at
from crossgate.core.model.plan import Plan
from crossgate.language.draft import GIVEN, Draft
from crossgate.language.lines import Line
from crossgate.language.placements import see_that_frames_pass, standing, where
from crossgate.language.words import Words


def point_given(draft: Draft, words: str) -> Point:
    """Read a place for a list as typed: POINT, `subnet NAME`, `DEVICE itself`, `host NAME` or
    `group NAME`. Raises `PlanError`.
    """
    given = Words(Line(GIVEN, 1, words))
    given.accept("on")
    point = where(given, draft.names)
    given.end()
    return point


def place_list(
    draft: Draft, access_list: AnyList[Any], direction: Direction, point: Point, free: bool = False
) -> None:
    """Write a placement, also of a list that is written in the same edit, among the others: in the
    order of the lists where they are in it, or else after the last.

    Raises `PlanError` where a list of the family is placed there already, unless that is removed
    too (`free`).
    """
    if not free:
        _see_that_it_is_free(draft.plan, access_list, direction, point)
    text = f"place {access_list.name} {stands_at(direction, point)}"
    order = {each: number for number, each in enumerate(draft.plan.every_list)}
    every = draft.plan.every_placement
    main = any(each.place.file == draft.plan.files[0] for each in every)
    file = draft.plan.files[0] if main or not every else every[-1].place.file
    own = [each for each in every if each.place.file == file]
    ranks = [order[each.access_list] for each in own]
    above = (
        bisect_right(ranks, order.get(access_list.name, len(order)))
        if ranks == sorted(ranks)
        else len(own)
    )
    if above:
        draft.after(own[above - 1].place, text)
    elif own:
        draft.before(own[0].place, text)
    else:
        draft.append("", text)


def replace_list(
    draft: Draft, access_list: AnyList[Any], direction: Direction, point: Point
) -> str:
    """Write a placement in the place of another list of the family, whose placement is removed;
    return that list's name. Raises `PlanError` where there is none, or where it is there by being
    placed on something else too.
    """
    taken = standing(draft.plan, access_list, direction, point)
    if taken is None:
        raise PlanError(
            f"no list of its family stands {stands_at(direction, point)}; leave --replace out"
        )
    _, placement = taken
    if placement.access_list == access_list.name:
        raise PlanError(f"{access_list.name} stands {stands_at(direction, point)} already")
    if placement.point != point:
        raise PlanError(
            f"{placement.access_list} stands there by {placement.where} (line "
            f"{draft.plan.line_of(placement.place)}), which is more than {point}; lift it first"
        )
    see_that_frames_pass(access_list, point)
    line = draft.line(placement.place)
    indent, remark = line.indent, line.text[line.remark.start :] if line.remark else ""
    text = f"{indent}place {access_list.name} {stands_at(direction, point)}"
    draft.replace(placement.place, f"{text}{'  ' * bool(remark)}{remark}")
    return placement.access_list


def move_list(
    draft: Draft, access_list: AnyList[Any], direction: Direction, point: Point
) -> Placement:
    """Change the place of a list that has exactly one, and return the old one. Raises
    `PlanError`.
    """
    stands = [each for each in draft.plan.every_placement if each.access_list == access_list.name]
    if len(stands) != 1:
        where_now = " and ".join(each.where for each in stands)
        mend = (
            f"stands {where_now}; first: crossgate lift {access_list.name} DIRECTION WHERE"
            if stands
            else "stands nowhere; leave --move out"
        )
        raise PlanError(f"{access_list.name} {mend}")
    _see_that_it_is_free(draft.plan, access_list, direction, point)
    line = draft.line(stands[0].place)
    indent, remark = line.indent, line.text[line.remark.start :] if line.remark else ""
    draft.replace(
        stands[0].place,
        f"{indent}place {access_list.name} {stands_at(direction, point)}{'  ' * bool(remark)}{remark}",
    )
    return stands[0]


def _see_that_it_is_free(
    plan: Plan, access_list: AnyList[Any], direction: Direction, point: Point
) -> None:
    """Raise `PlanError` where a list of the family is at a point already, or an ethernet list
    cannot be there.
    """
    if direction is Direction.WITHIN and point.kind is not PointKind.SUBNET:
        raise PlanError(f"within is for a subnet's own machines, and {point} is no subnet")
    see_that_frames_pass(access_list, point)
    taken = standing(plan, access_list, direction, point)
    if taken is not None:
        at, placement = taken
        again = (
            ""
            if placement.access_list == access_list.name
            else f"; first: crossgate lift {placement.access_list} {direction} {placement.point}"
        )
        raise PlanError(
            f"{placement.access_list} stands {stands_at(direction, at)} already (line "
            f"{plan.line_of(placement.place)}){again}"
        )


def lift_list(
    draft: Draft, access_list: AnyList[Any], direction: Direction | None, point: Point | None
) -> list[Placement]:
    """Remove placements of a list: all of them, or those in one direction, or at one point. Raises
    `PlanError` when there is none.
    """
    found = [
        placement
        for placement in draft.plan.every_placement
        if placement.access_list == access_list.name
        and direction in (None, placement.direction)
        and point in (None, placement.point)
    ]
    if not found:
        where_to = (
            ""
            if direction is None
            else f" {direction if point is None else stands_at(direction, point)}"
        )
        stands = [
            each.where
            for each in draft.plan.every_placement
            if each.access_list == access_list.name
        ]
        raise PlanError(
            f"{access_list.name} does not stand{where_to or ' anywhere'}"
            + (f"; it stands {' and '.join(stands)}" if stands else "")
        )
    for placement in found:
        draft.drop(placement.place)
    return found
