"""Messages of IPFIX (RFC 7011), from files (RFC 5655) or as they arrive over UDP, as a table of
flows.

1. A message is a header and sets; a template says which fields the records of a data set have,
until another one with its number comes. Templates of options and their records are skipped; so are
data sets whose template has not come, which are counted.

2. Consecutive records of one template are read at once, in columns; those with fields of variable
length one by one.

3. Sequence numbers show missing messages: each message says how many records of its observation
domain came before it.

Elements are those of the IANA registry "IPFIX Information Elements"; reverse ones have the
enterprise number 29305 (RFC 5103).
"""

from __future__ import annotations

import struct
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from crossgate.core.model.errors import PlanError
from crossgate.formats.readers.batches import stream

_HEADER = struct.Struct(">HHIII")
_SET = struct.Struct(">HH")
VERSION = 10
_TEMPLATES, _OPTIONS, _FIRST_DATA = 2, 3, 256
_VARIABLE = 65_535
_REVERSE = 29_305
_ROWS = 1 << 16
"""So many records are put together before they are read."""
_MOST_WAITING = 1 << 26
_MOST_TEMPLATES = 1 << 16
_NTP = 2_208_988_800
"""Seconds from 1900, when times of NTP begin, to 1970 (RFC 5905)."""


class _Element(NamedTuple):
    """An element that is read: its column, and how its octets are decoded."""

    column: str
    kind: str = "number"


_ELEMENTS: dict[tuple[int, int], _Element] = {
    (0, 8): _Element("sourceIPv4Address"),
    (0, 12): _Element("destinationIPv4Address"),
    (0, 27): _Element("sourceIPv6Address", "octets"),
    (0, 28): _Element("destinationIPv6Address", "octets"),
    (0, 4): _Element("protocolIdentifier"),
    (0, 7): _Element("sourceTransportPort"),
    (0, 11): _Element("destinationTransportPort"),
    (0, 182): _Element("sourceTransportPort"),
    (0, 183): _Element("destinationTransportPort"),
    (0, 180): _Element("sourceTransportPort"),
    (0, 181): _Element("destinationTransportPort"),
    (0, 32): _Element("icmpTypeCodeIPv4"),
    (0, 139): _Element("icmpTypeCodeIPv4"),
    (0, 6): _Element("tcpControlBits"),
    (0, 2): _Element("packetDeltaCount"),
    (0, 86): _Element("packetDeltaCount"),
    (0, 1): _Element("octetDeltaCount"),
    (0, 85): _Element("octetDeltaCount"),
    (0, 195): _Element("ipDiffServCodePoint"),
    (0, 89): _Element("forwardingStatus"),
    (0, 233): _Element("firewallEvent"),
    (0, 150): _Element("flowStartMilliseconds", "seconds"),
    (0, 152): _Element("flowStartMilliseconds"),
    (0, 154): _Element("flowStartMilliseconds", "ntp"),
    (0, 156): _Element("flowStartMilliseconds", "ntp"),
    (0, 151): _Element("flowEndMilliseconds", "seconds"),
    (0, 153): _Element("flowEndMilliseconds"),
    (0, 155): _Element("flowEndMilliseconds", "ntp"),
    (0, 157): _Element("flowEndMilliseconds", "ntp"),
    (_REVERSE, 2): _Element("reversePacketDeltaCount"),
    (_REVERSE, 86): _Element("reversePacketDeltaCount"),
    (_REVERSE, 1): _Element("reverseOctetDeltaCount"),
    (_REVERSE, 85): _Element("reverseOctetDeltaCount"),
    (_REVERSE, 6): _Element("reverseTcpControlBits"),
}
_OCTETS = {"sourceIPv6Address": 16, "destinationIPv6Address": 16}
_ADDRESSES = {"sourceIPv4Address": 4, "destinationIPv4Address": 4, **_OCTETS}
COLUMNS = tuple(dict.fromkeys(each.column for each in _ELEMENTS.values()))


class _Field(NamedTuple):
    """A field of a template: its element, by enterprise number and its own, and its length in
    octets, `_VARIABLE` where each record gives it.
    """

    owner: int
    number: int
    length: int


