"""A simulated device: a NETCONF server over SSH on this machine's loopback, with what a plan says
of the device as its configuration.

Sources: RFC 6241, RFC 6242 for the framing of messages, RFC 6243 for defaults, RFC 8525 for its
modules.
"""

from __future__ import annotations

import asyncio
from enum import StrEnum
from socket import socket
from typing import Any

import asyncssh
from lxml import etree

from crossgate.core.model.errors import PlanError
from crossgate.formats.bounds import MOST_DOCUMENT
from crossgate.formats.exchange.tree import NAMESPACES
from crossgate.live.datastore import Datastore
from crossgate.live.documents import (
    NETCONF,
    DeviceError,
    Element,
    chosen,
    name_of,
    nc,
    parsed,
    written,
)
from crossgate.live.state import MODULES, Counts, capability, with_state

LOOPBACK = "127.0.0.1"
_BASE = ("urn:ietf:params:netconf:base:1.0", "urn:ietf:params:netconf:base:1.1")
_CAPABILITIES = (
    *_BASE,
    "urn:ietf:params:netconf:capability:candidate:1.0",
    "urn:ietf:params:netconf:capability:confirmed-commit:1.1",
    "urn:ietf:params:netconf:capability:validate:1.1",
    "urn:ietf:params:netconf:capability:rollback-on-error:1.0",
    "urn:ietf:params:netconf:capability:with-defaults:1.0?basic-mode=explicit",
)
_CONFIRM_WITHIN = 600.0
"""The seconds after which a commit is taken back where it does not say (RFC 6241 section 8.4)."""
DEFAULTS = "urn:ietf:params:xml:ns:yang:ietf-netconf-with-defaults"
"""The namespace of what may be said of defaults in a question (RFC 6243)."""
_SPACE: Any = {None: NETCONF}
_END = b"]]>]]>"
"""What ends a message of NETCONF 1.0 (RFC 6242 section 4.3)."""


class Misfortune(StrEnum):
    """A fault that a stand-in has on purpose, to try out what talks to it."""

    REFUSE = "refuse"
    SLOW = "slow"
    DROP = "drop-after-commit"
    DIE = "die"


_SLOW = 3.0
"""So many seconds a slow device takes for each answer."""


