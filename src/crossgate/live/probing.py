"""The tests of a sheet made for real, from the machine that this runs on.

A connection is a TCP handshake and nothing more; a ping is the system's own; a query to a name
server is one over UDP. Each waits a few seconds at most, a few run at once, and at most `rate`
begin in a second. They go to the addresses of the plan's tests, and nowhere else.
"""

from __future__ import annotations

import errno
import os
import secrets
import shutil
import socket
import struct
import subprocess
import time
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import closing
from typing import Any, NamedTuple

from crossgate.core.answers.sheet import SheetRow
from crossgate.core.answers.sheet.tests import Can, SeenInTest
from crossgate.core.answers.sheet.words import LOOKED_UP, PATIENCE
from crossgate.core.model.address import Address, Family
from crossgate.core.model.errors import PlanError
from crossgate.core.model.packet import CLIENT_PORT

AT_ONCE = 4
"""So many tests run at once."""
_PROHIBITED = (errno.EHOSTUNREACH, errno.ENETUNREACH, errno.EACCES, errno.EPERM)
"""How Linux tells of ICMP destination unreachable, administratively prohibited among them (RFC 1122
section 4.2.3.9; icmp(7)).
"""
_FAMILIES = {Family.IPV4: socket.AF_INET, Family.IPV6: socket.AF_INET6}
_TYPE_A, _CLASS_IN, _RECURSION = 1, 1, 0x0100


class Probed(NamedTuple):
    """A test with its result, and how many seconds it took."""

    row: SheetRow
    seen: SeenInTest
    seconds: float


def missing_addresses(addresses: Sequence[Address]) -> list[Address]:
    """Return those of some addresses that this machine does not have."""
    return [each for each in addresses if not _has(each)]


def _has(address: Address) -> bool:
    with closing(socket.socket(_FAMILIES[address.family], socket.SOCK_DGRAM)) as own:
        try:
            own.bind((str(address), 0))
        except OSError:
            return False
    return True


def probed(
    rows: Sequence[SheetRow], rate: float, bound: bool, done: Callable[[Probed], None]
) -> list[Probed]:
    """Make tests, at most `rate` a second, and return the results in the same order; `done` is
    called with each.

    With `bound` they are sent from the address in the plan. Raises `PlanError` where a ping is
    wanted and this machine has no such program.
    """
    if any(row.tried.can is Can.PING for row in rows) and shutil.which("ping") is None:
        raise PlanError("there is no ping on this machine; install it, or use --can connect,lookup")
    with ThreadPoolExecutor(AT_ONCE) as pool:
        started: list[Future[Probed]] = []
        try:
            for row in _paced(rows, rate):
                future = pool.submit(_one, row, bound)
                future.add_done_callback(lambda each: _tell(each, done))
                started.append(future)
            return [each.result() for each in started]
        except BaseException:
            pool.shutdown(wait=False, cancel_futures=True)
            raise


def _tell(future: Future[Probed], done: Callable[[Probed], None]) -> None:
    if not future.cancelled() and future.exception() is None:
        done(future.result())


def _paced(rows: Sequence[SheetRow], rate: float) -> Iterator[SheetRow]:
    begun = time.monotonic()
    for number, row in enumerate(rows):
        time.sleep(max(0.0, begun + number / rate - time.monotonic()))
        yield row


def _one(row: SheetRow, bound: bool) -> Probed:
    begun = time.monotonic()
    tried = row.tried
    first = tried.conversation.first
    target = Address(first.family, first.destination)
    source = Address(first.family, first.source) if bound else None
    if tried.can is Can.PING:
        seen = _ping(target, source)
    elif tried.can is Can.LOOKUP:
        seen = _lookup(target, source)
    else:
        port = 0 if first.source_port in (None, CLIENT_PORT) else first.source_port
        seen = _connect(target, first.destination_port or 0, source, port or 0)
    return Probed(row, seen, time.monotonic() - begun)


def _ping(target: Address, source: Address | None) -> SeenInTest:
    six = ["-6"] if target.family is Family.IPV6 else []
    own = [] if source is None else ["-I", str(source)]
    words = ["ping", *six, "-n", "-c", "1", "-W", str(PATIENCE), *own, "--", str(target)]
    done = subprocess.run(
        words,
        capture_output=True,
        text=True,
        errors="replace",
        check=False,
        stdin=subprocess.DEVNULL,
        timeout=PATIENCE + 5,
        env={"LC_ALL": "C", "PATH": os.environ.get("PATH", os.defpath)},
    )
    if done.returncode == 0:
        return SeenInTest.ANSWERED
    told = done.stdout.lower()
    refused = any(each in told for each in ("prohibited", "filtered", "unreachable"))
    return SeenInTest.REFUSED if refused else SeenInTest.SILENCE


def _connect(target: Address, port: int, source: Address | None, own_port: int) -> SeenInTest:
    def make(own: socket.socket) -> SeenInTest:
        own.connect((str(target), port))
        return SeenInTest.ANSWERED

    return _seen(target, socket.SOCK_STREAM, source, own_port, make)


def _lookup(target: Address, source: Address | None) -> SeenInTest:
    """Send a query to a name server (RFC 1035 section 4.1); anything that comes back with the
    query's number is an answer.
    """
    number = secrets.randbits(16)
    name = b"".join(bytes([len(part)]) + part.encode() for part in LOOKED_UP.split(".")) + b"\0"
    query = struct.pack("!6H", number, _RECURSION, 1, 0, 0, 0) + name
    query += struct.pack("!2H", _TYPE_A, _CLASS_IN)

    def make(own: socket.socket) -> SeenInTest:
        own.connect((str(target), 53))
        own.send(query)
        end = time.monotonic() + PATIENCE
        while (left := end - time.monotonic()) > 0:
            own.settimeout(left)
            if own.recv(4096)[:2] == query[:2]:
                return SeenInTest.ANSWERED
        return SeenInTest.SILENCE

    return _seen(target, socket.SOCK_DGRAM, source, 0, make)


def _seen(
    target: Address,
    kind: int,
    source: Address | None,
    own_port: int,
    make: Callable[[socket.socket], SeenInTest],
) -> SeenInTest:
    """Return the result of an action on a socket."""
    with closing(socket.socket(_FAMILIES[target.family], kind)) as own:
        own.settimeout(PATIENCE)
        try:
            if source is not None or own_port:
                own.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
                own.bind(("" if source is None else str(source), own_port))
            return make(own)
        except TimeoutError:
            return SeenInTest.SILENCE
        except OSError as error:
            return _refusal(error)


def _refusal(error: OSError) -> SeenInTest:
    """Return the result that a system error stands for. Raises `PlanError` for an error of this
    machine itself.
    """
    known: dict[Any, SeenInTest] = {
        errno.ECONNREFUSED: SeenInTest.NOBODY_LISTENS,
        errno.ETIMEDOUT: SeenInTest.SILENCE,
    }
    known.update(dict.fromkeys(_PROHIBITED, SeenInTest.REFUSED))
    if error.errno in known:
        return known[error.errno]
    raise PlanError(f"this machine cannot try it: {error.strerror or error}") from None
