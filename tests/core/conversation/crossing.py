"""What becomes of one packet's conversation across translations, hop by hop with the packet that is
on the wire there, written from docs/language.md alone: slow, one choice of a device at a time.
"""

from __future__ import annotations

from collections.abc import Iterator
from itertools import product
from typing import NamedTuple

from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.accesslist import AccessList, Decider
from crossgate.core.model.address import Address
from crossgate.core.model.network import Direction, PointKind, Translation
from crossgate.core.model.packet import Packet
from crossgate.core.model.plan import Plan
from crossgate.core.network.endpoints import at_address
from crossgate.core.network.paths import Crossing, Endpoint, Hop, Path
from crossgate.core.network.ways import Network
from tests.core.conversation.plain import BACK, devices, legs, remembers
from tests.core.conversation.plain import Way as PlainWay

Chosen = dict[int, tuple[int, int]]
"""By the line of a rule the address and the port that its device chose."""


class Memory(NamedTuple):
    """What a device remembers of a conversation: the packet before and behind its translation."""

    device: str
    before: Packet
    behind: Packet


class Met(NamedTuple):
    """A list on a path, and the packet that it sees: the first of the conversation, or its
    answer.
    """

    crossing: Crossing
    access_list: AccessList
    packet: Packet


class Route(NamedTuple):
    """A path of the first packet, or of the answer to it, and the packet as it arrives."""

    path: Path
    met: tuple[Met, ...]
    packet: Packet
    memories: tuple[Memory, ...] = ()
    passed: frozenset[str] = frozenset()
    lost: bool = False


class Fared(NamedTuple):
    """How a conversation ended: the verdict, the leg on which it did, the line that stopped it and
    where.
    """

    verdict: Verdict
    leg: str
    stop: tuple[object, object] | None


def rules(plan: Plan, packet: Packet, device: str) -> list[Translation]:
    return [each for each in plan.devices[device].translations if each.family is packet.family]


def fits(rule: Translation, packet: Packet) -> bool:
    return rule.services is None or any(each.matches(packet) for each in rule.services)


def leaving(plan: Plan, packet: Packet, device: str, at: str, chosen: Chosen) -> Packet:
    for rule in rules(plan, packet, device):
        if rule.interface != at or rule.kind == "entering" or not fits(rule, packet):
            continue
        for index, own in enumerate(rule.inside):
            if own.contains(packet.source):
                if rule.kind == "both ways":
                    moved = packet.source - own.value + rule.public[index].value
                    return packet._replace(source=moved)
                if not rule.public:
                    return packet
                address, port = chosen[rule.place.line]
                has_port = packet.source_port is not None
                return packet._replace(
                    source=address, source_port=port if has_port else packet.source_port
                )
    return packet


def entering(plan: Plan, packet: Packet, device: str, at: str) -> Packet | None:
    for rule in rules(plan, packet, device):
        if rule.interface != at or rule.kind == "leaving" or not fits(rule, packet):
            continue
        for own, public in zip(rule.inside, rule.public, strict=True):
            if public.contains(packet.destination):
                return packet._replace(
                    destination=packet.destination - public.value + own.value,
                    destination_port=packet.destination_port if rule.port is None else rule.port,
                )
    return None


def is_nobodys(plan: Plan, device: str, packet: Packet) -> bool:
    address = Address(packet.family, packet.destination)
    return not plan.is_given(address) and any(
        each.is_public(address) for each in rules(plan, packet, device)
    )