class StandIn:
    """One device: its configurations, and its open sessions."""

    def __init__(
        self,
        name: str,
        store: Datastore,
        misfortune: Misfortune | None = None,
        counts: Counts = dict,
    ) -> None:
        self.name, self.store, self.misfortune = name, store, misfortune
        self._counts = counts
        self.sessions = 0
        self.refuses = False
        """Whether it takes no more sessions."""

    def answer(self, operation: Element, session: int) -> Element | None:
        """Return the data that answers an operation; None where it has no data. Raises
        `DeviceError`.
        """
        asked = name_of(operation)
        match asked:
            case "get-config" | "get":
                source = operation.find(nc("source"))
                name = "running" if source is None or not len(source) else name_of(source[0])
                wanted = operation.find(nc("filter"))
                if wanted is not None and wanted.get("type", "subtree") != "subtree":
                    raise DeviceError("operation-not-supported", "filters here are subtrees")
                defaults = (operation.findtext(f"{{{DEFAULTS}}}with-defaults") or "").strip()
                if defaults not in ("", "explicit"):
                    raise DeviceError(
                        "invalid-value", f"{defaults} is not what is told of defaults here"
                    )
                data = self.store.store(name)
                return chosen(with_state(data, self._counts) if asked == "get" else data, wanted)
            case "edit-config":
                self._see_target(operation)
                config = operation.find(nc("config"))
                if config is None:
                    raise DeviceError("missing-element", "edit-config needs a config")
                default = operation.findtext(nc("default-operation")) or "merge"
                test = (operation.findtext(nc("test-option")) or "test-then-set").strip()
                if test not in ("test-then-set", "set", "test-only"):
                    raise DeviceError("invalid-value", f"{test} is no test option")
                self.store.edit(config, default.strip(), session, test)
            case "lock" | "unlock":
                target = self._target(operation)
                (self.store.lock if asked == "lock" else self.store.unlock)(target, session)
            case "discard-changes":
                self.store.discard()
            case "validate":
                self.store.validate(self._validated(operation))
            case "commit":
                self._commit(operation, session)
            case "cancel-commit":
                self.store.cancel(session, (operation.findtext(nc("persist-id")) or "").strip())
            case "copy-config":
                self._see_target(operation)
                config = operation.find(f"{nc('source')}/{nc('config')}")
                if config is None:
                    raise DeviceError("operation-not-supported", "only a config is copied here")
                self.store.copy_from(config, session)
            case "kill-session":
                raise DeviceError("operation-not-supported", "sessions end by themselves here")
            case _:
                raise DeviceError("operation-not-supported", f"{asked} is not played here")
        return None

    def _commit(self, operation: Element, session: int) -> None:
        within: float | None = None
        if operation.find(nc("confirmed")) is not None:
            text = (operation.findtext(nc("confirm-timeout")) or str(_CONFIRM_WITHIN)).strip()
            try:
                within = float(text)
            except ValueError:
                raise DeviceError("invalid-value", f"{text} is no number of seconds") from None
        persist, by = (
            (operation.findtext(nc(each)) or "").strip() for each in ("persist", "persist-id")
        )
        if self.misfortune is Misfortune.REFUSE:
            raise DeviceError("operation-failed", "this device refuses every commit")
        self.store.commit(session, within, persist, by)
        if self.misfortune in (Misfortune.DROP, Misfortune.DIE):
            self.refuses = self.misfortune is Misfortune.DIE
            raise ConnectionError

    @staticmethod
    def _target(operation: Element) -> str:
        target = operation.find(nc("target"))
        if target is None or not len(target):
            raise DeviceError("missing-element", "it needs a target")
        return name_of(target[0])

    def _see_target(self, operation: Element) -> None:
        if self._target(operation) != "candidate":
            raise DeviceError("invalid-value", "only the candidate is edited here")

    def _validated(self, operation: Element) -> Element | None:
        source = operation.find(nc("source"))
        if source is None or not len(source):
            raise DeviceError("missing-element", "validate needs a source")
        if name_of(source[0]) == "config":
            return source[0]
        return self.store.store(name_of(source[0]))


class _Messages:
    """The messages of a session, in the framing that both ends have agreed on (RFC 6242 section
    4).
    """

    def __init__(self, process: Any) -> None:
        self._process = process
        self._waiting = b""
        self.chunked = False

    async def next(self) -> bytes | None:
        """Return the next message, None after the last one. Raises `PlanError` for octets that are
        no message.
        """
        found = b""
        while True:
            if not self.chunked and _END in self._waiting:
                message, _, self._waiting = self._waiting.partition(_END)
                return message
            while self.chunked and (chunk := self._chunk()) is not None:
                if chunk == b"":
                    return found
                found += chunk
            if len(self._waiting) + len(found) > MOST_DOCUMENT:
                raise PlanError("a message is too long")
            more = await self._process.stdin.read(1 << 16)
            if not more:
                return None
            self._waiting += more

    def _chunk(self) -> bytes | None:
        """Take the next chunk from the buffer: b"" is the end of a message, None where it is not
        complete.
        """
        start = self._waiting.find(b"\n#")
        end = self._waiting.find(b"\n", start + 2)
        if start < 0 or end < 0:
            return None
        head = self._waiting[start + 2 : end]
        if head == b"#":
            self._waiting = self._waiting[end + 1 :]
            return b""
        if not head.isdigit() or len(head) > 10:
            raise PlanError("a chunk has no length")
        length = int(head)
        if len(self._waiting) < end + 1 + length:
            return None
        chunk = self._waiting[end + 1 : end + 1 + length]
        self._waiting = self._waiting[end + 1 + length :]
        return chunk

    def send(self, message: bytes) -> None:
        """Send a message."""
        if self.chunked:
            message = b"\n#%d\n%b\n##\n" % (len(message), message)
        else:
            message += _END
        self._process.stdout.write(message)


