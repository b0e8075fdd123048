"""Source addresses that no machine on an outside can have, let in from it (RFC 2827, RFC 6890)."""

from __future__ import annotations

from collections.abc import Iterator

from crossgate.core.audit.beside import decided, does
from crossgate.core.audit.context import Case
from crossgate.core.audit.registry import finds
from crossgate.core.model.accesslist import AccessList, Decider
from crossgate.core.model.address import Family, Pattern, parse_block
from crossgate.core.model.entry import Kind
from crossgate.core.model.finding import Fault, Finding
from crossgate.core.model.network import Direction, Segment
from crossgate.core.sets.addresses import AddressSet
from crossgate.core.sets.effort import answered
from crossgate.core.sets.frame import PacketSet
from crossgate.core.sets.meaning import PRIVATE, PRIVATE_BLOCKS
from crossgate.core.sets.region import Region
from crossgate.core.traffic.examples import example

_NOBODYS = tuple(map(parse_block, ("127.0.0.0/8", "169.254.0.0/16", "::1", "ff00::/8")))
"""RFC 6890 section 2.2: loopback and link-local; RFC 4291 sections 2.5.3 and 2.7: loopback, and
multicast, which is nobody's source. Link-local sources of IPv6 are those of neighbours. What is
only reserved an outside may have, as far as a plan says.
"""


@finds("bogus-source")
def bogus_source(case: Case) -> Iterator[Finding]:
    """Yield the lists at the border of an outside that permit source addresses which nobody there
    can have.
    """
    told = set[str]()
    for device in case.plan.devices.values():
        for interface in device.interfaces.values():
            outside = case.plan.segments[interface.on]
            for family in Family if outside.outside else ():
                own = case.plan.placed.get((interface.point, Direction.INBOUND, family))
                if own is None or own.name in told or not case.scope.looks_at(own):
                    continue
                found = _let_in(case, own, _blocks(outside, family))
                if found is not None:
                    told.add(own.name)
                    yield _finding(case, own, outside, *found)


def _blocks(outside: Segment, family: Family) -> tuple[Pattern, ...]:
    """Return the blocks of addresses that no machine on an outside can have: reserved ones, and
    private ones that are not part of it.
    """
    private = [
        each
        for each in PRIVATE_BLOCKS
        if any(other.covers(each) for other in outside.left_out if other.family is each.family)
        or (
            outside.prefixes
            and not any(
                other.overlaps(each) for other in outside.prefixes if other.family is each.family
            )
        )
    ]
    return tuple(each for each in (*_NOBODYS, *private) if each.family is family)


def _let_in(
    case: Case, own: AccessList, blocks: tuple[Pattern, ...]
) -> tuple[list[Pattern], Decider, Region] | None:
    """Return which blocks a list permits to the plan's subnets, with the permitting line and an
    example; None where it denies them all.
    """
    inside = AddressSet.of(own.family, case.plan.inside(own.family))
    open_ones: list[Pattern] = []
    first: tuple[Decider, Region] | None = None
    with answered(f"whether {own.name} stops sources that nobody has", case.missed):
        for block in blocks if inside else ():
            region = Region(AddressSet.of(own.family, [block]), inside)
            found = next(
                (
                    (decider, each)
                    for packets, decider in decided(case, own, region, permitted=True)
                    for each in packets.regions()
                ),
                None,
            )
            if found is not None:
                open_ones.append(block)
                first = first or found
    return None if first is None else (open_ones, *first)


def _finding(
    case: Case,
    own: AccessList,
    outside: Segment,
    blocks: list[Pattern],
    decider: Decider,
    region: Region,
) -> Finding:
    private = [each for each in PRIVATE_BLOCKS if each.family is own.family]
    short = {*private} <= {*blocks} and PRIVATE not in case.plan.names()
    told = [str(each) for each in blocks if not (short and each in private)]
    names = ", ".join([*told, PRIVATE] if short else told)
    denied = names if own.kind is Kind.STANDARD else f"ip {names} to any"
    fault = Fault(
        f"it lets in what claims to come from {names}, which nobody in {outside.name} has: "
        f"{does(decider)}",
        f"deny {denied} first (RFC 2827, RFC 6890), or accept it",
    )
    return Finding(
        "bogus-source",
        own.place,
        own.name,
        None,
        fault,
        () if decider.number is None else (decider.number,),
        example(case.plan, [PacketSet.of(region)]),
        beside=denied,
    )