class Walk:
    """All paths of a packet, or of the answer to it; a device that translates is asked each time
    that the packet passes one of its interfaces.
    """

    def __init__(self, network: Network, chosen: Chosen, there: Route | None = None) -> None:
        self.network, self.plan, self.chosen, self.there = network, network.plan, chosen, there

    def routes(self, origin: Endpoint, packet: Packet) -> Iterator[Route]:
        device = origin.device
        memories = () if self.there is None else self.there.memories
        if self.there is not None and device is not None:
            for each in memories[::-1]:  # a device answers by the address that it was asked for
                if each.device == device and each.behind.destination == packet.source:
                    memories = tuple(other for other in memories if other is not each)
                    packet = packet._replace(
                        source=each.before.destination, source_port=each.before.destination_port
                    )
                    break
        for start, hops in self.network.starts(origin, Address(packet.family, packet.destination)):
            route = Route(start, (), packet, memories)
            route = route._replace(met=tuple(self._met(start.crossings, packet)))
            for hop in hops:
                yield from self._step(route, hop)

    def _met(self, crossings: tuple[Crossing, ...], packet: Packet) -> Iterator[Met]:
        for each in crossings:
            own = self.network.list_at(each, packet.family)
            if own is not None:
                yield Met(each, own, packet)

    def _step(self, route: Route, hop: Hop) -> Iterator[Route]:
        crossed: list[Crossing] = []
        for each in hop.crossings:
            device = each.point.owner
            border = each.point.kind is PointKind.INTERFACE and bool(
                rules(self.plan, route.packet, device)
            )
            if border and each.direction is Direction.OUTBOUND:
                found = self._out(route, device, each.point.part)
                if found is None:
                    yield self._lost(route, crossed)
                    return
                route = found
            crossed.append(each)
            route = route._replace(met=(*route.met, *self._met((each,), route.packet)))
            if border and each.direction is Direction.INBOUND:
                destination = route.packet.destination
                found = self._in(route, device, each.point.part)
                if found is None:
                    yield self._lost(route, crossed)
                    return
                route = found
                if route.packet.destination != destination:
                    path = route.path._replace(entered=())
                    moved = self.network.along(path, Hop(tuple(crossed), device, False), False)
                    route = route._replace(path=moved)
                    for following in self.network.hops(
                        device, Address(route.packet.family, route.packet.destination)
                    ):
                        yield from self._step(route, following)
                    return
        after = self.network.along(route.path, hop, False)
        route = route._replace(path=after)
        if after.ended:
            lost = not after.arrived
            if self.there is not None:
                lost = lost or bool(route.memories)
            yield route._replace(lost=lost)
            return
        for following in self.network.hops(
            after.devices[-1], Address(route.packet.family, route.packet.destination)
        ):
            yield from self._step(route, following)

    def _lost(self, route: Route, crossed: list[Crossing]) -> Route:
        after = self.network.along(route.path, Hop(tuple(crossed), None, True), False)
        return route._replace(path=after, lost=True)

    def _out(self, route: Route, device: str, at: str) -> Route | None:
        if self.there is None:
            made = leaving(self.plan, route.packet, device, at, self.chosen)
            return self._remembered(route, device, made)
        if device not in self.there.passed:
            made = leaving(
                self.plan, route.packet, device, at, dict.fromkeys(self.chosen, (-1, -1))
            )
            return None if made.source != route.packet.source else route
        for each in route.memories[::-1]:
            if each.before.destination != each.behind.destination:
                if each.device != device:
                    return route
                return self._forgotten(
                    route,
                    each,
                    route.packet._replace(
                        source=each.before.destination, source_port=each.before.destination_port
                    ),
                )
        return route

    def _in(self, route: Route, device: str, at: str) -> Route | None:
        packet = route.packet
        if self.there is None:
            route = self._remembered(route, device, packet)
            every = dict.fromkeys(
                [at, *(each.interface for each in rules(self.plan, packet, device))]
            )
            for interface in every:
                made = entering(self.plan, packet, device, interface)
                if made is None:
                    continue
                if interface != at:
                    turned = leaving(self.plan, packet, device, interface, self.chosen)
                    route = self._remembered(route, device, turned)
                    made = made._replace(source=turned.source, source_port=turned.source_port)
                return self._remembered(route, device, made)
            return None if is_nobodys(self.plan, device, packet) else route
        if device not in self.there.passed:
            if entering(self.plan, packet._replace(destination_port=0), device, at) is not None:
                return None
            return None if is_nobodys(self.plan, device, packet) else route
        for each in route.memories[::-1]:
            if each.before.source != each.behind.source:
                if each.device != device:
                    break
                return self._forgotten(
                    route,
                    each,
                    packet._replace(
                        destination=each.before.source, destination_port=each.before.source_port
                    ),
                )
        return None if is_nobodys(self.plan, device, packet) else route

    def _remembered(self, route: Route, device: str, made: Packet) -> Route:
        memory = () if made == route.packet else (Memory(device, route.packet, made),)
        return route._replace(
            packet=made,
            memories=(*route.memories, *memory),
            passed=route.passed | {device},
        )

    def _forgotten(self, route: Route, memory: Memory, packet: Packet) -> Route:
        left = tuple(each for each in route.memories if each is not memory)
        return route._replace(packet=packet, memories=left)


