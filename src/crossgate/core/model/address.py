"""Addresses as access lists see them: a value and a wildcard mask, in either family.

A pattern is a value with a wildcard mask; a 1 bit in the wildcard means "does not matter", and 1
bits may be anywhere. Everything that a plan writes for addresses (one address, a prefix, a netmask,
a range, a name) becomes a set of patterns here, and addresses are read and written nowhere else.
"""

from __future__ import annotations

import socket
from collections.abc import Iterable, Iterator
from enum import IntEnum
from functools import cache
from typing import NamedTuple, Self

from crossgate.core.model.errors import PlanError
from crossgate.core.model.plaintext import numeral


class Family(IntEnum):
    """An address family: IPv4 (RFC 791) or IPv6 (RFC 8200).

    `bits` is the length of an address, `mask` the wildcard that matches every address: all bits
    set. `label` is the everyday name, `word` that of the plan language.
    """

    bits: int
    mask: int
    label: str
    word: str

    def __new__(cls, number: int) -> Self:
        """Make a member; what is asked for most often is stored as an attribute."""
        family = int.__new__(cls, number)
        family._value_ = number
        family.bits = {4: 32, 6: 128}[number]
        family.mask = (1 << family.bits) - 1
        family.label, family.word = f"IPv{number}", f"ipv{number}"
        return family

    IPV4 = 4
    IPV6 = 6


_WILDCARDS = {
    family: {"": 0} | {str(length): family.mask >> length for length in range(family.bits + 1)}
    for family in Family
}
"""The wildcard of a prefix length, by the length as it is written; no length is a single address.
"""


class Address(NamedTuple):
    """An address of one family; `value` is its bits as an unsigned integer."""

    family: Family
    value: int

    def __str__(self) -> str:
        return format_address(self.family, self.value)


class AddressError(PlanError):
    """A text meant as an address, prefix, mask or range that is not one; the message says why."""


class Pattern(NamedTuple):
    """The addresses that agree with `value` in every bit that `wildcard` leaves 0.

    Bits of `value` under a 1 bit of `wildcard` are always 0; `pattern` clears them.
    """

    family: Family
    value: int
    wildcard: int

    def contains(self, address: int) -> bool:
        """Whether `address`, of this family, is one of the addresses."""
        return address & ~self.wildcard == self.value

    def overlaps(self, other: Pattern) -> bool:
        """Whether the two have an address in common."""
        return (self.value ^ other.value) & ~(self.wildcard | other.wildcard) == 0

    def covers(self, other: Pattern) -> bool:
        """Whether every address of `other` is in this pattern too."""
        return other.wildcard & ~self.wildcard == 0 and other.value & ~self.wildcard == self.value

    @property
    def size(self) -> int:
        """The number of its addresses."""
        return 1 << self.wildcard.bit_count()

    @property
    def first(self) -> int:
        """The lowest address."""
        return self.value

    @property
    def last(self) -> int:
        """The highest address."""
        return self.value | self.wildcard

    @property
    def is_prefix(self) -> bool:
        """Whether the wildcard's 1 bits are one run at the low end, so that it can be written as a
        prefix.
        """
        return self.wildcard & (self.wildcard + 1) == 0

    @property
    def prefix_length(self) -> int:
        """The prefix length in bits. Only for a pattern that is a prefix."""
        return self.family.bits - self.wildcard.bit_length()

    def __str__(self) -> str:
        if self.wildcard == self.family.mask:
            return "any"
        value = format_address(self.family, self.value)
        if self.wildcard == 0:
            return value
        if self.is_prefix:
            return f"{value}/{self.prefix_length}"
        return f"{value} wild {format_address(self.family, self.wildcard)}"


class Addresses(NamedTuple):
    """The source or destination of an entry: a set of patterns of one family, and the text it was
    written as.
    """

    text: str
    patterns: tuple[Pattern, ...]

    def contains(self, address: int) -> bool:
        """Whether `address`, which is of the patterns' family, is in the set."""
        for pattern in self.patterns:
            if address & ~pattern.wildcard == pattern.value:
                return True
        return False


def pattern(family: Family, value: int, wildcard: int) -> Pattern:
    """Return a pattern, with the bits of `value` that the wildcard covers set to 0."""
    return Pattern(family, value & ~wildcard, wildcard)


def single(address: Address) -> Pattern:
    """Return the pattern that matches this one address."""
    return Pattern(address.family, address.value, 0)


@cache
def everything(family: Family) -> Pattern:
    """Return the pattern that matches every address of a family."""
    return Pattern(family, 0, family.mask)


@cache
def anywhere(family: Family) -> Addresses:
    """Return the set that the word `any` stands for."""
    return Addresses("any", (everything(family),))


def prefix(address: Address, length: int) -> Pattern:
    """Return the prefix of `length` bits that contains `address`."""
    wildcard = address.family.mask >> length
    return Pattern(address.family, address.value & ~wildcard, wildcard)


def range_patterns(family: Family, first: int, last: int) -> tuple[Pattern, ...]:
    """Return the fewest prefixes that together are exactly the addresses from `first` to `last`,
    both included.
    """
    prefixes = []
    while first <= last:
        # The largest block that starts here is bounded by the start's alignment and by what is
        # left.
        size = first & -first if first else 1 << family.bits
        while size > last - first + 1:
            size >>= 1
        prefixes.append(Pattern(family, first, size - 1))
        first += size
    return tuple(prefixes)


