"""A plan kept in step with the tables that people have of its subnets and hosts: what is new in a
table is added, what differs is changed, what is missing is told or removed.

1. A row belongs to what has its key in the plan: its name, an address or its hardware address.
Names are the same if they differ only in case, or in characters that a name cannot have.

2. Of a line only the parts are changed that its row contradicts. A row with addresses of one family
says nothing about the other; empty cells change nothing.

3. A group that follows a column of roles has a remark that says so. No other group is touched.

4. An error in the changed plan is reported at the row that its line came from.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from pathlib import PurePath

from crossgate.core.model.address import Address, Pattern
from crossgate.core.model.errors import Place, PlanErrors
from crossgate.core.model.ethernet import format_mac
from crossgate.core.model.network import Interface, Segment
from crossgate.core.model.plaintext import quotable
from crossgate.language.draft import Draft
from crossgate.language.known_rows import (
    ComingTable,
    Match,
    Own,
    RowChanges,
    holds,
    host_addresses,
    one_of,
)
from crossgate.language.lines_in_step import Interfaces, LineParts
from crossgate.language.table_rows import (
    TableRow,
    mac_of,
    plain_name,
    prefixes_of,
    vlan_of,
)
from crossgate.language.table_step import TableStep


def in_step(draft: Draft, subnets: ComingTable | None, hosts: ComingTable | None) -> str:
    """Bring a plan in step with tables, and say what was done.

    Raises `PlanErrors` with every row that cannot be used, and `PlanError` where other lines name
    what is to be removed.
    """
    step = _Step(draft)
    return "; ".join(filter(None, [step.subnets(subnets), step.hosts(hosts)])) or "nothing"


class _Step(TableStep):
    """Brings the subnets, hosts and groups of a draft in step."""

    def __init__(self, draft: Draft) -> None:
        super().__init__(draft)
        self.prefixes = {
            name: each.prefixes for name, each in self.plan.segments.items() if not each.outside
        }

    # ---- Subnets

    def subnets(self, table: ComingTable | None) -> str:
        """Bring the subnets in step, and the interfaces that are their gateways."""
        if table is None or not table.rows:
            return ""
        own = [
            Own(each.name, each.place, frozenset(each.prefixes), None)
            for each in self.plan.segments.values()
            if not each.outside
        ]
        said = RowChanges()
        matches = self._matches(table, own, said, lambda row: prefixes_of(row))
        new: list[str] = []
        lines = Interfaces(self.draft)

        def take_in(match: Match) -> None:
            row, name, known = match
            prefixes, vlan = prefixes_of(row), vlan_of(row)
            if known is None:
                tag = f" vlan {vlan}" if vlan else ""
                new.append(f"subnet {name} {' '.join(map(str, prefixes))}{tag}")
                said.add("added", name)
            else:
                old = self.plan.segments[known]
                families = {each.family for each in prefixes}
                prefixes += [each for each in old.prefixes if each.family not in families]
                self._change_subnet(old, name, prefixes, vlan, said)
            self.prefixes.pop(known or name, None)
            self.prefixes[name] = tuple(prefixes)
            lines.fit(known, prefixes)
            if "gateway" in row.values:
                lines.gateway(match, prefixes, vlan, said)

        self._each(matches, take_in)
        last = [each.place for each in own]
        self._add(last, new)
        lines.write()
        return self._finished(table, "subnet", own, matches, said, frozenset())

    def _change_subnet(
        self, old: Segment, name: str, prefixes: Sequence[Pattern], vlan: str, said: RowChanges
    ) -> None:
        """Write what a row says differently about a subnet."""
        line = LineParts(self.draft.line(old.place), ("vlan", "isolated"))
        if {*prefixes} != {*old.prefixes}:
            line.head[2:] = map(str, prefixes)
            said.add("with other addresses", name)
        if vlan and vlan != str(old.vlan or ""):
            line.put("vlan", vlan)
            said.add("with another VLAN", name)
        self._write(old.place, line)

    # ---- Hosts

    def hosts(self, table: ComingTable | None) -> str:
        """Bring the hosts in step, and the groups that follow a column of roles."""
        if table is None or not table.rows:
            return ""
        own = [
            Own(each.name, each.place, frozenset(each.addresses), each.mac)
            for each in self.plan.hosts.values()
        ]
        said = RowChanges()
        matches = self._matches(table, own, said, host_addresses)
        new: list[str] = []
        macs = {each.mac for each in self._interfaces() if each.mac is not None}
        known = {each.known for each in matches}
        gone = {
            address: each.name
            for each in own
            if each.name not in known and not table.prune
            for address in each.addresses
        }

        def take_in(match: Match) -> None:
            row, name, known = match
            addresses = host_addresses(row)
            if not addresses:
                raise row.problem("a host needs an address", "address")
            taken = next((gone[each] for each in addresses if each in gone), None)
            if taken is not None:
                raise row.problem(
                    f"{addresses[0]} is that of {taken}, which the table does not have; if it is "
                    "the same machine under another name, say --key address, and if it is gone, "
                    "say --prune",
                    "address",
                )
            mac = self._mac(row, macs)
            if known is not None:
                self._change_host(match, addresses, mac, said)
                return
            on = f" on {subnet}" if (subnet := self._subnet(row, addresses)) else ""
            tag = f" mac {format_mac(mac)}" if mac is not None else ""
            new.append(f"host {name} {' '.join(map(str, addresses))}{on}{tag}")
            said.add("added", name)

        self._each(matches, take_in)
        self._add([each.place for each in own], new)
        kept = self._roles(table, matches, said)
        return self._finished(table, "host", own, matches, said, kept)

    def _interfaces(self) -> Iterator[Interface]:
        for device in self.plan.devices.values():
            yield from device.interfaces.values()

    def _mac(self, row: TableRow, taken: set[int]) -> int | None:
        """Return the hardware address in a row; one that is invalid or taken is reported."""
        text = row.values.get("mac", "")
        mac = mac_of(text)
        if text and (mac is None or mac in taken):
            why = "no hardware address of one machine" if mac is None else "another machine's, too"
            self.draft.remarks.append(f"row {row.number}: {text} is {why}, and is left out")
            return None
        if mac is not None:
            taken.add(mac)
        return mac

    def _subnet(self, row: TableRow, addresses: Sequence[Address]) -> str:
        """Return the subnet that a row names, "" where it names none. Raises `PlanError` for one
        that does not exist, and where none is named and no subnet has the addresses.
        """
        given = row.values.get("subnet", "")
        name = one_of(plain_name(given), self.prefixes) if given else ""
        if given and not name:
            known = f"; there are {', '.join(self.prefixes)}" if 0 < len(self.prefixes) <= 6 else ""
            raise row.problem(f"no subnet {given}{known}", "subnet")
        return name

    def _change_host(
        self, match: Match, addresses: list[Address], mac: int | None, said: RowChanges
    ) -> None:
        """Write what a row says differently about a host."""
        row, name, known = match
        old = self.plan.hosts[known or name]
        line = LineParts(self.draft.line(old.place), ("on", "at", "gateway", "mac", "stateful"))
        was = self.anew.get(old.on, old.on)
        on = self._subnet(row, addresses) or self._around(addresses, was) or was
        families = {each.family for each in addresses}
        for each in old.addresses:
            if each.family in families:
                continue
            if on == was or holds(self.prefixes.get(on, ()), each):
                addresses.append(each)
            else:
                self.draft.remarks.append(f"{name} loses {each}, which is not on {on}")
        if {*addresses} != {*old.addresses}:
            line.head[2:] = map(str, addresses)
            said.add("with another address", name)
        if on != was:
            line.put("on", on)
            said.add("moved", name)
        if mac is not None and mac != old.mac:
            line.put("mac", format_mac(mac))
            said.add("with another hardware address", name)
        if on != was:
            for each in old.gateways:
                if not holds(self.prefixes.get(on, ()), each):
                    line.leave_out("gateway", str(each))
                    self.draft.remarks.append(
                        f"{name} had the gateway {each}, which is not on {on}, and has none now"
                    )
        self._write(old.place, line)

    def _around(self, addresses: Sequence[Address], now: str) -> str:
        """Return the subnet for addresses: the machine's present one if it has them, or else the
        only one that does, or else "".
        """
        segment = self.plan.segments.get(now)
        if (segment is not None and segment.outside) or all(
            holds(self.prefixes.get(now, ()), each) for each in addresses
        ):
            return now
        found = [
            name
            for name, prefixes in self.prefixes.items()
            if all(holds(prefixes, each) for each in addresses)
        ]
        return found[0] if len(found) == 1 else ""

    # ---- Groups of roles

    def _roles(
        self, table: ComingTable, matches: Sequence[Match], said: RowChanges
    ) -> frozenset[Place]:
        """Bring the groups in step that follow a column of roles; return their lines."""
        header = next((row.headers["role"] for row in table.rows if "role" in row.headers), None)
        if header is None:
            return frozenset()
        column, file = quotable(header), quotable(PurePath(table.file).name)
        mark = f'# kept by column "{column}" of {file}'
        members: dict[str, dict[str, None]] = {}
        for row, name, _ in matches:
            for role in re.split("[,;]", row.values.get("role", "")):
                group = plain_name(role)
                if group:
                    self.came_from.setdefault(group, row)
                    members.setdefault(group, {})[name] = None
        kept = {
            name: each.place
            for name, each in self.plan.groups.items()
            if (remark := self.draft.line(each.place).remark) and remark.text.strip() == mark
        }
        by_hand = [name for name in members if name in self.plan.groups and name not in kept]
        if by_hand:
            raise PlanErrors(
                [
                    self.came_from[name].problem(
                        f"the plan has a group {name} that this column does not keep; rename one, "
                        f"or let its line end with {mark}",
                        "role",
                    )
                    for name in by_hand
                ]
            )
        new = [
            f"group {name} {', '.join(own)}  {mark}"
            for name, own in members.items()
            if name not in kept
        ]
        for name, place in kept.items():
            self._change_group(name, place, [*members.get(name, ())], mark, said)
        for name in members:
            if name not in kept:
                said.add("new groups" if len(new) > 1 else "new group", name)
        groups = [each.place for each in self.plan.groups.values()]
        if groups:
            self._add(groups, new)
        elif new:
            self._add([each.place for each in self.plan.hosts.values()], ["", *new])
        return frozenset(kept.values())

    def _change_group(
        self, name: str, place: Place, members: Sequence[str], mark: str, said: RowChanges
    ) -> None:
        """Write the members of such a group; those that stay keep their order."""
        line = self.draft.line(place)
        if not members:
            self._see_unused("group", {name}, frozenset({place}), "has no machine any more")
            self.draft.drop(place)
            said.add("groups gone", name)
            return
        now = [each.strip() for each in re.sub("#.*", "", line.text).split(None, 2)[2].split(",")]
        wanted = [each for each in now if each in members]
        wanted += [each for each in members if each not in wanted]
        if wanted != now:
            self.draft.replace(place, f"{line.indent}group {name} {', '.join(wanted)}  {mark}")
            said.add("groups changed", name)
