"""What a word that stands for addresses means in a plan.

Such a word is `any`, an address, a prefix or a range, a point, or a name of a host, device, subnet, outside or group.
Entries of lists, groups, expectations and the ends that a person gives to a command all mean the same by it; what of it
they may use is theirs to say.
"""

from __future__ import annotations

from collections.abc import Iterable
from enum import StrEnum
from typing import NamedTuple

from crossgate.core.model.address import Address, Family, Pattern, everything, looks_like_address, parse_addresses, single
from crossgate.core.model.network import PointKind
from crossgate.core.model.plan import Plan


class WordKind(StrEnum):
    """What sort of word it is."""

    ANY = "any"
    ADDRESS = "address"
    HOST = "host"
    DEVICE = "device"
    INTERFACE = "interface"
    PORT = "port"
    SUBNET = "subnet"
    OUTSIDE = "outside"
    GROUP = "group"


class Meaning(NamedTuple):
    """The addresses that a word stands for, of both families.

    For an outside they are its own prefixes, of which it may have none; a port has no addresses. `named` are those that the
    word names one by one, by themselves or by a host, a device or a point.
    """

    kind: WordKind
    patterns: tuple[Pattern, ...]
    named: frozenset[Address] = frozenset()

    def has(self, address: Address) -> bool:
        """Whether one of its patterns has an address."""
        return any(each.family is address.family and each.contains(address.value) for each in self.patterns)

    def in_family(self, family: Family) -> tuple[Pattern, ...]:
        """Return its addresses of one family."""
        return tuple(each for each in self.patterns if each.family is family)


_EVERYTHING = Meaning(WordKind.ANY, tuple(everything(family) for family in Family))


def meaning_of(plan: Plan, word: str) -> Meaning | None:
    """Return what a word means; None for a name that the plan does not have.

    Raises `AddressError` for what is meant as an address and is none, `UnknownName` for a point that is not there.
    """
    if word == "any":
        return _EVERYTHING
    if looks_like_address(word):
        return of_patterns(parse_addresses(word))
    if "." in word:
        point = plan.point(word)
        if point.kind is not PointKind.INTERFACE:
            return Meaning(WordKind.PORT, ())
        interface = plan.devices[point.owner].interfaces[point.part]
        return _one_by_one(WordKind.INTERFACE, (own.address for own in interface.addresses))
    if word in plan.hosts:
        return _one_by_one(WordKind.HOST, plan.hosts[word].addresses)
    if word in plan.segments:
        segment = plan.segments[word]
        return Meaning(WordKind.OUTSIDE if segment.outside else WordKind.SUBNET, segment.prefixes)
    if word in plan.devices:
        return _one_by_one(WordKind.DEVICE, plan.devices[word].addresses())
    if word in plan.groups:
        group = plan.groups[word]
        return Meaning(WordKind.GROUP, tuple(each for members in group.members.values() for each in members.patterns), group.named)
    return None


def of_patterns(patterns: tuple[Pattern, ...]) -> Meaning:
    """Return what an address, prefix, range or wildcard means; a single address is named, a set of them is not."""
    one = len(patterns) == 1 and patterns[0].wildcard == 0
    return Meaning(WordKind.ADDRESS, patterns, frozenset((Address(patterns[0].family, patterns[0].value),)) if one else frozenset())


def _one_by_one(kind: WordKind, addresses: Iterable[Address]) -> Meaning:
    named = tuple(addresses)
    return Meaning(kind, tuple(single(address) for address in named), frozenset(named))
