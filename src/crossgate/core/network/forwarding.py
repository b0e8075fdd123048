"""Where a packet goes: the way from one machine to an address, as the places it crosses in order.

1. A packet for its own subnet goes there through switch ports; any other goes to a gateway first.
   Whichever device answers for a shared gateway's address gets what is sent by it and to it.
2. A device looks at connected prefixes, static routes and computed routes of least cost (`costs`);
   the longest prefix wins, and of equally long ones connected beats static beats computed.
3. Each family is a network of its own: an interface carries a family only if it has an address of
   it.
4. An outside is where packets leave and come in, never a way between two devices. Static routes are
   asked first for addresses there; where none fits, the nearest device with an interface on it is
   the exit.
5. What stays on its link (`scope`, and broadcasts) is handed to each device there and goes no
   further.
6. The way depends on where the packet starts and on its destination, never on lists or ports. Lists
   are asked by `trace`, so this module knows none (but for `DEVICE itself` outbound and hosts,
   which are crossed only where one stands).
"""

from __future__ import annotations

from collections.abc import Iterator

from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.address import Address, Family
from crossgate.core.model.ethernet import VRRP_MACS, Frame, group_mac
from crossgate.core.model.network import Direction, Interface, Point, PointKind
from crossgate.core.model.plan import Plan
from crossgate.core.model.scope import Scope
from crossgate.core.network.costs import FAR
from crossgate.core.network.failure import Failure, FailureKind
from crossgate.core.network.link_hops import LinkHops
from crossgate.core.network.paths import Crossing, Endpoint, Hop, Path


