"""Every claim of a plan tried with real packets: what should answer listens on the far machine, and
the near one tries it; the system's own protocols are the witness.

Of a set its first few machines are tried, of a service its first ports. All that is tried at one
time of the windows runs at once.
"""

from __future__ import annotations

import errno
import os
import select
import socket
import struct
import sys
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from enum import StrEnum
from pathlib import Path
from typing import Any, NamedTuple

from crossgate.core.answers.traces import ends
from crossgate.core.conversation.opening import Conversation, conversations, service_label
from crossgate.core.model.address import Address, Family
from crossgate.core.model.claim import Claim, Moment, Only, Promise
from crossgate.core.model.errors import PlanError
from crossgate.core.model.packet import ECHO, ICMP, ICMPV6, TCP, UDP, Packet
from crossgate.core.model.plan import Plan
from crossgate.core.model.service import Service, ServiceError
from crossgate.core.model.tls import Hello, chosen_hello
from crossgate.core.network.endpoints import NoConversation, is_elsewhere, pairs
from crossgate.core.network.ways import Network
from crossgate.formats.readers.tls import HANDSHAKE, SERVER_HELLO
from crossgate.rehearsal.network import Rehearsal

_MOST_MACHINES, _MOST_PORTS = 3, 2
_PATIENCE = 2
"""So many times what is not yet seen as claimed is waited for once more."""
_OTHERS = ("ping", "ssh", "https", "domain")
"""What is tried where a claim is of every service, or of all but some."""
_SYN_RECEIVED = "03"
"""The state of a TCP conversation of which the last leg has not come, in /proc/net/tcp."""
_CLIENT_HELLO, _SUPPORTED_VERSIONS, _LAST_OLD = 1, 43, 0x0303
_RANDOM = slice(11, 19)
"""Where a record with a hello has the first octets of its random value."""
_ECHOED, _REPLIES = (ICMP, ICMPV6), (0, 129)
_REFUSED = (errno.ECONNREFUSED, errno.EHOSTUNREACH, errno.ENETUNREACH, errno.EACCES)


class Seen(StrEnum):
    """What a machine sees of what it tries."""

    ANSWERED = "answered"
    HALF = "heard there, no answer here"
    REFUSED = "refused at once"
    SILENCE = "silence"


_WANTED = {
    Claim.PERMIT: (Seen.ANSWERED,),
    Claim.DENY: (Seen.REFUSED, Seen.SILENCE),
    Claim.HALF_OPEN: (Seen.HALF,),
}


class Attempt(NamedTuple):
    """What is tried: a conversation, what the claim says becomes of it, who gets it and as what,
    whether its source port is `fixed`, and what TLS it settles on, None for none.
    """

    conversation: Conversation
    claim: Claim
    machine: str
    packet: Packet
    fixed: bool
    hello: Hello | None


def attempts(rehearsal: Rehearsal, claim: Promise) -> Iterator[Attempt]:
    """Yield what is tried of a claim. Raises `PlanError` with why none of it can be."""
    for told, why in (
        (claim.flooding, "what is beyond a limit is not tried"),
        (claim.flags is not None, "single segments are not tried"),
    ):
        if told:
            raise PlanError(why)
    network = rehearsal.fabric.network
    test = None if claim.spoken is None else claim.spoken.test
    hello = None if test is None else chosen_hello(test)
    found = False
    for wanted, says in _wanted(network, claim):
        sent = rehearsal.fabric.arriving(wanted)
        if sent is not None:
            found = True
            yield Attempt(wanted, says, *sent, claim.source_port is not None, hello)
    if not found:
        raise PlanError("no machine of the plan can try it")


