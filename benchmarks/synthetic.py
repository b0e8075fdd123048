"""Made-up lists for the benchmarks: nested site prefixes, a share of scattered wildcards, the
services people write.

The generator is seeded, so every run measures the same lists.
"""

from __future__ import annotations

import ipaddress
import random

SERVICES = (
    "tcp/443",
    "tcp/80,8080",
    "udp/53",
    "ip",
    "tcp/22",
    "udp/5000-5999",
    "icmp/8",
    "tcp/1024-",
    "udp/123",
    "tcp/3306",
)


def _address(value: int) -> str:
    return ".".join(str(value >> shift & 255) for shift in (24, 16, 8, 0))


def _block_6(rng: random.Random, scattered: float, may_be_any: bool) -> str:
    """Return one source or destination of IPv6, as `_block` does."""
    site = (
        0x20010DB8 << 96
        | rng.randrange(64) << 80
        | rng.randrange(256) << 72
        | rng.randrange(256) << 64
        | rng.getrandbits(64)
    )
    if rng.random() < scattered:
        wildcard = rng.choice((3, 5, 7, 85, 255)) << 72 | (1 << 64) - 1
        return f"{ipaddress.IPv6Address(site & ~wildcard)} wild {ipaddress.IPv6Address(wildcard)}"
    if may_be_any and rng.random() < 0.05:
        return "any"
    length = rng.choice((48, 52, 56, 60, 64, 64, 64, 96, 128, 128))
    return f"{ipaddress.IPv6Address(site & ~((1 << (128 - length)) - 1))}/{length}"


def _block(rng: random.Random, scattered: float, may_be_any: bool) -> str:
    """Return one source or destination: a site prefix of some depth, a scattered wildcard, or
    any.
    """
    site = 10 << 24 | rng.randrange(64) << 16 | rng.randrange(256) << 8 | rng.randrange(256)
    if rng.random() < scattered:
        return f"{_address(site & ~0xFF00)} wild 0.0.{rng.choice((3, 5, 7, 85, 255))}.0"
    if may_be_any and rng.random() < 0.05:
        return "any"
    length = rng.choice((16, 20, 22, 24, 24, 26, 28, 30, 32, 32))
    return f"{_address(site & ~((1 << (32 - length)) - 1))}/{length}"


def entries(count: int, seed: int = 1, scattered: float = 0.03, six: bool = False) -> list[str]:
    """Return entries of an extended list, one a line, with their numbers."""
    rng = random.Random(seed)
    block = _block_6 if six else _block
    lines = []
    for number in range(1, count + 1):
        action = rng.choice(("permit", "permit", "deny"))
        service = rng.choice(SERVICES)
        source = block(rng, scattered, True)
        destination = block(rng, scattered, source != "any" and service != "ip")
        lines.append(f"    {number * 10} {action} {service} {source} to {destination}")
    return lines


def plan(count: int, seed: int = 1, scattered: float = 0.03, six: bool = False) -> str:
    """Return a plan with one list of so many entries."""
    return "\n".join(
        [f"list big extended ipv{6 if six else 4}", *entries(count, seed, scattered, six), ""]
    )


