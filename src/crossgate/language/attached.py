"""Words of the network's lines: addresses with their lengths, the subnet and the port that
something is at, and hardware addresses.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator

from crossgate.core.model.address import (
    Address,
    AddressError,
    Pattern,
    looks_like_address,
    parse_address,
    parse_prefix,
    prefix,
)
from crossgate.core.model.errors import PlanError
from crossgate.core.model.ethernet import MacError, is_group_mac, parse_mac
from crossgate.core.model.network import Point, PointKind, Segment
from crossgate.language.names import Names
from crossgate.language.words import Words


def subnet_prefix(words: Words) -> Pattern:
    """Read a prefix, which has no bits behind its length."""
    word = words.take("a prefix, as 10.64.8.0/22")
    address, length = with_length(words, word, "a prefix, as 10.64.8.0/22")
    block = prefix(address, length)
    if block.value != address.value:
        raise words.error(f"{word} has bits set behind its prefix length; write {block}")
    return block


def with_length(words: Words, word: str, expected: str) -> tuple[Address, int]:
    """Read the word just taken as ADDRESS/LEN; `expected` says what is."""
    if "/" not in word:
        raise _with_netmask(words, word) or words.error(f"expected {expected}, not {word}")
    try:
        return parse_prefix(word)
    except AddressError as error:
        raise words.error(str(error)) from None


def _with_netmask(words: Words, word: str) -> PlanError | None:
    """Return the error for an address with a netmask behind it, as other notations have it; None
    where there is none.
    """
    try:
        address, mask = parse_address(word), parse_address(words.peek())
    except AddressError:
        return None
    family = address.family
    block = Pattern(family, address.value & mask.value, ~mask.value & family.mask)
    if mask.family is not family or not block.is_prefix:
        return None
    if address.value and not mask.value:
        return None  # nobody means all addresses by one of them
    text = f"{address}/{block.prefix_length}"
    words.take("a netmask")
    return words.mended_from(words.index - 2, f"{word} {mask} is written {text}", text)


ATTACHED = ("at", "mac", "cost", "passive")
"""What an interface's line may say besides its subnet."""


def options_of(words: Words, known: Collection[str], several: str = "") -> Iterator[str]:
    """Yield the options of a line in the order in which they come, with the cursor at each. Raises
    `PlanError` where one is written twice that may not come `several` times.
    """
    written = set[str]()
    while (word := words.peek()) in known:
        if word in written and word != several:
            raise words.error(f"{word} is written twice", index=words.index)
        written.add(word)
        yield word


def named_segment(words: Words, names: Names) -> Segment:
    """Take `on` and a subnet or an outside."""
    words.keyword("on")
    name = words.take("the subnet or outside that it is on")
    if name not in names.plan.segments:
        raise names.unknown(words, "subnet", name, names.plan.segments)
    return names.plan.segments[name]


def see_that_on_stands_before(words: Words, names: Names) -> None:
    """Raise `PlanError` where the next word is a subnet, or `in` before one."""
    word = words.peek()
    if word in names.plan.segments or word == "in":
        meant = "on" if word == "in" else f"on {word}"
        words.take("a word")
        raise words.error(f"expected on, not {word}; write {meant}", near=meant)


def only_subnet(words: Words, names: Names, own: list[Address]) -> Segment:
    """Return the only subnet that has all of some addresses, where `on SUBNET` is left out. Raises
    `PlanError` where none or several have.
    """
    found = [
        each
        for each in names.plan.segments.values()
        if not each.outside and all(map(each.holds, own))
    ]
    if len(found) == 1:
        return found[0]
    if words.peek() and words.peek() not in ("gateway", "by", "stateful", *ATTACHED):
        words.keyword("on")
    if not found:
        raise words.missing(f"on SUBNET (no subnet has {' and '.join(map(str, own))})")
    raise words.missing(f"on SUBNET ({' and '.join(each.name for each in found)} have {own[0]})")


def see_that_it_belongs(
    words: Words, index: int, address: Address, on: Segment, names: Names
) -> None:
    """Check that an address may be on its subnet or outside."""
    if on.outside and not on.prefixes:
        other = next(
            (each for each in names.plan.segments.values() if each.outside and each.holds(address)),
            None,
        )
        if other is not None:
            raise words.error(
                f"{address} is in {other.name}, so it is not on {on.name}, which is all the rest",
                index=index,
            )
    elif on.outside and not on.holds(address):
        has = " and ".join(map(str, on.prefixes))
        raise words.error(
            (
                f"{address} is not in {on.name}, which is {has}; write its prefix behind outside "
                f"{on.name}"
            ),
            index=index,
        )
    elif not on.holds(address):
        of_family = [str(block) for block in on.prefixes if block.family is address.family]
        has = (
            f"which is {' and '.join(of_family)}"
            if of_family
            else f"which has no {address.family.label} prefix"
        )
        raise words.error(f"{address} is not in {on.name}, {has}", index=index)


def at_port(words: Words) -> Point:
    """Take `at SWITCH.PORT`."""
    words.keyword("at")
    return port_reference(words)


def mac_word(words: Words) -> int:
    """Take `mac` and the six octets of one station."""
    words.keyword("mac")
    word = words.take("a hardware address, as 00:00:5e:00:53:21")
    try:
        value = parse_mac(word)
    except MacError as error:
        raise words.error(str(error)) from None
    if is_group_mac(value) or not value:
        raise words.error(
            f"{word} is no address of one machine" + (": it is a group's" if value else "")
        )
    return value


def port_reference(words: Words) -> Point:
    """Take a port as SWITCH.PORT; whether the plan has it is seen later."""
    word = words.take("a port, as jetty.3")
    switch, dot, name = word.partition(".")
    if not (dot and switch and name):
        raise words.error(f"expected a port as SWITCH.PORT, not {word}")
    return Point(PointKind.PORT, switch, name)


def one_address(words: Words, expected: str) -> Address:
    """Take an address without a length; `expected` is how errors call it."""
    word = words.take(expected)
    try:
        return parse_address(word)
    except AddressError as error:
        alone = word.partition("/")[0]
        if alone != word and looks_like_address(alone):
            message = f"expected {expected} alone, not {word}; write {alone}"
            raise words.error(message, near=alone) from None
        raise words.error(str(error)) from None