class Forwarding(LinkHops):
    """Finds the paths of packets in one plan; results are kept."""

    def __init__(self, plan: Plan) -> None:
        super().__init__(plan)
        self._shared: dict[tuple[str, Family], list[Address]] = {}
        for address, gateway in plan.gateway_at.items():
            self._shared.setdefault((gateway.on, address.family), []).append(address)
        self._paths: dict[tuple[object, Address], Path] = {}

    def list_at(self, crossing: Crossing, family: Family) -> AccessList | None:
        """Return the list that is asked about packets of a family at a crossing; of an ethernet
        list, the part that concerns this family.
        """
        if crossing.rulings is None:
            return self.plan.asked.get((crossing.point, crossing.direction, family))
        own = self.plan.framed.get(crossing.place)  # None where only a plan beside this one has it
        return None if own is None else own.for_packets(crossing.rulings, family)

    def path(self, origin: Endpoint, destination: Address) -> Path:
        """Return the path from `origin` to an address; of equal ones the first by device name."""
        key = (origin.sender, destination)
        if key not in self._paths:
            self._paths[key] = self._first(origin, destination)
        return self._paths[key]

    def crosses(self, origin: Endpoint, destination: Address, crossing: Crossing) -> bool:
        """Whether the path that `path` returns has a crossing; the path is followed only as far as
        that crossing.
        """
        return any(crossing in path.crossings for path in self._begun(origin, destination))

    def _first(self, origin: Endpoint, destination: Address) -> Path:
        *_, whole = self._begun(origin, destination)
        return whole

    def _begun(self, origin: Endpoint, destination: Address) -> Iterator[Path]:
        (path, moves), *others = self.starts(origin, destination)
        path = path._replace(forks=bool(others))
        while not path.ended:
            path = self.along(path, moves[0], len(moves) > 1)
            yield path
            if not path.ended:
                moves = self.hops(path.devices[-1], destination)

    def along(self, path: Path, move: Hop, forks: bool) -> Path:
        """Return a path with one more move; `forks` says that other moves were equally good."""
        entered = path.entered
        path = path._replace(
            crossings=path.crossings + move.crossings,
            devices=path.devices if move.device is None else (*path.devices, move.device),
            entered=entered if move.device is None else (*entered, move.device),
            forks=path.forks or forks,
        )
        if move.ends:
            return path._replace(failure=move.failure, ended=True)
        if move.device in entered:
            # What it meets from here on it has met on this turn, so all lists on the way round have
            # been asked.
            ring = path.entered[entered.index(move.device) :]
            return path._replace(
                failure=Failure(
                    FailureKind.LOOP, f"it goes round in a circle: {' to '.join(ring)}"
                ),
                ended=True,
            )
        return path

    def starts(self, origin: Endpoint, destination: Address) -> list[tuple[Path, list[Hop]]]:
        """Return how a packet begins its path: what its sender itself crosses, and the first moves,
        all equally good.

        There is one start for each device that may send as a shared gateway, and one for any other
        sender.
        """
        if self.sends_nothing(origin):
            return [
                (
                    Path(),
                    [
                        _lost(
                            FailureKind.DOWN,
                            f"{origin.device} is down, or its interface with {origin.address}",
                        )
                    ],
                )
            ]
        if origin.others:
            senders = [each.device for each in self.answering(origin.address)]
            return [
                self._start(origin._replace(device=name, others=()), destination)
                for name in senders
            ]
        return [self._start(origin, destination)]

    def _start(self, origin: Endpoint, destination: Address) -> tuple[Path, list[Hop]]:
        start = Path()
        if origin.device is not None:
            if self._owner(destination) == origin.device:
                return start, [Hop((), None, True)]
            start = self.sent_by(origin.device, destination.family)
        if origin.segment not in self.plan.segments:
            nobody = (
                "no machine of the plan has the address that it is sent from, and there is "
                "no telling which link that would be on"
            )
            return start, [_lost(FailureKind.SOURCE_NOWHERE, nobody)]
        segment, target = self.plan.segments[origin.segment], self._segment_of(destination)
        scope = self.scope(destination)
        if scope in (Scope.MACHINE, Scope.GROUP):
            return self.unframed(start, origin), [
                _lost(FailureKind.NO_DESTINATION, f"{destination} is no destination here: {scope}")
            ]
        if scope is Scope.LINK:
            link = self._link(origin, destination)
            if link is not None:
                return start._replace(on_link=True), self._to_all(origin, link, destination)
        if origin.device is not None:
            return start, self.hops(origin.device, destination, own=True)
        if target is segment:
            return start, self._deliver((), segment.name, origin.at, destination, origin)
        gateways = self._gateways(origin, destination)
        if not gateways and self.told_gateways(origin, destination.family) is not None:
            return self.unframed(start, origin), [
                _lost(
                    FailureKind.DOWN,
                    f"{origin.name}'s {'own ' * bool(origin.gateways)}gateway is down",
                )
            ]
        if not gateways:
            return self.unframed(start, origin), [
                _lost(
                    FailureKind.NO_GATEWAY,
                    f"{origin.segment} has no gateway for {destination.family.label}",
                )
            ]
        return start, [
            self._ended(self.toward(origin, gateway), gateway, destination) for gateway in gateways
        ]

    def sends_nothing(self, origin: Endpoint) -> bool:
        """Whether an end is a device address that is down, or one whose sharing devices are all
        down.
        """
        if origin.others:
            return not self.answering(origin.address)
        interface = self.plan.interface_of.get(origin.address)
        return origin.device is not None and interface is not None and self.plan.is_down(interface)

    def sent_by(self, name: str, family: Family) -> Path:
        """Return the path of a packet that a device itself sends, as far as the list on the device:
        it has not left by an interface yet.
        """
        out = Crossing(self.plan.devices[name].itself, Direction.OUTBOUND)
        return Path(
            devices=(name,),
            crossings=(out,) * ((out.point, out.direction, family) in self.plan.placed),
        )

    def hops(self, name: str, destination: Address, own: bool = False) -> list[Hop]:
        """Return the equally good moves of a packet that a device has to send on; the lists at its
        interfaces are not asked about the device's `own` packets.
        """
        if name in (each.device for each in self.answering(destination)):
            return [
                Hop(
                    () if own else (Crossing(self.plan.devices[name].itself, Direction.INBOUND),),
                    None,
                    True,
                )
            ]
        hops = self._next_hops(self.plan.devices[name], destination)
        if isinstance(hops, Failure):
            return [Hop((), None, True, hops)]
        found = []
        for interface, neighbour in hops:
            if neighbour is None:
                crossings = self._leaving(interface)
                found += self._deliver(
                    crossings[1:] if own else crossings, interface.on, interface, destination
                )
            else:
                move = self.across(interface, neighbour, destination.family)
                found.append(
                    self._ended(
                        move._replace(crossings=move.crossings[1:]) if own else move,
                        neighbour,
                        destination,
                    )
                )
        return found

    def _virtual(self, origin: Endpoint, gateway: Interface) -> int | None:
        """Return the hardware address that a machine sends to for a gateway: the virtual one of a
        shared gateway where it is known (RFC 9568 section 7.3).
        """
        family = origin.address.family
        told = [
            address for address in origin.gateways if address.family is family
        ] or self._shared.get((origin.segment, family), [])
        for address in told:
            shared = self.plan.gateway_at.get(address)
            if shared is not None and gateway.point in shared.by:
                return None if shared.vrid is None else VRRP_MACS[family] | shared.vrid
        return gateway.mac

    def toward(self, origin: Endpoint, gateway: Interface) -> Hop:
        """Return the move from a machine to a gateway, for packets that are routed further; it ends
        there where no cable joins the two.
        """
        ports = self.wire.between(origin.at, gateway)
        if ports is None:
            failure = self._no_cable(f"from {origin.at} to {gateway.point}")
            return Hop(self.unframed(Path(), origin).crossings, None, True, failure)
        outside = self.plan.segments[origin.segment].outside
        leaving = (
            ()
            if outside
            else (Crossing(Point(PointKind.SUBNET, origin.segment), Direction.OUTBOUND),)
        )
        frame = Frame(origin.mac, self._virtual(origin, gateway))
        crossed = self._crossed(ports, frame, origin.address.family)
        crossings = (
            *self._from_host(origin, frame),
            *crossed,
            *leaving,
            Crossing(gateway.point, Direction.INBOUND),
        )
        return Hop(crossings, gateway.device, False)

    def unanswered(self, origin: Endpoint, destination: Address) -> bool:
        """Whether a packet stays on its link and is handed to every machine there, so that it has
        no single answer.
        """
        if origin.segment not in self.plan.segments or (
            origin.device is not None and self._owner(destination) == origin.device
        ):
            return False
        return self.scope(destination) is Scope.LINK and self._link(origin, destination) is not None

    def _link(self, origin: Endpoint, destination: Address) -> str | None:
        """Return the segment on which an unrouted packet is handed to every machine; None where it
        goes to one machine like any other.
        """
        target = self._segment_of(destination)
        if target is None or target.outside:
            return origin.segment
        if destination.value not in self.plan.broadcasts:
            return None
        near = (
            {origin.segment}
            if origin.device is None
            else {
                each.on
                for each in self.up(self.plan.devices[origin.device])
                if each.in_family(destination.family)
            }
        )
        return target.name if target.name in near else None

    def _to_all(self, origin: Endpoint, segment: str, destination: Address) -> list[Hop]:
        """Return the moves of a packet to each device on a link; where it has no device, to the
        link itself.
        """
        near = self.on_segment.get((segment, destination.family), [])
        sending: list[Interface | Point | None] = [
            each for each in near if each.device == origin.device
        ]
        moves, nobody = [], []
        for attached in sending if origin.device is not None else [origin.at]:
            frame = Frame(
                attached.mac if isinstance(attached, Interface) else origin.mac,
                group_mac(destination),
            )
            lead = self._from_host(origin, frame)
            for interface in near:
                ports = (
                    None
                    if interface.device == origin.device
                    else self.wire.between(attached, interface)
                )
                if ports is not None:
                    itself = self.plan.devices[interface.device].itself
                    inward = (
                        Crossing(interface.point, Direction.INBOUND),
                        Crossing(itself, Direction.INBOUND),
                    )
                    moves.append(
                        Hop(
                            (*lead, *self._crossed(ports, frame, destination.family), *inward),
                            interface.device,
                            True,
                        )
                    )
            last = self._crossed(self.wire.between(attached, None) or [], frame, destination.family)
            nobody.append(Hop((*lead, *last), None, True))
        return moves or list(dict.fromkeys(nobody))

    def told_gateways(self, origin: Endpoint, family: Family) -> list[Interface] | None:
        """Return the interfaces, without those that are down, of the gateways that a machine is
        configured with; None where it has none.

        They come from its own line, or else from the shared gateways of its subnet.
        """
        told = [address for address in origin.gateways if address.family is family]
        told = told or self._shared.get((origin.segment, family), [])
        if not told:
            return None
        own = [
            self.plan.interface_of[address] for address in told if address in self.plan.interface_of
        ]
        found = [interface for interface in own if not self.plan.is_down(interface)]
        return list(
            dict.fromkeys([*found, *(each for address in told for each in self.answering(address))])
        )

    def _gateways(self, origin: Endpoint, destination: Address) -> list[Interface]:
        """Return the interfaces that a machine may hand a packet to: those of its configured
        gateways, or else the nearest to the destination.
        """
        told = self.told_gateways(origin, destination.family)
        if told is not None:
            return told
        near = self.on_segment.get((origin.segment, destination.family), [])
        if self.plan.static_routing:
            return [
                interface for interface in near if self.has_route(interface.device, destination)
            ] or near[:1]
        target = self._segment_of(destination)
        if target is None or not near:
            return near[:1]
        costs = self.costs_to(destination)
        least = min(costs.get(interface.device, FAR) for interface in near)
        return [interface for interface in near if costs.get(interface.device) == least] or near[:1]


def _lost(kind: FailureKind, text: str) -> Hop:
    return Hop((), None, True, Failure(kind, text))
