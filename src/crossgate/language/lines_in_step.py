"""Lines of subnets, hosts and interfaces that a table changes: in each only what the table
contradicts.
"""

from __future__ import annotations

from collections.abc import Sequence

from crossgate.core.model.address import Pattern
from crossgate.core.model.errors import Place
from crossgate.core.model.network import Device, Interface
from crossgate.language.draft import Draft
from crossgate.language.known_rows import Match, RowChanges, holds, one_of
from crossgate.language.lines import Line, Token
from crossgate.language.table_rows import gateway_of, plain_name, several


class LineParts:
    """A line of a subnet, a host or an interface: its words up to the first of some keywords, and
    each keyword with the words after it.
    """

    def __init__(self, line: Line, keywords: Sequence[str]) -> None:
        words = [each.text for each in line.words()]
        start = next(
            (index for index, word in enumerate(words) if index > 1 and word in keywords),
            len(words),
        )
        self.head = words[:start]
        self.rest: list[list[str]] = []
        for word in words[start:]:
            if word in keywords:
                self.rest.append([word])
            else:
                self.rest[-1].append(word)
        self._line = line
        self._was = self._words()

    def _words(self) -> list[str]:
        return [*self.head, *(word for part in self.rest for word in part)]

    @property
    def changed(self) -> bool:
        """Whether it differs from what it was."""
        return self._words() != self._was

    def put(self, keyword: str, value: str) -> None:
        """Set the words after a keyword."""
        for part in self.rest:
            if part[0] == keyword:
                part[1:] = [value]
                return
        self.rest.insert(
            1 if self.rest and self.rest[0][0] == "on" and keyword != "on" else 0, [keyword, value]
        )

    def leave_out(self, keyword: str, value: str) -> None:
        """Remove a keyword with the words after it."""
        self.rest = [each for each in self.rest if each != [keyword, value]]

    def text(self) -> str:
        """Return the line; its remark stays."""
        remark: Token | None = self._line.remark
        behind = f"  {remark.text}" if remark else ""
        return f"{self._line.indent}{' '.join(self._words())}{behind}"


class Interfaces:
    """The interfaces on subnets that change: with other addresses, or new."""

    def __init__(self, draft: Draft) -> None:
        self._draft = draft
        self._plan = draft.plan
        self._addresses: dict[tuple[str, str], list[str]] = {}
        self._new: dict[str, list[str]] = {}
        self._there: dict[str, list[Interface]] = {}
        for device in self._plan.devices.values():
            for each in device.interfaces.values():
                self._there.setdefault(each.on, []).append(each)

    def _on(self, subnet: str | None) -> list[Interface]:
        return [] if subnet is None else self._there.get(subnet, [])

    def fit(self, subnet: str | None, prefixes: Sequence[Pattern]) -> None:
        """Adjust the prefix length of each interface address on a subnet to the subnet's
        prefixes.
        """
        for each in self._on(subnet):
            self._addresses[each.device, each.name] = [
                next(
                    (
                        f"{one.address}/{block.prefix_length}"
                        for block in prefixes
                        if holds([block], one.address)
                    ),
                    f"{one.address}/{one.length}",
                )
                for one in each.addresses
            ]

    def gateway(
        self, match: Match, prefixes: Sequence[Pattern], vlan: str, said: RowChanges
    ) -> None:
        """Give a subnet the gateway in its row. Raises `PlanError` where it is unknown which device
        that is.
        """
        row, name, known = match
        wanted = [gateway_of(row, word, prefixes) for word in several(row.values["gateway"])]
        there = self._on(known)
        given = one_of(plain_name(row.values.get("device", "")), [*self._plan.devices])
        device = given or plain_name(row.values.get("device", ""))
        answers = {str(one.address) for each in there for one in each.addresses}
        answers |= {
            str(each) for one in self._plan.gateways if one.on == known for each in one.addresses
        }
        asked = [each for each in there if each.device == device] if device else there
        if all(each.partition("/")[0] in answers for each in wanted) and (asked or not device):
            return
        if len(asked) > 1:
            several_devices = " and ".join(str(each.point) for each in asked)
            raise row.problem(
                f"{several_devices} are on {name}; write the gateway in the plan, or name one of "
                "the devices in a column device",
                "gateway",
            )
        if asked:
            self._set(asked[0], wanted, prefixes)
            said.add("with another gateway", name)
            return
        if not device:
            if len(self._plan.devices) > 1:
                raise row.problem(
                    f"which device is the gateway of {name}? a column device says so", "gateway"
                )
            device = next(iter(self._plan.devices), "gateway")
        self._new.setdefault(device, []).append(
            f"    interface {self._name(device, vlan, name)} {' '.join(wanted)} on {name}"
        )
        said.add("with a new interface", f"{name} at {device}")

    def _set(self, own: Interface, wanted: list[str], prefixes: Sequence[Pattern]) -> None:
        """Give an interface other addresses of the families that are wanted."""
        families = {
            block.family
            for block in prefixes
            for each in wanted
            if (":" in each) == (":" in str(block))
        }
        kept = [
            text
            for text, one in zip(self._addresses[own.device, own.name], own.addresses, strict=True)
            if one.address.family not in families
        ]
        self._addresses[own.device, own.name] = [*wanted, *kept]

    def _name(self, device: str, vlan: str, subnet: str) -> str:
        """Return a name for a new interface of a device."""
        own = self._plan.devices.get(device)
        taken = {*own.interfaces, *own.ports} if own else set[str]()
        name = f"v{vlan}" if vlan else subnet
        return name if name not in taken else subnet

    def write(self) -> None:
        """Write all of it."""
        for (device, name), addresses in self._addresses.items():
            own = self._plan.devices[device].interfaces[name]
            line = LineParts(self._draft.line(own.place), ("on", "at", "mac", "cost", "passive"))
            line.head[2:] = addresses
            if line.changed:
                self._draft.replace(own.place, line.text())
        for device, lines in self._new.items():
            own_device = self._plan.devices.get(device)
            if own_device is not None:
                places = [each.place for each in own_device.interfaces.values()]
                self._draft.after(
                    max(places or [own_device.place], key=lambda each: each.line), *lines
                )
                continue
            last = [_last_line(each) for each in self._plan.devices.values()]
            self._draft.beside(last, "", f"router {device}", *lines)


def _last_line(device: Device) -> Place:
    """Return where the last line of a device's block stands."""
    own = [device.place]
    own += [each.place for each in device.interfaces.values()]
    own += [each.place for each in device.ports.values()]
    own += [each.place for each in device.routes]
    own += [each.place for each in device.translations]
    own += [each.place for each in device.management]
    return max(own, key=lambda each: each.line)
