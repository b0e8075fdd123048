"""Wildcard arithmetic for people: the same set in every notation, and its bits in a row."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from crossgate.core.model.address import Family, Pattern, format_address
from crossgate.core.sets.wildcard import slips
from crossgate.show.console import alert, count, name, quiet, strong
from crossgate.show.width import columns

_MOST_PATTERNS = 40


def lines(written: str, patterns: Sequence[Pattern]) -> Iterator[str]:
    """Yield a set of addresses in every notation, with first, last and count, and the bits of a
    single pattern.
    """
    yield strong(written)
    if len(patterns) == 1:
        yield from columns(_notations(patterns[0]), indent=2)
        yield ""
        yield from _bits(patterns[0])
        for slip in slips(patterns[0]):
            yield alert(f"  {slip}")
        return
    first, last = min(each.first for each in patterns), max(each.last for each in patterns)
    family = patterns[0].family
    rows = [
        ["first", format_address(family, first)],
        ["last", format_address(family, last)],
        ["count", f"{_size(patterns):,}"],
    ]
    yield from columns(rows, indent=2)
    yield f"  no single prefix; {count(len(patterns), 'prefix', 'prefixes')} have exactly it:"
    yield from pattern_lines(patterns)


def reading_lines(
    kind: str, written: str, patterns: Sequence[Pattern], likely: bool, alone: bool
) -> Iterator[str]:
    """Yield what a mask of unknown kind means, read as one of the two kinds; `alone` where there is
    no address before it.
    """
    (pattern,) = patterns
    family = pattern.family
    word = "a netmask" if kind == "mask" else "a wildcard"
    yield f"{strong(f'as {word}')}{'' if likely else quiet(', which it does not look like')}"
    if not alone:
        yield from lines(written, patterns)
        return
    other = family.mask & ~pattern.wildcard if kind == "wild" else pattern.wildcard
    rows = [["count", f"{pattern.size:,} addresses around each address"]]
    if pattern.is_prefix:
        rows.append(["prefix", f"/{pattern.prefix_length}"])
        rows.append(["wildcard" if kind == "mask" else "netmask", format_address(family, other)])
    yield from columns(rows, indent=2)
    for slip in slips(pattern):
        yield alert(f"  {slip}")


def pattern_lines(patterns: Sequence[Pattern]) -> Iterator[str]:
    """Yield patterns in a table, each as address and wildcard, and as a prefix where it is one."""
    rows = [["address", "wildcard", "prefix", "count"]]
    for each in patterns[:_MOST_PATTERNS]:
        prefix = f"/{each.prefix_length}" if each.is_prefix else "-"
        rows.append(
            [
                format_address(each.family, each.value),
                format_address(each.family, each.wildcard),
                prefix,
                f"{each.size:,}",
            ]
        )
    head, *rest = columns(rows, indent=4)
    yield quiet(head)
    yield from rest
    if len(patterns) > _MOST_PATTERNS:
        yield quiet(f"    and {len(patterns) - _MOST_PATTERNS} more")


def _size(patterns: Sequence[Pattern]) -> int:
    return sum(each.size for each in patterns)


def _notations(pattern: Pattern) -> list[list[str]]:
    family = pattern.family
    value, wildcard = (
        format_address(family, pattern.value),
        format_address(family, pattern.wildcard),
    )
    rows = [["wildcard", f"{value} wild {wildcard}"]]
    if pattern.is_prefix:
        rows.append(["prefix", f"{value}/{pattern.prefix_length}"])
        if family is Family.IPV4:
            rows.append(
                [
                    "netmask",
                    f"{value} mask {format_address(family, family.mask & ~pattern.wildcard)}",
                ]
            )
    rows.append(["first", value])
    rows.append(["last", format_address(family, pattern.last)])
    rows.append(["count", f"{pattern.size:,}"])
    return rows


def _bits(pattern: Pattern) -> Iterator[str]:
    """Yield the bits in rows of 32: fixed ones as they are, free ones as x, with the address's own
    groups below.
    """
    family = pattern.family
    text = "".join(
        "x" if pattern.wildcard >> place & 1 else str(pattern.value >> place & 1)
        for place in range(family.bits - 1, -1, -1)
    )
    group, row = (8, 4) if family is Family.IPV4 else (16, 4)
    groups = [text[start : start + group] for start in range(0, family.bits, group)]
    for start in range(0, len(groups), row):
        shown = groups[start : start + row]
        yield "  " + " ".join(
            "".join(name(bit) if bit != "x" else quiet(bit) for bit in each) for each in shown
        )
        mask = "".join("." if bit == "x" else "=" for each in shown for bit in each)
        yield quiet(
            "  " + " ".join(mask[place : place + group] for place in range(0, len(mask), group))
        )
    yield quiet("  = must match   x does not matter")
