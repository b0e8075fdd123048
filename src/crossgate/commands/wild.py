"""`crossgate wild`: prefixes, netmasks, wildcards and ranges converted into each other; what
matches; the pattern that covers addresses.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from crossgate.commands.common import print_json
from crossgate.commands.completing import complete_pattern
from crossgate.commands.shared_options import JsonOption
from crossgate.core.model.errors import PlanError

if TYPE_CHECKING:
    from crossgate.core.model.address import Pattern

_HELP = (
    "ADDRESS, ADDRESS/LEN, ADDRESS wild WILDCARD, ADDRESS mask NETMASK or FIRST-LAST, or "
    "ADDRESS and a mask of either kind; then: has ADDRESS. Or: cover ADDRESS..."
)


def wild(
    words: Annotated[
        list[str], typer.Argument(metavar="PATTERN...", autocompletion=complete_pattern, help=_HELP)
    ],
    as_json: JsonOption = False,
) -> None:
    """Convert a prefix, netmask, wildcard or range into the others; test an address; cover
    addresses.
    """
    words = [word for text in words for word in text.split()]
    if words[:1] == ["cover"]:
        _cover(words[1:], as_json)
        return
    if "has" in words:
        place = words.index("has")
        _has(words[:place], words[place + 1 :], as_json)
        return
    if _bare_mask(words):
        _doubtful(words, as_json)
        return
    patterns = _patterns(words)
    if as_json:
        from crossgate.formats.json.wild import pattern_document

        print_json(pattern_document(" ".join(words), patterns))
        return
    from crossgate.core.sets.wildcard import MOST_ADDRESSES, addresses_of, fewest_patterns
    from crossgate.show.console import write
    from crossgate.show.wild import lines, pattern_lines

    write(lines(" ".join(words), patterns))
    count = sum(each.size for each in patterns)
    if len(patterns) > 1 and count <= MOST_ADDRESSES:
        fewest, _ = fewest_patterns(patterns[0].family, addresses_of(patterns))
        if len(fewest) < len(patterns):
            write([f"  with scattered bits, {len(fewest)} will do:", *pattern_lines(fewest)])


def _bare_mask(words: list[str]) -> bool:
    """Whether words are an address and a mask, or a mask alone, without saying whether it is a
    wildcard or a netmask.
    """
    from crossgate.core.model.address import AddressError, Family, parse_address
    from crossgate.core.sets.wildcard import looks_like_mask

    try:
        addresses = [parse_address(word) for word in words]
    except AddressError:
        return False
    if not addresses or not looks_like_mask(addresses[-1]):
        return False
    if len(words) == 2:
        return addresses[0].family is addresses[1].family
    return (
        len(words) == 1
        and addresses[0].family is Family.IPV4
        and 0 < addresses[0].value < Family.IPV4.mask
    )


def _doubtful(words: list[str], as_json: bool) -> None:
    """Show what an address with such a mask is, or the mask alone, both as a netmask and as a
    wildcard, the likelier first.
    """
    from crossgate.core.model.address import parse_address
    from crossgate.core.sets.wildcard import meanings

    address = words[0] if len(words) == 2 else "0.0.0.0"
    likely, _ = meanings(parse_address(address), parse_address(words[-1]))
    readings = []
    for kind in (likely, "wild" if likely == "mask" else "mask"):
        try:
            readings.append(([address, kind, words[-1]], _patterns([address, kind, words[-1]])))
        except PlanError:
            continue
    if as_json:
        from crossgate.formats.json.wild import readings_document

        print_json(
            readings_document(
                " ".join(words), [(" ".join(told), patterns) for told, patterns in readings]
            )
        )
        return
    from crossgate.show.console import write
    from crossgate.show.wild import reading_lines

    for number, (told, patterns) in enumerate(readings):
        write([""] * bool(number))
        write(reading_lines(told[1], " ".join(told), patterns, number == 0, alone=len(words) == 1))


def _patterns(words: list[str]) -> list[Pattern]:
    """Read a pattern from its words. Raises `PlanError`."""
    from crossgate.language.address_words import read_pattern
    from crossgate.language.lines import Line
    from crossgate.language.words import Words

    given = Words(Line("the pattern given", 1, " ".join(words)))
    patterns = read_pattern(given)
    given.end()
    return list(patterns)


def _has(words: list[str], asked: list[str], as_json: bool) -> None:
    """Answer whether an address matches; exit status 1 when it does not."""
    from crossgate.core.model.address import parse_address

    patterns = _patterns(words)
    if len(asked) != 1:
        raise PlanError("has takes one address, as: wild 10.64.32.10 wild 0.0.3.0 has 10.64.34.10")
    address = parse_address(asked[0])
    if address.family is not patterns[0].family:
        raise PlanError(
            f"the pattern is {patterns[0].family.label} and {address} {address.family.label}"
        )
    found = any(each.contains(address.value) for each in patterns)
    if as_json:
        from crossgate.formats.json.wild import has_document

        print_json(has_document(" ".join(words), address, found))
    else:
        typer.echo(
            f"{' '.join(words)} {'has' if found else 'does not have'} "
            f"{address}{'' if found else _differs(patterns, address.value)}"
        )
    if not found:
        raise typer.Exit(1)


def _differs(patterns: list[Pattern], value: int) -> str:
    """Say in which bits an address differs from a single pattern."""
    if len(patterns) > 1:
        return ""
    from crossgate.core.model.address import format_address

    (pattern,) = patterns
    wrong = (value ^ pattern.value) & ~pattern.wildcard
    nearest = format_address(pattern.family, value ^ wrong)
    return (
        f": {wrong.bit_count()} fixed bit{'s differ' if wrong.bit_count() > 1 else ' differs'} "
        f"({nearest} would match)"
    )


def _cover(words: list[str], as_json: bool) -> None:
    """Find the smallest pattern around addresses, and the fewest that have exactly them."""
    from crossgate.core.sets.wildcard import (
        MOST_ADDRESSES,
        addresses_of,
        apart,
        fewest_patterns,
        smallest_around,
    )

    if not words:
        raise PlanError("cover takes addresses, as: wild cover 10.64.32.10 10.64.33.10 10.64.34.10")
    patterns = [pattern for word in words for pattern in _patterns([word.strip(",")])]
    family = patterns[0].family
    if any(each.family is not family for each in patterns):
        raise PlanError("the addresses are of both families; a pattern has one")
    around = smallest_around(patterns)
    different = apart(patterns)
    count, fewest, proved = sum(each.size for each in different), None, True
    if count <= MOST_ADDRESSES:
        wanted = set(addresses_of(different))
        count = len(wanted)
        fewest, proved = fewest_patterns(family, wanted)
    if as_json:
        from crossgate.formats.json.wild import cover_document

        print_json(cover_document(count, around, fewest, proved))
        return
    from crossgate.show.console import count as counted
    from crossgate.show.console import strong, write
    from crossgate.show.wild import lines, pattern_lines

    write(lines(f"the smallest pattern around {counted(count, 'address', 'addresses')}", [around]))
    strangers = around.size - count
    write(
        [
            strong(
                f"  lets in {counted(strangers, 'stranger')}"
                if strangers
                else "  and lets in nobody else"
            ),
            "",
        ]
    )
    if fewest is None:
        write([f"more than {MOST_ADDRESSES:,} addresses: the fewest patterns are not looked for"])
    elif strangers:
        few = (
            "the fewest patterns that have exactly them"
            if proved
            else "few patterns that have exactly them (fewer may do)"
        )
        write([f"{few}: {len(fewest)}", *pattern_lines(fewest)])
