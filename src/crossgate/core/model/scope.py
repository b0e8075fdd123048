"""Addresses that no router forwards: how far a packet for one gets.

This is a table from the standards, independent of any plan; a subnet's broadcast address depends on
its prefix and is in `Plan.broadcasts`.
"""

from __future__ import annotations

from enum import StrEnum
from typing import NamedTuple

from crossgate.core.model.address import Address, Family, Pattern, parse_block


class Scope(StrEnum):
    """How far a packet for an address gets."""

    MACHINE = "it never leaves a machine"
    LINK = "it stays on its link"
    GROUP = "it is multicast, and multicast is not routed here"


class Scoped(NamedTuple):
    """A block of addresses that packets are not routed to."""

    block: Pattern
    scope: Scope


_TABLE = """
127.0.0.0/8 MACHINE; 0.0.0.0 MACHINE; 169.254.0.0/16 LINK; 224.0.0.0/24 LINK; 224.0.0.0/4 GROUP; 255.255.255.255 LINK;
::1 MACHINE; :: MACHINE; fe80::/10 LINK; ff01::/16 MACHINE; ff02::/16 LINK; ff00::/8 GROUP
"""
"""RFC 1122 section 3.2.1.3, RFC 3927, RFC 5771 section 4, RFC 919 section 7; RFC 4291 sections 2.5
and 2.7. The narrower block stands first.
"""

SCOPED = tuple(
    Scoped(parse_block(block), Scope[scope])
    for block, scope in (row.split() for row in _TABLE.replace("\n", " ").split(";"))
)


def scope_of(address: Address) -> Scope | None:
    """Return how far a packet for an address gets; None for an address that is routed."""
    family, value = address
    return next(
        (
            each.scope
            for each in SCOPED
            if each.block.family is family and each.block.contains(value)
        ),
        None,
    )


def scoped_blocks(family: Family) -> tuple[Pattern, ...]:
    """Return the blocks of a family whose addresses are not routed; some lie inside others."""
    return tuple(each.block for each in SCOPED if each.block.family is family)
