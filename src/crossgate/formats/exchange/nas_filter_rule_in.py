"""Reading NAS-Filter-Rule attributes (RFC 4849): their rules as entries of a list."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from crossgate.core.lists.rules import Rule
from crossgate.core.model.address import Family
from crossgate.core.model.entry import Action
from crossgate.core.model.errors import PlanError
from crossgate.formats.exchange.asked import Given
from crossgate.formats.exchange.filter_rule_text import RuleReader, RuleText
from crossgate.formats.exchange.nas_filter_rule import ATTRIBUTE, MOST_VALUE, WORDS
from crossgate.language.coming import Coming, takes_all

_ATTRIBUTE_LINE = re.compile(r'\s*NAS-Filter-Rule\s*(?:=|\+=|:=|==)\s*"(.*)"\s*,?\s*')
"""A rule as the attribute of a users file."""


def read(given: Given) -> Coming:
    """Read rules, one on each line or as bytes of attributes, as a list for each direction and
    family. Raises `PlanError` with the faulty rule.
    """
    coming = Coming(str(given.path), less=given.less)
    parsed = [RuleReader(given, each).rule() for each in _rules(given)]
    if not parsed:
        raise PlanError(
            f"{given.path} has no rule; one is as: permit in 6 from any to 192.0.2.5 443"
        )
    coming.told += [
        (
            f"rule {each.number} asks for a TCP flag that is set and not set, which no packet "
            "has; it "
            "is left out"
        )
        for each in parsed
        if each.nothing
    ]
    ways = list(dict.fromkeys(each.direction for each in parsed))
    for direction in ways:
        own = [each for each in parsed if each.direction is direction]
        rest = Action.DENY if own[-1].action is Action.PERMIT else Action.PERMIT
        name = f"{given.name}-{WORDS[direction]}" if len(ways) > 1 else given.name or ""
        by_family = {
            family: [(rule, each.lost) for each in own for rule in each.rules(family)]
            for family in Family
        }
        needed = [family for family, rules in by_family.items() if not _permits_all(rules, rest)]
        for family in needed:
            found = coming.new_list(name, family, apart=len(needed) > 1)
            for rule, lost in by_family[family]:
                found.add(rule, [f"{given.path}, {each}" for each in lost])
            found.close(rest, lambda rule: rule.number is None)
            if not by_family[family]:
                found.note(
                    f"no rule is for {family.label}, so what follows from the last one holds for "
                    f"all of it: {found.otherwise}"
                )
        for family in Family:
            if family not in needed and by_family[family]:
                coming.told.append(
                    f"all {family.label} is permitted {WORDS[direction]}; no list is needed for "
                    "that"
                )
    coming.told = list(dict.fromkeys(coming.told))
    return coming


def _permits_all(rules: Sequence[tuple[Rule, tuple[str, ...]]], rest: Action) -> bool:
    """Whether rules, and what becomes of the rest, permit everything of a family."""
    if not rules:
        return rest is Action.PERMIT
    return (
        len(rules) == 1
        and not rules[0][1]
        and rules[0][0].action is Action.PERMIT
        and takes_all(rules[0][0])
    )


def _rules(given: Given) -> Iterator[RuleText]:
    data = given.data
    if data[:1] == bytes([ATTRIBUTE]):
        joined, at = b"", 0
        while at < len(data):
            size = data[at + 1] if at + 1 < len(data) else 0
            if size < 3 or at + size > len(data):
                raise PlanError(
                    f"{given.path}, octet {at}: no attribute begins here: a type and a length of "
                    "at least 3, and as many octets"
                )
            if data[at] == ATTRIBUTE:
                joined += data[at + 2 : at + size]
            at += size
        texts = joined.decode("ascii", errors="replace").split("\0")
    else:
        try:
            texts = _whole_rules(data.decode("utf-8-sig").splitlines())
        except UnicodeDecodeError as error:
            raise PlanError(
                f"{given.path} is neither text nor RADIUS attributes (octet {error.start})"
            ) from None
    for number, text in enumerate(texts, 1):
        named = _ATTRIBUTE_LINE.fullmatch(text)
        own = (named.group(1) if named else text).strip()
        if own and not own.startswith("#"):
            yield RuleText(number, own)


def _whole_rules(lines: Sequence[str]) -> list[str]:
    """Return the rules of a text, one on each line.

    RADIUS clients print attributes as they came: rules are separated by NUL, and one may continue
    in the next attribute (RFC 4849 section 2). So where a NUL is printed, or an attribute has the
    greatest possible length, the attributes are joined first.
    """
    values = [found[1] if (found := _ATTRIBUTE_LINE.fullmatch(line)) else None for line in lines]
    own = [each for each in values if each is not None]
    if not any(
        each and (_PRINTED_NUL.search(each) or len(each.encode()) >= MOST_VALUE) for each in own
    ):
        return list(lines)
    joined = ""
    for each in own:
        joined += each
        if len(each.encode()) < MOST_VALUE and not _PRINTED_NUL.search(each):
            joined += "\0"
    return _PRINTED_NUL.sub("\0", joined).split("\0")


_PRINTED_NUL = re.compile(r"\\000|\\x00|\\0|\0")
"""A NUL as clients print it."""
