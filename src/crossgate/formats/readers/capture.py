"""Captures in the pcap and pcapng formats, read by libpcap (pcapy-ng) in batches of frames.

A file of link types that are not all the same is refused by libpcap. What is compressed, or comes by standard input, is put into
a temporary file first, since libpcap opens files by name.
"""

from __future__ import annotations

import gzip
import shutil
import sys
import tempfile
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import IO, Any, NamedTuple

import numpy as np

from crossgate.core.model.address import Address, Family
from crossgate.core.model.errors import PlanError
from crossgate.core.traffic.assembly import AGAIN, SECOND, Seen, coded
from crossgate.formats.readers.frames import KINDS, Found, Frames, packets_of
from crossgate.formats.readers.tls import server_hello

_BATCH = 1 << 15
_MOST_HEARD = 1 << 16
"""So many hellos are remembered, far more than there are within the time in which one may be seen again."""


class Chosen(NamedTuple):
    """What a server chose for a TLS connection: the version and the cipher suite, as numbers."""

    server: Address
    port: int
    version: int
    suite: int


@dataclass
class Account:
    """What was read of a file, and what of it could not be used: counts, and the number of the first frame of each kind."""

    frames: int = 0
    octets: int = 0
    other: int = 0
    cut: int = 0
    damaged: int = 0
    first: dict[str, int] = field(default_factory=dict)
    hellos: Counter[Chosen] = field(default_factory=Counter)
    """What servers chose in TLS, each with how often."""
    broken: str = ""
    """Why reading ended before the file did, with the frame's number."""

    def note(self, kind: str, numbers: Any, before: int) -> None:
        """Add frames of a kind, given by their numbers in a batch that has `before` frames before it."""
        if len(numbers):
            setattr(self, kind, getattr(self, kind) + len(numbers))
            self.first.setdefault(kind, before + int(numbers[0]) + 1)


def read_capture(path: Path, account: Account, name: str) -> Iterator[dict[Family, Seen]]:
    """Yield the packets of a capture, called `name`, batch by batch; `account` tells what could not be used.

    Raises `PlanError` for what is no capture, and for a kind of link that is not read.
    """
    reader = _opened(path, name)
    link_type = reader.datalink()
    if link_type not in KINDS:
        kinds = ", ".join(dict.fromkeys(KINDS.values()))
        raise PlanError(f"{name} was captured on a link of type {link_type}, which is not read; {kinds} are")
    heard: dict[int, int] = {}
    for octets, meta in _batches(path, reader, account):
        records = np.frombuffer(meta, np.uint32).reshape(-1, 4).astype(np.int64)
        time = records[:, 0] * SECOND + records[:, 1]
        frames = Frames(np.frombuffer(octets, np.uint8), records[:, 2], records[:, 2] + records[:, 3], time)
        found = packets_of(frames, link_type)
        for kind, numbers in (("other", found.other), ("cut", found.cut), ("damaged", found.damaged)):
            account.note(kind, numbers, account.frames)
        account.frames += len(records)
        account.octets += len(octets) + len(meta)
        _hear(found, octets, account, heard)
        yield found.seen


def _hear(found: Found, octets: bytes, account: Account, heard: dict[int, int]) -> None:
    """Note what servers chose, and count it; `heard` has the packets that did, by what makes them the same, with their times."""
    for family, row, start, end in found.hellos:
        seen = found.seen[family]
        hello, identity, time = server_hello(octets[start:end]), int(seen.identity[row]), int(seen.first[row])
        if hello is not None:
            seen.hello[row] = coded(hello)
        if hello is not None and time - heard.get(identity, -AGAIN - 1) > AGAIN:
            packet = seen.packets.packet(row)
            account.hellos[Chosen(Address(family, packet.source), packet.source_port or 0, *hello)] += 1
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


def _batches(path: Path, reader: Any, account: Account) -> Iterator[tuple[bytes, bytes]]:
    """Yield frames and their records; where the file is damaged, those before the damage too."""
    import pcapy

    while True:
        try:
            octets, meta = reader.next_batch(_BATCH)
        except pcapy.PcapError as error:
            found = _one_by_one(path, account.frames)
            if found[1]:
                yield found
            account.broken = f"frame {account.frames + 1:,}: {_reason(str(error))}"
            return
        if not meta:
            return
        yield octets, meta


def _one_by_one(path: Path, before: int) -> tuple[bytes, bytes]:
    """Return the frames behind the first `before` ones up to where the file is damaged."""
    import pcapy

    reader, octets, records = _opened(path, ""), [], []
    at = 0
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
    """Return why libpcap does not go on, with what to do about it."""
    if "different from the type of the first interface" in text:
        return "it holds several kinds of link, which libpcap does not read; write the packets of each interface into a file of their own"
    if "unknown file format" in text:
        return "it is neither pcap nor pcapng"
    return f"it is cut off or damaged ({text})"


@contextmanager
def unpacked(path: Path, kind: str) -> Iterator[Path]:
    """Give a file that holds what a compressed file (`gzip`, `zstd`) or standard input (`stdin`) does, for as long as it is needed.

    Raises `PlanError` when it cannot be unpacked.
    """
    with tempfile.NamedTemporaryFile(prefix="crossgate-", suffix=".pcap") as whole:
        try:
            with _source(path, kind) as source:
                shutil.copyfileobj(source, whole, 1 << 20)
            whole.flush()
        except (OSError, EOFError, ValueError) as error:
            raise PlanError(f"{path} cannot be unpacked: {error}") from None
        yield Path(whole.name)


def unpacked_head(path: Path, kind: str, name: Path) -> bytes:
    """Return how the content of a compressed file begins. Raises `PlanError` when it cannot be unpacked."""
    try:
        with _source(path, kind) as source:
            return source.read(1 << 12)
    except (OSError, EOFError, ValueError) as error:
        raise PlanError(f"{name} cannot be unpacked: {error}") from None


def _source(path: Path, kind: str) -> IO[bytes]:
    if kind == "stdin":
        return sys.stdin.buffer
    if kind == "gzip":
        return gzip.open(path)  # type: ignore[return-value]
    import pyarrow

    stream: IO[bytes] = pyarrow.CompressedInputStream(pyarrow.OSFile(str(path)), "zstd")
    return stream
