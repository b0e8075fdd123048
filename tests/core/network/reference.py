"""All equal paths by plain recursion over next hops, written anew from docs/language.md; and random
networks to try them on.

A way is what a packet meets: the places with lists, in order, the stateful devices with lists that
it passes, and whether it arrives. Nothing of `core.network` is used here but for what an end is.
"""

from __future__ import annotations

import random
from collections.abc import Iterator

import crossgate
from crossgate.core.model.address import Address, Family
from crossgate.core.model.network import Device, Direction, Interface, Point, PointKind, Segment
from crossgate.core.model.plan import Plan
from crossgate.core.network.paths import Endpoint

IN, OUT = Direction.INBOUND, Direction.OUTBOUND
Met = tuple[Point, Direction]
Way = tuple[tuple[Met, ...], frozenset[str], bool]
"""Places with lists in order, stateful devices with lists passed, arrived."""


class Reference:
    def __init__(self, plan: Plan, family: Family) -> None:
        self.plan, self.family = plan, family
        self.interfaces = [
            each
            for name in sorted(plan.devices)
            for each in plan.devices[name].interfaces.values()
            if each.in_family(family) and self.up(each.point)
        ]
        self.machines_on = {each.on for each in plan.hosts.values()}
        self.machines_on |= {each.on for each in plan.gateways}
        self.costs: dict[Address, dict[str, int]] = {}
        self.listed = {(point, direction) for point, direction, own in plan.placed if own is family}
        self.stateful = {
            point.device
            for point, _ in self.listed
            if point.device and plan.devices[point.device].stateful
        }
        self.stateful |= {
            point.owner
            for point, _ in self.listed
            if point.owner in plan.hosts and plan.hosts[point.owner].stateful
        }

    def up(self, point: Point) -> bool:
        """Whether neither a point nor its device is down."""
        return (
            point not in self.plan.down
            and Point(PointKind.ITSELF, point.owner) not in self.plan.down
        )

    def ways_from(self, origin: Endpoint, destination: Address) -> set[Way]:
        """Return the ways from an end to an address."""
        if origin.address in self.plan.gateway_at:
            several = [
                self.own_ways(each.device, destination) for each in self.answering(origin.address)
            ]
            return set().union(*several) or {((), frozenset(), False)}
        if origin.device is not None:
            return self.own_ways(origin.device, destination)
        host = self.plan.host_of.get(origin.address)
        lead: list[Met] = [] if host is None else [(host.point, IN)]
        return {
            self._way(*each)
            for each in self._paths(lead, origin.segment, origin.at, origin.gateways, destination)
        }

    def answering(self, address: Address) -> list[Interface]:
        """Return the interfaces of the devices that answer for a shared gateway's address."""
        by = self.plan.gateway_at[address].by if address in self.plan.gateway_at else ()
        return [each for point in by for each in self.interfaces if each.point == point]

    def answers(self, device: str, address: Address) -> bool:
        return any(each.device == device for each in self.answering(address))

    def own_ways(self, device: str, destination: Address) -> set[Way]:
        """Return the ways of what a device sends itself."""
        first = [(self.plan.devices[device].itself, OUT)]
        return {
            self._way(*each)
            for each in self._sent_on(first, [device], self.plan.devices[device], destination, True)
        }

    def _way(self, crossed: list[Met], devices: list[str], arrived: bool) -> Way:
        passed = {
            *devices,
            *(point.device for point, _ in crossed),
            *(point.owner for point, _ in crossed if point.owner in self.plan.hosts),
        }
        return (
            tuple(each for each in crossed if each in self.listed),
            frozenset(name for name in passed if name in self.stateful),
            arrived,
        )

    # Layer 2

    def _switch(self, machine: Interface | Point | None) -> tuple[str | None, Point | None]:
        port = machine.at if isinstance(machine, Interface) else machine
        if port is not None:
            return port.owner, port
        if isinstance(machine, Interface) and self.plan.devices[machine.device].ports:
            return machine.device, None
        return None, None

    def _ports(
        self, start: Interface | Point | None, end: Interface | Point | None
    ) -> list[Met] | None:
        (first, entry), (last, leave) = self._switch(start), self._switch(end)
        if not all(self.up(each) for each in (entry, leave) if each is not None):
            return None
        if entry is not None and entry == leave:
            return []
        lead, tail = [(entry, IN)] * (entry is not None), [(leave, OUT)] * (leave is not None)
        if first is None or last is None or first == last:
            return [*lead, *tail]  # type: ignore[list-item]
        cables = [
            (port.point, port.to)
            for device in self.plan.devices.values()
            for port in device.ports.values()
            if port.to
        ]
        cables = [each for each in cables if all(map(self.up, each))]
        cables += [(far, near) for near, far in cables]

        def way(switch: str, seen: frozenset[str]) -> list[Met] | None:
            if switch == last:
                return []
            for near, far in cables:
                if near.owner == switch and far.owner not in seen:
                    rest = way(far.owner, seen | {far.owner})
                    if rest is not None:
                        return [(near, OUT), (far, IN), *rest]
            return None

        between = way(first, frozenset((first,)))
        return None if between is None else [*lead, *between, *tail]  # type: ignore[list-item]

    # Layer 3

    def _segment(self, address: Address) -> Segment | None:
        holding = [each for each in self.plan.segments.values() if each.holds(address)]
        inside = [each for each in holding if not each.outside]
        rest = [each for each in self.plan.segments.values() if each.outside and not each.prefixes]
        return next(iter(inside or holding or rest), None)

    def _leaving(self, near: Interface) -> int:
        """Return what an interface costs: what it says, else 100 on a subnet with machines or a
        shared gateway, else 1.
        """
        machines = near.on in self.machines_on and not self.plan.segments[near.on].outside
        return near.cost or (100 if machines else 1)

    def _costs(self, destination: Address) -> dict[str, int]:
        """Return what the least way to the destination costs from each device: the best of all that
        its neighbours offer, until none is better.
        """
        if destination not in self.costs:
            self.costs[destination] = self._worked_out(destination)
        return self.costs[destination]

    def _worked_out(self, destination: Address) -> dict[str, int]:
        target, owner = self._segment(destination), self.plan.interface_of.get(destination)
        found: dict[str, int] = {}
        if target is None:
            return found
        for _ in self.plan.devices:
            for name in self.plan.devices:
                offers = self._offers(name, target, destination, found)
                if owner is not None and self.up(owner.point) and owner.device == name:
                    found[name] = 0
                elif offers:
                    found[name] = min(cost for cost, *_ in offers)
        return found

    def _offers(
        self, device: str, target: Segment, destination: Address, costs: dict[str, int]
    ) -> list[tuple[int, Interface, Interface | None]]:
        """Return what computed ways a device has, each with its cost, its interface and the
        neighbour's, given its neighbours' costs.
        """
        own = [each for each in self.interfaces if each.device == device]
        here = [each for each in own if self._ends(each, target, destination)]
        connected = [
            each
            for each in here
            if any(a.connected.contains(destination.value) for a in each.in_family(self.family))
        ]
        if connected:
            return [(min(map(self._leaving, connected)), each, None) for each in connected]
        found: list[tuple[int, Interface, Interface | None]] = [
            (self._leaving(each), each, None) for each in here
        ]
        owner = self.plan.interface_of.get(destination)
        if here and owner is not None and self.up(owner.point):
            return [each for each in found if each[0] == min(cost for cost, *_ in found)]
        for near in own:
            found += [
                (costs[far.device] + self._leaving(near), near, far)
                for far in self._far(near)
                if far.device in costs
            ]
        return found

    def _ends(self, near: Interface, target: Segment, destination: Address) -> bool:
        """Whether a computed way may end at an interface: it is on the outside, or has an address
        of its own in the prefix.
        """
        own = any(
            each.connected.contains(destination.value) for each in near.in_family(self.family)
        )
        return near.on == target.name and (target.outside or own)

    def _far(self, near: Interface) -> list[Interface]:
        if self.plan.segments[near.on].outside or near.passive:
            return []
        return [
            far
            for far in self.interfaces
            if far.on == near.on and far.device != near.device and not far.passive
        ]

    def _hops(
        self, device: Device, destination: Address
    ) -> list[tuple[Interface, Interface | None]] | None:
        own = [each for each in self.interfaces if each.device == device.name]
        choices: list[tuple[int, int, list[tuple[Interface, Interface | None]]]] = []
        for near in own:
            for address in near.in_family(self.family):
                if address.connected.contains(destination.value):
                    choices.append((address.length, 2, [(near, None)]))
        for route in device.routes:
            if route.destination.family is self.family and route.destination.contains(
                destination.value
            ):
                if route.via is None:
                    choices.append((route.destination.prefix_length, 1, []))
                    continue
                on = [
                    each
                    for each in own
                    if any(
                        a.connected.contains(route.via.value) for a in each.in_family(self.family)
                    )
                ]
                if not on:
                    choices.append((route.destination.prefix_length, 1, []))
                    continue
                if route.via in self.plan.gateway_at:
                    fars = [
                        each for each in self.answering(route.via) if each.device != device.name
                    ]
                    choices.append(
                        (
                            route.destination.prefix_length,
                            1,
                            [(near, far) for near in on for far in fars],
                        )
                    )
                    continue
                far = self.plan.interface_of.get(route.via)
                outside = self.plan.segments[on[0].on].outside
                good = (far is None) is outside and (far is None or self.up(far.point))
                choices.append(
                    (
                        route.destination.prefix_length,
                        1,
                        [(near, far) for near in on] if good else [],
                    )
                )
        target = self._segment(destination)
        if not self.plan.static_routing and target is not None:
            found = self._offers(device.name, target, destination, self._costs(destination))
            if found:
                blocks = [
                    each
                    for each in target.prefixes
                    if not target.outside and each.family is self.family
                ]
                length = max(
                    (each.prefix_length for each in blocks if each.contains(destination.value)),
                    default=0,
                )
                best = min(cost for cost, *_ in found)
                choices.append(
                    (length, 0, [(near, far) for cost, near, far in found if cost == best])
                )
        if not choices:
            return None
        most = max((length, kind) for length, kind, _ in choices)
        hops = [
            hop for length, kind, several in choices if (length, kind) == most for hop in several
        ]
        return list(dict.fromkeys(hops)) or None

    def _paths(
        self,
        lead: list[Met],
        segment: str,
        at: Point | None,
        gateways: tuple[Address, ...],
        destination: Address,
    ) -> Iterator[tuple[list[Met], list[str], bool]]:
        target = self._segment(destination)
        if target is not None and target.name == segment:
            yield from self._handed(lead, [], segment, at, destination)
            return
        near = [each for each in self.interfaces if each.on == segment]
        own = [each for each in gateways if each.family is self.family]
        own = own or [
            each
            for each, shared in self.plan.gateway_at.items()
            if each.family is self.family and shared.on == segment
        ]
        told = [self.plan.interface_of[each] for each in own if each in self.plan.interface_of]
        told = [each for each in told if self.up(each.point)] + [
            each for address in own for each in self.answering(address)
        ]
        if not own and near:
            if self.plan.static_routing:
                owners = {
                    each.device
                    for each in near
                    if destination in self.plan.devices[each.device].addresses()
                }
                able = [
                    each
                    for each in near
                    if each.device in owners
                    or self._hops(self.plan.devices[each.device], destination)
                ]
            else:
                costs = self._costs(destination)
                known = [costs[each.device] for each in near if each.device in costs]
                able = [each for each in near if known and costs.get(each.device) == min(known)]
            told = able or near[:1]
        if not told:
            yield lead, [], False
        for gateway in told:
            ports = self._ports(at, gateway)
            if ports is None:
                yield lead, [], False
                continue
            leaving = (
                []
                if self.plan.segments[segment].outside
                else [(Point(PointKind.SUBNET, segment), OUT)]
            )
            yield from self._entered([*lead, *ports, *leaving], [], gateway, destination)

    def _entered(
        self, crossed: list[Met], devices: list[str], near: Interface, destination: Address
    ) -> Iterator[tuple[list[Met], list[str], bool]]:
        crossed = [*crossed, (near.point, IN)]
        device = self.plan.devices[near.device]
        if destination in device.addresses():
            yield [*crossed, (device.itself, IN)], [*devices, device.name], True
            return
        if self.answers(device.name, destination):
            yield [*crossed, (device.itself, IN)], [*devices, device.name], True
        elif device.name in devices:
            yield crossed, devices, False
        else:
            yield from self._sent_on(crossed, [*devices, device.name], device, destination, False)

    def _sent_on(
        self,
        crossed: list[Met],
        devices: list[str],
        device: Device,
        destination: Address,
        own: bool,
    ) -> Iterator[tuple[list[Met], list[str], bool]]:
        hops = self._hops(device, destination)
        if own and destination in device.addresses():
            yield [], [], True
            return
        if own and self.answers(device.name, destination):
            yield crossed, devices, True
            return
        met = devices[1:] if own else devices
        if hops is None:
            yield crossed, devices, False
        for near, far in hops or []:
            on = [*crossed, *([] if own else [(near.point, OUT)])]
            if not self.plan.segments[near.on].outside:
                on.append((Point(PointKind.SUBNET, near.on), IN))
            if far is None:
                yield from self._handed(on, devices, near.on, near, destination)
                continue
            ports = self._ports(near, far)
            if ports is None:
                yield on, devices, False
            elif own:
                for crossings, passed, arrived in self._entered(
                    [*on, *ports], met, far, destination
                ):
                    yield crossings, [device.name, *passed], arrived
            else:
                yield from self._entered([*on, *ports], devices, far, destination)

    def _isolated(self, segment: Segment, end: Interface | Point | None) -> bool:
        return segment.isolated or (
            isinstance(end, Point) and self.plan.devices[end.owner].ports[end.part].isolated
        )

    def _handed(
        self,
        crossed: list[Met],
        devices: list[str],
        segment: str,
        near: Interface | Point | None,
        destination: Address,
    ) -> Iterator[tuple[list[Met], list[str], bool]]:
        shared = self.plan.gateway_at.get(destination)
        if shared is not None and shared.on == segment:
            for gateway in self.answering(destination):
                if not (isinstance(near, Interface) and near.device == gateway.device):
                    way = self._ports(near, gateway)
                    if way is None:
                        yield crossed, devices, False
                    else:
                        itself = self.plan.devices[gateway.device].itself
                        yield (
                            [*crossed, *way, (gateway.point, IN), (itself, IN)],
                            [*devices, gateway.device],
                            True,
                        )
            if not self.answering(destination):
                yield crossed, devices, False
            return
        owner, host, target = (
            self.plan.interface_of.get(destination),
            self.plan.host_of.get(destination),
            self._segment(destination),
        )
        end = (
            owner
            if owner is not None and owner.on == segment
            else host.at
            if host is not None and host.on == segment
            else None
        )
        ports = self._ports(near, end)
        if ports is None:
            yield crossed, devices, False
        elif owner is not None and owner.on == segment:
            yield from self._entered([*crossed, *ports], devices, owner, destination)
        elif target is not None and target.name != segment:
            yield crossed, devices, False
        elif (
            not isinstance(near, Interface)
            and target is not None
            and all(self._isolated(target, each) for each in (near, end))
        ):
            yield [*crossed, *([(near, IN)] if near is not None else [])], devices, False
        else:
            own = 1 if isinstance(near, Point) else 0
            within = (
                []
                if isinstance(near, Interface)
                else [(Point(PointKind.SUBNET, segment), Direction.WITHIN)]
            )
            last = [] if host is None else [(host.point, OUT)]
            yield [*crossed, *ports[:own], *within, *ports[own:], *last], devices, True


