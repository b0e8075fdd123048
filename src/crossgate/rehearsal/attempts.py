"""Conversations tested with real packets: a listener runs on the far machine, and the near one
connects to it; what the system's own protocols report is the result. All attempts of one time run
at once.
"""

from __future__ import annotations

import errno
import os
import select
import socket
import struct
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any, NamedTuple

from crossgate.core.conversation.opening import Conversation, service_label
from crossgate.core.model.address import Address, Family, parse_address
from crossgate.core.model.packet import ACK, ECHO, ICMP, ICMPV6, SYN, TCP, UDP, Packet
from crossgate.core.model.tls import Hello
from crossgate.formats.readers.tls import HANDSHAKE, SERVER_HELLO
from crossgate.rehearsal.network import Rehearsal

_PATIENCE = 2
"""So many times what is not yet seen as claimed is waited for once more."""
_CLIENT_HELLO, _SUPPORTED_VERSIONS, _LAST_OLD = 1, 43, 0x0303
_RANDOM = slice(11, 19)
"""Where a record with a hello has the first octets of its random value."""
_ECHOED, _REPLIES = (ICMP, ICMPV6), (0, 129)
_REFUSED = (errno.ECONNREFUSED, errno.EHOSTUNREACH, errno.ENETUNREACH, errno.EACCES)


class SeenByMachine(StrEnum):
    """What a machine sees of its attempt."""

    ANSWERED = "answered"
    HALF = "heard there, no answer here"
    REFUSED = "refused at once"
    SILENCE = "silence"


class Attempt(NamedTuple):
    """What is attempted: a conversation, the claim about it and so the `wanted` result, who
    receives it and as what, whether its source port is `fixed`, and the TLS it settles on, None for
    none.
    """

    conversation: Conversation
    said: str
    wanted: tuple[SeenByMachine, ...]
    machine: str
    packet: Packet
    fixed: bool
    hello: Hello | None


@dataclass(slots=True)
class Try:
    """An attempt that is running."""

    attempt: Attempt
    token: bytes
    sender: socket.socket | None = None
    heard: bool = False
    answered: bool = False
    refused: bool = False

    @property
    def seen(self) -> SeenByMachine:
        """The result so far."""
        if self.answered:
            return SeenByMachine.ANSWERED
        if self.heard:
            return SeenByMachine.HALF
        return SeenByMachine.REFUSED if self.refused else SeenByMachine.SILENCE

    @property
    def as_wanted(self) -> bool:
        """Whether the result is the wanted one."""
        return self.seen in self.attempt.wanted


