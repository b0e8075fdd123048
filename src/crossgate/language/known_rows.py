"""Rows of a table beside what a plan has: which row is of what, and what was done with it,
counted.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Sequence
from enum import StrEnum
from pathlib import PurePath
from typing import Any, NamedTuple

from crossgate.core.model.address import Address, Pattern
from crossgate.core.model.errors import Place
from crossgate.language.table_rows import TableRow, address_of, mac_of, several


class Key(StrEnum):
    """By what a row is known to be of something that the plan has."""

    NAME = "name"
    ADDRESS = "address"
    MAC = "mac"


class ComingTable(NamedTuple):
    """A table that a plan is to be in step with; what it does not have is gone if it is `whole`,
    and taken out where it is to `prune`. Its field `role` names groups.

    One that is not whole, as of leases, has names that machines give themselves: no name of the
    plan is changed by it, and a row whose name does not serve is left out and told.
    """

    rows: Sequence[TableRow]
    key: Key = Key.NAME
    prune: bool = False
    whole: bool = True

    @property
    def file(self) -> str:
        """The name of its file, "" for a table without rows."""
        return self.rows[0].file if self.rows else ""


class Own(NamedTuple):
    """What the plan has of a kind, with all that it may be known by."""

    name: str
    place: Place
    addresses: frozenset[Address | Pattern]
    mac: int | None


class Match(NamedTuple):
    """A row, the name that its thing has or gets, and the name that it had, None if it is new."""

    row: TableRow
    name: str
    known: str | None


class Said:
    """What was done, counted and named by its sort."""

    def __init__(self) -> None:
        self._names: dict[str, list[str]] = {}

    def add(self, sort: str, name: str) -> None:
        """Count something under a sort of change, as `moved`."""
        self._names.setdefault(sort, []).append(name)

    def text(self, file: str) -> str:
        """Return a sentence about what was done by a file."""
        parts = [f"{len(names)} {sort} ({few(names)})" for sort, names in self._names.items()]
        return f"{PurePath(file).name}: {', '.join(parts) or 'nothing new'}"


def few(names: Sequence[str]) -> str:
    """Return up to four of some names in a row, and how many more there are."""
    return ", ".join(names[:4]) + (f" and {len(names) - 4} more" if len(names) > 4 else "")


class Index:
    """What the plan has of a kind, by all that it may be known by."""

    def __init__(self, own: Sequence[Own]) -> None:
        self._names = {each.name: each.name for each in own}
        self._folded: dict[str, list[str]] = {}
        for each in own:
            self._folded.setdefault(each.name.lower(), []).append(each.name)
        self._addresses = {one: each.name for each in own for one in each.addresses}
        self._macs = {each.mac: each.name for each in own if each.mac is not None}
        self._with_mac = {each.name for each in own if each.mac is not None}

    def has(self, name: str) -> bool:
        """Whether the plan has something of this kind by a name."""
        return name in self._names

    def find(
        self,
        row: TableRow,
        name: str,
        key: Key,
        addresses: Callable[[TableRow], Sequence[Any]],
    ) -> str | None:
        """Return what a row is of. By hardware address, a row or a machine that has none is known
        by its name.
        """
        if key is Key.ADDRESS:
            return next(
                (self._addresses[each] for each in addresses(row) if each in self._addresses), None
            )
        mac = mac_of(row.values.get("mac", "")) if key is Key.MAC else None
        if mac in self._macs:
            return self._macs[mac]
        alike = self._folded.get(name.lower(), [])
        found = self._names.get(name, alike[0] if len(alike) == 1 else None)
        return None if mac is not None and found in self._with_mac else found


def host_addresses(row: TableRow) -> list[Address]:
    """Return the addresses of a host's row. Raises `PlanError`."""
    return [address_of(row, word, "address") for word in several(row.values.get("address", ""))]


def holds(prefixes: Iterable[Pattern], address: Address) -> bool:
    """Whether one of some prefixes has an address."""
    return any(each.family is address.family and each.contains(address.value) for each in prefixes)


def one_of(name: str, known: Collection[str]) -> str:
    """Return the known name that a name is, whatever its case; "" where there is none."""
    if name in known:
        return name
    found = [each for each in known if each.lower() == name.lower()]
    return found[0] if len(found) == 1 else ""
