"""Made-up sites for the benchmarks: S, M, L and XL, as a tree, as a mesh, with two cores and as a
fabric of leaves and spines, in either family.

A site has devices in a tree, subnets and hosts on them, and a list inbound where a subnet's
machines come in. A mesh has as many links again; with two cores every device has a link to both, so
that there are equal paths everywhere. In a fabric every leaf has a link to each of eight spines,
and every subnet has two leaves as its gateways, with the same list at both.
"""

from __future__ import annotations

import random
from collections.abc import Iterator
from typing import NamedTuple

from crossgate.core.model.address import Family

SHAPES = ("tree", "mesh", "two cores")
_SERVICES = (
    "tcp/443",
    "tcp/80,8080",
    "udp/domain",
    "tcp/22",
    "udp/5000-5999",
    "ping",
    "tcp/1024-",
    "udp/ntp",
)


class Size(NamedTuple):
    """How large a site is; a list has from `least` to `most` entries."""

    devices: int
    subnets: int
    lists: int
    hosts: int
    expectations: int
    least: int = 50
    most: int = 200


SIZES = {
    "S": Size(10, 20, 10, 50, 20),
    "M": Size(50, 200, 100, 500, 200),
    "L": Size(200, 1000, 500, 2000, 1000),
}
LARGEST = {"XL": Size(1000, 5000, 2500, 10_000, 5000)}
"""A size that only `whole.py` looks at: it takes minutes."""
FABRIC, FABRIC_SIZE = "leaf-spine", Size(72, 2000, 400, 2000, 400, least=6, most=12)
"""A fabric of 64 leaves and 8 spines."""
_SPINES = 8


def site(size: Size, shape: str, family: Family = Family.IPV4, seed: int = 64) -> str:
    """Return a site as a plan."""
    return "\n".join(_Site(size, shape, family, random.Random(seed)).lines()) + "\n"


def translating(text: str) -> str:
    """Return an IPv4 site with three ways out at which addresses are translated, a list each way at
    each, and claims about what goes out and comes in.
    """
    lines: list[str] = []
    for line in text.splitlines():
        border = next((n for n in range(3) if line == f"router r{n}"), None)
        lines.append(line + " stateful" * (border is not None))
        if border is not None:
            if border:
                lines.append(f"    interface out 203.0.113.{4 * border + 2}/30 on internet")
            lines += [
                "    translate 10.0.0.0/8 leaving out as itself",
                f"    translate 203.0.113.{100 + border} tcp/443 entering out to h{border}",
            ]
    for border in range(3):
        lines += [
            f"list out{border} extended ipv4",
            "    10 permit tcp 203.0.113.0/24 to any",
            "    20 deny tcp/25 any to any",
            "    otherwise permit",
            f"list in{border} extended ipv4",
            "    10 permit tcp/443 any to 203.0.113.0/24",
            f"place out{border} outbound on r{border}.out",
            f"place in{border} inbound on r{border}.out",
            f"expect permit https internet to 203.0.113.{100 + border}",
        ]
    lines += [f"expect permit https h{host} to internet" for host in range(20)]
    return "\n".join(lines) + "\n"


class _Site:
    def __init__(self, size: Size, shape: str, family: Family, chance: random.Random) -> None:
        self.size, self.shape, self.family, self.chance = size, shape, family, chance
        self.length = 24 if family is Family.IPV4 else 64

    def address(self, subnet: int, machine: int, link: bool = False) -> str:
        """Return the address of a machine of a subnet, or of a link between devices."""
        if self.family is Family.IPV4:
            return f"{'172' if link else '10'}.{(16 if link else 0) + (subnet >> 8)}.{subnet & 255}.{machine}"
        return f"2001:db8:{0x8000 * link + subnet:x}::{machine:x}"

    def links(self) -> list[tuple[int, int]]:
        """Return which devices are joined."""
        count = self.size.devices
        if self.shape == FABRIC:
            return [(spine, leaf) for leaf in range(_SPINES, count) for spine in range(_SPINES)]
        if self.shape == "two cores":
            return [(core, device) for device in range(2, count) for core in (0, 1)]
        found = [((device - 1) // 4, device) for device in range(1, count)]
        for device in range(1, count) if self.shape == "mesh" else ():
            other = self.chance.randrange(count)
            pair = (min(device, other), max(device, other))
            if device != other and pair not in found:
                found.append(pair)
        return found

    def gateways(self, subnet: int) -> list[int]:
        """Return the devices that a subnet's machines send to."""
        if self.shape != FABRIC:
            return [subnet % self.size.devices]
        leaves = self.size.devices - _SPINES
        return [_SPINES + leaf % leaves for leaf in (subnet, subnet + 1)]

    def lines(self) -> Iterator[str]:
        """Yield the plan line by line."""
        size, links = self.size, self.links()
        for subnet in range(size.subnets):
            yield f"subnet s{subnet} {self.address(subnet, 0)}/{self.length}"
        for link in range(len(links)):
            yield f"subnet l{link} {self.address(link, 0, link=True)}/{self.length}"
        yield "outside internet"
        for device in range(size.devices):
            yield f"router r{device}"
            for link, pair in enumerate(links):
                if device in pair:
                    yield (
                        f"    interface l{link} "
                        f"{self.address(link, 1 + pair.index(device), link=True)}/{self.length} "
                        f"on l{link}"
                    )
            for subnet in range(size.subnets):
                for machine, gateway in enumerate(self.gateways(subnet), 1):
                    if gateway == device:
                        own = f"{self.address(subnet, machine)}/{self.length}"
                        yield f"    interface v{subnet} {own} on s{subnet}"
            if device == 0:
                yield (
                    "    interface out "
                    f"{'203.0.113.2/30' if self.family is Family.IPV4 else '2001:db8:ffff::2/64'} "
                    "on internet"
                )
        for host in range(size.hosts):
            subnet = host % size.subnets
            yield f"host h{host} {self.address(subnet, 10 + host // size.subnets)} on s{subnet}"
        for number in range(size.lists):
            yield from self.access_list(number)
        for _ in range(size.expectations):
            here, there = self.chance.sample(range(size.subnets), 2)
            yield f"expect {self.chance.choice(('permit', 'deny'))} tcp/443 s{here} to s{there}"

    def access_list(self, number: int) -> Iterator[str]:
        """Yield a list for what the machines of one subnet send, and its place."""
        chance, size = self.chance, self.size
        yield f"list gate{number} extended {self.family.word}"
        yield "    10 deny tcp/telnet any to any log"
        yield f"    20 permit tcp s{number} to any established"
        for entry in range(3, chance.randint(size.least, size.most)):
            to = chance.choice(
                (f"s{chance.randrange(size.subnets)}", f"h{chance.randrange(size.hosts)}", "any")
            )
            yield (
                f"    {entry * 10} {chance.choice(('permit', 'permit', 'deny'))} "
                f"{chance.choice(_SERVICES)} s{number} to {to}"
            )
        yield "    otherwise deny"
        for gateway in self.gateways(number):
            yield f"place gate{number} inbound on r{gateway}.v{number}"
