"""Takes frames from machine to machine as a plan says: the rules of the core decide about each
packet, one place at a time.

Theory of operation.

1. A packet belongs to a running conversation, by its addresses and ports as its sender has them, or
opens one. The answers of a conversation are recognised by the packet that they answer, as it
arrived.

2. All packets of a conversation take one of the equal ways there, and all its answers one of the
ways back (`one_way`), chosen by a hash of the conversation.

3. At each crossing of its way the list there is asked about the packet as it is seen there, unless
the device or host of the place knows the conversation. Those that a packet has passed know it from
then on (`rules`, rule 3). A packet that opens nothing is checked by every list, and nobody
remembers it.

4. A device that forwards a packet lowers its hop limit. It sends an error message about a packet
that ends there, and about one that a list rejects; such a message is forwarded like any other
packet.

5. The result for a packet is kept for packets that are alike, as long as nothing changes that it
depends on: who knows the conversation, the windows that are open, and the plan.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from functools import cached_property

from crossgate.core.conversation.rules import Decided
from crossgate.core.conversation.story import path_devices
from crossgate.core.model.address import Address, Family
from crossgate.core.model.conditions import is_counted
from crossgate.core.model.ethernet import BROADCAST, ETHERTYPES, Frame
from crossgate.core.model.network import Point
from crossgate.core.model.packet import TCP, Packet
from crossgate.core.network.endpoints import at_address
from crossgate.core.network.failure import FailureKind
from crossgate.core.network.one_way import (
    OneWay,
    one_way,
    seen_in,
    setting_out,
)
from crossgate.core.network.paths import Endpoint
from crossgate.core.network.translated_state import TranslatedState
from crossgate.core.network.view import View
from crossgate.rehearsal import frames
from crossgate.rehearsal.conversations import Conversations, PacketReport
from crossgate.rehearsal.frames import PacketEnds, Read
from crossgate.rehearsal.known import name_of
from crossgate.rehearsal.lost import Lost, speaks_as, told_of
from crossgate.rehearsal.machines import Machine
from crossgate.rehearsal.running import KeptResult, Running


class Fabric(Conversations):
    """The network between the machines of a plan."""

    @cached_property
    def taps(self) -> dict[Point, Callable[[float, bytes], None]]:
        """Who is told of the frames that pass a place, with the time."""
        return {}

    # Frames

    def receive(self, name: str, frame: bytes, now: float) -> Iterable[tuple[str, bytes]]:
        """Take a frame that a machine sends at a time, in seconds, and return the frames that
        machines get because of it.
        """
        self._now = now
        machine = self.machines[name]
        asked = frames.resolving(frame)
        if asked is not None:
            mac = self._resolve(machine, asked)
            return [] if mac is None else [(name, frames.resolved(asked, mac))]
        read = frames.read_frame(frame)
        if read is None or frames.is_housekeeping(read):
            return []
        return self._sent(machine, frame, read)

    def _resolve(self, machine: Machine, asked: frames.Resolving) -> int | None:
        """Return the hardware address that a machine gets for an address on its link; None where
        nobody answers.
        """
        target = asked.target
        if target in machine.addresses or asked.asker not in machine.addresses:
            return None
        segment = self._plan.segments[at_address(self._network, asked.asker).segment]
        if segment.outside:  # whoever it is sent to, it goes to a device or to who is there
            return self._macs.get(target, self.machines[self._exit(segment.name)].mac)
        mac = self._macs.get(target)
        if mac is None or self._is_kept_from(machine, asked.asker, target):
            return None
        return mac

    def _exit(self, outside: str) -> str:
        return next(
            each.name
            for each in self._plan.devices.values()
            if any(own.on == outside for own in each.interfaces.values())
        )

    def _is_kept_from(self, machine: Machine, asker: Address, target: Address) -> bool:
        """Whether the ethernet lists between two addresses, or isolation, block a question for a
        hardware address or its answer.
        """
        one, other = (at_address(self._network, each) for each in (asker, target))
        for origin, end, mac in ((one, other, BROADCAST), (other, one, machine.mac)):
            way = one_way(self._network, origin, self._towards(origin, end), lambda _: 0)
            failure = way.path.failure
            if failure is not None and failure.kind in (
                FailureKind.ISOLATED,
                FailureKind.NO_CABLE,
                FailureKind.DOWN,
            ):
                return True
            sender = self._macs[origin.address]
            for crossing in way.path.crossings:
                own = self._plan.framed.get(crossing.place)
                # Neighbour discovery is packets, which are asked of the lists for these.
                if own is None or asker.family is Family.IPV6:
                    continue
                rulings = own.rulings(Frame(sender, mac), ETHERTYPES["arp"])
                decider = own.for_packets(rulings, asker.family)
                packet = Packet(asker.family, asker.value, target.value, TCP)
                if not self.lists.decision(decider, packet, self.state()).permits:
                    return True
        return False

    def _towards(self, origin: Endpoint, end: Endpoint) -> TranslatedState:
        family, start = origin.address.family, origin.address.value
        return setting_out(self._network, Packet(family, start, end.address.value, TCP, 1, 1))

    # Packets

    def _sent(self, machine: Machine, frame: bytes, read: Read) -> list[tuple[str, bytes]]:
        quoted = frames.quoted_in(frame, read)
        if quoted is None:
            found = self._known.of_packet(machine.name, read, self._now)
        else:
            found = None
            about = self._known.by_key(machine.name, quoted.answers_to)
            if about is not None:
                return self._error(machine, frame, read, quoted, *about)
        if found is None:
            origin = self._origin(machine, read.packet)
            running = None if origin is None else self._begun(origin, read)
            if running is None:
                return []
            found = running, False
        running, returns = found
        return self._pass(machine, frame, read, running, returns)

    # What becomes of a packet

    def _pass(
        self, machine: Machine, frame: bytes, read: Read, running: Running, returns: bool
    ) -> list[tuple[str, bytes]]:
        state = self.state()
        running.notice(read, returns, self._now)
        if running.due:
            self._hear(running, frame, read, returns)
        if running.stopped is not None:
            return []
        packet = read.packet
        alike = (returns, packet.flags, packet.dscp, packet.fragment, packet.icmp_code)
        kept = running.kept.get(alike)
        if isinstance(kept, KeptResult) and read.hops > kept.hops:
            for each in kept.decided:
                self.lists.count(each.crossing, each.decider)
            return self._handed_over(frame, read, kept)
        way = self._way_back(running) if returns else running.there
        counted = is_counted(packet) and self.lists.is_limited(way, packet.family)
        if counted:
            state |= self.lists.exceeded(running, read, way, returns, state, self._now)
        decided = list[Decided]()
        lost, hops = self._walked(running, read, way, returns, state, decided)
        for each in decided:
            self.lists.count(each.crossing, each.decider)
        if self._tell is not None:
            for each in decided:
                self._tell(PacketReport(machine.name, packet, each))
            if lost is not None and lost.failure is not None:
                self._tell(PacketReport(machine.name, packet, None, lost.failure))
        if self.taps:
            self._tap(frame, read, running, returns, way, lost)
        if lost is not None:
            return self._tell_sender(machine, frame, read, running, way, lost)
        ends = running.ends(returns, () if returns else running.there.state.view)
        if not running.there.state.view:
            ends = frames.ends_of(read)
        name = self._gets(running, way, returns, ends, packet.family)
        known = running.known
        if not running.alone:
            running.known |= self._network.stateful & path_devices(way.path)
        result = KeptResult(name, ends, hops, tuple(decided))
        if running.known != known:
            running.kept.clear()
        elif not counted and not self.taps and not running.due:
            running.kept[alike] = result
        return self._handed_over(frame, read, result)

    def _gets(
        self, running: Running, way: OneWay, returns: bool, ends: PacketEnds, family: Family
    ) -> str | None:
        """Return the machine that receives what has arrived."""
        if way.path.on_link:
            return None
        end = running.origin if returns else running.receiver
        if end is not None and end.address == Address(family, ends.destination):
            return name_of(end)
        return self._by_address.get(Address(family, ends.destination))

    def _handed_over(self, frame: bytes, read: Read, kept: KeptResult) -> list[tuple[str, bytes]]:
        if kept.machine is None or kept.machine not in self.machines:
            return []
        to, by = self.machines[kept.machine].mac, int.from_bytes(frame[6:12])
        return [(kept.machine, frames.passed_on(frame, read, to, by, kept.ends, kept.hops))]

    # What is told to senders

    def _tell_sender(
        self,
        machine: Machine,
        frame: bytes,
        read: Read,
        running: Running,
        way: OneWay,
        lost: Lost,
    ) -> list[tuple[str, bytes]]:
        """Return the frames of the message by which a device tells a sender about a packet that
        ends there.
        """
        packet, family = read.packet, read.packet.family
        if packet.fragment or frames.is_error(family, packet.icmp_type):
            return []
        message = told_of(way, lost, family)
        if message is None:
            return []
        device, kind, code = message
        seen = lost.crossing.view if lost.crossing is not None else ()
        # What it has made of the packet itself it knows.
        view = tuple(each for each in seen if each.device != device)
        source = speaks_as(self._plan, device, lost.crossing, packet)
        told = frames.error_about(frame, read, source, kind, code)
        error = frames.read_frame(frames.framed(family, told))
        assert error is not None  # it has just been made
        return self._error_from(
            source, frames.framed(family, told), error, read, running, view, machine
        )

    def _error_from(
        self,
        source: Address,
        frame: bytes,
        error: Read,
        about: Read,
        running: Running,
        view: View,
        machine: Machine,
    ) -> list[tuple[str, bytes]]:
        """Send the message of a device about a packet on its way."""
        origin = at_address(self._network, source)
        if origin.device is None:  # a switch without an address: the sender is told at once
            ends = frames.ends_of(error)
            return self._handed_over(frame, error, KeptResult(machine.name, ends, 0, ()))
        if not view:
            found = self._begun(origin, error)
            speaker = self.machines.get(name_of(origin))
            if found is None or speaker is None:
                return []
            return self._pass(speaker, frame, error, found, False)
        return self._error_back(origin, frame, error, about, running, view)

    def _error(
        self,
        machine: Machine,
        frame: bytes,
        read: Read,
        quoted: Read,
        running: Running,
        returns: bool,
    ) -> list[tuple[str, bytes]]:
        """Forward a machine's message about a packet that it received: an ICMP message about a
        conversation.
        """
        origin = self._origin(machine, read.packet)
        view = running.there.state.view
        if origin is None:
            return []
        if not returns or not view:  # the quoted packet is as it was sent
            found = self._begun(origin, read)
            return [] if found is None else self._pass(machine, frame, read, found, False)
        return self._error_back(origin, frame, read, quoted, running, view)

    def _error_back(
        self,
        origin: Endpoint,
        frame: bytes,
        error: Read,
        about: Read,
        running: Running,
        view: View,
    ) -> list[tuple[str, bytes]]:
        """Send a message about a translated packet back to its sender (RFC 5508 section 4): it is
        forwarded like an answer, and translated together with the packet that it quotes.
        """
        arrived = seen_in(running.there.state, view)
        opening, numbers = running.opening_in(view)
        state = arrived.answer()._replace(answering=origin.address)
        way = one_way(self._network, origin, state, self._choosing(running, 2))
        sent = frames.error_turned(
            frame,
            error,
            frames.quoted_in(frame, error) or about,
            PacketEnds(origin.address.value, opening.source, error.numbers),
            PacketEnds(opening.source, opening.destination, numbers),
        )
        read = frames.read_frame(sent)
        assert read is not None  # it has just been made
        for crossing in way.path.crossings:
            own = self._network.list_at(crossing, read.packet.family)
            if own is None:
                continue
            seen = running.opening_in(crossing.view)[0]
            packet = read.packet._replace(destination=seen.source)
            decision = self.lists.decision(own, packet, self.state())
            self.lists.count(crossing, decision.decider)
            if not decision.permits:
                return []
        name = name_of(running.origin)
        if not way.path.arrived or name not in self.machines:
            return []
        first = running.ends(False, ())
        quoted = frames.quoted_in(sent, read)
        assert quoted is not None  # it has just been made
        handed = frames.error_turned(
            sent, read, quoted, PacketEnds(origin.address.value, first.source, read.numbers), first
        )
        again = frames.read_frame(handed)
        assert again is not None  # it has just been made
        return self._handed_over(handed, again, KeptResult(name, frames.ends_of(again), 0, ()))

    # What passes a place

    def _tap(
        self,
        frame: bytes,
        read: Read,
        running: Running,
        returns: bool,
        way: OneWay,
        lost: Lost | None,
    ) -> None:
        for crossing in way.path.crossings:
            tap = self.taps.get(crossing.point)
            if tap is not None:
                ends = (
                    running.ends(returns, crossing.view)
                    if running.there.state.view
                    else frames.ends_of(read)
                )
                to, by = int.from_bytes(frame[:6]), int.from_bytes(frame[6:12])
                tap(self._now, frames.passed_on(frame, read, to, by, ends, 0))
            if lost is not None and crossing is lost.crossing:
                return
