"""Lines that place lists."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from crossgate.core.model.accesslist import AccessList, AnyList
from crossgate.core.model.errors import PlanError
from crossgate.core.model.ethernet import EthernetList
from crossgate.core.model.network import Direction, Placement, Point, PointKind
from crossgate.core.model.plan import Plan
from crossgate.language.mends import mended_placement
from crossgate.language.names import Names
from crossgate.language.words import Words


def placement(words: Words, names: Names) -> None:
    """Read a `place` statement. A place has one list of a family each way."""
    words.keyword("place")
    access_list = names.any_list(words, "the number or name of a list")
    try:
        direction = Direction(words.choice([direction.value for direction in Direction]))
        if direction is Direction.WITHIN:
            words.keyword("subnet")
            words.index -= 1
        else:
            words.keyword("on")
    except PlanError as error:
        raise mended_placement(error, words.line) from None
    point = where(words, names)
    words.end()
    plan = names.plan
    try:
        for each in (plan.groups[point.owner].points if point.kind is PointKind.GROUP else ()) or (
            point,
        ):
            see_that_frames_pass(access_list, each)
            see_that_tls_is_seen(plan, access_list, each)
    except PlanError as error:
        raise words.error(error.message) from None
    taken = standing(plan, access_list, direction, point, names.placements_near(point))
    if taken is not None:
        at, other = taken
        message = (
            f"{at} {direction} has the {access_list.about} list {other.access_list} (line "
            f"{plan.line_of(other.place)}) already"
        )
        raise words.error(f"{message}; a place takes one list of a family each way", index=1)
    placed = Placement(access_list.name, direction, point, words.place)
    names.place(placed, isinstance(access_list, EthernetList))


def see_that_frames_pass(access_list: AnyList[Any], point: Point) -> None:
    """Raise `PlanError` where an ethernet list cannot be placed at a point."""
    if isinstance(access_list, EthernetList) and point.kind in _NO_FRAMES:
        raise PlanError(
            f"{access_list.name} is an ethernet list, and frames are asked about at switch ports "
            f"and hosts; {point} is neither"
        )


def see_that_tls_is_seen(plan: Plan, access_list: AnyList[Any], point: Point) -> None:
    """Raise `PlanError` where a list that asks for TLS versions would be at a point without a
    stateful device.
    """
    if not access_list.tls:
        return
    asking = next(each for each in access_list.entries if each.tls is not None and not each.off)
    if point.device is not None and plan.devices[point.device].stateful:
        return
    which = (
        f"{asking.number} of list {access_list.name} (line {asking.place.line}) asks what TLS "
        "is spoken"
    )
    if point.device is None:
        raise PlanError(
            f"entry {which}, and nothing at {point} remembers conversations; place the list at a "
            "stateful device"
        )
    raise PlanError(
        f"entry {which}, and {point.device} remembers no conversations; make it stateful, or "
        "place the list at a device that is"
    )


_NO_FRAMES = (PointKind.INTERFACE, PointKind.SUBNET, PointKind.ITSELF)


def standing(
    plan: Plan,
    access_list: AnyList[Any],
    direction: Direction,
    point: Point,
    among: Iterable[Placement] | None = None,
) -> tuple[Point, Placement] | None:
    """Return a placement that is in the way of placing a list at a point, and its point: one for
    the same family, direction and place; of all placements, or `among` those that may be.
    """
    family = access_list.family if isinstance(access_list, AccessList) else None
    for other in plan.every_placement if among is None else among:
        its = plan.lists.get(other.access_list)
        if other.direction is direction and (None if its is None else its.family) is family:
            if other.point == point:
                return point, other
            if PointKind.GROUP in (point.kind, other.point.kind):
                own = plan.points_of(point, family)
                both = next(
                    (each for each in plan.points_of(other.point, family) if each in own), None
                )
                if both is not None:
                    return both, other
    return None


def where(words: Words, names: Names) -> Point:
    """Take where a list is placed."""
    word = words.take(
        "a place: DEVICE.INTERFACE, SWITCH.PORT, subnet NAME, DEVICE itself, host NAME or group "
        "NAME"
    )
    plan = names.plan
    if word in ("host", "group"):
        name = words.take(f"the name of a {word}")
        if name not in (plan.hosts if word == "host" else plan.groups):
            raise names.unknown(words, word, name, plan.hosts if word == "host" else plan.groups)
        return Point(PointKind(word), name)
    if word == "subnet":
        name = words.take("the name of a subnet")
        segment = plan.segments.get(name)
        if segment is None:
            raise names.unknown(
                words,
                "subnet",
                name,
                [each.name for each in plan.segments.values() if not each.outside],
            )
        if segment.outside:
            raise words.error(
                f"{name} is an outside; lists stand on subnets and devices of the plan"
            )
        return Point(PointKind.SUBNET, name)
    if "." in word:
        return names.point(words, word)
    if word in plan.devices:
        if words.accept("itself"):
            return plan.devices[word].itself
        device = plan.devices[word]
        raise words.missing(
            "itself, or a point as "
            + ", ".join(f"{word}.{name}" for name in (*device.interfaces, *device.ports))
        )
    what = {
        **dict.fromkeys(plan.groups, "group"),
        **dict.fromkeys(plan.hosts, "host"),
        **dict.fromkeys(plan.segments, "subnet"),
    }.get(word)
    if what is not None:
        raise words.error(f"{word} is a {what}; write {what} {word}")
    points = [
        f"{device.name}.{word}"
        for device in plan.devices.values()
        if word in device.interfaces or word in device.ports
    ]
    if points:
        near = points[0] if len(points) == 1 else ""
        raise words.error(f"{word} is at {', '.join(points)}; write that", near=near)
    raise names.unknown(words, "device", word, plan.devices)
