"""Which entries of lists take some addresses, or some packets of a service, by another word than
the one asked about.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.address import Family, Pattern
from crossgate.core.model.plan import Plan
from crossgate.core.model.service import ServiceTerm


class HeldEntries(NamedTuple):
    """Entries of a list that take what a word stands for by another word: their numbers, that word,
    and the part of the entry that has it, `from`, `to` or `service`.
    """

    access_list: AccessList
    numbers: tuple[int, ...]
    word: str
    part: str


def held_by(plan: Plan, patterns: Iterable[Pattern], own: str) -> tuple[HeldEntries, ...]:
    """Return the entries that ask for addresses of some patterns by other words than `own`; entries
    with `any` are left out.
    """
    by_family = {family: [e for e in patterns if e.family is family] for family in Family}
    known: dict[tuple[Family, str], bool] = {}
    found: dict[tuple[str, str, str], list[int]] = {}
    for access_list in plan.lists.values():
        family = access_list.family
        wanted = by_family[family]
        for entry in access_list.entries if wanted else ():
            for part, addresses in (("from", entry.source), ("to", entry.destination)):
                word = addresses.text
                if word in ("any", own):
                    continue
                if (family, word) not in known:
                    known[family, word] = overlap(wanted, addresses.patterns)
                if known[family, word]:
                    found.setdefault((access_list.name, word, part), []).append(entry.number)
    return _in_words(plan, found)


def asked_by(plan: Plan, terms: Iterable[ServiceTerm], own: str) -> tuple[HeldEntries, ...]:
    """Return the entries that ask for packets of some terms by other words than `own`; entries with
    `ip` are left out.
    """
    wanted = list(terms)
    known: dict[tuple[Family, str], bool] = {}
    found: dict[tuple[str, str, str], list[int]] = {}
    for access_list in plan.lists.values():
        for entry in access_list.entries:
            word = entry.service.text
            if word in ("ip", own):
                continue
            key = access_list.family, word
            if key not in known:
                known[key] = any(share(a, b) for a in wanted for b in entry.service.terms)
            if known[key]:
                found.setdefault((access_list.name, word, "service"), []).append(entry.number)
    return _in_words(plan, found)


def _in_words(plan: Plan, found: dict[tuple[str, str, str], list[int]]) -> tuple[HeldEntries, ...]:
    return tuple(
        HeldEntries(plan.lists[name], tuple(numbers), word, part)
        for (name, word, part), numbers in found.items()
    )


def share(one: ServiceTerm, other: ServiceTerm) -> bool:
    """Whether two service terms, both with a protocol, have a packet in common."""
    if one.protocol is None or one.protocol != other.protocol:
        return False
    if one.ports is not None and other.ports is not None:
        return any(a <= d and c <= b for a, b in one.ports for c, d in other.ports)
    if one.icmp_type is not None and other.icmp_type is not None:
        return one.icmp_type == other.icmp_type and (
            one.icmp_code is None or other.icmp_code in (None, one.icmp_code)
        )
    return True


def overlap(patterns: Iterable[Pattern], others: Iterable[Pattern]) -> bool:
    """Whether some address is in patterns of both."""
    held = list(others)
    return any(
        one.family is other.family and one.overlaps(other) for one in patterns for other in held
    )