def _wanted(network: Network, claim: Promise) -> Iterator[tuple[Conversation, Claim]]:
    plan = network.plan
    sources = _machines(plan, claim.source)
    if is_elsewhere(plan, claim):
        own = {plan.hosts[each].on for each in sources if each in plan.hosts}
        destinations = [each.name for each in plan.hosts.values() if each.on not in own]
        destinations = destinations[:: max(1, len(destinations) // _MOST_MACHINES)]
    else:
        destinations = _machines(plan, claim.destination)
    for one in sources[:_MOST_MACHINES]:
        for other in destinations[: _MOST_MACHINES + 1]:
            try:
                found = pairs(network, one, other)
            except NoConversation:
                continue
            for start, end in found:
                family = start.address.family
                if claim.over not in (None, family):
                    continue
                for service, says in _services(plan, claim, family):
                    for each in _few(plan, service, family, start, end, claim.source_port):
                        yield each, says


def _machines(plan: Plan, words: str) -> list[str]:
    try:
        return ends(plan, words)
    except PlanError:
        return []


def _services(plan: Plan, claim: Promise, family: Family) -> Iterator[tuple[str, Claim]]:
    if not isinstance(claim, Only):
        every = claim.service == "ip"
        yield from ((each, claim.claim) for each in (_OTHERS if every else (claim.service,)))
        return
    # What one line of `only` permits the others do not deny.
    permitted = {
        service
        for each in plan.expectations
        if isinstance(each, Only) and each.source == claim.source
        for service in each.services
    }
    yield from ((each, Claim.PERMIT) for each in claim.services)
    yield from ((each, Claim.DENY) for each in _OTHERS if each not in permitted)


def _few(
    plan: Plan, text: str, family: Family, start: Any, end: Any, source_port: int | None
) -> Iterator[Conversation]:
    try:
        service = plan.service(text, family)
    except ServiceError:
        return
    for term in service.terms:
        if term.ports is not None:
            single = tuple((first, first) for first, _ in term.ports[:_MOST_PORTS])
            term = term._replace(ports=single)
        try:
            port = source_port if term.ports is not None else None
            yield from conversations(Service(text, (term,)), start, end, port)
        except PlanError:
            continue


@dataclass(slots=True)
class _Try:
    """One attempt as it runs."""

    attempt: Attempt
    token: bytes
    sender: socket.socket | None = None
    heard: bool = False
    answered: bool = False
    refused: bool = False

    @property
    def seen(self) -> Seen:
        """What came of it."""
        if self.answered:
            return Seen.ANSWERED
        if self.heard:
            return Seen.HALF
        return Seen.REFUSED if self.refused else Seen.SILENCE


@dataclass(slots=True)
class _Round:
    """All that is tried at one time of the windows."""

    rehearsal: Rehearsal
    tries: list[_Try] = field(default_factory=list)
    open: list[socket.socket] = field(default_factory=list)
    listening: dict[tuple[object, ...], socket.socket] = field(default_factory=dict)

    def begin(self, attempt: Attempt) -> _Try:
        """Listen at the far end of an attempt, and try it."""
        token = struct.pack("!I", len(self.tries)) + os.urandom(4)
        tried = _Try(attempt, token)
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

    def _hear(self, listening: socket.socket, protocol: int) -> None:
        """Take what comes to a far end, and answer it."""
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

    def _heard(self, token: bytes) -> _Try | None:
        """Take down that a far end has got what is tried, and return the attempt."""
        number = int.from_bytes(token[:4])
        if number >= len(self.tries) or self.tries[number].token != token:
            return None
        self.tries[number].heard = True
        return self.tries[number]

    def _send(self, tried: _Try, first: Packet) -> None:
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

    def _connected(self, tried: _Try) -> None:
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

    def _reply(self, tried: _Try) -> None:
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

    def all_as_claimed(self) -> bool:
        """Look at what far machines have got, and return whether all is seen that is claimed."""
        for tried in self.tries:
            if not tried.heard and tried.attempt.packet.protocol == TCP:
                tried.heard = self._half_open(tried.attempt)
        return all(each.seen in _WANTED[each.attempt.claim] for each in self.tries)

    def end(self) -> None:
        """Close all."""
        for each in self.open:
            self.rehearsal.unwatch(each.fileno())
            each.close()

    def _half_open(self, attempt: Attempt) -> bool:
        """Whether the far machine has got what opens a conversation with it, and waits for the
        rest.
        """
        packet = attempt.packet
        name = "tcp" if packet.family is Family.IPV4 else "tcp6"
        with self._inside(attempt.machine):
            rows = Path(f"/proc/thread-self/net/{name}").read_text().splitlines()[1:]
        port, sender = f":{packet.destination_port:04X}", _as_listed(packet)
        words = (row.split() for row in rows)
        return any(
            own.endswith(port) and far.startswith(sender) and state == _SYN_RECEIVED
            for _, own, far, state, *_ in words
        )


def _as_listed(packet: Packet) -> str:
    """Return the sender of a packet as /proc/net/tcp writes it: each 32 bits as this machine has
    them in memory.
    """
    octets = packet.source.to_bytes(4 if packet.family is Family.IPV4 else 16)
    words = struct.unpack(f"!{len(octets) // 4}I", octets)
    return (
        "".join(
            f"{int.from_bytes(struct.pack('=I', socket.htonl(each)), sys.byteorder):08X}"
            for each in words
        )
        + ":"
    )


def _icmp_type(data: bytes, protocol: int) -> int:
    """Return the type of an ICMP message as a raw socket hands it over, in IPv4 with its header."""
    return data[(data[0] & 15) * 4 if protocol == ICMP else 0]


def _hello(kind: int, hello: Hello, said: bytes) -> bytes:
    """Return a TLS record with as much of a client's or a server's hello as devices look at, for
    the token that an attempt is known by, or the hello that has it (RFC 8446 section 4.1).
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
    """Return an echo request; the system sums it up itself in IPv6 alone."""
    kind = ECHO[first.family]
    head = struct.pack("!BBHHH", kind, 0, 0, int.from_bytes(token[:4]) & 0xFFFF, 1)
    total = sum(struct.unpack("!8H", head + token))
    total = (total & 0xFFFF) + (total >> 16)
    total = (total & 0xFFFF) + (total >> 16)
    return b"".join((head[:2], (~total & 0xFFFF).to_bytes(2), head[4:], token))


def try_claims(rehearsal: Rehearsal, within: float, tell: Callable[[dict[str, Any]], None]) -> None:
    """Try every claim of the plan, all of one time of the windows at once, and tell what came of
    each; what is not answered `within` so many seconds is silence.
    """
    usual, rounds = (
        rehearsal.fabric.clock,
        dict[datetime | None, list[tuple[Promise, list[Attempt]]]](),
    )
    for claim in rehearsal.fabric.plan.expectations:
        try:
            time = _time(rehearsal, claim)
            rounds.setdefault(time, []).append((claim, list(attempts(rehearsal, claim))))
        except PlanError as error:
            tell({**_of(claim), "tried": [], "held": None, "why": error.message})
    waiting = list(rounds.items())

    def next_round() -> None:
        if not waiting:
            rehearsal.fabric.clock = usual
            tell({"claims": True})
            return
        time, claims = waiting.pop(0)
        rehearsal.fabric.clock = usual if time is None else lambda: time
        going = _Round(rehearsal)
        begun = [(claim, [going.begin(each) for each in several]) for claim, several in claims]

        def look(again: int = _PATIENCE) -> None:
            if not going.all_as_claimed() and again:
                rehearsal.later(within, lambda: look(again - 1))  # a busy machine may be late
                return
            going.end()
            for claim, tries in begun:
                tell({**_of(claim), **_outcome(tries)})
            next_round()

        rehearsal.later(within, look)

    next_round()


def _of(claim: Promise) -> dict[str, Any]:
    return {"claim": claim.text, "file": claim.place.file, "line": claim.place.line}


def _outcome(tries: list[_Try]) -> dict[str, Any]:
    """Return what came of the attempts of a claim."""
    tried = [
        {
            "packet": service_label(each.attempt.conversation.first),
            "from": each.attempt.conversation.source.name,
            "to": each.attempt.conversation.destination.name,
            "family": each.attempt.packet.family.label,
            "wanted": str(each.attempt.claim),
            "seen": str(each.seen),
            "held": each.seen in _WANTED[each.attempt.claim],
        }
        for each in tries
    ]
    return {"tried": tried, "held": all(each["held"] for each in tried), "why": ""}


def _time(rehearsal: Rehearsal, claim: Promise) -> datetime | None:
    """Return a time that a claim speaks of; None for any."""
    plan, now = rehearsal.fabric.plan, rehearsal.fabric.clock()
    if claim.hours is not None:
        times = plan.states(plan.lists.values(), claim.hours)
        return next((each for each in times.values() if each is not None), None)
    moment: Moment | None = claim.at
    if moment is None or moment.date is not None:
        return None if moment is None else moment.date
    monday = now.replace(hour=0, minute=0, second=0, microsecond=0) - timedelta(now.weekday())
    return monday + timedelta(minutes=moment.minute or 0)
