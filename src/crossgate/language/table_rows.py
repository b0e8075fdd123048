"""Rows of tables of subnets and hosts, in the words of the language.

How a table is read is unknown here. Errors are reported at the row and the column.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import NamedTuple

from crossgate.core.model.address import (
    Address,
    AddressError,
    Pattern,
    parse_address,
    parse_netmask,
    parse_prefix,
    pattern,
    prefix,
)
from crossgate.core.model.errors import Place, PlanError
from crossgate.core.model.ethernet import is_group_mac
from crossgate.core.model.plaintext import numeral, quotable


class TableRow(NamedTuple):
    """A row of a table: the file, the row's number, the header of each field as written there, and
    the values by field.
    """

    file: str
    number: int
    headers: Mapping[str, str]
    values: Mapping[str, str]

    def problem(self, message: str, field: str = "") -> PlanError:
        """Return an error at the row, and at the column of a field."""
        column = f'column "{self.headers[field]}": ' if field in self.headers else ""
        return PlanError(f"{column}{message}", place=Place(self.file, self.number))


def plain_name(given: str) -> str:
    """Return a name with a hyphen in the place of each character that a name cannot have; "" where
    nothing is left.
    """
    name = re.sub(r"[^A-Za-z0-9_]+", "-", given.strip()).strip("-")
    return f"n-{name}" if name and not name[0].isalpha() else name


def mac_of(text: str) -> int | None:
    """Return a machine's hardware address, written in any usual form; None where it is not one, or
    a group's.
    """
    digits = re.sub("[^0-9A-Fa-f]", "", text)
    mac = int(digits, 16) if len(digits) == 12 else 0
    return None if not mac or is_group_mac(mac) else mac


def vlan_of(row: TableRow) -> str:
    """Return a row's VLAN ID, "" where it has none. Raises `PlanError` for what is no number."""
    text = row.values.get("vlan", "")
    if text and numeral(text) is None:
        raise row.problem(f"{quotable(text)} is no VLAN ID: 1 to 4094", "vlan")
    return text


def several(text: str) -> list[str]:
    """Return the words of a cell that contains several."""
    return [word for word in re.split(r"[\s,;]+", text) if word]


def prefixes_of(row: TableRow) -> list[Pattern]:
    """Return the prefixes in a subnet's row; an address with a netmask beside it counts as one."""
    words = several(row.values.get("prefix", ""))
    if not words:
        raise row.problem("a subnet needs a prefix, as 10.64.8.0/22", "prefix")
    found = []
    for word in words:
        try:
            if "/" in word:
                address, length = parse_prefix(word)
                block = prefix(address, length)
            else:
                address = parse_address(word)
                if "mask" not in row.values:
                    raise row.problem(
                        (
                            f"{word} has no prefix length; write it as {word}/24, or give a netmask "
                            "column"
                        ),
                        "prefix",
                    )
                block = pattern(address.family, address.value, parse_netmask(row.values["mask"]))
        except AddressError as error:
            raise row.problem(
                str(error), "mask" if "mask" in row.values and "/" not in word else "prefix"
            ) from None
        if block.value != address.value:
            raise row.problem(
                f"{word} has bits set behind its prefix length; write {block}", "prefix"
            )
        found.append(block)
    return found


def gateway_of(row: TableRow, word: str, prefixes: Sequence[Pattern]) -> str:
    """Return a gateway's address with the prefix length of its subnet."""
    address = address_of(row, word.partition("/")[0], "gateway")
    block = next(
        (
            each
            for each in prefixes
            if each.family is address.family and each.contains(address.value)
        ),
        None,
    )
    if block is None:
        raise row.problem(f"{address} is not in {' and '.join(map(str, prefixes))}", "gateway")
    return f"{address}/{block.prefix_length}"


def address_of(row: TableRow, word: str, field: str) -> Address:
    """Return the address in a word of a column. Raises `PlanError`."""
    try:
        return parse_address(word)
    except AddressError as error:
        raise row.problem(str(error), field) from None


def field_of(row: TableRow | None, word: str) -> str:
    """Return the field of a row whose value contains a word; "" where none does."""
    if row is None or not word:
        return ""
    return next((field for field, value in row.values.items() if word in several(value)), "")
