"""Words for addresses: patterns as they are written, and several of them with commas and `but`."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TypeVar

from crossgate.core.model.address import AddressError, Pattern, parse_addresses, parse_masked
from crossgate.core.model.errors import PlanError
from crossgate.core.sets.meaning import written_as
from crossgate.language.words import Words

_Item = TypeVar("_Item")
GOING_ON = ("wild", "mask", "but", "of", ",")
"""The words after which a word for addresses goes on."""
TO = "to"
"""What stands between who sends and who gets it."""
_BEFORE_MORE = {"wild", "mask", "but"}
"""Words behind an address or a name, after which it goes on."""


def read_several(
    words: Words, read: Callable[[Words, str], _Item]
) -> tuple[list[_Item], list[_Item], str]:
    """Take items with commas between them, and others after `but`; return the items before and
    after `but`, and the text in the standard form.

    `read` reads an item whose first word has been taken, without its final comma. Raises
    `PlanError`.
    """
    items: tuple[list[_Item], list[_Item]] = [], []
    texts: tuple[list[str], list[str]] = [], []
    side = 0
    while True:
        start = words.index
        word = words.take("an address or a name")
        parts = word.removesuffix(",").split(",")
        if "" in parts:
            raise words.error(
                "an address or a name is missing before this comma"
                if word == ","
                else "an address or a name is missing here"
            )
        for part in parts:
            items[side].append(read(words, part))
        rest = words.words[start + 1 : words.index]
        texts[side].extend([*parts[:-1], " ".join([parts[-1], *rest]).removesuffix(",")])
        last = words.words[words.index - 1]
        if (last.endswith(",") and last != ",") or words.accept(","):
            if words.peek() in ("", "but", "to"):
                raise (
                    words.missing("another address or name after the comma")
                    if not words.peek()
                    else words.error(
                        "another address or name is missing after the comma", index=words.index
                    )
                )
        elif side == 0 and words.accept("but"):
            side = 1
        else:
            return *items, written_as(*texts)


def read_pattern(words: Words) -> tuple[Pattern, ...]:
    """Read an address, a prefix, an address with `wild` or `mask`, or a range. Raises
    `PlanError`.
    """
    return literal(words, words.take("an address, a prefix or a range"))


def literal(words: Words, word: str) -> tuple[Pattern, ...]:
    """Read the pattern that begins with the word just taken. Raises `PlanError`."""
    try:
        if words.peek() not in ("wild", "mask"):
            return parse_addresses(word)
        kind = words.take("")
        mask = words.take(
            "a wildcard, as 0.0.0.255" if kind == "wild" else "a netmask, as 255.255.255.0"
        )
        return (parse_masked(word, kind, mask.removesuffix(",")),)
    except AddressError as error:
        raise words.error(str(error)) from None


def ends_joined(words: Sequence[str]) -> list[str]:
    """Return words that a person gave with those that are one end as one: with commas between
    them, with `wild`, `mask` or `but`, or `leases of` a subnet. What stands beside `to` is not
    joined with it.

    Raises `PlanError` where a comma stands first or last.
    """
    found = list[str]()
    goes_on = False
    for index, word in enumerate(words):
        leased = word == "of" and list(words[index - 1 : index]) == ["leases"]
        if (
            found
            and TO not in (word, found[-1])
            and (goes_on or leased or word in _BEFORE_MORE or word[:1] == ",")
        ):
            found[-1] += f" {word}"
        else:
            found.append(word)
        goes_on = leased or word in _BEFORE_MORE or word[-1:] == ","
    if any("," in (each[:1], each[-1:]) for each in found):
        raise PlanError("an address or a name is missing beside a comma")
    return found
