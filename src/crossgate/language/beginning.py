"""A new plan: its network from the tables that people have, or a small working one to be changed.

How tables are read is unknown here. A problem in a row is found by reading the plan that would be
written, as every plan is read, and reported at the row that the line came from.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import NamedTuple

from crossgate.core.model.address import Pattern
from crossgate.core.model.errors import Place, PlanError, PlanErrors
from crossgate.core.model.ethernet import format_mac
from crossgate.core.model.plaintext import quotable
from crossgate.core.model.plan import Plan
from crossgate.language.layout import tidied
from crossgate.language.reader import read
from crossgate.language.table_rows import (
    TableRow,
    address_of,
    field_of,
    gateway_of,
    mac_of,
    plain_name,
    prefixes_of,
    several,
    vlan_of,
)

SKELETON = """\
title "{title}"

# The network: a subnet is where machines are, a router or switch has an interface on each subnet that it joins.
subnet office 192.168.10.0/24
outside internet but private

router gateway
    interface inside 192.168.10.1/24 on office
    interface uplink 203.0.113.2/30  on internet
    route default via 203.0.113.1

host desk-1 192.168.10.21 on office

# A list is read from the top; the first entry that a packet matches decides, and otherwise decides the rest.
list from-outside extended ipv4
    note "The office asks, and only answers come in"
    10 deny   ip  127.0.0.0/8, 169.254.0.0/16, private to any                   "nobody out there has these"
    20 permit tcp any                                  to office established
    30 permit udp any                                  to office source port 53
    otherwise deny

# It is asked for what comes into the uplink.
place from-outside inbound on gateway.uplink