async def answered(device: StandIn, process: Any) -> None:
    """Answer everything that a client asks in one NETCONF session with a device, until the session
    ends (RFC 6241, RFC 6242).
    """
    device.sessions += 1
    number, messages = device.sessions, _Messages(process)
    messages.send(_hello(number))
    try:
        hello = await messages.next()
        if hello is None:
            return
        told = [each.text or "" for each in parsed(hello, "a hello").iter(nc("capability"))]
        messages.chunked = any(each.strip() == _BASE[1] for each in told)
        while (message := await messages.next()) is not None:
            if not message.strip():
                continue
            if device.misfortune is Misfortune.SLOW:
                await asyncio.sleep(_SLOW)
            rpc = parsed(message.strip(), "a message")
            if name_of(rpc) != "rpc" or not len(rpc):
                return
            reply, goes_on = _reply(device, rpc, number)
            messages.send(written(reply))
            await process.stdout.drain()
            if not goes_on:
                return
    except (PlanError, ConnectionError, asyncssh.Error):
        return  # what is no NETCONF is answered with the end of the session
    finally:
        device.store.leave(number)
        process.exit(0)


def _reply(device: StandIn, rpc: Element, number: int) -> tuple[Element, bool]:
    """Return the reply to a message, and whether the session goes on."""
    reply: Element = etree.Element(nc("rpc-reply"), nsmap=_SPACE)
    for key, value in rpc.attrib.items():
        reply.set(key, value)
    operation = rpc[0]
    if name_of(operation) == "close-session":
        etree.SubElement(reply, nc("ok"))
        return reply, False
    try:
        data = device.answer(operation, number)
        if data is None:
            etree.SubElement(reply, nc("ok"))
        else:
            holder = etree.SubElement(reply, nc("data"), nsmap=data.nsmap)
            for each in data:
                holder.append(each)
    except DeviceError as fault:
        error = etree.SubElement(reply, nc("rpc-error"))
        for name, text in (
            ("error-type", "application"),
            ("error-tag", fault.tag),
            ("error-severity", "error"),
            ("error-message", fault.message),
        ):
            etree.SubElement(error, nc(name)).text = text
    return reply, True


def _hello(number: int) -> bytes:
    """Return the first message of a device."""
    hello: Element = etree.Element(nc("hello"), nsmap=_SPACE)
    several = etree.SubElement(hello, nc("capabilities"))
    modules = [
        f"{NAMESPACES[name]}?module={name}&revision={module.revision}"
        for name, module in MODULES.items()
    ]
    for each in (*_CAPABILITIES, capability(), *modules):
        etree.SubElement(several, nc("capability")).text = each
    etree.SubElement(hello, nc("session-id")).text = str(number)
    return written(hello)


class _Server(asyncssh.SSHServer):
    """Accepts clients that have the stand-ins' key."""

    def __init__(self, device: StandIn, key: asyncssh.SSHKey) -> None:
        self._device, self._key = device, key

    def connection_made(self, conn: Any) -> None:
        """Close the connection where the device takes none."""
        if self._device.refuses:
            conn.abort()

    def begin_auth(self, username: str) -> bool:
        """Ask every client for a key."""
        return True

    def public_key_auth_supported(self) -> bool:
        """Say that clients log in with keys."""
        return True

    def validate_public_key(self, username: str, key: asyncssh.SSHKey) -> bool:
        """Return whether a client's key is the right one, whatever the user's name."""
        return bool(key == self._key)


async def serve(
    device: StandIn, port: int, host_key: Any, user_key: Any, listening: socket | None = None
) -> Any:
    """Start a stand-in at a port of this machine's loopback, or on a socket that is `listening`
    already; return the server. Raises `PlanError` where the port is taken.
    """
    where: dict[str, Any] = {"sock": listening} if listening else {"host": LOOPBACK, "port": port}
    try:
        return await asyncssh.create_server(
            lambda: _Server(device, user_key.convert_to_public()),
            **where,
            server_host_keys=[host_key],
            process_factory=lambda process: answered(device, process),
            encoding=None,
            allow_scp=False,
        )
    except OSError as error:
        raise PlanError(
            f"{device.name} cannot be played at port {port}: {error.strerror}"
        ) from None