def network(seed: int) -> str:
    """Return a random plan: up to eight devices, equal paths, static routes, gateways, outsides,
    ports, loops, both families.
    """
    chance = random.Random(seed)
    count = chance.randint(2, 8)
    subnets = [f"s{number}" for number in range(chance.randint(2, 6))]
    second = {name for name in subnets if chance.random() < 0.25}
    lines = [
        f"subnet {name} 10.{number}.0.0/24 2001:db8:{number}::/64"
        + f" 10.{number + 100}.0.0/24" * (name in second)
        for number, name in enumerate(subnets)
    ]
    outsides = chance.choice([[], [], ["sea"], ["sea", "partner"]])
    lines += [
        f"outside {name}" + (" 198.51.100.0/24 2001:db8:ff::/48" if name == "partner" else "")
        for name in outsides
    ]
    if chance.random() < 0.3:
        lines.append("routing static")
    on: dict[str, list[tuple[str, str, str]]] = {name: [] for name in subnets}
    sharing: dict[str, list[tuple[str, str, bool]]] = {name: [] for name in subnets}
    blocks, hosts, gateways = [], [], []
    wired = chance.random() < 0.5
    for device in range(count):
        name = f"r{device}"
        block = [f"router {name}" + chance.choice(["", "", " stateful"])]
        for number in chance.sample(
            range(len(subnets)), min(len(subnets), chance.choice([1, 2, 2, 3]))
        ):
            for part in range(chance.choice([1, 1, 1, 2])):
                low = 1 + device * 2 + part
                at = (
                    f" at mole.{low + 20 * number}"
                    if wired and number == 0 and chance.random() < 0.5
                    else ""
                )
                four, six = f"10.{number}.0.{low}", f"2001:db8:{number}::{low:x}"
                if f"s{number}" in second and chance.random() < 0.4:
                    four = f"10.{number + 100}.0.{low}"
                families = chance.choice(
                    [f"{four}/24 {six}/64", f"{four}/24 {six}/64", f"{four}/24"]
                )
                block.append(f"    interface i{number}x{part} {families} on s{number}{at}")
                on[f"s{number}"].append((name, four, six if "::" in families else ""))
                if four.startswith(f"10.{number}."):
                    sharing[f"s{number}"].append(
                        (name, f"{name}.i{number}x{part}", "::" in families)
                    )
        for index, outside in enumerate(outsides):
            if chance.random() < 0.3 or device == index:
                four = (
                    f"203.0.113.{1 + device * 4}/30"
                    if outside == "sea"
                    else f"198.51.100.{1 + device * 4}/30"
                )
                block.append(f"    interface {outside} {four} on {outside}")
        blocks.append((name, block))
    for number, name in enumerate(subnets):
        several = {device: (part, six) for device, part, six in sharing[name]}
        if len(several) > 1 and chance.random() < 0.4:
            six = f" 2001:db8:{number}::fe" if all(six for _, six in several.values()) else ""
            by = ", ".join(part for part, _ in several.values())
            gateways.append(f"gateway 10.{number}.0.254{six} on {name} by {by} vrid {number + 1}")
            on[name].append(("", f"10.{number}.0.254", six.strip()))
    for name, block in blocks:
        mine = [line.partition(" on ") for line in block if line.startswith("    interface")]
        near = [
            via
            for left, _, right in mine
            for other, four, six in on.get(right.split()[0], [])
            if other != name
            for via in (four, six)
            if via and ("::" in left if ":" in via else f" {via.rpartition('.')[0]}." in left)
        ]
        for via in chance.sample(near, min(len(near), chance.choice([0, 0, 1, 2]))):
            number = chance.randrange(len(subnets)) + 100 * (chance.random() < 0.1)
            to = (
                f"10.{number}.0.0/{chance.choice([16, 24, 25])}"
                if ":" not in via
                else f"2001:db8:{number}::/64"
            )
            block.append(f"    route {chance.choice([to, 'default'])} via {via}")
        lines += block
    if wired:
        lines += [
            "switch mole",
            *(f"    port {number}" for number in range(1, 60)),
            "    port up to pier.1",
            "switch pier",
            "    port 1",
            "    port 2",
        ]
    for number, name in enumerate(subnets):
        for host in range(2):
            at = (
                f" at {chance.choice(['pier.2', 'mole.59'])}"
                if wired and number == 0 and host
                else ""
            )
            gateway = ""
            if on[name] and chance.random() < 0.3:
                gateway = f" gateway {chance.choice(on[name])[1]}"
            block_of = number + 100 * (host == 1 and name in second)
            hosts.append(
                f"host h{number}x{host} 10.{block_of}.0.{100 + host} "
                f"2001:db8:{number}::{100 + host:x} on {name}{at}{gateway}"
            )
    lines += [*gateways, *hosts]
    if "sea" in outsides:
        lines.append("host far 192.0.2.77 on sea")
    points = [
        f"{name}.{line.split()[1]}"
        for name, block in blocks
        for line in block
        if line.startswith("    interface")
    ]
    where = [
        *points,
        *(f"subnet {name}" for name in subnets),
        *(f"{name} itself" for name, _ in blocks),
        *(["mole.59", "mole.up", "pier.1"] if wired else []),
        *(f"host {line.split()[1]}" for line in hosts[:4]),
    ]
    for family in ("ipv4", "ipv6"):
        taken = chance.sample(
            [(place, way) for place in where for way in ("inbound", "outbound")],
            min(len(where), chance.randint(0, 6)),
        )
        for number, (place, way) in enumerate(taken):
            lines.append(f"list l{number}{family} extended {family}")
            lines += [
                (
                    f"    {chance.choice(['permit', 'deny'])} "
                    f"{chance.choice(['ip', 'tcp', 'udp', 'icmp'])} any to any"
                ),
                "    otherwise permit",
            ]
            lines.append(f"place l{number}{family} {way} on {place}")
    if chance.random() < 0.4:
        machines = [index for index, line in enumerate(lines) if line.startswith("host h")]
        for index in chance.sample(machines, 3 if len(machines) > 3 else len(machines)):
            lines[index] += f" mac 00:00:5e:00:53:{index:02x}"
        named = [line.split()[1] for line in lines if " mac " in line]
        places = [
            *(["mole.59", "mole.up", "pier.1"] if wired else []),
            *(f"host {name}" for name in named),
        ]
        for number, place in enumerate(chance.sample(places, min(len(places), 3))):
            ends = chance.choice(
                [
                    f"{chance.choice(named)} to any",
                    f"any to {chance.choice(named)}",
                    "any to broadcast",
                ]
            )
            lines += [
                f"list e{number} extended ethernet",
                f"    {chance.choice(['permit', 'deny'])} {chance.choice(['any', 'ipv4'])} {ends}",
            ]
            lines += [f"    otherwise {chance.choice(['permit', 'permit', 'deny'])}"]
            lines.append(f"place e{number} {chance.choice(['inbound', 'outbound'])} on {place}")
    return "\n".join(_with_costs(lines, random.Random(f"costs {seed}"))) + "\n"


