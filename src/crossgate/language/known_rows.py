"""Rows of a table matched with what a plan has: which row belongs to what, and counts of what was
done.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Sequence
from enum import StrEnum
from pathlib import PurePath
from typing import Any, NamedTuple

from crossgate.core.model.address import Address, Pattern
from crossgate.core.model.errors import Place
from crossgate.language.table_rows import TableRow, address_of, mac_of, several


class RowKey(StrEnum):
    """By what a row is matched with something in the plan."""

    NAME = "name"
    ADDRESS = "address"
    MAC = "mac"


class ComingTable(NamedTuple):
    """A table with which a plan is to be brought in step.

    If it is `whole`, what it does not have is gone, and is removed if it is to `prune`. Its field
    `role` names groups. A table that is not whole, as one of leases, has names that machines give
    themselves: it changes no name of the plan, and a row whose name cannot be used is left out and
    reported.
    """

    rows: Sequence[TableRow]
    key: RowKey = RowKey.NAME
    prune: bool = False
    whole: bool = True

    @property
    def file(self) -> str:
        """The name of its file, "" for a table without rows."""
        return self.rows[0].file if self.rows else ""


class Own(NamedTuple):
    """What the plan has of one kind, with all keys by which rows can be matched."""

    name: str
    place: Place
    addresses: frozenset[Address | Pattern]
    mac: int | None


class Match(NamedTuple):
    """A row, the name that its thing has or gets, and the name that it had, None if it is new."""

    row: TableRow
    name: str
    known: str | None


class RowChanges:
    """Counts and names of what was done, for each sort of change."""

    def __init__(self) -> None:
        self._names: dict[str, list[str]] = {}

    def add(self, sort: str, name: str) -> None:
        """Count a change of some sort, such as `moved`."""
        self._names.setdefault(sort, []).append(name)

    def text(self, file: str) -> str:
        """Return a sentence about what was done because of a file."""
        parts = [f"{len(names)} {sort} ({few(names)})" for sort, names in self._names.items()]
        return f"{PurePath(file).name}: {', '.join(parts) or 'nothing new'}"


def few(names: Sequence[str]) -> str:
    """Return up to four of some names in a line, and the number of the others."""
    return ", ".join(names[:4]) + (f" and {len(names) - 4} more" if len(names) > 4 else "")


class Index:
    """What the plan has of one kind, by all keys."""

    def __init__(self, own: Sequence[Own]) -> None:
        self._names = {each.name: each.name for each in own}
        self._folded: dict[str, list[str]] = {}
        for each in own:
            self._folded.setdefault(each.name.lower(), []).append(each.name)
        self._addresses = {one: each.name for each in own for one in each.addresses}
        self._macs = {each.mac: each.name for each in own if each.mac is not None}
        self._with_mac = {each.name for each in own if each.mac is not None}

    def has(self, name: str) -> bool:
        """Whether the plan has something of this kind with a name."""
        return name in self._names

    def find(
        self,
        row: TableRow,
        name: str,
        key: RowKey,
        addresses: Callable[[TableRow], Sequence[Any]],
    ) -> str | None:
        """Return what a row belongs to. When matching by hardware address, a row or a machine
        without one is matched by its name.
        """
        if key is RowKey.ADDRESS:
            return next(
                (self._addresses[each] for each in addresses(row) if each in self._addresses), None
            )
        mac = mac_of(row.values.get("mac", "")) if key is RowKey.MAC else None
        if mac in self._macs:
            return self._macs[mac]
        alike = self._folded.get(name.lower(), [])
        found = self._names.get(name, alike[0] if len(alike) == 1 else None)
        return None if mac is not None and found in self._with_mac else found


def host_addresses(row: TableRow) -> list[Address]:
    """Return the addresses in a host's row. Raises `PlanError`."""
    return [address_of(row, word, "address") for word in several(row.values.get("address", ""))]


def holds(prefixes: Iterable[Pattern], address: Address) -> bool:
    """Whether one of some prefixes contains an address."""
    return any(each.family is address.family and each.contains(address.value) for each in prefixes)


def one_of(name: str, known: Collection[str]) -> str:
    """Return the known name that equals a name but for case; "" where there is none."""
    if name in known:
        return name
    found = [each for each in known if each.lower() == name.lower()]
    return found[0] if len(found) == 1 else ""