def crowded(six: bool, count: int) -> str:
    """Return a plan with one list of single hosts, prefixes and wide port ranges, and groups of up
    to 1,000 in 15 of 100 entries.
    """
    rng = random.Random(4)
    hosts = [
        _host(six, side, rng.randrange(1 << 16)) for side in (0, 1) for _ in range(count // 4 + 50)
    ]
    groups = max(count // 100, 5)
    lines = [
        (
            f"group g{number} "
            f"{', '.join(rng.sample(hosts, min(int(2 * 500 ** rng.random()), len(hosts))))}"
        )
        for number in range(groups)
    ]
    lines.append(f"list big extended ipv{6 if six else 4}")

    def end() -> str:
        host = rng.choice(hosts)
        return f"{host.rpartition(':')[0]}:0/120" if six and rng.random() < 0.25 else host

    for index in range(count):
        kind = rng.random()
        source = f"g{rng.randrange(groups)}" if kind < 0.1 else end()
        destination = f"g{rng.randrange(groups)}" if kind < 0.05 or 0.1 <= kind < 0.15 else end()
        first = rng.randrange(1, 60_000)
        ports = (
            f"{first}-{min(first + int(2 ** rng.uniform(1, 16)), 65_535)}"
            if rng.random() < 0.4
            else first
        )
        lines.append(
            f"    {10 * index + 10} {rng.choice(('permit', 'deny'))} "
            f"{rng.choice(('tcp', 'udp'))}/{ports} {source} to {destination}"
        )
    return "\n".join([*lines, ""])


def site(
    subnets: int = 40, devices: int = 10, hosts: int = 200, count: int = 200, seed: int = 1
) -> str:
    """Return a plan of a whole site: a spine with devices on it, subnets on these, hosts, and a
    list at every subnet's interface.
    """
    rng = random.Random(seed)
    lines = [f"subnet s{number} 10.{number}.0.0/24" for number in range(subnets)] + [
        "subnet spine 10.255.0.0/24"
    ]
    for device in range(devices):
        lines += [f"router r{device}", f"    interface spine 10.255.0.{device + 1}/24 on spine"]
        lines += [
            f"    interface i{number} 10.{number}.0.1/24 on s{number}"
            for number in range(device, subnets, devices)
        ]
    lines += [
        f"host h{number} 10.{number % subnets}.0.{10 + number // subnets} on s{number % subnets}"
        for number in range(hosts)
    ]
    for number in range(subnets):
        lines += [
            f"list l{number} extended ipv4",
            *entries(count, rng.randrange(1 << 30)),
            "    otherwise permit",
        ]
        lines.append(f"place l{number} inbound on r{number % devices}.i{number}")
    return "\n".join([*lines, ""])


_SITE = {
    False: ("10.0.0.0/9", "10.128.0.0/9", "10.0.0.1/9", "10.128.0.1/9"),
    True: ("2001:db8:a::/48", "2001:db8:b::/48", "2001:db8:a::1/48", "2001:db8:b::1/48"),
}


def placed(text: str, six: bool = False) -> str:
    """Return a plan with its list `big` placed between two subnets, `here` and `far`."""
    here, far, one, other = _SITE[six]
    network = (
        f"subnet here {here}\nsubnet far {far}\nrouter r\n    interface i0 {one} on here\n  "
        f"  interface i1 {other} on far\n"
    )
    return f"{network}{text}\nplace big inbound on r.i0\n"


def _host(six: bool, side: int, number: int) -> str:
    return (
        f"2001:db8:{'ab'[side]}::{number:x}"
        if six
        else f"10.{128 * side}.{number >> 8}.{number & 255}"
    )


def grouped(six: bool, count: int, members: int, ports: int) -> str:
    """Return a placed list of `count` entries between two groups a side, each of so many hosts and
    each service of so many ports.
    """
    rng = random.Random(1)
    lines = [
        f"group {'gk'[side]}{number} "
        + ", ".join(
            _host(six, side, each) for each in sorted(rng.sample(range(2, 60_000), members))
        )
        for number in range(2)
        for side in range(2)
    ]
    lines.append(f"list big extended ipv{6 if six else 4}")
    for index in range(count):
        chosen = ",".join(map(str, sorted(rng.sample(range(1, 60_000), ports))))
        lines.append(
            f"    {10 * index + 10} {rng.choice(('permit', 'permit', 'deny'))} tcp/{chosen} "
            f"g{rng.randrange(2)} to k{rng.randrange(2)}"
        )
    return placed("\n".join(lines), six)


def ranged(six: bool, count: int, ranges: int) -> str:
    """Return a placed list of `count` entries whose services are so many port ranges each."""
    rng = random.Random(2)
    lines = [f"list big extended ipv{6 if six else 4}"]
    for index in range(count):
        ends = sorted(rng.sample(range(1, 65_000), 2 * ranges))
        spans = ",".join(
            f"{first}-{last}" for first, last in zip(ends[::2], ends[1::2], strict=True)
        )
        source = f"{_host(six, 0, rng.randrange(256) << 8)}/{120 if six else 24}"
        lines.append(
            f"    {10 * index + 10} {rng.choice(('permit', 'deny'))} tcp/{spans} {source} to any"
        )
    return placed("\n".join(lines), six)


def standard(count: int) -> str:
    """Return a placed standard list of entries that each fix 8 bits anywhere."""
    rng = random.Random(3)
    lines = ["list big standard ipv4"]
    for index in range(count):
        wildcard = 0xFFFFFFFF & ~sum(1 << bit for bit in rng.sample(range(32), 8))
        value = rng.getrandbits(32) & ~wildcard
        written = (
            ".".join(str(each >> shift & 255) for shift in (24, 16, 8, 0))
            for each in (value, wildcard)
        )
        lines.append(
            f"    {10 * index + 10} {rng.choice(('permit', 'deny'))} {' wild '.join(written)}"
        )
    return placed("\n".join(lines))


def ladder(six: bool, tiers: int) -> str:
    """Return pairs of routers in a row, each joined to both of the next pair, with a list of its
    own on every one, there and back.
    """

    def address(subnet: int, host: int) -> str:
        return f"2001:db8:0:{subnet}::{host}" if six else f"10.0.{subnet}.{host}"

    length, family = (64, "ipv6") if six else (24, "ipv4")
    lines = [f"subnet s{tier} {address(tier, 0)}/{length}" for tier in range(tiers + 1)]
    for tier in range(tiers):
        for number, side in enumerate("ab"):
            lines += [
                f"router {side}{tier}",
                f"    interface near {address(tier, 11 + number)}/{length} on s{tier}",
            ]
            lines.append(
                f"    interface far {address(tier + 1, 1 + number)}/{length} on s{tier + 1}"
            )
            lines.append(f"list there-{side}{tier} extended {family}")
            lines += [
                f"    deny tcp/{1000 + 100 * tier + 10 * port + 5 * number} any to any"
                for port in range(4)
            ]
            lines += [
                "    permit ip s0 to any",
                "    permit ip any to s0",
                f"place there-{side}{tier} inbound on {side}{tier}.near",
            ]
            lines += [
                f"list back-{side}{tier} extended {family}",
                "    permit tcp any to any established",
                "    permit udp any to s0",
            ]
            lines += [
                "    permit ping any to any",
                "    permit tcp/22 any to any",
                f"place back-{side}{tier} inbound on {side}{tier}.far",
            ]
    lines += [f"host left {address(0, 99)} on s0", f"host right {address(tiers, 99)} on s{tiers}"]
    lines += [f"expect permit tcp/443 s0 to s{tiers}", f"expect half-open gre s0 to s{tiers}"]
    return "\n".join(lines) + "\n"
