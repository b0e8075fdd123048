"""The columns of the standard layout: a statement's words as cells, addresses in their standard
form.

Words are aligned, never changed, except addresses: hexadecimal in lower case and shortened (RFC
5952), with 0 bits where a wildcard or a prefix leaves them open.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import lru_cache

from crossgate.core.model.address import (
    AddressError,
    Pattern,
    format_address,
    looks_like_address,
    parse_address,
    parse_prefix,
    parse_range,
    prefix,
)
from crossgate.core.model.entry import Action
from crossgate.core.model.ethernet import format_mac, is_mac, parse_mac

Cells = Callable[[list[str]], tuple[str, ...]]
"""From the words of a line to its cells."""


def one_cell(words: list[str]) -> tuple[str, ...]:
    """Return a line that is no part of a table as a single cell."""
    return (" ".join(words),)


def entry_cells(words: list[str], standard: bool) -> tuple[str, ...]:
    """NUMBER | off | ACTION | SERVICE | SOURCE | to DESTINATION | the rest | comment."""
    left = list(words)
    number = left.pop(0) if left[0].isdecimal() else ""
    off = left.pop(0) if left and left[0] == "off" else ""
    action = left.pop(0) if left and left[0] in tuple(Action) else ""
    comment = _comment(left)
    service = "" if standard or not left else left.pop(0)
    source = _several(left)
    destination = ""
    if left and left[0] == "to":
        left.pop(0)
        destination = f"to {_several(left)}"
    return number, off, action, service, source, destination, " ".join(left), comment


def _comment(left: list[str]) -> str:
    """Remove the comment at the end of some words and return it, "" for none; a text after `for` is
    not a comment.
    """
    named = left[-2:-1] == ["for"]
    return left.pop() if left and left[-1].startswith('"') and not named else ""


def subnet_cells(words: list[str]) -> tuple[str, ...]:
    """subnet or outside | NAME | IPv4 prefixes | IPv6 prefixes | vlan ID."""
    end = _until(words, "vlan", "isolated")
    return words[0], words[1], *_by_family(words[2:end], _literal), " ".join(words[end:])


def leases_cells(words: list[str]) -> tuple[str, ...]:
    """leases | RANGES | on SUBNET | by MACHINE | names and time."""
    on, by = _until(words, "on"), _until(words, "by")
    left = " ".join(words[1:on]).replace(",", ", ").replace(" ,", ",").split()
    rest = " ".join(words[by + 2 :]).replace(",", ", ").replace(" ,", ",")
    return (
        words[0],
        _several(left),
        " ".join(words[on:by]),
        " ".join(words[by : by + 2]),
        " ".join(rest.split()),
    )


def group_cells(words: list[str]) -> tuple[str, ...]:
    """group | NAME | members, or the table that they are in."""
    if words[2:3] == ["from"]:
        return words[0], words[1], " ".join(words[2:])
    return (
        words[0],
        words[1],
        _several(" ".join(words[2:]).replace(",", ", ").replace(" ,", ",").split()),
    )


def route_cells(words: list[str]) -> tuple[str, ...]:
    """route | PREFIX or default | via ADDRESS or discard."""
    return words[0], _literal(words[1]), " ".join([words[2], *map(_literal, words[3:])])


def translate_cells(words: list[str]) -> tuple[str, ...]:
    """translate | SOURCE and service | leaving INTERFACE | as ADDRESSES."""
    way = _until(words, "leaving", "both", "entering")
    end = _until(words, "as", "to", "unchanged")
    left, who = words[1:way], [words[0]]
    while left:
        who.append(_several(left))
    return who[0], " ".join(who[1:]), " ".join(words[way:end]), _behind(words[end:])


def _behind(words: list[str]) -> str:
    """Return a keyword and the addresses after it in their standard form."""
    if len(words) < 2:
        return " ".join(words)
    left = words[1:]
    return " ".join([words[0], _several(left), *left])


def expectation_cells(words: list[str]) -> tuple[str, ...]:
    """expect or keep | CLAIM | SERVICE | END | to END | the rest | comment."""
    end = 3
    while words[1] == "only" and words[end] == "and":
        end += 2
    left = words[end:]
    comment = _comment(left)
    source = _several(left)
    destination = f"{left.pop(0)} {_several(left)}"
    return words[0], words[1], " ".join(words[2:end]), source, destination, " ".join(left), comment


def named_cells(words: list[str]) -> tuple[str, ...]:
    """KEYWORD | NAME | the rest."""
    return words[0], words[1], " ".join(words[2:])


def placement_cells(words: list[str]) -> tuple[str, ...]:
    """place | LIST | DIRECTION | on WHERE."""
    return words[0], words[1], words[2], " ".join(words[3:])


def acceptance_cells(words: list[str]) -> tuple[str, ...]:
    """accept | FINDING | in LIST and entry | reason."""
    return words[0], words[1], " ".join(words[2:-1]), words[-1]


def interface_cells(words: list[str]) -> tuple[str, ...]:
    """interface | NAME | IPv4 addresses | IPv6 addresses | on SUBNET | the rest."""
    return _attached(words, _own)


def host_cells(words: list[str]) -> tuple[str, ...]:
    """host | NAME | IPv4 addresses | IPv6 addresses | on SUBNET | the rest."""
    return _attached(words, _literal)


def gateway_cells(words: list[str]) -> tuple[str, ...]:
    """gateway | IPv4 addresses | IPv6 addresses | on SUBNET | by POINTS and vrid."""
    end = _until(words, "on", "by")
    by = _until(words, "by")
    return (
        words[0],
        *_by_family(words[1:end], _literal),
        " ".join(words[end:by]),
        " ".join(words[by:]),
    )


def _several(left: list[str]) -> str:
    """Remove the words of a source or a destination from the front, and return them in their
    standard form.
    """
    found = _addresses(left)
    while left and (found.endswith(",") or left[0] == "but"):
        found += f" {left.pop(0)}" if left[0] == "but" else ""
        found += f" {_addresses(left)}"
    return found


def _addresses(left: list[str]) -> str:
    """Remove the words of one item from the front, and return them in their standard form, with the
    comma that they end with.
    """
    if not left:
        return ""
    word = left.pop(0)
    if word == "leases" and left[:1] == ["of"] and len(left) > 1:
        return f"leases {left.pop(0)} {left.pop(0)}"
    if left[:1] in (["wild"], ["mask"]) and len(left) > 1:
        kind, mask = left.pop(0), left.pop(0)
        return _masked(word, kind, mask.removesuffix(",")) + "," * mask.endswith(",")
    return ", ".join(map(_literal, word.removesuffix(",").split(","))) + "," * word.endswith(",")


@lru_cache(maxsize=1 << 16)
def _literal(word: str) -> str:
    """Return an address, prefix or range in its standard form; a prefix has no host bits."""
    if is_mac(word):
        return format_mac(parse_mac(word))
    if not looks_like_address(word):
        return word
    try:
        if "-" in word:
            parts = parse_range(word)
            family = parts[0].family
            ends = (parts[0].first, parts[-1].last)
            return "-".join(format_address(family, each) for each in ends)
        if "/" in word:
            address, length = parse_prefix(word)
            return f"{format_address(address.family, prefix(address, length).value)}/{length}"
        return str(parse_address(word))
    except AddressError:
        return word


def _masked(word: str, kind: str, mask_word: str) -> str:
    if is_mac(word):
        wildcard = parse_mac(mask_word)
        return f"{format_mac(parse_mac(word) & ~wildcard)} {kind} {format_mac(wildcard)}"
    address, mask = parse_address(word), parse_address(mask_word)
    wildcard = mask.value if kind == "wild" else mask.value ^ mask.family.mask
    cleared = Pattern(address.family, address.value & ~wildcard, wildcard)
    return f"{format_address(cleared.family, cleared.value)} {kind} {mask}"


def _own(word: str) -> str:
    """Return an interface's address in its standard form; its host bits stay."""
    address, length = parse_prefix(word)
    return f"{address}/{length}"


def _by_family(words: Sequence[str], usual: Callable[[str], str]) -> tuple[str, str]:
    """Return the IPv4 and the IPv6 words of a line's addresses as two cells."""
    return " ".join(usual(word) for word in words if ":" not in word), " ".join(
        usual(word) for word in words if ":" in word
    )


def _until(words: list[str], *stops: str) -> int:
    return next((index for index, word in enumerate(words) if index and word in stops), len(words))


def _attached(words: list[str], usual: Callable[[str], str]) -> tuple[str, ...]:
    end = _until(words, "on", "at", "gateway", "mac", "cost", "passive", "stateful")
    after = end + 2 if words[end : end + 1] == ["on"] else end
    rest = words[after:]
    rest = [
        _literal(word) if before in ("gateway", "mac") else word
        for before, word in zip(["", *rest], rest, strict=False)
    ]
    return (
        words[0],
        words[1],
        *_by_family(words[2:end], usual),
        " ".join(words[end:after]),
        " ".join(rest),
    )
