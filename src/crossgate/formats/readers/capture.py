"""Captures in the pcap and pcapng formats, read by libpcap (pcapy-ng) in batches of frames.

libpcap refuses a file with different link types. Packed files are read through a pipe; standard
input is first copied to a temporary file, since a damaged capture is read twice.
"""

from __future__ import annotations

import os
import select
import subprocess
import tempfile
from collections import Counter
from collections.abc import Iterator
from contextlib import closing, contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np

from crossgate.core.model.address import Address, Family
from crossgate.core.model.errors import PlanError
from crossgate.core.traffic.seen import AGAIN, SECOND, Seen, coded
from crossgate.formats.readers.frames import KINDS, Found, Frames, packets_of
from crossgate.formats.readers.tls import server_hello
from crossgate.formats.readers.unpacking import FAULTS, started, unpack_into, unpacking

_BATCH = 1 << 15
_MOST_HEARD = 1 << 16
"""So many hellos are remembered, far more than there are within the time in which one may be seen
again.
"""


class ServerChoice(NamedTuple):
    """What a server chose for a TLS connection: version and cipher suite, as numbers."""

    server: Address
    port: int
    version: int
    suite: int


@dataclass
class Account:
    """What was read of a file and could not be used: counts, and the number of the first frame of
    each kind.
    """

    frames: int = 0
    octets: int = 0
    other: int = 0
    cut: int = 0
    damaged: int = 0
    first: dict[str, int] = field(default_factory=dict)
    hellos: Counter[ServerChoice] = field(default_factory=Counter)
    """What servers chose in TLS, each with how often."""
    broken: str = ""
    """Why reading ended before the file did, with the frame's number."""

    def note(self, kind: str, numbers: Any, before: int) -> None:
        """Count frames of a kind (the name of a field here), and keep the number of the first one.
        `numbers` are their indices in a batch, before which the capture had `before` frames.
        """
        if len(numbers):
            setattr(self, kind, getattr(self, kind) + len(numbers))
            self.first.setdefault(kind, before + int(numbers[0]) + 1)


def read_capture(
    source: CaptureSource, account: Account, name: str
) -> Iterator[dict[Family, Seen]]:
    """Yield the packets of a capture, called `name` in errors, in batches; `account` gets what
    could not be used. Raises `PlanError` for a file that is no capture, and for an unsupported kind
    of link.
    """
    heard: dict[int, int] = {}
    with closing(source):
        reader = source.open()
        link_type = reader.datalink()
        if link_type not in KINDS:
            kinds = ", ".join(dict.fromkeys(KINDS.values()))
            raise PlanError(
                f"{name} was captured on a link of type {link_type}, which is not read; {kinds} are"
            )
        for octets, meta in _batches(source, reader, account):
            records = np.frombuffer(meta, np.uint32).reshape(-1, 4).astype(np.int64)
            time = records[:, 0] * SECOND + records[:, 1]
            frames = Frames(
                np.frombuffer(octets, np.uint8), records[:, 2], records[:, 2] + records[:, 3], time
            )
            found = packets_of(frames, link_type)
            for kind, numbers in (
                ("other", found.other),
                ("cut", found.cut),
                ("damaged", found.damaged),
            ):
                account.note(kind, numbers, account.frames)
            account.frames += len(records)
            account.octets += len(octets) + len(meta)
            _hear(found, octets, account, heard)
            yield found.seen
        del reader  # so that who unpacks for it does not wait for it
        source.check()


def _hear(found: Found, octets: bytes, account: Account, heard: dict[int, int]) -> None:
    """Note and count what servers chose; `heard` gets the times of packets with a choice, by the
    digest that makes them the same.
    """
    for family, row, start, end in found.hellos:
        seen = found.seen[family]
        hello, identity, time = (
            server_hello(octets[start:end]),
            int(seen.identity[row]),
            int(seen.first[row]),
        )
        if hello is not None:
            seen.hello[row] = coded(hello)
        if hello is not None and time - heard.get(identity, -AGAIN - 1) > AGAIN:
            packet = seen.packets.packet(row)
            account.hellos[
                ServerChoice(Address(family, packet.source), packet.source_port or 0, *hello)
            ] += 1
            heard[identity] = time
            if len(heard) > _MOST_HEARD:
                heard.clear()
                heard[identity] = time


def _opened(path: Path, name: str) -> Any:
    import pcapy

    try:
        return pcapy.open_offline(str(path))
    except pcapy.PcapError as error:
        raise PlanError(f"{name} cannot be read as a capture: {_reason(str(error))}") from None


