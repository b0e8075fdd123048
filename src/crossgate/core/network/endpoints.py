"""The two ends of a conversation: the machine and address that a name stands for as a sender or a
receiver.
"""

from __future__ import annotations

from typing import NamedTuple

from crossgate.core.model.address import (
    Address,
    Family,
    Pattern,
    everything,
    families,
    looks_like_address,
    parse_address,
)
from crossgate.core.model.claim import ELSEWHERE, Only, Promise
from crossgate.core.model.errors import PlanError, unknown
from crossgate.core.model.network import Host
from crossgate.core.model.plan import Plan
from crossgate.core.model.scope import scope_of
from crossgate.core.network.forwarding import Forwarding
from crossgate.core.network.paths import Endpoint
from crossgate.core.sets.meaning import WordKind, meaning_of, unknown_in, without
from crossgate.core.sets.patterns import common as overlap
from crossgate.core.sets.patterns import less, merged

NO_SEGMENT = ""
"""Where an address is that may be on any link (`scope`)."""
_NO_ADDRESSES = "is a port and has no addresses; name a host or an interface"


class NoConversation(PlanError):
    """Two ends cannot talk: they share no address family, or are the same machine."""


def candidates(network: Forwarding, text: str) -> list[Endpoint]:
    """Return every end that a word can stand for: one for each family of a host or an address, one
    for each address of a device.

    Raises `PlanError` when the word names nothing that sends or receives packets.
    """
    plan = network.plan
    if looks_like_address(text):
        return [at_address(network, parse_address(text))]
    meaning = meaning_of(plan, text)
    if meaning is None:
        raise PlanError(unknown("host", text, [*plan.hosts, *plan.devices]))
    if meaning.kind is WordKind.PORT:
        raise PlanError(f"{text} {_NO_ADDRESSES}")
    if meaning.kind is WordKind.HOST:
        host = plan.hosts[text]
        return [
            _at_host(plan, host, address)
            for family in Family
            if (address := host.in_family(family)) is not None
        ]
    if meaning.kind not in (WordKind.DEVICE, WordKind.INTERFACE):
        raise PlanError(
            f"{text} stands for many machines; name a host, a device, a point or an address"
        )
    own = [plan.interface_of[Address(each.family, each.value)] for each in meaning.patterns]
    return [
        Endpoint(
            text,
            Address(each.family, each.value),
            interface.on,
            interface.at,
            device=interface.device,
        )
        for each, interface in zip(meaning.patterns, own, strict=True)
    ]


class EndpointSet(NamedTuple):
    """The addresses of one family that a word stands for as an end; with `outside`, only those on
    that outside.

    `named` are the addresses among them that are named singly: by themselves, or as those of a
    host, a device or a point.
    """

    patterns: tuple[Pattern, ...]
    outside: str | None = None
    named: frozenset[int] = frozenset()


def endpoint_set(plan: Plan, text: str, family: Family) -> EndpointSet:
    """Return every address that some words stand for: hosts, devices, points, subnets, groups,
    addresses, prefixes, ranges, `any`, or an outside.

    It is empty when they have no address of this family. Raises `PlanError` for a word that is none
    of these.
    """
    meaning = meaning_of(plan, text)
    if meaning is None:
        raise PlanError(unknown("name", unknown_in(plan, text), plan.names()))
    if meaning.kind is WordKind.PORT:
        raise PlanError(f"{text} {_NO_ADDRESSES}")
    if meaning.kind is WordKind.OUTSIDE:
        return EndpointSet(without((everything(family),), meaning.left_out), meaning.outside)
    own = meaning.in_family(family)
    named = frozenset(address.value for address in meaning.named if address.family is family)
    return EndpointSet(merged(own) if meaning.kind is WordKind.GROUP else own, named=named)


def claim_ends(plan: Plan, claim: Promise, family: Family) -> tuple[EndpointSet, EndpointSet]:
    """Return the source and destination addresses of one family that a claim is about; `elsewhere`
    stands for all that is not in the sources' subnets.
    """
    source = endpoint_set(plan, claim.source, family)
    if not is_elsewhere(plan, claim):
        return source, endpoint_set(plan, claim.destination, family)
    if not source.patterns:
        return source, EndpointSet(())
    inside = [
        (each, block)
        for each in plan.segments.values()
        if not each.outside
        for block in each.prefixes
        if block.family is family
    ]
    own = (
        set()
        if source.outside is not None
        else {
            each.name
            for each, block in inside
            if any(overlap(block, part) is not None for part in source.patterns)
        }
    )
    blocks = [block for _, block in inside]
    from_outside = source.outside is not None or any(less(source.patterns, blocks))
    every = blocks if from_outside else [everything(family)]
    return source, EndpointSet(
        tuple(less(merged(every), [block for each, block in inside if each.name in own]))
    )