@dataclass(slots=True)
class Round:
    """All attempts for one time of the windows."""

    rehearsal: Rehearsal
    tries: list[Try] = field(default_factory=list)
    open: list[socket.socket] = field(default_factory=list)
    listening: dict[tuple[object, ...], socket.socket] = field(default_factory=dict)
    opened: set[tuple[str, Address, int]] = field(default_factory=set)
    """The machines that have received a SYN, from which address and for which port."""

    def begin(self, attempt: Attempt) -> Try:
        """Listen at the far end of an attempt, and start it."""
        token = struct.pack("!I", len(self.tries)) + os.urandom(4)
        tried = Try(attempt, token)
        self.tries.append(tried)
        self._listen(attempt)
        try:
            self._send(tried, attempt.conversation.first)
        except OSError as error:
            tried.refused = error.errno in _REFUSED
        return tried

    def _inside(self, machine: str) -> Any:
        return self.rehearsal.namespaces.inside(self.rehearsal.machines[machine])

    def _socket(self, machine: str, family: Family, kind: int, protocol: int) -> socket.socket:
        own = socket.AF_INET if family is Family.IPV4 else socket.AF_INET6
        with self._inside(machine):
            made = socket.socket(own, kind, protocol)
        made.setblocking(False)
        self.open.append(made)
        return made

    def _watch(self, made: socket.socket, do: Callable[[], None], events: int) -> None:
        self.rehearsal.watch(made.fileno(), do, events)

    def _listen(self, attempt: Attempt) -> None:
        packet, family = attempt.packet, attempt.packet.family
        key = attempt.machine, packet.protocol, packet.destination, packet.destination_port
        if key in self.listening:
            return
        if packet.protocol == TCP:
            self._listen_for_openings(attempt.machine, family)
            made = self._socket(attempt.machine, family, socket.SOCK_STREAM, 0)
            made.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        elif packet.protocol == UDP:
            made = self._socket(attempt.machine, family, socket.SOCK_DGRAM, 0)
        else:
            made = self._socket(attempt.machine, family, socket.SOCK_RAW, packet.protocol)
        self.listening[key] = made
        port = packet.destination_port if packet.protocol in (TCP, UDP) else 0
        try:
            made.bind((str(Address(family, packet.destination)), port))
            if packet.protocol == TCP:
                made.listen(64)
        except OSError:
            return  # it is not listened, and the attempt shows it
        self._watch(made, lambda: self._hear(made, packet.protocol), select.EPOLLIN)

    def _listen_for_openings(self, machine: str, family: Family) -> None:
        """Note which SYNs a machine receives: of those whose answers are stopped its system tells
        nothing, and forgets them where it hears that they are (RFC 5461).
        """
        key = machine, family
        if key not in self.listening:
            made = self._socket(machine, family, socket.SOCK_RAW, TCP)
            self.listening[key] = made
            self._watch(made, lambda: self._hear_opening(made, machine, family), select.EPOLLIN)

    def _hear_opening(self, made: socket.socket, machine: str, family: Family) -> None:
        try:
            data, sender = made.recvfrom(2048)
        except OSError:
            return
        segment = data[(data[0] & 15) * 4 :] if family is Family.IPV4 else data
        _, port, *_, flags = struct.unpack_from("!HHIIBB", segment)
        if flags & (SYN | ACK) == SYN:
            self.opened.add((machine, parse_address(sender[0]), port))

    def _hear(self, listening: socket.socket, protocol: int) -> None:
        """Receive what comes to a far end, and answer it."""
        try:
            if protocol == TCP:
                taken, _ = listening.accept()
                taken.setblocking(False)
                self.open.append(taken)
                self._watch(taken, lambda: self._hear_stream(taken), select.EPOLLIN)
                return
            data, sender = listening.recvfrom(2048)
            if protocol in _ECHOED:  # the system answers these itself
                if _icmp_type(data, protocol) in ECHO.values():
                    self._heard(data[-8:])
                return
            self._heard(data[-8:])
            listening.sendto(data[-8:][::-1], sender)
        except OSError:
            return

    def _hear_stream(self, taken: socket.socket) -> None:
        try:
            data = taken.recv(2048)
            if data:
                tried = self._heard(data[_RANDOM] if data[0] == HANDSHAKE else data)
                hello = None if tried is None else tried.attempt.hello
                taken.send(data[::-1] if hello is None else _hello(SERVER_HELLO, hello, data))
                return
        except OSError:
            pass
        self.rehearsal.unwatch(taken.fileno())

    def _heard(self, token: bytes) -> Try | None:
        """Note that a far end has received an attempt's token, and return the attempt."""
        number = int.from_bytes(token[:4])
        if number >= len(self.tries) or self.tries[number].token != token:
            return None
        self.tries[number].heard = True
        return self.tries[number]

    def _send(self, tried: Try, first: Packet) -> None:
        family, protocol = first.family, first.protocol
        source = tried.attempt.conversation.source
        name = source.device or source.name
        end = str(Address(family, first.destination))
        has_ports = protocol in (TCP, UDP)
        kind = {TCP: socket.SOCK_STREAM, UDP: socket.SOCK_DGRAM}.get(protocol, socket.SOCK_RAW)
        made = self._socket(name, family, kind, 0 if has_ports else protocol)
        tried.sender = made
        port = first.source_port if tried.attempt.fixed else 0
        made.bind((str(source.address), port if has_ports else 0))
        if protocol == TCP:
            result = made.connect_ex((end, first.destination_port))
            if result not in (0, errno.EINPROGRESS):
                raise OSError(result, os.strerror(result))
            self._watch(made, lambda: self._connected(tried), select.EPOLLOUT)
            return
        made.connect((end, first.destination_port if has_ports else 0))
        self._watch(made, lambda: self._reply(tried), select.EPOLLIN)
        made.send(_echo(first, tried.token) if first.icmp_type is not None else tried.token)

    def _connected(self, tried: Try) -> None:
        made = tried.sender
        assert made is not None  # it is watched
        self.rehearsal.unwatch(made.fileno())
        error = made.getsockopt(socket.SOL_SOCKET, socket.SO_ERROR)
        if error:
            tried.refused = error in _REFUSED
            return
        tried.heard = True
        try:
            hello = tried.attempt.hello
            made.send(tried.token if hello is None else _hello(_CLIENT_HELLO, hello, tried.token))
        except OSError:
            return
        self._watch(made, lambda: self._reply(tried), select.EPOLLIN)

    def _reply(self, tried: Try) -> None:
        made = tried.sender
        assert made is not None  # it is watched
        try:
            data = made.recv(2048)
        except OSError as error:
            tried.refused = tried.refused or error.errno in _REFUSED
            self.rehearsal.unwatch(made.fileno())
            return
        first = tried.attempt.conversation.first
        if first.icmp_type is not None:
            is_reply = _icmp_type(data, first.protocol) in _REPLIES
            tried.answered = tried.answered or (is_reply and data.endswith(tried.token))
        elif tried.attempt.hello is not None:
            tried.answered = data[_RANDOM] == tried.token
        else:
            tried.answered = tried.answered or data.endswith(tried.token[::-1])
        if not data:
            self.rehearsal.unwatch(made.fileno())

    def all_as_wanted(self) -> bool:
        """Check what far machines have received, and return whether all results are the wanted
        ones.
        """
        for tried in self.tries:
            if not tried.heard and tried.attempt.packet.protocol == TCP:
                tried.heard = self._has_opened(tried.attempt)
        return all(each.as_wanted for each in self.tries)

    def end(self) -> None:
        """Close all sockets."""
        for each in self.open:
            self.rehearsal.unwatch(each.fileno())
            each.close()

    def _has_opened(self, attempt: Attempt) -> bool:
        """Whether the far machine has received the packet that opens a TCP conversation."""
        packet = attempt.packet
        sender = Address(packet.family, packet.source)
        return (attempt.machine, sender, packet.destination_port) in self.opened


