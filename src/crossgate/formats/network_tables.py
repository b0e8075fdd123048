"""Tables of subnets, of hosts and of leases: which column is which, by its header."""

from __future__ import annotations

import re
from collections.abc import Sequence
from datetime import datetime, tzinfo
from pathlib import Path

from crossgate.core.model.errors import PlanError, unknown
from crossgate.formats.tables import Recognised, Table, header_words, named_by, read_table
from crossgate.language.table_rows import TableRow

_SUBNETS = (
    ("name", ("name", "title", "label")),
    ("gateway", ("gateway", "gw")),
    ("mask", ("mask", "netmask")),
    ("vlan", ("vlan", "vid")),
    ("device", ("device", "router", "switch", "firewall")),
    (
        "prefix",
        ("prefix", "cidr", "network", "net", "range", "ip", "ipv4", "ipv6", "address", "addresses"),
    ),
)
"""The header words that tell what a column of a table of subnets has, those that decide first."""
_HOSTS = (
    ("mac", ("mac", "hardware", "ethernet")),
    ("subnet", ("subnet", "network", "vlan", "segment")),
    ("address", ("address", "addresses", "ip", "ipv4", "ipv6")),
    ("name", ("name", "host", "hostname", "machine", "server")),
)
"""The same of a table of hosts."""
_LEASES = (
    ("expiry", ("expiry", "expires", "expire", "expiration", "end", "ends", "until")),
    ("mac", ("mac", "hardware", "hwaddr", "ethernet", "hw")),
    ("name", ("name", "host", "hostname", "client")),
    ("address", ("address", "ip", "ipv4", "ipv6")),
)
"""The same of a table of leases."""


def subnet_rows(path: Path) -> tuple[list[TableRow], Sequence[str]]:
    """Read a table of subnets; return its rows, and the headers of columns that were not used.

    A column headed just `subnet` has prefixes if its values look like it, or else names. Raises
    `PlanError`.
    """
    field = named_by(_SUBNETS)

    def recognised(words: Sequence[str], values: Sequence[str]) -> str:
        if (
            "name" not in words
            and {"subnet", "segment", "network"} & {*words}
            and not {"mask", "gateway"} & {*words}
        ):
            return (
                "prefix" if any("/" in each or each.count(".") == 3 for each in values) else "name"
            )
        return field(words)

    return _rows(path, recognised, ("name", "prefix"), "name,prefix,vlan,gateway,device")


def host_rows(path: Path, roles: str = "") -> tuple[list[TableRow], Sequence[str]]:
    """Read a table of hosts; return its rows, and the headers of columns that were not used. The
    column headed `roles` becomes the field `role`. Raises `PlanError`.
    """
    field = named_by(_HOSTS)
    wanted = header_words(roles)
    headers = list[str]()

    def recognised(words: Sequence[str], values: Sequence[str]) -> str:
        headers.append(" ".join(words))
        if wanted and [*words] == wanted:
            return "role"
        return (
            "name"
            if "name" in words and not {"subnet", "network", "vlan", "segment"} & {*words}
            else field(words)
        )

    rows, unused = _rows(path, recognised, ("name", "address"), "name,address,subnet,mac")
    if wanted and " ".join(wanted) not in headers:
        raise PlanError(unknown(f"column of {path} called", roles, list(filter(None, headers))))
    return rows, unused


def lease_rows(path: Path, now: datetime) -> tuple[list[TableRow], Sequence[str]]:
    """Read a table of leases; return the rows of those that have not expired, the last one of each
    machine, and a remark about the others.

    Times without a zone are in the zone of `now`. Raises `PlanError`.
    """
    rows, _ = _rows(path, _only(_LEASES), ("address", "mac"), "address,mac,name,expiry")
    last: dict[str, tuple[float, TableRow]] = {}
    expired = 0
    for row in rows:
        expiry = _expiry(row, now.tzinfo)
        if expiry < now.timestamp():
            expired += 1
            continue
        machine = row.values.get("mac", row.values.get("address", ""))
        if machine not in last or last[machine][0] <= expiry:
            last[machine] = expiry, row
    told = [f"{expired} lease{'s have' if expired > 1 else ' has'} expired"] if expired else []
    return [row for _, row in last.values()], told


def _only(order: Sequence[tuple[str, Sequence[str]]]) -> Recognised:
    field = named_by(order)
    return lambda words, _: field(words)


_FOREVER = frozenset(("never", "infinite", "static", "0", "-", "*"))
"""What tables have where a lease does not end."""
_DATE_ORDERS = ("%Y/%m/%d %H:%M:%S", "%d.%m.%Y %H:%M:%S", "%d.%m.%Y %H:%M")


def _expiry(row: TableRow, zone: tzinfo | None) -> float:
    """Return when a lease ends, in seconds since 1970. Raises `PlanError`."""
    text = row.values.get("expiry", "never")
    if text.lower() in _FOREVER:
        return float("inf")
    if re.fullmatch(r"\d{9,11}(\.\d+)?", text):
        return float(text)
    found: datetime | None = None
    for read in (
        datetime.fromisoformat,
        *(lambda text, order=order: datetime.strptime(text, order) for order in _DATE_ORDERS),
    ):
        try:
            found = read(text)
        except ValueError:
            continue
        break
    if found is None:
        raise row.problem(
            f"{text} is no time that a lease ends at; write it as 2027-03-31 18:00, or never",
            "expiry",
        )
    return (found if found.tzinfo else found.replace(tzinfo=zone)).timestamp()


def _rows(
    path: Path, recognised: Recognised, needed: Sequence[str], example: str
) -> tuple[list[TableRow], Sequence[str]]:
    table: Table = read_table(path, recognised, needed, example)
    return [
        TableRow(table.file, row.number, table.headers, row.values) for row in table.rows
    ], table.unused
