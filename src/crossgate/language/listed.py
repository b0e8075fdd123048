"""Addresses of a group from a table beside the plan: `group NAME from "FILE"`.

1. The table is CSV of any common kind, or plain text with an address in each line; `#` starts a
remark. Only its addresses are looked at, and no error shows a cell that does not look like one: a
plan may name any table in its folder.

2. Where the first row has no address, it is a header, and the column is the one whose header means
addresses, or the one that the plan names. Otherwise it is the first column with an address.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from pathlib import PurePath

from crossgate.core.model.address import (
    AddressError,
    Family,
    Pattern,
    looks_like_address,
    parse_addresses,
    range_patterns,
)
from crossgate.core.model.errors import Place, PlanError, PlanErrors

SUFFIXES = (".csv", ".tsv", ".txt")
"""How the name of a table ends that a group may be read from."""
_HEADED = frozenset(
    ("address", "addresses", "ip", "ipv4", "ipv6", "prefix", "cidr", "network", "net", "range")
)
_MOST_ERRORS = 20
_HEAD = 10
_SHOWN = re.compile(r"[0-9A-Fa-f.:/ -]{1,60}")


def listed(file: str, data: bytes, column: str = "") -> dict[Family, tuple[Pattern, ...]]:
    """Return the addresses of a table, as the fewest prefixes, by family.

    Raises `PlanErrors` with the first faulty rows, and `PlanError` for a table without addresses.
    """
    index, rows = _column(file, list(_rows(file, data)), column)
    found: set[Pattern] = set()
    errors: list[PlanError] = []
    for number, cells in rows:
        for word in re.split(r"[\s;,]+", cells[index].strip()) if index < len(cells) else ():
            if not word:
                continue
            try:
                found.update(parse_addresses(word))
            except AddressError as error:
                shown = str(error) if _SHOWN.fullmatch(word) else "here is no address"
                errors.append(
                    PlanError(
                        f"{shown}; a row has an address, a prefix or a range",
                        place=Place(file, number),
                    )
                )
                break
        if len(errors) >= _MOST_ERRORS:
            break
    if errors:
        raise PlanErrors(errors)
    if not found:
        raise PlanError(f"{file} has no addresses")
    every = {family: _fewest(family, found) for family in Family}
    return {family: patterns for family, patterns in every.items() if patterns}


def _rows(file: str, data: bytes) -> Iterator[tuple[int, list[str]]]:
    """Yield the rows that are not empty, with their numbers."""
    import csv

    if b"\0" in data:
        raise PlanError(f"{file} is a binary file; save the table as CSV, in UTF-8")
    text = data.decode("utf-8-sig", errors="replace")
    head = re.sub(r'"[^"]*"', "", "\n".join(text.splitlines()[:_HEAD]))
    separator = max(",;\t", key=head.count)
    lines = (line.partition("#")[0] for line in text.splitlines())
    try:
        for number, cells in enumerate(csv.reader(lines, delimiter=separator), 1):
            if any(each.strip() for each in cells):
                yield number, cells
    except csv.Error:
        raise PlanError(f"{file} is no table") from None


def _column(
    file: str, rows: Sequence[tuple[int, list[str]]], wanted: str
) -> tuple[int, Sequence[tuple[int, list[str]]]]:
    """Return the index of the column with the addresses, and the rows without a header. Raises
    `PlanError`.
    """
    if not rows:
        raise PlanError(f"{file} is empty")
    first = [each.strip() for each in rows[0][1]]
    with_address = [index for index, each in enumerate(first) if looks_like_address(each)]
    if with_address and not wanted:
        return with_address[0], rows
    headed = [
        index
        for index, each in enumerate(first)
        if (each.lower() == wanted.lower() if wanted else _HEADED & {*_words(each)})
    ]
    if not headed:
        name = PurePath(file).name
        raise PlanError(
            f'no column of {name} is headed "{wanted}"'
            if wanted
            else f"no column of {name} is headed address; name the one that has them: "
            f'from "{name}" column "HEADER"'
        )
    return headed[0], rows[1:]


def _words(header: str) -> list[str]:
    return re.findall(r"[a-z]+\d*", header.lower())


def _fewest(family: Family, patterns: Iterable[Pattern]) -> tuple[Pattern, ...]:
    """Return the fewest prefixes that together have exactly the addresses of some prefixes."""
    spans = sorted((each.first, each.last) for each in patterns if each.family is family)
    joined: list[list[int]] = []
    for first, last in spans:
        if joined and first <= joined[-1][1] + 1:
            joined[-1][1] = max(joined[-1][1], last)
        else:
            joined.append([first, last])
    return tuple(each for first, last in joined for each in range_patterns(family, first, last))