def fares(
    network: Network, source: Endpoint, destination: Endpoint, first: Packet, ports: list[int]
) -> list[list[Fared]]:
    """Return how a conversation fares on each way there, the first one first: one for each way
    back; of all that devices may choose what ends it the earliest.
    """
    pools = {
        rule.place.line: [each.first + step for each in rule.public for step in range(each.size)]
        for device in network.plan.devices.values()
        for rule in device.translations
        if rule.kind == "leaving" and rule.public and rule.family is first.family
    }
    every: list[list[list[tuple[tuple[int, int], Fared]]]] = []
    most = max(map(len, pools.values()), default=1)
    for number, port in product(range(most), ports):
        # A list sees the last choice alone, so all devices may choose alike.
        chosen = {line: (pool[number % len(pool)], port) for line, pool in pools.items()}
        found = []
        for there in Walk(network, chosen).routes(source, first):
            if there.lost:
                found.append([ended(network, first, there, None)])
                continue
            led = there.packet.destination != first.destination
            receiver = (
                at_address(network, Address(first.family, there.packet.destination))
                if led
                else destination
            )
            plain = PlainWay(there.path, Path(), source.segment == receiver.segment)
            answer = dict(legs(there.packet, plain, False)).get(
                "SYN+ACK" if first.protocol == 6 else "reply"
            )
            if answer is None:
                found.append([ended(network, first, there, None)])
                continue
            backs = Walk(network, chosen, there).routes(receiver, answer)
            found.append([ended(network, first, there, back) for back in backs])
        every.append(found)
    ways = []
    for each_way in zip(*every, strict=True):
        ways.append(
            [min(alike, key=lambda each: each[0])[1] for alike in zip(*each_way, strict=True)]
        )
    return ways


def ended(
    network: Network, first: Packet, there: Route, back: Route | None
) -> tuple[tuple[int, int], Fared]:
    """Return how a conversation ends on a way there and a way back, after how many legs and lists
    it does.
    """
    plan, passed = network.plan, set[str]()
    way = PlainWay(there.path, Path())
    for number, (leg, _) in enumerate(legs(first, way, False)):
        route = back if leg in BACK else there
        if route is None:
            break
        for place, met in enumerate(route.met):
            if remembers(plan, met.crossing, passed):
                continue
            packet = dict(legs(met.packet, way, False)).get(leg) if leg not in BACK else met.packet
            if leg in BACK and first.protocol == 6:
                packet = met.packet._replace(flags=18)
            assert packet is not None
            entry = next((each for each in met.access_list.entries if each.matches(packet)), None)
            decider = Decider(met.access_list, entry)
            if not decider.permits:
                verdict = Verdict.HALF_OPEN if number else Verdict.DENIED
                place_of = met.crossing.place, decider.key
                return (number, place), Fared(verdict, leg, place_of)
        if route.lost:
            return (number, 999), Fared(Verdict.UNROUTABLE, leg, None)
        passed |= devices(route.path)
    last = [leg for leg, _ in legs(first, way, False)][-1]
    return (99, 0), Fared(
        Verdict.PERMITTED, last if back is not None else legs(first, way, False)[0][0], None
    )
