"""The network of a plan: its segments, devices and hosts, found by name, by address and by
place.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterable, Iterator
from copy import copy
from dataclasses import dataclass, field
from functools import cached_property
from typing import Self

from crossgate.core.model.address import Address, Family, Pattern
from crossgate.core.model.named import UnknownName
from crossgate.core.model.network import (
    Device,
    Host,
    Interface,
    Point,
    PointKind,
    Segment,
    SharedGateway,
    Translation,
)

_FEW_HOSTS = 32
"""So many addresses of hosts are sorted, rather than searched in the plan's order."""


@dataclass(kw_only=True)
class Topology:
    """What a plan says of its network.

    `down` are the devices (`DEVICE itself`), interfaces and switch ports that are taken to be down;
    none in a plan as read.
    """

    static_routing: bool = False
    segments: dict[str, Segment] = field(default_factory=dict)
    devices: dict[str, Device] = field(default_factory=dict)
    hosts: dict[str, Host] = field(default_factory=dict)
    gateways: list[SharedGateway] = field(default_factory=list)
    down: frozenset[Point] = frozenset()

    def is_on(self, address: Address, segment: str) -> bool:
        """Whether an address is in the subnet or outside of this name."""
        found = self.segment_of(address)
        return found is not None and found.name == segment

    @cached_property
    def with_machines(self) -> frozenset[str]:
        """The names of the subnets and outsides with hosts."""
        return frozenset(host.on for host in self.hosts.values())

    @cached_property
    def machines_between(self) -> frozenset[str]:
        """Those of `with_machines` that several devices are attached to; for other segments it
        makes no difference to paths whether they have hosts.
        """
        devices: dict[str, set[str]] = {}
        for device in self.devices.values():
            for interface in device.interfaces.values():
                devices.setdefault(interface.on, set()).add(device.name)
        return frozenset(name for name in self.with_machines if len(devices.get(name, ())) > 1)

    @cached_property
    def interface_of(self) -> dict[Address, Interface]:
        """The interface with each address."""
        return {
            own.address: interface
            for device in self.devices.values()
            for interface in device.interfaces.values()
            for own in interface.addresses
        }

    @cached_property
    def translations(self) -> dict[Family, tuple[Translation, ...]]:
        """The rules of address translation of each family, device by device in their order."""
        every = [each for device in self.devices.values() for each in device.translations]
        return {family: tuple(each for each in every if each.family is family) for family in Family}

    def translated_at(self, address: Address) -> Interface | None:
        """Return the interface at which an address is used in the place of others; None for an
        address that some machine has as well.
        """
        if not self.translations[address.family] or self.is_given(address):
            return None
        rule = next(
            (each for each in self.translations[address.family] if each.is_public(address)), None
        )
        return None if rule is None else self.devices[rule.device].interfaces[rule.interface]

    @cached_property
    def gateway_at(self) -> dict[Address, SharedGateway]:
        """The shared gateway with each address."""
        return {address: gateway for gateway in self.gateways for address in gateway.addresses}

    @cached_property
    def cabled(self) -> frozenset[Point]:
        """The switch ports at both ends of every cable between two switches, from whichever end the
        plan gives it.
        """
        ports = (port for device in self.devices.values() for port in device.ports.values())
        return frozenset(
            end for port in ports if port.to is not None for end in (port.point, port.to)
        )

    def without(self, down: Iterable[Point]) -> Self:
        """Return the network with some devices, interfaces and switch ports down."""
        plan = copy(self)
        plan.down = self.down | {*down}
        return plan

    def is_down(self, interface: Interface) -> bool:
        """Whether an interface is down."""
        return bool(self.down) and (
            interface.point in self.down or self.devices[interface.device].itself in self.down
        )

    def hosts_in(self, pattern: Pattern) -> Iterator[Address]:
        """Yield the addresses of hosts in a pattern, in the plan's order."""
        found = self._host_values[pattern.family]
        if pattern.is_prefix:
            found = found[
                bisect_left(found, (pattern.first, 0)) : bisect_left(found, (pattern.last + 1, 0))
            ]
        inside: Iterable[int]
        if len(found) > _FEW_HOSTS:  # whoever asks mostly wants the first ones
            inside = filter(pattern.contains, self._host_values_in_order[pattern.family])
        else:
            several = ((order, value) for value, order in found if pattern.contains(value))
            inside = (value for _, value in sorted(several))
        return (Address(pattern.family, value) for value in inside)

    @cached_property
    def _host_values(self) -> dict[Family, list[tuple[int, int]]]:
        """The address of every host as a number, by family, with its index in the plan's order;
        sorted.
        """
        ordered = [address for host in self.hosts.values() for address in host.addresses]
        return {
            family: sorted(
                (each.value, rank) for rank, each in enumerate(ordered) if each.family is family
            )
            for family in Family
        }

    @cached_property
    def _host_values_in_order(self) -> dict[Family, list[int]]:
        """The address of every host as a number, by family, in the plan's order."""
        return {
            family: [each.value for each in self.host_of if each.family is family]
            for family in Family
        }

    @cached_property
    def host_of(self) -> dict[Address, Host]:
        """The host with each address."""
        return {address: host for host in self.hosts.values() for address in host.addresses}

    @cached_property
    def broadcasts(self) -> dict[int, Segment]:
        """The subnet of each IPv4 broadcast address (RFC 922): the last address of a prefix of up
        to /30, unless a machine has it.
        """
        return {
            block.last: segment
            for segment in self.segments.values()
            if not segment.outside
            for block in segment.prefixes
            if block.family is Family.IPV4
            and block.size > 2
            and not self.is_given(Address(Family.IPV4, block.last))
        }

    def is_given(self, address: Address) -> bool:
        """Whether a host, an interface or a shared gateway has an address."""
        return address in self.host_of or address in self.interface_of or address in self.gateway_at

    @cached_property
    def _segments_by_prefix(self) -> dict[tuple[Family, int, bool], dict[int, Segment]]:
        """The segments by their prefixes: by family, wildcard, and whether it is an outside; then
        by the prefix's value.
        """
        found: dict[tuple[Family, int, bool], dict[int, Segment]] = {}
        for segment in self.segments.values():
            for block in segment.prefixes:
                found.setdefault((block.family, block.wildcard, segment.outside), {}).setdefault(
                    block.value, segment
                )
        return dict(sorted(found.items(), key=lambda item: item[0][2]))

    def segment_of(self, address: Address) -> Segment | None:
        """Return the subnet that contains an address, or else the outside whose prefixes contain
        it, or else the one without prefixes. Results are kept, so the plan must be complete.
        """
        family, value = address
        for (own, wildcard, _), segments in self._segments_by_prefix.items():
            if (
                own is family
                and (value & ~wildcard) in segments
                and not segments[value & ~wildcard].leaves_out(address)
            ):
                return segments[value & ~wildcard]
        return None if self.rest is None or self.rest.leaves_out(address) else self.rest

    @cached_property
    def rest(self) -> Segment | None:
        """The outside without prefixes: it has all addresses that are in no subnet and no other
        outside.
        """
        return next(
            (
                segment
                for segment in self.segments.values()
                if segment.outside and not segment.prefixes
            ),
            None,
        )

    def segment_at(self, point: Point) -> Segment | None:
        """Return the subnet or outside that an interface is on; None for a point that is no
        interface.
        """
        return (
            self.segments[self.devices[point.owner].interfaces[point.part].on]
            if point.kind is PointKind.INTERFACE
            else None
        )

    def point(self, text: str) -> Point:
        """Find the interface or port DEVICE.NAME, split at the first dot. Raises `UnknownName`."""
        owner, _, part = text.partition(".")
        device = self.devices.get(owner)
        if device is None:
            raise UnknownName("device", owner, list(self.devices), f".{part}")
        if part in device.interfaces:
            return device.interfaces[part].point
        if part in device.ports:
            return Point(PointKind.PORT, owner, part)
        known = [f"{owner}.{name}" for name in (*device.interfaces, *device.ports)]
        raise UnknownName("interface or port" if device.switch else "interface", text, known)

    def inside(self, family: Family) -> list[Pattern]:
        """Return the prefixes of the plan's subnets of a family."""
        return [
            block
            for segment in self.segments.values()
            if not segment.outside
            for block in segment.prefixes
            if block.family is family
        ]