def looks_like_address(text: str) -> bool:
    """Whether a word is meant as an address rather than as a name or a point.

    Names start with a letter and contain no colon; a point may, after its dot.
    """
    return text[:1].isdigit() or ":" in text.partition(".")[0]


def parse_address(text: str) -> Address:
    """Read one address: dotted decimal (RFC 791) or RFC 4291 section 2.2 text.

    Raises `AddressError` with the reason.
    """
    try:
        if ":" in text:
            return Address(Family.IPV6, int.from_bytes(socket.inet_pton(socket.AF_INET6, text)))
        return Address(Family.IPV4, int.from_bytes(socket.inet_pton(socket.AF_INET, text)))
    except (OSError, ValueError):
        raise AddressError(_why_no_address(text)) from None


def _why_no_address(text: str) -> str:
    if ":" in text:
        return (
            f"{text} is no IPv6 address: groups of up to four hexadecimal digits, eight of "
            "them or fewer around one ::"
        )
    octets = text.split(".")
    for octet in octets:
        number = numeral(octet)
        if number is not None and number > 255:
            return f"{text} is no IPv4 address: {octet} is more than 255"
        if number is not None and len(octet) > 1 and octet.startswith("0"):
            return f"{text} is no IPv4 address: write {number} for {octet}"
    return f"{text} is no IPv4 address: four numbers from 0 to 255 with dots between"


def parse_length(text: str, family: Family) -> int:
    """Read a prefix length. Raises `AddressError` when it is no number or longer than the family's
    addresses.
    """
    length = numeral(text)
    if length is None or length > family.bits:
        raise AddressError(f"/{text} is no {family.label} prefix length: 0 to {family.bits}")
    return length


def parse_prefix(text: str) -> tuple[Address, int]:
    """Read ADDRESS/LENGTH and return both; host bits are kept. Raises `AddressError`."""
    address_text, _, length_text = text.partition("/")
    address = parse_address(address_text)
    return address, parse_length(length_text, address.family)


def parse_block(text: str) -> Pattern:
    """Read ADDRESS or ADDRESS/LENGTH as a pattern; host bits are cleared. Raises `AddressError`."""
    head, slash, length = text.partition("/")
    try:
        if ":" in head:
            value = int.from_bytes(socket.inet_pton(socket.AF_INET6, head))
            wildcard = _WILDCARDS[Family.IPV6][length]
            return Pattern(Family.IPV6, value & ~wildcard, wildcard)
        value = int.from_bytes(socket.inet_pton(socket.AF_INET, head))
        wildcard = _WILDCARDS[Family.IPV4][length]
        return Pattern(Family.IPV4, value & ~wildcard, wildcard)
    except (OSError, ValueError, KeyError):
        return prefix(*parse_prefix(text)) if slash else single(parse_address(text))


def parse_netmask(text: str) -> int:
    """Read an IPv4 netmask and return its wildcard. Raises `AddressError` when its 1 bits are not
    one run at the top.
    """
    mask = parse_address(text)
    if mask.family is not Family.IPV4:
        raise AddressError(
            f"{text} is no netmask: only IPv4 has them; write ADDRESS/LENGTH or wild"
        )
    wildcard = mask.value ^ mask.family.mask
    if wildcard & (wildcard + 1):
        mend = (
            f"; as a wildcard write wild {text}"
            if mask.value & (mask.value + 1) == 0
            else "; write wild for scattered bits"
        )
        raise AddressError(
            f"{text} is no netmask: its 1 bits do not stand together at the left{mend}"
        )
    return wildcard


def parse_masked(text: str, kind: str, mask: str) -> Pattern:
    """Read ADDRESS wild WILDCARD, or for IPv4 ADDRESS mask NETMASK; `kind` is the word in the
    middle. Raises `AddressError`.
    """
    address = parse_address(text)
    if kind != "wild":
        wildcard = parse_netmask(mask)
        if address.family is not Family.IPV4:
            raise AddressError("IPv6 has no netmasks: write ADDRESS/LENGTH or wild")
        return pattern(address.family, address.value, wildcard)
    found = parse_address(mask)
    if found.family is not address.family:
        raise AddressError(
            f"the address is {address.family.label} and its wildcard {found.family.label}"
        )
    return pattern(address.family, address.value, found.value)


def parse_range(text: str) -> tuple[Pattern, ...]:
    """Read FIRST-LAST and return the prefixes that together are exactly that range. Raises
    `AddressError`.
    """
    first_text, _, last_text = text.partition("-")
    first, last = parse_address(first_text), parse_address(last_text)
    if first.family is not last.family:
        raise AddressError(f"{text} starts in {first.family.label} and ends in {last.family.label}")
    if first.value > last.value:
        raise AddressError(f"{text} is upside down: write {last}-{first}")
    return range_patterns(first.family, first.value, last.value)


def parse_addresses(text: str) -> tuple[Pattern, ...]:
    """Read ADDRESS, ADDRESS/LENGTH or FIRST-LAST as patterns. Raises `AddressError`."""
    return parse_range(text) if "-" in text else (parse_block(text),)


def format_address(family: Family, value: int) -> str:
    """Write an address: dotted decimal, or RFC 5952 text."""
    if family is Family.IPV4:
        return socket.inet_ntop(socket.AF_INET, value.to_bytes(4))
    return socket.inet_ntop(socket.AF_INET6, value.to_bytes(16))


def families(addresses: Iterable[Address]) -> Iterator[Family]:
    """Yield each family that occurs in `addresses`, IPv4 first."""
    present = {address.family for address in addresses}
    return (family for family in Family if family in present)
