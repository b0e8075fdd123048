"""What the machines of a rehearsal are told of their network."""

from __future__ import annotations

import ipaddress
from collections.abc import Sequence

from crossgate.core.model.address import Address, Family
from crossgate.core.model.plan import Plan
from crossgate.rehearsal.machines import Machine
from crossgate.rehearsal.namespaces import (
    MachineRoute,
    Settings,
)


def settings_of(plan: Plan, machine: Machine) -> Settings:
    """Return how a machine of a plan is set up: with the prefixes of its subnet and its gateway. A
    device, and a machine on an outside, reach everybody directly on their link.
    """
    addresses, routes = list[tuple[Address, int]](), list[MachineRoute]()
    host = plan.hosts.get(machine.name)
    for address in machine.addresses:
        length, whole = None, 32 if address.family is Family.IPV4 else 128
        if host is not None and not plan.segments[host.on].outside:
            blocks = (
                each
                for each in plan.segments[host.on].prefixes
                if each.family is address.family and each.contains(address.value)
            )
            length = next((each.prefix_length for each in blocks), None)
        addresses.append((address, whole if length is None else length))
    for family in Family:
        own = [each for each in machine.addresses if each.family is family]
        if not own:
            continue
        if host is None:
            interfaces = plan.devices[machine.name].interfaces.values()
            for each in (one for own_one in interfaces for one in own_one.in_family(family)):
                prefix = str(ipaddress.ip_network(f"{each.address}/{each.length}", strict=False))
                routes.append(MachineRoute(family, prefix, source=each.address))
            routes.append(MachineRoute(family, None, source=own[0]))
        elif plan.segments[host.on].outside:
            routes.append(MachineRoute(family, None))
        else:
            gateway = _gateway(plan, host.on, host.gateways, family)
            if gateway is not None:
                routes.append(MachineRoute(family, None, gateway))
    unique = dict.fromkeys(routes)
    return Settings(machine.mac, tuple(addresses), tuple(unique), plan.client_ports)


def _gateway(plan: Plan, segment: str, told: Sequence[Address], family: Family) -> Address | None:
    """Return the address that a machine sends packets to; where several devices share it, this does
    not decide which one gets them.
    """
    shared = (address for address, each in plan.gateway_at.items() if each.on == segment)
    interfaces = (
        own.address
        for device in plan.devices.values()
        for each in device.interfaces.values()
        for own in each.addresses
        if each.on == segment
    )
    return next((each for each in (*told, *shared, *interfaces) if each.family is family), None)
