"""What a document says of a network: devices and subnets to be taken into a plan."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

from crossgate.core.model.address import Address, Pattern, prefix
from crossgate.core.model.network import Point, PointKind
from crossgate.language.plain_names import device_name, part_name
from crossgate.language.set_names import SetNames


@dataclass(eq=False)
class ComingInterface:
    """An interface: its addresses with their prefix lengths, and the name of its subnet, "" where
    that is unknown.
    """

    name: str
    addresses: list[tuple[Address, int]] = field(default_factory=list)
    on: str = ""
    vlan: bool = False

    def prefixes(self) -> list[Pattern]:
        """Return the connected prefixes."""
        return [prefix(address, length) for address, length in self.addresses]


class ComingTranslation(NamedTuple):
    """A translation rule of a device: the addresses it begins with, the words after them, the
    addresses it ends with, and the words after those.
    """

    addresses: Sequence[Pattern]
    words: str
    to: Sequence[Pattern] = ()
    rest: str = ""

    def text(self, names: SetNames) -> str:
        """Write it with the names of a plan, except for several outside addresses: a name may be of
        both families, and a rule is for one.
        """
        first = names.known(self.addresses, self.addresses[0].family)
        one = len(self.to) == 1 and self.to[0].size == 1
        last = names.known(self.to, self.to[0].family) if one else None
        sides = [
            known or ", ".join(map(str, each))
            for known, each in ((first, self.addresses), (last, self.to))
        ]
        words = ("translate", sides[0], self.words, sides[1], self.rest)
        return " ".join(word for word in words if word)


@dataclass(eq=False)
class ComingDevice:
    """A device with its interfaces, static routes and ports; a port with a cable has the port at
    the other end.

    `translations` is None where they are unknown. A `pictured` device comes from a picture of
    links, and a document of its own tells more about it.
    """

    name: str
    interfaces: list[ComingInterface] = field(default_factory=list)
    routes: list[tuple[Pattern, Address | None]] = field(default_factory=list)
    ports: dict[str, tuple[str, str] | None] = field(default_factory=dict)
    translations: list[ComingTranslation] | None = None
    pictured: bool = False

    @property
    def switch(self) -> bool:
        """Whether it is a switch: it has ports, an interface of a VLAN, or no address at all."""
        return (
            bool(self.ports)
            or any(each.vlan for each in self.interfaces)
            or not any(each.addresses for each in self.interfaces)
        )

    def point(self, text: str) -> Point | None:
        """Return the interface or port with a name, None where there is none."""
        own = text.removeprefix(f"{self.name}.")
        for each in self.interfaces:
            if each.name in (text, own) and (each.addresses or self.switch):
                return Point(
                    PointKind.INTERFACE if each.addresses else PointKind.PORT,
                    device_name(self.name),
                    part_name(each.name),
                )
        return None


@dataclass(eq=False)
class ComingSegment:
    """A subnet or an outside that a document describes."""

    name: str
    prefixes: list[Pattern]
    outside: bool = False
