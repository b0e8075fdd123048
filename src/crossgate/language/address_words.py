"""Words for addresses: patterns as they are written, and several of them with commas and `but`."""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeVar

from crossgate.core.model.address import AddressError, Pattern, parse_addresses, parse_masked
from crossgate.core.sets.meaning import written_as
from crossgate.language.words import Words

_Item = TypeVar("_Item")
GOING_ON = ("wild", "mask", "but", "of", ",")
"""The words after which a word for addresses goes on."""


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
