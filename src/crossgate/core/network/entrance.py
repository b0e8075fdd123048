"""Where recorded traffic came in, named as the place of a list is."""

from __future__ import annotations

from typing import NamedTuple

from crossgate.core.model.address import Address, Family
from crossgate.core.model.errors import PlanError, unknown
from crossgate.core.model.network import Point, PointKind
from crossgate.core.model.plan import Plan
from crossgate.core.network.paths import Endpoint
from crossgate.core.network.ways import Network


class Entrance(NamedTuple):
    """Where packets come in: a machine that stands there, and the point where they are seen
    first.
    """

    sender: Endpoint
    point: Point

    def passed(self, network: Network, start: Endpoint, destination: Address) -> bool:
        """Whether packets from a machine to an address come in there on one of their paths, or are
        sent there by the device itself.
        """
        if start.device == self.point.owner and start.segment == self.sender.segment:
            return True
        return any(
            each.point == self.point
            for each in network.graphs(destination.family).crossings(start, destination)
        )


def place_named(plan: Plan, text: str) -> Point:
    """Return the place that a person writes as DEVICE.INTERFACE, SWITCH.PORT, `subnet NAME`,
    `DEVICE itself`, `host NAME` or `group NAME`; the name of a subnet alone is taken too.

    Raises `PlanError`.
    """
    words = text.split()
    if len(words) == 2 and words[1] == "itself":
        if words[0] not in plan.devices:
            raise PlanError(unknown("device", words[0], list(plan.devices)))
        return plan.devices[words[0]].itself
    name = words[-1] if words else text
    if len(words) == 2 and words[0] in ("host", "group"):
        known = plan.hosts if words[0] == "host" else plan.groups
        if name not in known:
            raise PlanError(unknown(words[0], name, list(known)))
        return Point(PointKind(words[0]), name)
    if name in plan.segments and (len(words) == 1 or words[0] == "subnet"):
        return Point(PointKind.SUBNET, name)
    return plan.point(name)


def entrance(plan: Plan, text: str) -> Entrance:
    """Return where packets come in, by the place that a person names. Raises `PlanError` for a
    place where none can.
    """
    point = place_named(plan, text)
    if point.kind in (PointKind.ITSELF, PointKind.HOST, PointKind.GROUP):
        raise PlanError(
            f"nothing comes in at {point}; name an interface, a switch port or a subnet"
        )
    nobody = Address(Family.IPV4, 0)
    if point.kind is PointKind.SUBNET:
        return Entrance(Endpoint(str(point), nobody, point.owner), point)
    device = plan.devices[point.owner]
    if point.kind is PointKind.INTERFACE:
        interface = device.interfaces[point.part]
        gateways = tuple(each.address for each in interface.addresses)
        return Entrance(Endpoint(str(point), nobody, interface.on, gateways=gateways), point)
    segment = next((each.on for each in plan.hosts.values() if each.at == point), None)
    if segment is None:
        raise PlanError(
            f"no host of the plan is at {point}, so its subnet is not known; name the subnet or "
            "an interface"
        )
    return Entrance(Endpoint(str(point), nobody, segment, at=point), point)