@dataclass
class MessageAccount:
    """What came in messages: their number, the records missing by the sequence numbers, and data
    sets without a template.
    """

    messages: int = 0
    missing: int = 0
    untold_sets: int = 0
    broken: str = ""
    """Why reading ended before the end, "" where it did not."""
    _expected: dict[int, int] = field(default_factory=dict)

    def count(self, domain: int, sequence: int, records: int) -> None:
        """Count a message of an observation domain, with the records in it."""
        self.messages += 1
        gap = (sequence - self._expected.get(domain, sequence)) % (1 << 32)
        if gap < 1 << 31:  # else it came late, and was counted as missing
            self.missing += gap
        self._expected[domain] = (sequence + records) % (1 << 32)


def ipfix_batches(messages: Iterable[bytes], account: MessageAccount) -> Iterator[Any]:
    """Yield the records of messages as record batches of pyarrow, all of the same columns."""
    reader = _Reader(account)
    for message in messages:
        yield from reader.read(message)
    yield from reader.rest()


def file_messages(
    path: Path, packed: str | None, name: str, account: MessageAccount
) -> Iterator[bytes]:
    """Yield the messages of a file (RFC 5655); a message that is cut off is reported and ends it.
    Raises `PlanError` for a file without messages.
    """
    source = stream(path, packed, name)
    while True:
        try:
            head = source.read(_HEADER.size)
        except (pa.ArrowInvalid, OSError) as error:
            raise PlanError(f"{name} cannot be read: {str(error).splitlines()[0]}") from None
        if not head:
            return
        version, length = _SET.unpack_from(head) if len(head) >= _SET.size else (0, 0)
        if len(head) == _HEADER.size and (version != VERSION or length < _HEADER.size):
            if not account.messages:
                raise PlanError(f"{name} is no file of IPFIX messages (RFC 5655)")
            account.broken = f"message {account.messages + 1:,}, which is none of IPFIX"
            return
        body = source.read(length - _HEADER.size) if len(head) == _HEADER.size else b""
        if len(head) + len(body) != max(length, _HEADER.size):
            account.broken = f"message {account.messages + 1:,}, which is cut off"
            return
        yield head + body


class _Reader:
    """Reads messages one after the other, with the templates in them."""

    def __init__(self, account: MessageAccount) -> None:
        self._account = account
        self._templates: dict[tuple[int, int], tuple[_Field, ...]] = {}
        self._options: set[tuple[int, int]] = set()
        self._waiting: list[bytes] = []
        self._of: tuple[_Field, ...] = ()
        self._count = self._size = 0
        self._exported = 0

    def read(self, message: bytes) -> Iterator[Any]:
        """Read a message (RFC 7011 section 3) and yield each batch of flows that has become full.
        What follows an impossible length is not read.
        """
        if len(message) < _HEADER.size:
            return
        version, length, exported, sequence, domain = _HEADER.unpack_from(message)
        if version != VERSION:
            return
        self._exported = exported
        at, end, records = _HEADER.size, min(length, len(message)), 0
        while at + _SET.size <= end:
            number, size = _SET.unpack_from(message, at)
            if size < _SET.size or at + size > end:
                break
            body = message[at + _SET.size : at + size]
            at += size
            if number == _TEMPLATES:
                self._learn(domain, body)
            elif number == _OPTIONS:
                self._pass_over(domain, body)
            elif number >= _FIRST_DATA:
                fields = self._templates.get((domain, number))
                if fields is None:
                    self._account.untold_sets += (domain, number) not in self._options
                    continue
                if fields is not self._of:
                    yield from self.rest()
                    self._of = fields
                found, count = _records(fields, body)
                self._waiting.append(found)
                self._count += count
                self._size += len(found)
                records += count
        self._account.count(domain, sequence, records)
        if self._count >= _ROWS or self._size >= _MOST_WAITING:
            yield from self.rest()

    def rest(self) -> Iterator[Any]:
        """Yield the records that have not been yielded yet."""
        if self._count:
            yield _batch(self._of, b"".join(self._waiting), self._count, self._exported)
        self._waiting, self._count, self._size = [], 0, 0

    def _learn(self, domain: int, body: bytes) -> None:
        """Keep templates (RFC 7011 section 3.4.1); one without fields is withdrawn."""
        for number, fields in _templates(body, _SET.size):
            self._options.discard((domain, number))
            self._templates.pop((domain, number), None)
            if fields and len(self._templates) < _MOST_TEMPLATES:
                self._templates[domain, number] = fields

    def _pass_over(self, domain: int, body: bytes) -> None:
        """Note templates of options (section 3.4.2), so that their records are skipped."""
        for number, _ in _templates(body, _SET.size + 2):  # how many fields are of the scope
            self._templates.pop((domain, number), None)
            if len(self._options) < _MOST_TEMPLATES:
                self._options.add((domain, number))


