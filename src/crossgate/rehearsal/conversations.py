"""The conversations between the machines of a plan: which one a packet belongs to or opens, its
ways and what it has said (`fabric`, 1 and 2).
"""

from __future__ import annotations

import zlib
from collections.abc import Callable
from datetime import datetime
from typing import NamedTuple

from crossgate.core.conversation.opening import Conversation
from crossgate.core.conversation.rules import ALONE, Decided, judges, legs_of
from crossgate.core.conversation.story import path_devices
from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.address import Address
from crossgate.core.model.condition import State
from crossgate.core.model.conditions import When
from crossgate.core.model.errors import PlanError
from crossgate.core.model.network import Direction, PointKind
from crossgate.core.model.packet import ACK, SYN, Packet
from crossgate.core.model.plan import Plan
from crossgate.core.model.tls import settled
from crossgate.core.network.endpoints import at_address
from crossgate.core.network.failure import Failure
from crossgate.core.network.one_way import (
    OneWay,
    answering,
    one_way,
    setting_out,
)
from crossgate.core.network.paths import Endpoint, Path
from crossgate.core.network.ways import Network
from crossgate.formats.readers.tls import HANDSHAKE, server_hello
from crossgate.rehearsal import frames
from crossgate.rehearsal.frames import Read
from crossgate.rehearsal.known import KnownConversations, name_of
from crossgate.rehearsal.lists import Lists
from crossgate.rehearsal.lost import Lost
from crossgate.rehearsal.machines import Machine, machines_of
from crossgate.rehearsal.running import Running

_HELLO = 4096
"""So many octets of what a server says first are waited for to tell its TLS."""


class PacketReport(NamedTuple):
    """A list's decision, or why a packet was lost; and the packet, as its sender sent it."""

    machine: str
    packet: Packet
    decided: Decided | None
    failure: Failure | None = None

    @property
    def stops(self) -> bool:
        """Whether the packet goes no further."""
        return self.decided is None or not self.decided.decider.permits