def is_elsewhere(plan: Plan, claim: Promise) -> bool:
    """Whether a claim's destination is the keyword `elsewhere`, and not a name that the plan
    defines.
    """
    return (
        isinstance(claim, Only)
        and claim.destination == ELSEWHERE
        and meaning_of(plan, ELSEWHERE) is None
    )


def at_address(network: Forwarding, address: Address) -> Endpoint:
    """Return the end at an address: the host or the device that has it, the devices that share it,
    or else an unnamed machine.
    """
    plan = network.plan
    if address in plan.host_of:
        return _at_host(plan, plan.host_of[address], address)
    if address in plan.interface_of:
        interface = plan.interface_of[address]
        return Endpoint(str(address), address, interface.on, interface.at, device=interface.device)
    if address in plan.gateway_at:
        gateway = plan.gateway_at[address]
        first, *others = (point.owner for point in gateway.by)
        return Endpoint(str(address), address, gateway.on, device=first, others=tuple(others))
    if plan.translated_at(address) is not None:
        return Endpoint(str(address), address, NO_SEGMENT)  # it stands for others, and is nobody's
    segment = plan.segment_of(address)
    if (segment is None or segment.outside) and scope_of(address) is not None:
        return Endpoint(str(address), address, NO_SEGMENT)
    if segment is None:
        leaving = (
            "the plan has no outside for it to be on"
            if plan.rest is None
            else f"{plan.rest.name} leaves it out"
        )
        raise PlanError(f"{address} is in no subnet, and {leaving}")
    return Endpoint(str(address), address, segment.name)


def _at_host(plan: Plan, host: Host, address: Address) -> Endpoint:
    follows = host.point if host.name in plan.followed else None
    return Endpoint(
        host.name,
        address,
        host.on,
        host.at,
        host.gateways,
        follows=follows,
        mac=host.mac if plan.framed else None,
    )


def pairs(network: Forwarding, source: str, destination: str) -> list[tuple[Endpoint, Endpoint]]:
    """Return the two ends in each family that both have, IPv4 first; a device stands for its
    interface nearest to the other end.

    Raises `PlanError` when a word names no end, or when the two share no family.
    """
    named = (source, candidates(network, source)), (destination, candidates(network, destination))
    if source == destination:
        raise _one_machine(source, destination)
    return paired(network, *named)


def paired(
    network: Forwarding, source: tuple[str, list[Endpoint]], destination: tuple[str, list[Endpoint]]
) -> list[tuple[Endpoint, Endpoint]]:
    """Return the same for two words with the ends that each can stand for."""
    sources, destinations = source[1], destination[1]
    shared = [
        _nearest(
            network,
            [end for end in sources if end.address.family is family],
            [end for end in destinations if end.address.family is family],
        )
        for family in families(end.address for end in sources)
        if any(end.address.family is family for end in destinations)
    ]
    if not shared:
        raise NoConversation(
            f"{source[0]} has only {_labels(sources)} and {destination[0]} only "
            f"{_labels(destinations)}: there is no way to talk"
        )
    if any(start.address == end.address for start, end in shared):
        raise _one_machine(source[0], destination[0])
    return shared


def _one_machine(source: str, destination: str) -> NoConversation:
    return NoConversation(
        f"{source} and {destination} are the same machine; a conversation needs two"
    )


def _nearest(
    network: Forwarding, sources: list[Endpoint], destinations: list[Endpoint]
) -> tuple[Endpoint, Endpoint]:
    """Return the pair of ends with the least cost between them, the cost of the device's own
    interface included; of equal pairs the first in the plan.
    """

    def cost(pair: tuple[Endpoint, Endpoint]) -> int:
        start, end = pair
        own = network.plan.interface_of.get(start.address)
        leaving = 0 if own is None else network.costs.leaving(own)
        return leaving + network.distance(start.segment, end.segment, start.address.family)

    return min(((start, end) for start in sources for end in destinations), key=cost)


def _labels(ends: list[Endpoint]) -> str:
    return " and ".join(family.label for family in families(end.address for end in ends))
