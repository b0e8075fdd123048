"""One hop of a packet over one link: from a device to the next one, or to the machine that has the
address, through the ports between them.
"""

from __future__ import annotations

from collections.abc import Sequence

from crossgate.core.model.address import Address, Family
from crossgate.core.model.ethernet import CARRIES, VRRP_MACS, Frame
from crossgate.core.model.network import Direction, Interface, Point, PointKind, Segment
from crossgate.core.model.plan import Plan
from crossgate.core.model.scope import Scope, scope_of
from crossgate.core.network.failure import Failure, FailureKind
from crossgate.core.network.layer2 import Wire
from crossgate.core.network.paths import Crossing, Endpoint, Hop, Path
from crossgate.core.network.routes import Routes
from crossgate.core.network.translated import not_led_in


class LinkHops(Routes):
    """Finds what packets cross on the links of one plan; results are kept."""

    def __init__(self, plan: Plan) -> None:
        super().__init__(plan)
        self.wire = Wire(plan)
        self._within = {
            point.owner for point, direction, _ in plan.placed if direction is Direction.WITHIN
        }
        """The subnets with a list that is asked about what goes between their own machines."""
        self._scopes: dict[Address, Scope | None] = {}
        self._across: dict[tuple[Point, Point, Family], Hop] = {}

    def scope(self, destination: Address) -> Scope | None:
        """Return how far a packet to an address gets without being routed; None for an address that
        packets are routed to.
        """
        if destination not in self._scopes:
            broadcast = (
                destination.family is Family.IPV4 and destination.value in self.plan.broadcasts
            )
            self._scopes[destination] = Scope.LINK if broadcast else scope_of(destination)
        return self._scopes[destination]

    def across(self, interface: Interface, neighbour: Interface, family: Family) -> Hop:
        """Return the move from one device's interface to another's on its subnet, for packets that
        are routed further; it ends there where no cable joins the two.
        """
        key = (interface.point, neighbour.point, family)
        if key not in self._across:
            leaving, ports = self._leaving(interface), self.wire.between(interface, neighbour)
            if ports is None:
                self._across[key] = Hop(
                    leaving,
                    None,
                    True,
                    self._no_cable(f"from {interface.point} to {neighbour.point}"),
                )
            else:
                inward = Crossing(neighbour.point, Direction.INBOUND)
                frame = Frame(interface.mac, neighbour.mac)
                self._across[key] = Hop(
                    (*leaving, *self._crossed(ports, frame, family), inward),
                    neighbour.device,
                    False,
                )
        return self._across[key]

    def _leaving(self, interface: Interface) -> tuple[Crossing, ...]:
        """Return what a packet crosses when a device sends it out by an interface."""
        out = Crossing(interface.point, Direction.OUTBOUND)
        subnet = Crossing(Point(PointKind.SUBNET, interface.on), Direction.INBOUND)
        return (out,) if self.plan.segments[interface.on].outside else (out, subnet)

    def _crossed(
        self, ports: Sequence[tuple[Point, Direction]], frame: Frame, family: Family
    ) -> tuple[Crossing, ...]:
        """Return the crossings of a frame that carries a packet of a family; at a place with an
        ethernet list the frame's crossing stands before the packet's.
        """
        if not self.plan.framed:
            return tuple(Crossing(point, direction) for point, direction in ports)
        found = []
        for point, direction in ports:
            own = self.plan.framed.get((point, direction))
            if own is not None:
                found.append(Crossing(point, direction, own.rulings(frame, CARRIES[family])))
            found.append(Crossing(point, direction))
        return tuple(found)

    def _ended(self, move: Hop, interface: Interface, destination: Address) -> Hop:
        """Return a move into a device by an interface as the last one, for the device's own
        addresses and for what stays on its link.
        """
        if move.ends:
            return move
        if self._owner(destination) == interface.device:
            return Hop(
                (
                    *move.crossings,
                    Crossing(self.plan.devices[interface.device].itself, Direction.INBOUND),
                ),
                interface.device,
                True,
            )
        if self.scope(destination) is Scope.LINK:
            failure = Failure(
                FailureKind.LINK_ONLY,
                f"{interface.device} hands on nothing for {destination}: {Scope.LINK}",
            )
            return move._replace(ends=True, failure=failure)
        return move

    def unframed(self, start: Path, origin: Endpoint) -> Path:
        """Return the start of a packet that its sender cannot put into a frame: the sender's own
        list is asked about it all the same.
        """
        if origin.follows is None or not self._counts(
            origin.follows, Direction.INBOUND, origin.address.family
        ):
            return start
        return start._replace(
            crossings=(*start.crossings, Crossing(origin.follows, Direction.INBOUND))
        )

    def _from_host(self, origin: Endpoint, frame: Frame) -> tuple[Crossing, ...]:
        """Return the place of the sender's own lists, where one of them is asked about what it
        sends.
        """
        return (
            ()
            if origin.follows is None
            else self._followed(origin.follows, Direction.INBOUND, frame, origin.address.family)
        )

    def _followed(
        self, point: Point, direction: Direction, frame: Frame, family: Family
    ) -> tuple[Crossing, ...]:
        """Return the crossings of a host's own place at which a list is asked."""
        every = self._crossed([(point, direction)], frame, family)
        counts = self._counts(point, direction, family)
        return tuple(each for each in every if counts or each.rulings is not None)

    def _counts(self, point: Point, direction: Direction, family: Family) -> bool:
        """Whether it makes a difference that a packet passes a host's own place: a list is asked
        there, or the host keeps the connection for the list of the other direction.
        """
        ways = Direction if self.plan.hosts[point.owner].stateful else (direction,)
        return any((point, each, family) in self.plan.placed for each in ways)

    def _deliver(
        self,
        crossings: tuple[Crossing, ...],
        segment: str,
        attached: Interface | Point | None,
        destination: Address,
        sender: Endpoint | None = None,
    ) -> list[Hop]:
        """Return the moves to the machine on this segment that has the destination address, or to
        the address that no machine has.

        For a shared gateway there is a move to each device that answers for it, except the one that
        sends the packet on. The packet comes from the interface `attached`, or from a machine, the
        `sender`.
        """
        gateway = self.plan.gateway_at.get(destination)
        if gateway is None or gateway.on != segment:
            return [self._delivered(crossings, segment, attached, destination, sender)]
        near = attached.device if isinstance(attached, Interface) else None
        answering = self.answering(destination)
        if not answering:
            lead = (*crossings, *self.unframed(Path(), sender).crossings) if sender else crossings
            failure = Failure(
                FailureKind.DOWN, f"every device that answers for {destination} is down"
            )
            return [Hop(lead, None, True, failure)]
        mac = None if gateway.vrid is None else VRRP_MACS[destination.family] | gateway.vrid
        frame = Frame(
            attached.mac if isinstance(attached, Interface) else sender.mac if sender else None, mac
        )
        lead = (*crossings, *self._from_host(sender, frame)) if sender else crossings
        return [
            self._to_gateway(lead, attached, each, frame, destination.family)
            for each in answering
            if each.device != near
        ]

    def _to_gateway(
        self,
        crossings: tuple[Crossing, ...],
        attached: Interface | Point | None,
        gateway: Interface,
        frame: Frame,
        family: Family,
    ) -> Hop:
        """Return the move to a device that answers for a shared address."""
        ports = self.wire.between(attached, gateway)
        if ports is None:
            return Hop(crossings, None, True, self._no_cable(f"to {gateway.point}"))
        itself = Crossing(self.plan.devices[gateway.device].itself, Direction.INBOUND)
        crossed = self._crossed(ports, frame, family)
        return Hop(
            (*crossings, *crossed, Crossing(gateway.point, Direction.INBOUND), itself),
            gateway.device,
            True,
        )

    def _delivered(
        self,
        crossings: tuple[Crossing, ...],
        segment: str,
        attached: Interface | Point | None,
        destination: Address,
        sender: Endpoint | None,
    ) -> Hop:
        translating = self.plan.translated_at(destination)
        if translating is not None and translating.on == segment:
            return self._translated(crossings, translating, attached, destination, sender)
        owner = self.plan.interface_of.get(destination)
        if owner is not None and self.plan.is_down(owner):
            return Hop(crossings, None, True, Failure(FailureKind.DOWN, f"{owner.point} is down"))
        host = self.plan.host_of.get(destination)
        target = self._segment_of(destination)
        here = owner is not None and owner.on == segment
        receiver = owner if here else host if host is not None and host.on == segment else None
        frame = Frame(
            attached.mac if isinstance(attached, Interface) else sender.mac if sender else None,
            None if receiver is None else receiver.mac,
        )
        if sender is not None:
            crossings = (*crossings, *self._from_host(sender, frame))
        ports = self.wire.between(
            attached, owner if here else host.at if host and host.on == segment else None
        )
        if ports is None:
            end = owner.point if owner else host.name if host else destination
            failure = self._no_cable(
                f"to {end}: its switch is not joined to the one the packet comes from"
            )
            return Hop(crossings, None, True, failure)
        if owner is not None and here:
            inward = Crossing(owner.point, Direction.INBOUND)
            crossed = self._crossed(ports, frame, destination.family)
            return self._ended(
                Hop((*crossings, *crossed, inward), owner.device, False), owner, destination
            )
        if target is not None and target.name != segment:
            reason = (
                f"it goes out to {segment}, but {host.name if host else destination} is in "
                f"{target.name}"
            )
            return Hop(crossings, None, True, Failure(FailureKind.OTHER_OUTSIDE, reason))
        own = host if host is not None and host.on == segment else None
        if (
            sender is not None
            and target is not None
            and self._is_isolated(target, sender.at)
            and self._is_isolated(target, own and own.at)
        ):
            # Its switch drops the frame, once the list at the sender's port has let it by.
            crossed = self._crossed(ports[: sender.at is not None], frame, destination.family)
            reason = (
                f"{sender.name} and {host.name if host else destination} are isolated from "
                f"each other on {segment}"
            )
            return Hop((*crossings, *crossed), None, True, Failure(FailureKind.ISOLATED, reason))
        last: tuple[Crossing, ...] = ()
        first = sender is not None and sender.at is not None
        crossed = self._crossed(ports[:first], frame, destination.family)
        if sender is not None and segment in self._within:
            crossed += (Crossing(Point(PointKind.SUBNET, segment), Direction.WITHIN),)
        crossed += self._crossed(ports[first:], frame, destination.family)
        if host is not None and host.on == segment:
            last = self._followed(host.point, Direction.OUTBOUND, frame, destination.family)
        return Hop((*crossings, *crossed, *last), None, True)

    def _translated(
        self,
        crossings: tuple[Crossing, ...],
        translating: Interface,
        attached: Interface | Point | None,
        destination: Address,
        sender: Endpoint | None,
    ) -> Hop:
        """Return the move to the device that answers for a translated address; how the packet goes
        on from there is worked out in `crossed`.
        """
        nobody = not_led_in(translating.point, destination)
        if isinstance(attached, Interface) and attached.device == translating.device:
            return Hop(crossings, None, True, nobody)
        frame = Frame(
            attached.mac if isinstance(attached, Interface) else sender.mac if sender else None,
            translating.mac,
        )
        if sender is not None:
            crossings = (*crossings, *self._from_host(sender, frame))
        if self.plan.is_down(translating):
            failure = Failure(FailureKind.DOWN, f"{translating.point} is down")
            return Hop(crossings, None, True, failure)
        ports = self.wire.between(attached, translating)
        if ports is None:
            return Hop(crossings, None, True, self._no_cable(f"to {translating.point}"))
        crossed = self._crossed(ports, frame, destination.family)
        inward = Crossing(translating.point, Direction.INBOUND)
        return Hop((*crossings, *crossed, inward), translating.device, True, nobody)

    def _is_isolated(self, segment: Segment, port: Point | None) -> bool:
        """Whether a machine of a subnet, given by its port or by None, is isolated: it gets no
        frames from the other isolated machines.
        """
        return segment.isolated or (
            port is not None and self.plan.devices[port.owner].ports[port.part].isolated
        )

    def _no_cable(self, where: str) -> Failure:
        up = " that is up" if self.plan.down else ""
        return Failure(FailureKind.NO_CABLE, f"no cable{up} leads {where}")