class Conversations:
    """The running conversations between the machines of a plan; `tell` is called with each
    decision, and `lists` counts them. With `way` all packets take the way of that number.
    """

    def __init__(
        self,
        plan: Plan,
        clock: Callable[[], datetime],
        tell: Callable[[PacketReport], None] | None = None,
        way: int | None = None,
    ) -> None:
        self._clock, self._tell, self._way = clock, tell, way
        network = Network(plan)
        self.lists = Lists(network)
        self.machines = {each.name: each for each in machines_of(plan)}
        self._known = KnownConversations()
        self._now = 0.0
        self._settle(network)

    @property
    def plan(self) -> Plan:
        """The present plan."""
        return self._plan

    @property
    def network(self) -> Network:
        """The network of that plan: where packets go, and which lists they meet."""
        return self._network

    @property
    def clock(self) -> Callable[[], datetime]:
        """What tells the time for windows."""
        return self._clock

    @clock.setter
    def clock(self, clock: Callable[[], datetime]) -> None:
        self._clock, self._looked = clock, -1.0

    def _settle(self, network: Network) -> None:
        self._plan, self._network = network.plan, network
        self._by_address = {
            address: name for name, each in self.machines.items() for address in each.addresses
        }
        self._macs = self._mac_of()
        self._state: State | None = None
        self._looked = -1.0
        self.lists.change(network)

    def change(self, plan: Plan) -> None:
        """Continue with another plan of the same machines: running conversations are judged by its
        lists from now on, and take its ways. What is down forgets its connections.
        """
        self._settle(Network(plan))
        down = {each.owner for each in plan.down if each.kind is PointKind.ITSELF}
        for running in self._known.every():
            running.kept.clear()
            running.known -= down
            if running.there.state.view:
                continue  # its translations know it by the way that it took
            try:
                running.origin = at_address(self._network, running.origin.address)
                running.there, running.back = self._way_of(running), None
            except PlanError:  # nobody has the address any more
                self._known.forget(running)

    def _mac_of(self) -> dict[Address, int]:
        """Return the hardware address for each address."""
        found = {address: each.mac for each in self.machines.values() for address in each.addresses}
        for address, interface in self._plan.interface_of.items():
            if interface.mac is not None:
                found[address] = interface.mac
        return found

    def state(self) -> State:
        """Return the present state of the plan's conditions, for conversations without TLS."""
        if self._state is None or (self._plan.every_window and self._now - self._looked >= 1):
            self._looked = self._now
            state = self._plan.state_at(When(self._clock()))
            if state != self._state:
                self._state = state
                for running in self._known.every():
                    running.kept.clear()
        return self._state

    def _origin(self, machine: Machine, packet: Packet) -> Endpoint | None:
        """Return the end from which a machine sends a packet: the packet's source where that is one
        of its addresses, or else its own.
        """
        family = packet.family
        own = [each for each in machine.addresses if each.family is family]
        claimed = next((each for each in own if each.value == packet.source), None)
        if not own:
            return None
        try:
            return at_address(self._network, claimed or own[0])
        except PlanError:
            return None

    def arriving(self, wanted: Conversation) -> tuple[str, Packet] | None:
        """Return the machine that gets the packet which opens a conversation if no list denies it,
        and the packet as it arrives; None where no machine has the address.
        """
        first = wanted.first
        numbers = first.source_port or 0, first.destination_port or 0
        running = self._opened(wanted.source, first, numbers)
        packet = running.opening_in(running.there.state.view)[0] if running else first
        name = self._by_address.get(Address(packet.family, packet.destination))
        return None if name is None or running is None else (name, packet)

    def _opened(self, origin: Endpoint, packet: Packet, numbers: tuple[int, int]) -> Running | None:
        """Return a conversation in the form in which the packet that opens it is sent."""
        try:
            at_address(self._network, Address(packet.family, packet.destination))
        except PlanError:
            return None
        legs, _ = legs_of(packet, False)
        opens = packet.flags is None or packet.flags & (SYN | ACK) == SYN
        start = setting_out(self._network, packet)
        alone = legs == ALONE or not opens
        running = Running(origin, packet, numbers, OneWay(Path(), start), alone)
        running.there = self._way_of(running)
        return running

    def _begun(self, origin: Endpoint, read: Read) -> Running | None:
        """Return the conversation that a packet opens."""
        packet = read.packet
        running = self._opened(origin, packet, read.numbers)
        if running is None:
            return None
        self._known.ports.choose(running)
        path = running.there.path
        if path.arrived and not running.alone and not path.on_link:
            end = running.ends(False, running.there.state.view).destination
            running.receiver = at_address(self._network, Address(packet.family, end))
            if running.receiver.others:
                running.receiver = running.receiver._replace(device=path.devices[-1], others=())
            running.seen = self._now
            self._known.add(running, self._now)
        return running

    def _way_of(self, running: Running) -> OneWay:
        start = setting_out(self._network, running.first)
        return one_way(self._network, running.origin, start, self._choosing(running))

    def _way_back(self, running: Running) -> OneWay:
        """Return the way of the answers of a conversation."""
        if running.back is None:
            assert running.receiver is not None  # somebody sends them
            chosen = running.choice.address if running.choice else None
            state = answering(self._network, running.there.state, running.receiver, chosen)
            running.back = one_way(
                self._network, running.receiver, state, self._choosing(running, 1)
            )
        return running.back

    def _choosing(self, running: Running, salt: int = 0) -> Callable[[int], int]:
        """Return a function that chooses among equal moves, always the same one for a
        conversation.
        """
        if self._way is not None:
            way = self._way - 1
            return lambda moves: way % moves
        first = running.first
        told = repr((first.source, first.destination, first.protocol, running.numbers, salt))
        number = zlib.crc32(told.encode())
        return lambda moves: number % moves

    def _hear(self, running: Running, frame: bytes, read: Read, returns: bool) -> None:
        """Follow what a conversation says until its TLS version settles, and judge it then
        (`rules`, rule 4).
        """
        said = frames.said_in(frame, read)
        if not said:
            return
        if not returns:
            if said[0] == HANDSHAKE or running.said:
                return  # a client's hello settles nothing
            hello = None
        else:
            running.said = (running.said + said)[:_HELLO]
            hello = server_hello(running.said)
            if hello is None and running.said[0] == HANDSHAKE and len(running.said) < _HELLO:
                return
        state, due = settled(self.state(), hello), running.due
        running.due = []
        ways = running.there.path, self._way_back(running).path
        there, back = (path_devices(each) for each in ways)
        for crossing, _ in due:
            own = self._network.list_at(crossing, running.first.family)
            if isinstance(own, AccessList) and judges(crossing, there, back):
                opening, _ = running.opening_in(crossing.view)
                decision = self.lists.decision(own, opening, state)
                decider = decision.due or decision.decider
                self.lists.count(crossing, decider)
                if not decider.permits:
                    running.stopped = Decided(crossing, decider)
                    if self._tell is not None:
                        name = name_of(running.origin)
                        self._tell(PacketReport(name, running.first, running.stopped))
                    return

    def _walked(
        self,
        running: Running,
        read: Read,
        way: OneWay,
        returns: bool,
        state: State,
        decided: list[Decided],
    ) -> tuple[Lost | None, int]:
        """Ask the lists on a way about a packet; return where it ends, None where it arrives, and
        by how much its hop limit is lowered.
        """
        hops, ends_at = 0, self._ends_at(way)
        for crossing, decision in self.lists.asked(running, read, way, returns, state):
            if decision is not None:
                decided.append(Decided(crossing, decision.decider))
                if not decision.permits:
                    return Lost(crossing, decided[-1]), hops
                if decision.due is not None and not returns:
                    running.due.append(Decided(crossing, decision.due))
            if (
                crossing.point.kind is PointKind.INTERFACE
                and crossing.direction is Direction.INBOUND
                and crossing.point.owner != ends_at
            ):
                hops += 1
                if read.hops <= hops:
                    return Lost(crossing), hops
        failure, crossings = way.path.failure, way.path.crossings
        if failure is None:
            return None, hops
        return Lost(crossings[-1] if crossings else None, failure=failure), hops

    @staticmethod
    def _ends_at(way: OneWay) -> str | None:
        """Return the device at which a way ends, so that it forwards nothing."""
        last = way.path.crossings[-1:] if way.path.arrived else ()
        return next(
            (each.point.owner for each in last if each.point.kind is PointKind.ITSELF), None
        )
