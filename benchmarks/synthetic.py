"""Made-up lists for the benchmarks: nested site prefixes, a share of scattered wildcards, the services people write.

The generator is seeded, so every run measures the same lists.
"""

from __future__ import annotations

import random

SERVICES = ("tcp/443", "tcp/80,8080", "udp/53", "ip", "tcp/22", "udp/5000-5999", "icmp/8", "tcp/1024-", "udp/123", "tcp/3306")


def _address(value: int) -> str:
    return ".".join(str(value >> shift & 255) for shift in (24, 16, 8, 0))


def _block(rng: random.Random, scattered: float, may_be_any: bool) -> str:
    """Return one source or destination: a site prefix of some depth, a scattered wildcard, or any."""
    site = 10 << 24 | rng.randrange(64) << 16 | rng.randrange(256) << 8 | rng.randrange(256)
    if rng.random() < scattered:
        return f"{_address(site & ~0xFF00)} wild 0.0.{rng.choice((3, 5, 7, 85, 255))}.0"
    if may_be_any and rng.random() < 0.05:
        return "any"
    length = rng.choice((16, 20, 22, 24, 24, 26, 28, 30, 32, 32))
    return f"{_address(site & ~((1 << (32 - length)) - 1))}/{length}"


def entries(count: int, seed: int = 1, scattered: float = 0.03) -> list[str]:
    """Return entries of an extended IPv4 list, one a line, with their numbers."""
    rng = random.Random(seed)
    lines = []
    for number in range(1, count + 1):
        action = rng.choice(("permit", "permit", "deny"))
        service = rng.choice(SERVICES)
        source = _block(rng, scattered, True)
        destination = _block(rng, scattered, source != "any" and service != "ip")
        lines.append(f"    {number * 10} {action} {service} {source} to {destination}")
    return lines


def plan(count: int, seed: int = 1, scattered: float = 0.03) -> str:
    """Return a plan with one list of so many entries."""
    return "\n".join(["list big extended ipv4", *entries(count, seed, scattered), ""])


def site(subnets: int = 40, devices: int = 10, hosts: int = 200, count: int = 200, seed: int = 1) -> str:
    """Return a plan of a whole site: a spine with devices on it, subnets on these, hosts, and a list at every subnet's interface."""
    rng = random.Random(seed)
    lines = [f"subnet s{number} 10.{number}.0.0/24" for number in range(subnets)] + ["subnet spine 10.255.0.0/24"]
    for device in range(devices):
        lines += [f"router r{device}", f"    interface spine 10.255.0.{device + 1}/24 on spine"]
        lines += [f"    interface i{number} 10.{number}.0.1/24 on s{number}" for number in range(device, subnets, devices)]
    lines += [f"host h{number} 10.{number % subnets}.0.{10 + number // subnets} on s{number % subnets}" for number in range(hosts)]
    for number in range(subnets):
        lines += [f"list l{number} extended ipv4", *entries(count, rng.randrange(1 << 30)), "    otherwise permit"]
        lines.append(f"place l{number} inbound on r{number % devices}.i{number}")
    return "\n".join([*lines, ""])