# What must hold, tried with: crossgate verify
expect permit https  office   to internet
expect deny   tcp/22 internet to office   "nobody manages desks from outside"
"""
"""A plan with one of everything, for who has no tables; it checks clean and its claims hold."""


class Begun(NamedTuple):
    """A new plan: its text, the plan it reads as, and the names that had to be changed, as pairs of
    given and new.
    """

    text: str
    plan: Plan
    renamed: list[tuple[str, str]]


def skeleton(path: Path, title: str) -> Begun:
    """Return a small plan that works."""
    text = SKELETON.replace("{title}", quotable(title))
    return Begun(text, read(path, {str(path): text.encode()}).plan, [])


def from_tables(
    path: Path, title: str, subnets: Sequence[TableRow], hosts: Sequence[TableRow]
) -> Begun:
    """Return a plan with the subnets and hosts of tables; a gateway column gives the devices'
    interfaces. Raises `PlanErrors` with every problem, each at its row.
    """
    return _Writer(path).written(title, subnets, hosts)


class _Writer:
    """Writes a plan from rows, and keeps for each line the row that it came from."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self.lines: list[tuple[str, TableRow | None]] = []
        self.errors: list[PlanError] = []
        self.names: dict[str, TableRow] = {}
        self.renamed: dict[str, str] = {}
        self._macs: set[int] = set()

    def written(self, title: str, subnets: Sequence[TableRow], hosts: Sequence[TableRow]) -> Begun:
        self._put(f'title "{quotable(title)}"', "", "# The network", "")
        blocks: list[tuple[str, TableRow, list[Pattern]]] = []
        for row in subnets:
            try:
                blocks.append(self._subnet(row))
            except PlanError as error:
                self.errors.append(error)
        self._devices(blocks)
        if hosts:
            self._put("")
        for row in hosts:
            try:
                self._host(row, {name for name, _, _ in blocks})
            except PlanError as error:
                self.errors.append(error)
        self._put(
            "",
            "# The lists come here, as: list NAME extended ipv4",
            "# and where they stand: place NAME inbound on DEVICE.INTERFACE",
        )
        self._put("# and what must hold: expect deny ssh SUBNET to HOST")
        text = "\n".join(line for line, _ in self.lines) + "\n"
        plan = self._read(text)
        text = tidied(text, str(self.path), plan)
        return Begun(
            text, read(self.path, {str(self.path): text.encode()}).plan, list(self.renamed.items())
        )

    def _read(self, text: str) -> Plan:
        """Read the plan that would be written. Raises `PlanErrors`, each error at the row that its
        line came from.
        """
        found: list[PlanError] = []
        plan = Plan()
        try:
            plan = read(self.path, {str(self.path): text.encode()}).plan
        except PlanErrors as errors:
            for error in errors.errors:
                row = self.lines[error.place.line - 1][1] if error.place is not None else None
                word = (
                    error.source[error.column - 1 : error.column - 1 + error.width]
                    if error.column
                    else ""
                )
                found.append(
                    row.problem(error.message, field_of(row, word)) if row is not None else error
                )
        problems = sorted([*self.errors, *found], key=lambda each: each.place or Place("", 0))
        if problems:
            raise PlanErrors(list({str(each): each for each in problems}.values()))
        return plan

    def _put(self, *lines: str, row: TableRow | None = None) -> None:
        self.lines += [(line, row) for line in lines]

    def _subnet(self, row: TableRow) -> tuple[str, TableRow, list[Pattern]]:
        """Write a subnet's line, and return its name, its row and its prefixes."""
        name = self._name(row, "name")
        prefixes = prefixes_of(row)
        vlan = vlan_of(row)
        tag = f" vlan {vlan}" if vlan else ""
        self._put(f"subnet {name} {' '.join(map(str, prefixes))}{tag}", row=row)
        return name, row, prefixes

    def _devices(self, blocks: Iterable[tuple[str, TableRow, list[Pattern]]]) -> None:
        """Write the devices that are gateways, each with an interface on every subnet whose gateway
        it is.
        """
        devices: dict[str, list[tuple[str, TableRow]]] = {}
        for name, row, prefixes in blocks:
            if "gateway" not in row.values:
                continue
            try:
                addresses = [
                    gateway_of(row, word, prefixes) for word in several(row.values["gateway"])
                ]
                device = self._plain(row.values.get("device", "gateway"))
                vlan = vlan_of(row)
                interface = f"v{vlan}" if vlan else name
                devices.setdefault(device, []).append(
                    (f"    interface {interface} {' '.join(addresses)} on {name}", row)
                )
            except PlanError as error:
                self.errors.append(error)
        for device, interfaces in devices.items():
            if device in self.names:
                self.errors.append(
                    interfaces[0][1].problem(
                        (
                            f"{device} is a subnet too, and every name stands for one thing; give the "
                            "device another name"
                        ),
                        "device",
                    )
                )
                continue
            self.names[device] = interfaces[0][1]
            self._put("")
            self._put(f"router {device}", row=interfaces[0][1])
            for line, row in interfaces:
                self._put(line, row=row)

    def _mac(self, text: str) -> str:
        """Return the words for a hardware address in any usual form; a remark where it is not one,
        or a group's, or taken.
        """
        mac = mac_of(text)
        if mac is None or mac in self._macs:
            return f"  # mac {quotable(text)}"
        self._macs.add(mac)
        return f" mac {format_mac(mac)}"

    def _host(self, row: TableRow, subnets: set[str]) -> None:
        """Write a host's line."""
        name = self._name(row, "name")
        addresses = several(row.values.get("address", ""))
        if not addresses:
            raise row.problem("a host needs an address", "address")
        for word in addresses:
            address_of(row, word, "address")
        on = ""
        if "subnet" in row.values:
            subnet = self._plain(row.values["subnet"])
            if subnet not in subnets:
                known = f"; there are {', '.join(sorted(subnets))}" if 0 < len(subnets) <= 6 else ""
                raise row.problem(f"no subnet {row.values['subnet']}{known}", "subnet")
            on = f" on {subnet}"
        mac = self._mac(row.values["mac"]) if "mac" in row.values else ""
        self._put(f"host {name} {' '.join(addresses)}{on}{mac}", row=row)

    def _name(self, row: TableRow, field: str) -> str:
        """Return a new name in the form that the language has. Raises `PlanError` where it is
        missing or taken.
        """
        given = row.values.get(field, "")
        name = self._plain(given)
        if not name:
            raise row.problem(
                "a name is missing"
                if not given
                else f"{given} has no letter or digit to make a name of",
                field,
            )
        if name in self.names:
            other = self.names[name]
            where = (
                f"row {other.number}"
                if other.file == row.file
                else f"{other.file} row {other.number}"
            )
            raise row.problem(
                f"{name} is the name in {where} already; every name stands for one thing", field
            )
        self.names[name] = row
        return name

    def _plain(self, given: str) -> str:
        """Return a name with a hyphen in the place of each character that a name cannot have; a
        changed name is kept with the given one.
        """
        name = plain_name(given)
        if name != given.strip():
            self.renamed[given.strip()] = name
        return name
