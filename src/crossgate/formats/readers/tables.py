"""Tables of flows: the columns of each batch of rows, as flow records of both families."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from crossgate.core.model import iana
from crossgate.core.model.address import Family
from crossgate.core.model.errors import PlanError
from crossgate.core.model.packet import TCP, icmp_of
from crossgate.core.model.packets import PORTED, Indices, Packets, Words, picked
from crossgate.core.traffic.seen import UNTOLD, Seen
from crossgate.formats.bounds import see_columns
from crossgate.formats.readers.batches import batches
from crossgate.formats.readers.kinds import FileKind
from crossgate.formats.readers.known_addresses import KnownAddresses
from crossgate.formats.readers.names import TrafficColumn, columns_of
from crossgate.formats.readers.read_columns import ReadColumns


@dataclass
class TableAccount:
    """What was read of a table: its `rows`, those without an address (`empty`), and whether ICMP
    messages were in the port column.
    """

    rows: int = 0
    empty: int = 0
    icmp_in_port: int = 0
    timeless: bool = False
    in_all: float = 0.0
    """Packets and octets together, about."""
    addresses: dict[Family | None, KnownAddresses] = field(default_factory=dict)
    used: dict[TrafficColumn, list[str]] = field(default_factory=dict)


def read_table(
    path: Path,
    kind: FileKind,
    told: Mapping[TrafficColumn, str],
    now: int,
    account: TableAccount,
    name: str,
) -> Iterator[dict[Family, Seen]]:
    """Yield the records of a table, called `name` in errors, in batches.

    `now` is the time for records of a table without times, in microseconds. Raises `PlanError` for
    what cannot be read, with its row.
    """
    yield from read_batches(batches(path, kind, name), told, now, account, name)
    if not account.used:
        raise PlanError(
            f"{name} is empty: a table of flows has a row of column names, then a row for each flow"
        )


def read_batches(
    found: Iterable[Any],
    told: Mapping[TrafficColumn, str],
    now: int,
    account: TableAccount,
    name: str,
) -> Iterator[dict[Family, Seen]]:
    """Yield the records of a table that comes in record batches of pyarrow; see `read_table`."""
    columns: dict[TrafficColumn, list[str]] | None = None
    try:
        for batch in found:
            if columns is None:
                see_columns(batch.schema.names, name)
                columns = account.used = columns_of(batch.schema.names, told, name)
                account.timeless = TrafficColumn.TIME not in columns
            yield _Rows(name, batch, columns, account, now).seen()
            account.rows += batch.num_rows
    except UnicodeDecodeError:
        raise PlanError(f"{name} behind row {account.rows:,}: text that is not UTF-8") from None


class _Rows:
    """One batch of records of a table."""

    def __init__(
        self,
        name: str,
        batch: Any,
        columns: Mapping[TrafficColumn, list[str]],
        account: TableAccount,
        now: int,
    ) -> None:
        self._name, self._batch, self._columns, self._account, self._now = (
            name,
            batch,
            columns,
            account,
            now,
        )
        self._before = account.rows
        self._read = ReadColumns(name, batch, columns, account.rows, account.addresses)

    def seen(self) -> dict[Family, Seen]:
        """Return the records of each family."""
        count = self._batch.num_rows
        ends = [
            self._read.addresses(column)
            for column in (TrafficColumn.SOURCE, TrafficColumn.DESTINATION)
        ]
        families = [each[0] for each in ends]
        mixed = np.flatnonzero((families[0] != families[1]) & (families[0] > 0) & (families[1] > 0))
        if len(mixed):
            self._read.fail(
                int(mixed[0]), "its source is of one address family and its destination of another"
            )
        self._account.empty += int(((families[0] == 0) | (families[1] == 0)).sum())
        numbers = {
            column: self._read.numbers(column, most)
            for column, most in _MOST.items()
            if column in self._columns
        }
        numbers[TrafficColumn.PROTOCOL] = self._read.numbers(
            TrafficColumn.PROTOCOL, 255, iana.protocols()
        )
        if TrafficColumn.VERDICT in self._columns:
            numbers[TrafficColumn.VERDICT] = self._read.said()
        flags = {
            column: self._read.flags(column)
            for column in (TrafficColumn.FLAGS, TrafficColumn.BACK_FLAGS)
            if column in self._columns
        }
        first = (
            self._read.times(TrafficColumn.TIME)
            if TrafficColumn.TIME in self._columns
            else np.full(count, self._now)
        )
        last = self._read.times(TrafficColumn.END) if TrafficColumn.END in self._columns else first
        found = {}
        for family in Family:
            rows = np.flatnonzero((families[0] == family) & (families[1] == family))
            if len(rows):
                whole = len(rows) == count
                words = [
                    each[1][family] if whole else picked(each[1][family], rows) for each in ends
                ]
                found[family] = self._of_family(
                    family,
                    slice(0, count) if whole else rows,
                    words,
                    numbers,
                    flags,
                    first,
                    np.maximum(first, last),
                )
        return found

    def _of_family(
        self,
        family: Family,
        rows: Indices | slice,
        words: list[Words],
        numbers: dict[TrafficColumn, Indices],
        flags: dict[TrafficColumn, Indices],
        first: Indices,
        last: Indices,
    ) -> Seen:
        count = words[0].shape[1]

        def column(which: TrafficColumn, otherwise: int) -> Indices:
            return numbers[which][rows] if which in numbers else np.full(count, otherwise)

        protocol, ports = (
            column(TrafficColumn.PROTOCOL, 0),
            [column(TrafficColumn.SOURCE_PORT, 0), column(TrafficColumn.DESTINATION_PORT, 0)],
        )
        icmp, ported = protocol == icmp_of(family), PORTED[protocol]
        if TrafficColumn.ICMP in numbers:
            message = column(TrafficColumn.ICMP, 0)
        else:
            message = ports[1]
            self._account.icmp_in_port += int((icmp & (message != 0)).sum())
        ports = [
            np.where(ported, ports[0], 0),
            np.where(icmp, message, np.where(ported, ports[1], 0)),
        ]
        both = [
            np.where(protocol == TCP, flags[which][rows], 0)
            if which in flags
            else np.zeros(count, np.int64)
            for which in (TrafficColumn.FLAGS, TrafficColumn.BACK_FLAGS)
        ]
        octets = [
            each.astype(np.uint8) for each in (protocol, both[0], column(TrafficColumn.DSCP, 0))
        ]
        packets = Packets(
            family,
            words[0],
            words[1],
            octets[0],
            ports[0].astype(np.uint16),
            ports[1].astype(np.uint16),
            octets[1],
            np.zeros(count, np.bool_),
            octets[2],
        )
        counts = np.stack([column(TrafficColumn.PACKETS, 1), column(TrafficColumn.BACK_PACKETS, 0)])
        sizes = np.stack([column(TrafficColumn.BYTES, 0), column(TrafficColumn.BACK_BYTES, 0)])
        self._account.in_all += float(counts.sum(dtype=np.float64) + sizes.sum(dtype=np.float64))
        if self._account.in_all > _MOST_IN_ALL:
            raise PlanError(
                f"{self._name} behind row {self._before:,}: its packets and bytes come to more "
                f"than {_MOST_IN_ALL:,}, which cannot be"
            )
        none = np.zeros(count, np.int64)
        return Seen(
            packets,
            first[rows],
            last[rows],
            counts,
            sizes,
            np.stack(both).astype(np.uint8),
            none.astype(np.uint16),
            none.astype(np.bool_),
            none.astype(np.uint64),
            np.full(count, UNTOLD, np.uint64),
            column(TrafficColumn.VERDICT, 0).astype(np.uint8),
        )


_MOST_IN_ALL = 1 << 56
"""Packets and octets of one table together: far more than there can be, and far from what a sum of
64 bits holds.
"""
_MOST = {
    TrafficColumn.SOURCE_PORT: 65_535,
    TrafficColumn.DESTINATION_PORT: 65_535,
    TrafficColumn.ICMP: 65_535,
    TrafficColumn.PACKETS: 1 << 62,
    TrafficColumn.BYTES: 1 << 62,
    TrafficColumn.DSCP: 63,
    TrafficColumn.BACK_PACKETS: 1 << 62,
    TrafficColumn.BACK_BYTES: 1 << 62,
}
