"""Entries as rules with one source, one destination and one protocol each, for formats without
names, groups or wildcards.

An entry is the product of what it asks: its sources, destinations, services, source ports and
flags. It becomes a rule for each member of the product, in any order, since all have one action;
when they are read back, they are joined again by the number that they share.
"""

from __future__ import annotations

from collections.abc import Iterator
from itertools import product
from typing import NamedTuple

from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.address import Pattern, everything
from crossgate.core.model.condition import Abilities
from crossgate.core.model.entry import Action, Entry
from crossgate.core.model.packet import ICMP
from crossgate.core.model.service import (
    ESTABLISHED,
    FlagTest,
    Ports,
    Qualifiers,
    ServiceTerm,
    protocol_name,
)
from crossgate.core.sets.addresses import AddressSet
from crossgate.core.sets.region import Region, asked_services, term_line


class Rule(NamedTuple):
    """What one rule asks; None, () and False ask nothing.

    `flags` are tests of which one must pass. `number` is that of the entry, `part` of `parts` (from
    1) says which of the entry's rules it is; `comment` is the entry's.
    """

    action: Action
    protocol: int | None
    source: Pattern
    destination: Pattern
    source_ports: Ports | None = None
    destination_ports: Ports | None = None
    icmp_type: int | None = None
    icmp_code: int | None = None
    flags: tuple[FlagTest, ...] = ()
    fragments: bool = False
    dscp: int | None = None
    log: bool = False
    number: int | None = None
    part: int = 1
    parts: int = 1
    comment: str = ""


def rule_region(rule: Rule) -> Region | None:
    """Return the packets that a rule takes, None where it takes none."""
    term = ServiceTerm(rule.protocol, rule.destination_ports, rule.icmp_type, rule.icmp_code)
    asked = Qualifiers(rule.source_ports, rule.flags, rule.fragments, rule.dscp)
    services = asked_services(term_line([term]), asked)
    if services is None:
        return None
    family = rule.source.family
    source, destination = (
        AddressSet.of(family, (each,)) for each in (rule.source, rule.destination)
    )
    return Region(source, destination, *services)


class Unsaid(NamedTuple):
    """An entry that a format cannot express, None for the otherwise line, and why."""

    entry: Entry | None
    why: str


class ListAsRules(NamedTuple):
    """A list's entries as rules, the entries that cannot be expressed, and how many entries that
    are off are left out.
    """

    rules: tuple[Rule, ...]
    unsaid: tuple[Unsaid, ...]
    off: int


def rules_of(access_list: AccessList, able: Abilities, most_prefixes: int) -> ListAsRules:
    """Return a list's entries as rules, without the otherwise line; a wildcard becomes at most
    `most_prefixes` prefixes.
    """
    rules: list[Rule] = []
    unsaid: list[Unsaid] = []
    off = 0
    for entry in access_list.entries:
        if entry.off:
            off += 1
            continue
        why = _objection(entry, able, most_prefixes)
        if why:
            unsaid.append(Unsaid(entry, why))
        else:
            rules += _rules(entry, able)
    if access_list.otherwise.action is Action.REJECT and not able.reject:
        unsaid.append(Unsaid(None, f"{able.name} has no reject"))
    return ListAsRules(tuple(rules), tuple(unsaid), off)


def _objection(entry: Entry, able: Abilities, most_prefixes: int) -> str:
    """Return why a format cannot express an entry, "" where it can."""
    return (
        _of_conditions(entry, able)
        or _of_packets(entry, able)
        or _of_addresses(entry, most_prefixes)
    )


def _of_conditions(entry: Entry, able: Abilities) -> str:
    """Return why a format cannot express an entry's conditions or action, "" where it can."""
    refusal = next(filter(None, (each.refusal(able) for each in entry.conditions)), "")
    if refusal:
        return refusal
    if entry.action is Action.REJECT and not able.reject:
        return f"{able.name} has no reject"
    if entry.log and not able.log:
        return f"{able.name} has no log"
    return ""


def _of_packets(entry: Entry, able: Abilities) -> str:
    """Return why a format cannot express which packets an entry takes, "" where it can."""
    asked = entry.qualifiers
    for term in entry.service.terms:
        if (
            term.ports is not None or asked.source_ports is not None
        ) and term.protocol not in able.ported:
            protocol = "" if term.protocol is None else f" of {protocol_name(term.protocol)}"
            return f"{able.name} cannot ask for ports{protocol}"
        if (
            term.icmp_type is not None
            and able.icmp_types is not None
            and (term.protocol != ICMP or term.icmp_type not in able.icmp_types)
        ):
            return (
                f"{able.name} cannot ask for "
                f"{'ICMP type ' + str(term.icmp_type) if term.protocol == ICMP else 'ICMPv6 types'}"
            )
        if term.icmp_code is not None and not able.icmp_code:
            return f"{able.name} cannot ask for an ICMP code"
    return ""


def _of_addresses(entry: Entry, most_prefixes: int) -> str:
    """Return why the addresses of an entry give too many prefixes, "" where they do not."""
    for each in (*entry.source.patterns, *entry.destination.patterns):
        if not each.is_prefix and 1 << _scattered(each) > most_prefixes:
            return f"{each} is {1 << _scattered(each):,} prefixes, and --limit is {most_prefixes}"
    return ""


def _scattered(pattern: Pattern) -> int:
    """Return how many bits of a wildcard are set above the run of 1 bits at its low end."""
    low = (~pattern.wildcard & (pattern.wildcard + 1)).bit_length() - 1
    return (pattern.wildcard >> low).bit_count()


def prefixes_of(pattern: Pattern) -> Iterator[Pattern]:
    """Yield the fewest prefixes that together have the addresses of a pattern."""
    low = (~pattern.wildcard & (pattern.wildcard + 1)) - 1
    high = pattern.wildcard & ~low
    bits = 0
    while True:
        yield Pattern(pattern.family, pattern.value | bits, low)
        bits = (bits - high) & high  # the next subset of the bits that are open
        if not bits:
            return


def _rules(entry: Entry, able: Abilities) -> Iterator[Rule]:
    """Yield the rules of an entry that a format can express."""
    asked = entry.qualifiers
    sources, destinations = (
        tuple(dict.fromkeys(p for each in side.patterns for p in prefixes_of(each)))
        for side in (entry.source, entry.destination)
    )
    terms = [each for term in dict.fromkeys(entry.service.terms) for each in _terms(term, able)]
    source_ports: list[Ports | None] = [asked.source_ports]
    if able.one_range and asked.source_ports is not None:
        source_ports = [(each,) for each in asked.source_ports]
    whole = not asked.flags or (able.established and asked.flags == ESTABLISHED)
    flags = [asked.flags] if whole else [(test,) for test in asked.flags]
    every = list(product(sources, destinations, terms, source_ports, flags))
    for part, (source, destination, term, ports, tests) in enumerate(every, 1):
        yield Rule(
            entry.action,
            term.protocol,
            source,
            destination,
            ports,
            term.ports,
            term.icmp_type,
            term.icmp_code,
            tests,
            asked.fragments,
            asked.dscp,
            entry.log,
            entry.number,
            part,
            len(every),
            entry.comment,
        )


def _terms(term: ServiceTerm, able: Abilities) -> Iterator[ServiceTerm]:
    if term.ports is None or not able.one_range:
        yield term
        return
    for each in term.ports:
        yield term._replace(ports=(each,))


def closing(access_list: AccessList) -> Rule:
    """Return the otherwise line as a rule, without a number."""
    every = everything(access_list.family)
    return Rule(access_list.otherwise.action, None, every, every)
