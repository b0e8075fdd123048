"""Which lists a machine's packets meet on their own link, and which lists stand at some points, in
the order in which they are asked.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any, NamedTuple

from crossgate.core.model.accesslist import AccessList, AnyList
from crossgate.core.model.address import Family
from crossgate.core.model.network import Direction, Point, PointKind
from crossgate.core.model.plan import Plan
from crossgate.core.network.paths import Crossing, Endpoint
from crossgate.core.network.ways import Network

SENT, RECEIVED, THERE = "sent", "received", "there"


class MetList(NamedTuple):
    """A list that packets meet, and where.

    `heading` says which packets: those that a machine `sent` or `received` over its own link, or
    all that pass `there`. The family is that of the packets; None for an ethernet list that is
    asked about all frames that pass.
    """

    heading: str
    family: Family | None
    where: str
    access_list: AnyList[Any]


def met_by(network: Network, end: Endpoint) -> Iterator[MetList]:
    """Yield the lists that a machine's packets meet on its own link, in the order in which they are
    asked: first for what it sends, then for what it receives.
    """
    plan, family = network.plan, end.address.family
    if end.device is not None:
        interface = plan.interface_of[end.address]
        points = [
            Point(PointKind.SUBNET, interface.on),
            interface.point,
            plan.devices[end.device].itself,
        ]
        yield from standing_at(plan, points)
        return
    gateways = network.told_gateways(end, family)
    if gateways is None:
        gateways = network.on_segment.get((end.segment, family), [])
    sent = [each for gateway in gateways for each in network.toward(end, gateway).crossings]
    within = Crossing(Point(PointKind.SUBNET, end.segment), Direction.WITHIN)
    received = [
        each
        for gateway in gateways
        for hop in network.hops(gateway.device, end.address)
        for each in hop.crossings
    ]
    for heading, crossings in ((SENT, [*sent, within]), (RECEIVED, received)):
        for crossing in crossings:
            found = network.list_at(crossing, family)
            if found is not None:
                own = found if crossing.rulings is None else plan.frame_lists[found.name]
                yield MetList(heading, family, crossing.where, own)


def standing_at(plan: Plan, points: Iterable[Point]) -> Iterator[MetList]:
    """Yield the lists that stand at some points: the inbound ones point by point, then the outbound
    ones in reverse order.
    """
    every = list(points)
    ways = [(point, Direction.INBOUND) for point in every]
    ways += [(point, Direction.WITHIN) for point in every]
    ways += [(point, Direction.OUTBOUND) for point in reversed(every)]
    found: dict[MetList, None] = {}
    for point, direction in ways:
        # What leaves a subnet comes into the device behind it.
        turned = {Direction.INBOUND: Direction.OUTBOUND, Direction.OUTBOUND: Direction.INBOUND}
        way = turned.get(direction, direction) if point.kind is PointKind.SUBNET else direction
        for each in plan.every_placement:
            own = plan.every_list[each.access_list]
            family = own.family if isinstance(own, AccessList) else None
            if each.direction is way and (
                each.point == point or point in plan.points_of(each.point, family)
            ):
                found.setdefault(MetList(THERE, family, each.where, own))
    return iter(found)
