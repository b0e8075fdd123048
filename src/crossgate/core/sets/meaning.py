"""What words that stand for addresses mean in a plan.

Such a word is `any`, an address, also with a wildcard, a prefix or a range, a point, a name of a
host, device, subnet, outside or group, or `leases of` a subnet. Several words with commas between
them mean the union of all, and what follows `but` is taken out of it: `tickets, guests but laptop,
kiosk-2`. In entries of lists, groups, expectations and the ends given to a command they all mean
the same; which of them may stand where is decided there.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from enum import StrEnum
from typing import NamedTuple

from crossgate.core.model.address import (
    Address,
    AddressError,
    Family,
    Pattern,
    everything,
    looks_like_address,
    parse_addresses,
    parse_block,
    parse_masked,
    single,
)
from crossgate.core.model.network import LEASES_OF, PointKind
from crossgate.core.model.plan import Plan
from crossgate.core.sets.patterns import less


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

    For an `outside`, given by its name, they are the prefixes written for it, of which it may have
    none, and `left_out` is what is taken out of it. A switch port has no addresses. `named` are the
    addresses that the words name singly: by themselves, or as those of a host, a device or a point.
    """

    kind: WordKind
    patterns: tuple[Pattern, ...]
    named: frozenset[Address] = frozenset()
    outside: str = ""
    left_out: tuple[Pattern, ...] = ()

    def has(self, address: Address) -> bool:
        """Whether it contains an address."""
        return _holds(self.patterns, address)

    def in_family(self, family: Family) -> tuple[Pattern, ...]:
        """Return its addresses of one family."""
        return tuple(each for each in self.patterns if each.family is family)