def _icmp_type(data: bytes, protocol: int) -> int:
    """Return the type of an ICMP message as a raw socket delivers it, in IPv4 with its header."""
    return data[(data[0] & 15) * 4 if protocol == ICMP else 0]


def _hello(kind: int, hello: Hello, said: bytes) -> bytes:
    """Return a TLS record with the parts of a client's or a server's hello that devices look at,
    with the token of an attempt or the server's choice (RFC 8446 section 4.1).
    """
    token = said[_RANDOM] if said[0] == HANDSHAKE else said
    old = min(hello.version, _LAST_OLD)
    suite = hello.suite.to_bytes(2)
    body = old.to_bytes(2) + token * 4 + b"\0"
    body += suite + b"\0" if kind == SERVER_HELLO else b"\0\2" + suite + b"\1\0"
    if hello.version > _LAST_OLD:
        version = hello.version.to_bytes(2)
        told = version if kind == SERVER_HELLO else b"\2" + version
        extension = _SUPPORTED_VERSIONS.to_bytes(2) + len(told).to_bytes(2) + told
        body += len(extension).to_bytes(2) + extension
    message = bytes((kind,)) + len(body).to_bytes(3) + body
    return bytes((HANDSHAKE, 3, 1)) + len(message).to_bytes(2) + message


def _echo(first: Packet, token: bytes) -> bytes:
    """Return an echo request; only in IPv6 does the system compute its checksum."""
    kind = ECHO[first.family]
    head = struct.pack("!BBHHH", kind, 0, 0, int.from_bytes(token[:4]) & 0xFFFF, 1)
    total = sum(struct.unpack("!8H", head + token))
    total = (total & 0xFFFF) + (total >> 16)
    total = (total & 0xFFFF) + (total >> 16)
    return b"".join((head[:2], (~total & 0xFFFF).to_bytes(2), head[4:], token))


def try_all(
    rehearsal: Rehearsal,
    attempts: Sequence[Attempt],
    within: float,
    done: Callable[[list[Try]], None],
) -> None:
    """Run all attempts at once, and return their results in order; no answer `within` that many
    seconds is silence.
    """
    going = Round(rehearsal)
    tries = [going.begin(each) for each in attempts]

    def look(again: int = _PATIENCE) -> None:
        if not going.all_as_wanted() and again:
            rehearsal.later(within, lambda: look(again - 1))  # a busy machine may be late
            return
        going.end()
        done(tries)

    rehearsal.later(within, look)


def outcome(tries: list[Try]) -> dict[str, Any]:
    """Return the results of some attempts."""
    tried = [
        {
            "packet": service_label(each.attempt.conversation.first),
            "from": each.attempt.conversation.source.name,
            "to": each.attempt.conversation.destination.name,
            "family": each.attempt.packet.family.label,
            "wanted": each.attempt.said,
            "seen": str(each.seen),
            "held": each.as_wanted,
        }
        for each in tries
    ]
    return {"tried": tried, "held": all(each["held"] for each in tried), "why": ""}