def random_plan(seed: int) -> Plan:
    """Return a random network as a plan."""
    return crossgate.parse(network(seed))


def _with_costs(lines: list[str], chance: random.Random) -> Iterator[str]:
    """Yield the lines of a network, in half of all with costs, passive interfaces, routes to
    nowhere, isolation and hosts that remember.
    """
    some = chance.random() < 0.5
    if some:
        lines = [*lines, *_within(lines, chance)]
    seen: set[str] = set()
    for line in lines:
        isolable = line.startswith("subnet ") or line in ("    port 59", "    port 2")
        if (
            some
            and isolable
            and chance.random() < 0.3
            and not (line == "    port 2" and "switch pier" not in seen)
        ):
            yield f"{line} isolated"
            continue
        seen.add(line)
        if some and line.startswith("host ") and chance.random() < 0.3:
            yield f"{line} stateful"
            continue
        if not (some and line.startswith("    interface")):
            yield line
            continue
        cost = f" cost {chance.choice([1, 2, 3, 65535])}" * (chance.random() < 0.4)
        yield (
            line
            + cost
            + " passive" * (" on s" in line and " on sea" not in line and chance.random() < 0.1)
        )
        if chance.random() < 0.05:
            yield (
                "    route "
                f"{chance.choice(['10.1.0.0/24', '10.2.0.0/16', '0.0.0.0/0', '2001:db8:1::/64'])} "
                "discard"
            )


def _within(lines: list[str], chance: random.Random) -> Iterator[str]:
    """Yield lists that stand within subnets."""
    for name in [line.split()[1] for line in lines if line.startswith("subnet ")]:
        for family in ("ipv4", "ipv6"):
            if chance.random() < 0.2:
                yield f"list w{name}{family} extended {family}"
                yield f"    {chance.choice(['permit', 'deny'])} tcp any to any"
                yield f"    otherwise {chance.choice(['permit', 'deny'])}"
                yield f"place w{name}{family} within subnet {name}"
