"""The line that says which addresses of a subnet its machines lease, and from which server."""

from __future__ import annotations

from crossgate.core.model.address import (
    Address,
    AddressError,
    Family,
    Pattern,
    looks_like_address,
    parse_address,
    parse_addresses,
)
from crossgate.core.model.network import Interface, Leases, Segment
from crossgate.core.model.plan import Plan
from crossgate.language.names import Names
from crossgate.language.words import Words


def leases(words: Words, names: Names) -> None:
    """Read a `leases` statement."""
    names.broken_leases += 1  # until it is read
    words.keyword("leases")
    start = words.index
    ranges = [_range(words)]
    while words.accept(","):
        ranges.append(_range(words))
    end = words.index
    words.keyword("on")
    name = words.take("the subnet that they are on")
    if name not in names.plan.segments:
        raise names.unknown(words, "subnet", name, names.plan.segments)
    on = names.plan.segments[name]
    if on.outside:
        raise words.error(f"{name} is an outside; leases are of a subnet of the plan")
    for index, each in zip(range(start, end, 2), ranges, strict=True):
        _belongs(words, index, each, on, names.plan)
    words.keyword("by")
    by = words.take("the host or the device that gives them")
    by_index = words.index - 1
    resolvers = _servers(words, names) if words.accept("names") else ()
    clocks = _servers(words, names) if words.accept("time") else ()
    words.end()
    for family in Family:
        own = tuple(part for each in ranges for part in each if part.family is family)
        if own:
            words.index = by_index + 1
            _gives(words, names, by, on, family)
            names.plan.leases.append(Leases(own, name, by, resolvers, clocks, words.place))
    names.broken_leases -= 1


def _range(words: Words) -> tuple[Pattern, ...]:
    word = words.take("a range of addresses, as 10.64.8.50-10.64.8.99")
    if not looks_like_address(word):
        raise words.error(f"expected a range of addresses, as 10.64.8.50-10.64.8.99, not {word}")
    try:
        return parse_addresses(word)
    except AddressError as error:
        raise words.error(str(error)) from None


def _belongs(
    words: Words, index: int, leased: tuple[Pattern, ...], on: Segment, plan: Plan
) -> None:
    """Check that a range lies in its subnet, and that no address of it is taken otherwise."""
    family = leased[0].family
    own = [each for each in on.prefixes if each.family is family]
    if not own:
        raise words.error(f"{on.name} has no {family.label} prefix", index=index)
    for each in leased:
        if not any(block.covers(each) for block in own):
            has = " and ".join(map(str, own))
            raise words.error(
                f"{words.words[index]} is not in {on.name}, which is {has}", index=index
            )
    wrong = next(
        (
            f"{address} is {interface.point}'s own"
            for address, interface in plan.interface_of.items()
            if _has(leased, address)
        ),
        None,
    ) or next(
        (f"{each} is a shared gateway's" for each in plan.gateway_at if _has(leased, each)), None
    )
    for block in own if family is Family.IPV4 and wrong is None else ():
        for value, what in ((block.value, "network"), (block.value | block.wildcard, "broadcast")):
            if block.wildcard > 1 and _has(leased, Address(family, value)):
                wrong = f"{Address(family, value)} is the {what} address of {block}"
    if wrong:
        raise words.error(f"{words.words[index]} holds what no lease can be: {wrong}", index=index)


def _has(leased: tuple[Pattern, ...], address: Address) -> bool:
    return any(each.family is address.family and each.contains(address.value) for each in leased)


def _gives(words: Words, names: Names, by: str, on: Segment, family: Family) -> None:
    """Check that lease requests can reach the server of a subnet's leases."""
    plan, label = names.plan, family.label
    gateways = [each for each in _interfaces(plan, on) if each.in_family(family)]
    if by in plan.devices:
        if not any(each.device == by for each in gateways):
            raise words.error(
                f"{by} has no {label} address on {on.name}, so no request of its machines gets there; "
                "name a device that has, or the host that gives the leases"
            )
        return
    if by not in plan.hosts:
        raise names.unknown(words, "host", by, [*plan.hosts, *plan.devices])
    if plan.hosts[by].in_family(family) is None:
        raise words.error(f"{by} has no {label} address, and these leases are {label}")
    if plan.hosts[by].on != on.name and not gateways:
        raise words.error(
            f"{by} is not on {on.name}, and no device with an {label} address there hands requests "
            "on to it"
        )


def _interfaces(plan: Plan, on: Segment) -> list[Interface]:
    return [
        each
        for device in plan.devices.values()
        for each in device.interfaces.values()
        if each.on == on.name
    ]


def _servers(words: Words, names: Names) -> tuple[str, ...]:
    """Take servers with commas between them."""
    found: list[str] = []
    while not found or words.accept(","):
        word = words.take("a host, a device or an address")
        if looks_like_address(word):
            try:
                found.append(str(parse_address(word)))
            except AddressError as error:
                raise words.error(str(error)) from None
            continue
        if word not in names.plan.hosts and word not in names.plan.devices:
            raise names.unknown(words, "host", word, [*names.plan.hosts, *names.plan.devices])
        found.append(word)
    return tuple(found)
