"""The documents of `wild`: a pattern in every notation, whether it contains an address, and
patterns that cover addresses.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Final, Literal, TypedDict

from crossgate.core.model.address import Address, Family, Pattern, format_address
from crossgate.core.sets.wildcard import slips


class PatternDocument(TypedDict):
    """A pattern in every notation; `prefix` and `netmask` are null where it has none."""

    address: str
    wildcard: str
    prefix: str | None
    netmask: str | None
    count: int


class NotationsDocument(TypedDict):
    """Patterns, what they contain, and what in them is likely to be a mistake."""

    family: int
    first: str
    last: str
    count: int
    patterns: list[PatternDocument]
    slips: list[str]


class ReadingDocument(NotationsDocument):
    """A reading of what was written."""

    pattern: str


class WrittenDocument(ReadingDocument):
    """Patterns as they were written."""

    schema: Literal["crossgate/wild/1"]


class MaskDocument(WrittenDocument):
    """A mask that may be of either kind: its likelier reading, and each."""

    readings: list[ReadingDocument]


class HasDocument(TypedDict):
    """Whether patterns contain an address."""

    schema: Literal["crossgate/wild/1"]
    pattern: str
    address: str
    has: bool


class CoverDocument(TypedDict):
    """Patterns that cover some addresses: the smallest single one, with how many others it
    contains, and the fewest that contain no other, null where they were not looked for.
    """

    schema: Literal["crossgate/wild/1"]
    count: int
    smallest: NotationsDocument
    strangers: int
    exactly: list[PatternDocument] | None
    proved: bool


_SCHEMA: Final = "crossgate/wild/1"


def pattern_document(written: str, patterns: Sequence[Pattern]) -> WrittenDocument:
    """Return `crossgate/wild/1` for patterns as they were written."""
    return {"schema": _SCHEMA, "pattern": written, **_notations(patterns)}


def readings_document(
    written: str, readings: Sequence[tuple[str, Sequence[Pattern]]]
) -> MaskDocument:
    """Return `crossgate/wild/1` for a mask that may be of either kind: the likelier reading, and
    each of the `readings`.
    """
    return {
        **pattern_document(written, readings[0][1]),
        "readings": [{"pattern": told, **_notations(patterns)} for told, patterns in readings],
    }


def has_document(written: str, address: Address, has: bool) -> HasDocument:
    """Return `crossgate/wild/1` for the question whether patterns contain an address."""
    return {"schema": _SCHEMA, "pattern": written, "address": str(address), "has": has}


def cover_document(
    count: int, around: Pattern, exactly: Sequence[Pattern] | None, proved: bool
) -> CoverDocument:
    """Return `crossgate/wild/1` for the patterns that cover `count` addresses.

    `around` is the smallest single one, `exactly` the fewest with just these addresses (None where
    they were not looked for), `proved` whether fewer are impossible.
    """
    return {
        "schema": _SCHEMA,
        "count": count,
        "smallest": _notations([around]),
        "strangers": around.size - count,
        "exactly": None if exactly is None else _notations(exactly)["patterns"],
        "proved": proved,
    }


def _notations(patterns: Sequence[Pattern]) -> NotationsDocument:
    family = patterns[0].family
    return {
        "family": int(family),
        "first": format_address(family, min(each.first for each in patterns)),
        "last": format_address(family, max(each.last for each in patterns)),
        "count": sum(each.size for each in patterns),
        "patterns": [
            {
                "address": format_address(family, each.value),
                "wildcard": format_address(family, each.wildcard),
                "prefix": str(each.prefix_length) if each.is_prefix else None,
                "netmask": format_address(family, family.mask & ~each.wildcard)
                if each.is_prefix and family is Family.IPV4
                else None,
                "count": each.size,
            }
            for each in patterns
        ],
        "slips": slips(patterns[0]) if len(patterns) == 1 else [],
    }