def _batches(source: CaptureSource, reader: Any, account: Account) -> Iterator[tuple[bytes, bytes]]:
    """Yield frames and their records; where the file is damaged, those before the damage too."""
    import pcapy

    while True:
        try:
            octets, meta = reader.next_batch(_BATCH)
        except pcapy.PcapError as error:
            found = _one_by_one(source, account.frames)
            if found[1]:
                yield found
            account.broken = f"frame {account.frames + 1:,}: {_reason(str(error))}"
            return
        if not meta:
            return
        yield octets, meta


def _one_by_one(source: CaptureSource, before: int) -> tuple[bytes, bytes]:
    """Return the frames after the first `before` ones, up to where the file is damaged."""
    import pcapy

    reader = source.open()
    octets, records, at = [], [], 0
    try:
        while before:
            before -= len(reader.next_batch(min(before, _BATCH))[1]) // 16
        while True:
            header, data = reader.next()
            if header is None:
                break
            octets.append(data)
            records.append((*header.getts(), at, len(data)))
            at += len(data)
    except pcapy.PcapError:
        pass  # told by the caller
    return b"".join(octets), np.array(records, np.int64).reshape(-1, 4).astype(np.uint32).tobytes()


def _reason(text: str) -> str:
    """Return why libpcap stopped, with what to do about it."""
    if "different from the type of the first interface" in text:
        return (
            "it holds several kinds of link, which libpcap does not read; write the packets of "
            "each interface into a file of their own"
        )
    if "unknown file format" in text:
        return "it is neither pcap nor pcapng"
    return f"it is cut off or damaged ({text})"


def _waited_for(pipe: int) -> bool:
    """Wait until a pipe has octets or no writer any more; return whether it has octets."""
    arrived = select.poll()
    arrived.register(pipe, select.POLLIN)
    return any(event & select.POLLIN for _, event in arrived.poll())


class CaptureSource:
    """What a capture is read from; it can be opened several times: a file, or the unpacked contents
    of a packed one (`gzip`, `zstd`).

    Unpacked contents go through a pipe and never into a file; libpcap opens by name and reads from
    front to back.
    """

    def __init__(self, path: Path, packed: str | None, name: str) -> None:
        """Make it of a file, how it is packed, and its name in errors."""
        self._path, self._packed, self._name = path, packed, name
        self._process: subprocess.Popen[bytes] | None = None

    def open(self) -> Any:
        """Return a reader at the start of the capture. Raises `PlanError` for a file that is
        none.
        """
        if self._packed is None:
            return _opened(self._path, self._name)
        self.close()
        reading, writing = os.pipe()
        try:
            with closing(os.fdopen(writing)):
                self._process = started(self._path, self._packed, self._name, writing)
            if not _waited_for(reading):
                self.check()
                raise PlanError(f"{self._name} cannot be read as a capture: there is nothing in it")
            return _opened(Path(f"/dev/fd/{reading}"), self._name)
        finally:
            os.close(reading)

    def check(self) -> None:
        """Raise `PlanError` where the file could not be unpacked to its end."""
        process, self._process = self._process, None
        if process is None:
            return
        told = process.communicate()[1].decode(errors="replace").strip()
        if told or process.returncode:
            raise PlanError(
                told
                or (
                    f"{self._name} cannot be unpacked: the process that does it ended with "
                    f"{process.returncode}"
                )
            )

    def close(self) -> None:
        """End the unpacking process, if there is one."""
        if self._process is not None:
            self._process.kill()
            self._process.communicate()


@contextmanager
def unpacked(path: Path, kind: str, name: str) -> Iterator[Path]:
    """Provide a file with the contents of a packed file (`gzip`, `zstd`) or of standard input
    (`stdin`), as long as it is needed. Raises `PlanError` when it cannot be unpacked, or would
    become too large.
    """
    with tempfile.NamedTemporaryFile(prefix="crossgate-") as whole:
        unpack_into(path, kind, name, whole.file)
        yield Path(whole.name)


def unpacked_head(path: Path, kind: str, name: Path) -> bytes:
    """Return the first octets of a compressed file's contents. Raises `PlanError` when it cannot be
    unpacked.
    """
    try:
        with unpacking(path, kind) as source:
            return source.read(1 << 12)
    except FAULTS as error:
        raise PlanError(f"{name} cannot be unpacked: {error}") from None
