"""IPFIX messages as they arrive over UDP (RFC 7011 section 10.3), for some time or until the user
ends it.
"""

from __future__ import annotations

import re
import socket
import time
from collections.abc import Iterator
from typing import NamedTuple

from crossgate.core.model.address import AddressError, Family, parse_address
from crossgate.core.model.errors import PlanError
from crossgate.core.model.plaintext import numeral

_MOST_OCTETS = 1 << 16
_WAIT = 0.2
"""So many seconds a message is waited for before it is looked whether the time is over."""
_BUFFER = 1 << 24
_UNITS = {"s": 1, "m": 60, "h": 3_600}


class Listening(NamedTuple):
    """The address and port to listen at, and for how many seconds; None until the user ends it."""

    address: str
    port: int
    seconds: float | None

    @property
    def name(self) -> str:
        """Its name in answers."""
        return (
            f"[{self.address}]:{self.port}"
            if ":" in self.address
            else f"{self.address}:{self.port}"
        )


def listening(where: str, lasting: str | None) -> Listening:
    """Read `ADDRESS:PORT`, or `[ADDRESS]:PORT`, and the time. Raises `PlanError`."""
    host, colon, port_text = where.rpartition(":")
    address, port = host.removeprefix("[").removesuffix("]"), numeral(port_text)
    try:
        parse_address(address)
    except AddressError:
        address = ""
    if not (colon and address) or port is None or not 0 <= port <= 65_535:
        raise PlanError(f"--listen {where}: write ADDRESS:PORT, as 127.0.0.1:4739")
    return Listening(address, port, None if lasting is None else _seconds(lasting))


def _seconds(text: str) -> float:
    found = re.fullmatch(r"([0-9]{1,6})([smh])", text)
    if found is None or not int(found[1]):
        raise PlanError(f"--for {text}: write a number and s, m or h, as 10m")
    return float(int(found[1]) * _UNITS[found[2]])


def messages(wanted: Listening) -> Iterator[bytes]:
    """Yield the messages that arrive until the time is over or the user ends it. Raises `PlanError`
    where it is not possible to listen there.
    """
    family = (
        socket.AF_INET if parse_address(wanted.address).family is Family.IPV4 else socket.AF_INET6
    )
    with socket.socket(family, socket.SOCK_DGRAM) as own:
        own.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, _BUFFER)
        try:
            own.bind((wanted.address, wanted.port))
        except OSError as error:
            raise PlanError(f"--listen {wanted.name}: {error.strerror}") from None
        own.settimeout(_WAIT)
        end = None if wanted.seconds is None else time.monotonic() + wanted.seconds
        try:
            while end is None or time.monotonic() < end:
                try:
                    message = own.recv(_MOST_OCTETS)
                except TimeoutError:
                    continue
                yield message
        except KeyboardInterrupt:
            return