PRIVATE = "private"
"""The name of the addresses that are nobody's on the internet, where a plan gives it to nothing
else.
"""
PRIVATE_BLOCKS = tuple(
    map(parse_block, ("10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "100.64.0.0/10", "fc00::/7"))
)
"""RFC 1918 section 3, RFC 6598 section 7, RFC 4193 section 3.1."""
BUT, COMMA = " but ", ", "
_AT_COMMA = re.compile(r"\s*,\s*")
_EVERYTHING = Meaning(WordKind.ANY, tuple(everything(family) for family in Family))


def words_of(text: str) -> tuple[list[str], list[str]]:
    """Return the words of a text, and those behind `but`, which are left out. Commas between words
    may have blanks beside them or none.
    """
    taken, _, left_out = text.partition(BUT)
    return _AT_COMMA.split(taken.strip()), _AT_COMMA.split(left_out.strip()) if left_out else []


def written_as(taken: Iterable[str], left_out: Iterable[str]) -> str:
    """Return how the union of some words without others is written: `one, two but three`."""
    out = COMMA.join(left_out)
    return COMMA.join(taken) + (f"{BUT}{out}" if out else "")


def meaning_of(plan: Plan, text: str) -> Meaning | None:
    """Return what a word or several mean; None where one is a name that the plan does not have.

    Raises `AddressError` for what looks like an address and is none, or where no address is left,
    and `UnknownName` for a point that does not exist.
    """
    taken, left_out = words_of(text)
    if len(taken) == 1 and not left_out:
        return _meaning(plan, text)
    found = [_meaning(plan, each) for each in (*taken, *left_out)]
    known = [each for each in found if each is not None]
    return (
        None
        if len(known) < len(found)
        else combined(known[: len(taken)], known[len(taken) :], text)
    )


def outside_in(plan: Plan, text: str) -> str:
    """Return the name of the outside that words stand for; "" where they stand for none."""
    name = words_of(text)[0][0]
    return name if name in plan.segments and plan.segments[name].outside else ""


def unknown_in(plan: Plan, text: str) -> str:
    """Return the first word of a text that the plan does not know; the whole text where it knows
    all.
    """
    taken, left_out = words_of(text)
    return next((each for each in (*taken, *left_out) if _meaning(plan, each) is None), text)


def combined(taken: list[Meaning], left_out: list[Meaning], text: str) -> Meaning:
    """Return what some words mean together without the words `left_out`.

    Raises `AddressError` where no address is left, and for an outside together with other words.
    """
    out = tuple(each for other in left_out for each in other.patterns)
    if taken[0].kind is WordKind.OUTSIDE and len(taken) == 1:
        return taken[0]._replace(left_out=out)
    for each in (*taken, *left_out):
        if each.kind is WordKind.OUTSIDE:
            raise AddressError(
                f"{each.outside} is an outside, which stands alone or before but; say the rest by "
                "itself"
            )
    patterns = without((each for other in taken for each in other.patterns), out)
    if not patterns:
        raise AddressError(f"nothing is left of {text}")
    named = frozenset(address for other in taken for address in other.named)
    return Meaning(
        WordKind.GROUP, patterns, frozenset(each for each in named if not _holds(out, each))
    )


def without(patterns: Iterable[Pattern], left_out: Iterable[Pattern]) -> tuple[Pattern, ...]:
    """Return the addresses of some patterns without those of others; both families may occur."""
    every, out = list(dict.fromkeys(patterns)), list(left_out)
    if not out:
        return tuple(every)
    both = (
        [[each for each in side if each.family is family] for side in (every, out)]
        for family in Family
    )
    return tuple(each for own, others in both for each in sorted(less(own, others)))


def _holds(patterns: tuple[Pattern, ...], address: Address) -> bool:
    return any(each.family is address.family and each.contains(address.value) for each in patterns)


def _meaning(plan: Plan, word: str) -> Meaning | None:
    """Return what one word means."""
    if not word:
        raise AddressError("an address or a name is missing beside a comma")
    if word == "any":
        return _EVERYTHING
    if looks_like_address(word):
        address, *mask = word.split()
        if not mask:
            return of_patterns(parse_addresses(word))
        if len(mask) != 2 or mask[0] not in ("wild", "mask"):
            raise AddressError(
                f"{word} is no address: write ADDRESS wild WILDCARD or ADDRESS mask NETMASK"
            )
        return of_patterns((parse_masked(address, *mask),))
    if "." in word:
        point = plan.point(word)
        if point.kind is not PointKind.INTERFACE:
            return Meaning(WordKind.PORT, ())
        interface = plan.devices[point.owner].interfaces[point.part]
        return _one_by_one(WordKind.INTERFACE, (own.address for own in interface.addresses))
    return _of_name(plan, word)


def _of_name(plan: Plan, word: str) -> Meaning | None:
    """Return what a name, or `leases of` one, means."""
    if word.startswith(LEASES_OF):
        leased = _leased(plan, word.removeprefix(LEASES_OF))
        return Meaning(WordKind.GROUP, leased) if leased else None
    if word in plan.hosts:
        return _one_by_one(WordKind.HOST, plan.hosts[word].addresses)
    if word in plan.segments:
        segment = plan.segments[word]
        if segment.outside:
            return Meaning(WordKind.OUTSIDE, segment.prefixes, outside=word)
        return Meaning(WordKind.SUBNET, segment.prefixes)
    if word in plan.devices:
        return _one_by_one(WordKind.DEVICE, plan.devices[word].addresses())
    if word in plan.groups:
        group = plan.groups[word]
        return Meaning(
            WordKind.GROUP,
            tuple(each for members in group.members.values() for each in members.patterns),
            group.named,
        )
    return Meaning(WordKind.GROUP, PRIVATE_BLOCKS) if word == PRIVATE else None


def _leased(plan: Plan, subnet: str) -> tuple[Pattern, ...]:
    """Return the addresses that a subnet hands out as leases."""
    return tuple(each for own in plan.leases if own.on == subnet for each in own.addresses)


def of_patterns(patterns: tuple[Pattern, ...]) -> Meaning:
    """Return what an address, prefix, range or wildcard means; a single address counts as named, a
    set of addresses does not.
    """
    one = len(patterns) == 1 and patterns[0].wildcard == 0
    return Meaning(
        WordKind.ADDRESS,
        patterns,
        frozenset((Address(patterns[0].family, patterns[0].value),)) if one else frozenset(),
    )


def _one_by_one(kind: WordKind, addresses: Iterable[Address]) -> Meaning:
    named = tuple(addresses)
    return Meaning(kind, tuple(single(address) for address in named), frozenset(named))
