"""A new plan: its network from the tables that people have, or a small one that runs, to be
changed.

Nothing here knows how a table is read. A problem in a row is found by reading the plan that would
be written, as every plan is read, and told at the row that the line came from.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
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
from crossgate.core.model.errors import Place, PlanError, PlanErrors
from crossgate.core.model.ethernet import format_mac, is_group_mac
from crossgate.core.model.plaintext import numeral, quotable
from crossgate.core.model.plan import Plan
from crossgate.language.layout import tidied
from crossgate.language.reader import read

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
    10 permit tcp any to office established
    20 permit udp any to office source port 53
    otherwise deny

# It is asked for what comes into the uplink.
place from-outside inbound on gateway.uplink

# What must hold, tried with: crossgate verify
expect permit https  office   to internet
expect deny   tcp/22 internet to office   "nobody manages desks from outside"
"""
"""A plan with one of everything, for who has no tables; it checks clean and its claims hold."""


class Source(NamedTuple):
    """A row of a table: the file, the row's number, and the header of each field as it is written
    there.
    """

    file: str
    number: int
    headers: Mapping[str, str]
    values: Mapping[str, str]

    def problem(self, message: str, field: str = "") -> PlanError:
        """Make an error at the row, and at the column that has a field."""
        column = f'column "{self.headers[field]}": ' if field in self.headers else ""
        return PlanError(f"{column}{message}", place=Place(self.file, self.number))


class Begun(NamedTuple):
    """A new plan: its text, the plan that it is, and the names that had to be changed, as (given,
    is).
    """

    text: str
    plan: Plan
    renamed: list[tuple[str, str]]


def skeleton(path: Path, title: str) -> Begun:
    """Return a small plan that runs."""
    text = SKELETON.replace("{title}", quotable(title))
    return Begun(text, read(path, {str(path): text.encode()}).plan, [])


def from_tables(
    path: Path, title: str, subnets: Sequence[Source], hosts: Sequence[Source]
) -> Begun:
    """Return a plan of the subnets and hosts of tables; a gateway column makes the devices'
    interfaces.

    Raises `PlanErrors` with every problem, each at its row.
    """
    return _Writer(path).written(title, subnets, hosts)


class _Writer:
    """Writes a plan from rows, and remembers which row each line came from."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self.lines: list[tuple[str, Source | None]] = []
        self.errors: list[PlanError] = []
        self.names: dict[str, Source] = {}
        self.renamed: dict[str, str] = {}
        self._macs: set[int] = set()

    def written(self, title: str, subnets: Sequence[Source], hosts: Sequence[Source]) -> Begun:
        self._put(f'title "{quotable(title)}"', "", "# The network", "")
        blocks: list[tuple[str, Source, list[Pattern]]] = []
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
                    row.problem(error.message, _field_of(row, word)) if row is not None else error
                )
        problems = sorted([*self.errors, *found], key=lambda each: each.place or Place("", 0))
        if problems:
            raise PlanErrors(list({str(each): each for each in problems}.values()))
        return plan

    def _put(self, *lines: str, row: Source | None = None) -> None:
        self.lines += [(line, row) for line in lines]

    def _subnet(self, row: Source) -> tuple[str, Source, list[Pattern]]:
        """Write a subnet's line, and return its name, its row and its prefixes."""
        name = self._name(row, "name")
        prefixes = _prefixes(row)
        vlan = _vlan(row)
        tag = f" vlan {vlan}" if vlan else ""
        self._put(f"subnet {name} {' '.join(map(str, prefixes))}{tag}", row=row)
        return name, row, prefixes

    def _devices(self, blocks: Iterable[tuple[str, Source, list[Pattern]]]) -> None:
        """Write the devices that are gateways, with an interface on each subnet that they are the
        gateway of.
        """
        devices: dict[str, list[tuple[str, Source]]] = {}
        for name, row, prefixes in blocks:
            if "gateway" not in row.values:
                continue
            try:
                addresses = [
                    _gateway(row, word, prefixes) for word in _several(row.values["gateway"])
                ]
                device = self._plain(row.values.get("device", "gateway"))
                vlan = _vlan(row)
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
        """Return what a host's line has for a hardware address in any usual form: a remark where it
        is none, or a group's, or taken.
        """
        digits = re.sub("[^0-9A-Fa-f]", "", text)
        mac = int(digits, 16) if len(digits) == 12 else 0
        if not mac or is_group_mac(mac) or mac in self._macs:
            return f"  # mac {quotable(text)}"
        self._macs.add(mac)
        return f" mac {format_mac(mac)}"

    def _host(self, row: Source, subnets: set[str]) -> None:
        """Write a host's line."""
        name = self._name(row, "name")
        addresses = _several(row.values.get("address", ""))
        if not addresses:
            raise row.problem("a host needs an address", "address")
        for word in addresses:
            _address(row, word, "address")
        on = ""
        if "subnet" in row.values:
            subnet = self._plain(row.values["subnet"])
            if subnet not in subnets:
                known = f"; there are {', '.join(sorted(subnets))}" if 0 < len(subnets) <= 6 else ""
                raise row.problem(f"no subnet {row.values['subnet']}{known}", "subnet")
            on = f" on {subnet}"
        mac = self._mac(row.values["mac"]) if "mac" in row.values else ""
        self._put(f"host {name} {' '.join(addresses)}{on}{mac}", row=row)

    def _name(self, row: Source, field: str) -> str:
        """Return a new name as the language has names. Raises `PlanError` where it is missing or
        taken.
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
        """Return a name with a hyphen for all that a name cannot have; what had to be changed is
        remembered.
        """
        name = re.sub(r"[^A-Za-z0-9_]+", "-", given.strip()).strip("-")
        if name and not name[0].isalpha():
            name = f"n-{name}"
        if name != given.strip():
            self.renamed[given.strip()] = name
        return name


def _vlan(row: Source) -> str:
    """Return a row's VLAN ID, "" where it has none. Raises `PlanError` for what is no number."""
    text = row.values.get("vlan", "")
    if text and numeral(text) is None:
        raise row.problem(f"{quotable(text)} is no VLAN ID: 1 to 4094", "vlan")
    return text


def _several(text: str) -> list[str]:
    return [word for word in re.split(r"[\s,;]+", text) if word]


def _prefixes(row: Source) -> list[Pattern]:
    """Return the prefixes of a subnet's row; an address with a netmask beside it is one too."""
    words = _several(row.values.get("prefix", ""))
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


def _gateway(row: Source, word: str, prefixes: Sequence[Pattern]) -> str:
    """Return a gateway's address with the prefix length of its subnet."""
    address = _address(row, word.partition("/")[0], "gateway")
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


def _address(row: Source, word: str, field: str) -> Address:
    try:
        return parse_address(word)
    except AddressError as error:
        raise row.problem(str(error), field) from None


def _field_of(row: Source | None, word: str) -> str:
    """Return the field of a row whose value has a word; "" where none has."""
    if row is None or not word:
        return ""
    return next((field for field, value in row.values.items() if word in _several(value)), "")
