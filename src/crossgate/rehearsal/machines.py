"""The hosts and devices of a plan as machines that send and receive frames."""

from __future__ import annotations

from typing import NamedTuple

from crossgate.core.model.address import Address
from crossgate.core.model.plan import Plan


class Machine(NamedTuple):
    """A host or a device that sends and receives frames: its name and hardware address."""

    name: str
    mac: int
    addresses: tuple[Address, ...]


def machines_of(plan: Plan) -> list[Machine]:
    """Return the hosts and devices of a plan with their hardware addresses; one without an address
    in the plan gets a locally administered one (RFC 7042 section 2.1).
    """
    found, number = list[Machine](), 0
    for host in plan.hosts.values():
        number += 1
        mac = 0x020000000000 | number if host.mac is None else host.mac
        found.append(Machine(host.name, mac, host.addresses))
    for device in plan.devices.values():
        number += 1
        own = [each.address for one in device.interfaces.values() for each in one.addresses]
        shared = [
            address
            for address, gateway in plan.gateway_at.items()
            if device.name in {point.owner for point in gateway.by}
        ]
        if own:
            addresses = tuple(dict.fromkeys((*own, *shared)))
            found.append(Machine(device.name, 0x020000000000 | number, addresses))
    return found
