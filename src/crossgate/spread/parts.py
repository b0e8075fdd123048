"""Traffic in parts: each conversation is in exactly one of them, so that parts can be replayed
separately and added up.

A digest of the unordered 5-tuple decides which part a row goes to. A part is a file of records, one
for each batch, in reading order; what was known for a whole batch, such as the time that had been
reached, is stored with each share of it.
"""

from __future__ import annotations

import pickle
import struct
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import tzinfo
from io import BytesIO
from pathlib import Path
from typing import TYPE_CHECKING, BinaryIO, NamedTuple

import numpy as np
import pyarrow as pa

from crossgate.core.answers.replay import Replay
from crossgate.core.answers.sums import Sums
from crossgate.core.model.address import Family
from crossgate.core.model.plan import Plan
from crossgate.core.model.window import Period
from crossgate.core.network.entrance import entrance
from crossgate.core.network.ways import Network
from crossgate.core.traffic.arrivals import Arrived
from crossgate.core.traffic.assembly import conversation_digest
from crossgate.core.traffic.seen import Seen
from crossgate.formats.verdicts import verdict_rows
from crossgate.spread.jobs import kept, packed

if TYPE_CHECKING:
    from crossgate.core.model.packets import Indices

_ROWS = 1 << 13
"""So many rows of a part wait before they are written."""
_HEAD = struct.Struct(">QQ")
"""Before each record: its length, and that of what it unpacks to."""

Share = tuple[Family, Arrived]


@dataclass(frozen=True)
class Job:
    """What every part needs: the plan, another one to compare with, and the options of `replay`
    that matter.
    """

    plan: Plan
    other: Plan | None
    entered: str | None
    zone: tzinfo | None
    idle: int
    rows: bool
    """Whether a row for each conversation is wanted."""
    by: Period | None = None
    users: bool = False
    """Whether what each line permitted is wanted."""

    def replay(self) -> Replay:
        """Return the object that replays a part's traffic."""
        came_in = None if self.entered is None else entrance(self.plan, self.entered)
        other = None if self.other is None else Network(self.other)
        return Replay(Network(self.plan), self.zone, self.idle, came_in, other, self.by, self.users)


class Done(NamedTuple):
    """The result of a part, the rows of its conversations where they are wanted, and the
    conversations that rate limits count together with those of other parts.
    """

    sums: Sums
    rows: pa.Table | None
    waiting: dict[Family, list[Seen]]


class Parts:
    """Traffic in the files of a folder, one for each part."""

    def __init__(self, folder: Path, count: int) -> None:
        self.paths = [folder / f"part-{number}" for number in range(count)]
        self._waiting: list[list[Share]] = [[] for _ in range(count)]
        self._rows = np.zeros(count, np.int64)

    def add(self, family: Family, arrived: Arrived) -> None:
        """Give each part its share of a batch. Raises `OSError` where there is no space left."""
        seen = arrived.seen
        of_row: Indices = (conversation_digest(seen) % np.uint64(len(self.paths))).astype(np.int64)
        counts = np.bincount(of_row, minlength=len(self.paths))
        sorted_rows = seen.take(np.argsort(of_row, kind="stable"))
        ends = np.cumsum(counts).tolist()
        for part, (count, end) in enumerate(zip(counts.tolist(), ends, strict=True)):
            if count or arrived.anew:
                share = sorted_rows.take(slice(end - count, end))
                self._waiting[part].append((family, arrived._replace(seen=share)))
                self._rows[part] += count
        for part in np.flatnonzero(self._rows >= _ROWS).tolist():
            self._write(part)

    def close(self) -> None:
        """Write what is still buffered. Raises `OSError` where there is no space left."""
        for part in range(len(self.paths)):
            self._write(part)

    def _write(self, part: int) -> None:
        record = packed(self._waiting[part])
        self._waiting[part], self._rows[part] = [], 0
        less = pa.compress(record, codec="lz4", asbytes=True)
        with self.paths[part].open("ab") as file:
            file.write(_HEAD.pack(len(less), len(record)))
            file.write(less)


def shares(file: BinaryIO) -> Iterator[Share]:
    """Yield the shares in the file of a part, in their order."""
    while head := file.read(_HEAD.size):
        less, size = _HEAD.unpack(head)
        yield from pickle.loads(
            pa.decompress(file.read(less), decompressed_size=size, codec="lz4", asbytes=True)
        )


def replay_part(job: bytes, part: Path | bytes) -> Done:
    """Replay one part, given as its file or as the file's contents; `job` is a packed `Job`. Can
    run in any process, any number of times.
    """
    wanted, replay = kept(job, lambda wanted: (wanted, wanted.replay()))
    replay.begin_again()
    rows = []
    with BytesIO(part) if isinstance(part, bytes) else part.open("rb") as file:
        for family, arrived in shares(file):
            for ended in replay.put(family, arrived):
                rows += [verdict_rows(ended, replay.tracer)] if wanted.rows else []
    for ended in replay.open_ones():
        rows += [verdict_rows(ended, replay.tracer)] if wanted.rows else []
    return Done(replay.sums, pa.concat_tables(rows) if rows else None, replay.waiting())
