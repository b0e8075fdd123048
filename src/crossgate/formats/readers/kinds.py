"""The kind of a traffic file, from how it begins."""

from __future__ import annotations

import re
from pathlib import Path
from typing import NamedTuple

from crossgate.core.model.errors import PlanError

_PACKED = {b"\x1f\x8b": "gzip", b"\x28\xb5\x2f\xfd": "zstd"}
_PARQUET = b"PAR1"
_IPFIX = b"\0\x0a"
"""Version 10, which begins each message of IPFIX (RFC 7011 section 3.1)."""
_CAPTURE = (
    b"\xa1\xb2\xc3\xd4",
    b"\xd4\xc3\xb2\xa1",
    b"\xa1\xb2\x3c\x4d",
    b"\x4d\x3c\xb2\xa1",
    b"\x0a\x0d\x0d\x0a",
)
"""How captures begin: pcap in either order of octets, with micro- or nanoseconds, and pcapng."""


_KEYS = re.compile(
    rb"(?im)^[^\n]*[\s,;|](src|source|saddr|srcip)[\w.-]*=[^\n]*[\s,;|](dst|dest|daddr)[\w.-]*="
)
"""How a line of a log looks whose fields are `key=value`."""


class FileKind(NamedTuple):
    """What a file is: capture, csv, json, parquet, ipfix or log, and gzip or zstd where it is
    compressed.
    """

    kind: str
    packed: str | None


def sniffed(path: Path, name: Path, log: bool = False) -> FileKind:
    """Return the kind of a file from how it begins; text counts as a `log` where the user said so.
    Raises `PlanError` for one that cannot be opened, and for an empty one.
    """
    try:
        if path.exists() and not path.is_file() and not path.is_dir():
            raise PlanError(
                f"{name} is no regular file; what comes through a pipe is read from standard "
                "input: crossgate replay -"
            )
        with path.open("rb") as file:
            head = file.read(1 << 12)
    except OSError as error:
        raise PlanError(f"{name} cannot be read: {error.strerror}") from None
    if not head:
        raise PlanError(
            f"{name} is empty; a capture (pcap, pcapng) or a table of flows (CSV, JSON lines, "
            "Parquet) is read"
        )
    packed = next((kind for magic, kind in _PACKED.items() if head.startswith(magic)), None)
    if packed:
        from crossgate.formats.readers.capture import unpacked_head

        head = unpacked_head(path, packed, name)
    if head.startswith(_CAPTURE):
        return FileKind("capture", packed)
    if head.startswith(_PARQUET):
        return FileKind("parquet", packed)
    if head.startswith(_IPFIX):
        return FileKind("ipfix", packed)
    if b"\0" in head:
        raise PlanError(
            f"{name} is neither a capture (pcap, pcapng) nor a table of flows (CSV, JSON lines, "
            "Parquet, IPFIX)"
        )
    if head.lstrip()[:1] == b"{":
        return FileKind("json", packed)
    return FileKind("log" if log or _KEYS.search(head) else "csv", packed)