def _templates(body: bytes, head: int) -> Iterator[tuple[int, tuple[_Field, ...]]]:
    """Yield the templates of a set by their numbers, each after a header of `head` octets, up to
    one that is cut off.
    """
    at = 0
    while at + head <= len(body):
        number, count = _SET.unpack_from(body, at)
        found = _fields(body, at + head, count)
        if number < _FIRST_DATA or found is None:
            return
        fields, at = found
        yield number, fields


def _fields(body: bytes, at: int, count: int) -> tuple[tuple[_Field, ...], int] | None:
    """Return the fields of a template and where it ends; None where it is cut off."""
    fields = []
    for _ in range(count):
        if at + 4 > len(body):
            return None
        number, length = _SET.unpack_from(body, at)
        at, owner = at + 4, 0
        if number & 0x8000:
            if at + 4 > len(body):
                return None
            owner, at = int.from_bytes(body[at : at + 4]), at + 4
        fields.append(_Field(owner, number & 0x7FFF, length))
    return tuple(fields), at


def _records(fields: tuple[_Field, ...], body: bytes) -> tuple[bytes, int]:
    """Return the records of a data set without padding, and their number; fields of variable length
    are removed from them.
    """
    if all(each.length != _VARIABLE for each in fields):
        width = sum(each.length for each in fields)
        count = len(body) // width if width else 0
        return body[: count * width], count
    found: list[bytes] = []
    count = at = 0
    while True:
        parts, start = [], at
        for each in fields:
            length = each.length
            if length == _VARIABLE:
                if at >= len(body):
                    return b"".join(found), count
                length, at = body[at], at + 1
                if length == 0xFF:  # RFC 7011 section 7
                    length, at = int.from_bytes(body[at : at + 2]), at + 2
                at += length
                continue
            parts.append(body[at : at + length])
            at += length
        if at > len(body) or at == start:
            return b"".join(found), count
        found += parts
        count += 1


def _batch(fields: tuple[_Field, ...], data: bytes, count: int, exported: int) -> Any:
    """Return records of one template as a batch with all columns; those without a time began when
    their message was `exported`, in seconds since 1970.
    """
    fixed = [each for each in fields if each.length != _VARIABLE]
    rows = np.frombuffer(data, np.uint8).reshape(count, sum(each.length for each in fixed))
    columns: dict[str, Any] = {}
    at = 0
    for each in fixed:
        own = rows[:, at : at + each.length]
        at += each.length
        element = _ELEMENTS.get((each.owner, each.number))
        if element is None or element.column in columns:
            continue
        if each.length != _ADDRESSES.get(element.column, each.length):
            continue
        if element.kind == "octets":
            columns[element.column] = pa.FixedSizeBinaryArray.from_buffers(
                pa.binary(16), count, [None, pa.py_buffer(np.ascontiguousarray(own))]
            )
        elif 0 < each.length <= 8:
            columns[element.column] = pa.array(_numbers(own, element.kind))
    begun = columns.setdefault(
        "flowStartMilliseconds", pa.array(np.full(count, exported * 1_000, np.int64))
    )
    columns.setdefault("flowEndMilliseconds", begun)
    arrays = [
        columns.get(name, pa.nulls(count, pa.binary(16) if name in _OCTETS else pa.int64()))
        for name in COLUMNS
    ]
    return pa.RecordBatch.from_arrays(arrays, list(COLUMNS))


def _numbers(octets: NDArray[np.uint8], kind: str) -> NDArray[np.int64]:
    """Return big-endian numbers of up to eight octets; times in milliseconds since 1970."""
    wide = np.zeros((len(octets), 8), np.uint8)
    wide[:, 8 - octets.shape[1] :] = octets
    found = wide.view(">u8").reshape(-1).astype(np.uint64)
    if kind == "ntp":  # RFC 7011 section 6.1.9: seconds since 1900, and a fraction of 32 bits
        seconds = (found >> np.uint64(32)).astype(np.int64) - _NTP
        part = ((found & np.uint64(0xFFFFFFFF)) * np.uint64(1_000)) >> np.uint64(32)
        return seconds * 1_000 + part.astype(np.int64)
    if kind == "seconds":
        return np.minimum(found, np.uint64(1 << 40)).astype(np.int64) * 1_000
    return np.minimum(found, np.uint64(1 << 62)).astype(np.int64)
