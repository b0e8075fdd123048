"""In words, how translations have changed packets: for traces, and for entries that must match what
a list sees.
"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise
from typing import NamedTuple

from crossgate.core.conversation.rules import Leg
from crossgate.core.model.address import Address, Family, Pattern
from crossgate.core.model.network import Translation
from crossgate.core.model.packet import Packet
from crossgate.core.model.plan import Plan
from crossgate.core.model.service import protocol_word
from crossgate.core.network.view import View, choosing, packet_in
from crossgate.core.sets.meaning import meaning_of


class SeenEnds(NamedTuple):
    """The source and the destination of a packet where a list sees it, in words."""

    source: str
    destination: str


def seen_ends(first: Packet, leg: Leg, view: View) -> SeenEnds:
    """Return the source and destination, in words, of a leg's packet as it is seen in a view."""
    seen, last = packet_in(view, first), choosing(view)
    source = str(Address(first.family, seen.source))
    if last is not None:
        behind = view[view.index(last) + 1 :]
        if len(last.pool) > 1 or last.pool[0].size > 1:
            source = f"one of {patterns_text(last.pool)}"
        if not any(each.side == 0 for each in behind) and first.source_port is not None:
            source += ", a port of its choice"
    destination = str(Address(first.family, seen.destination))
    if seen.destination_port != first.destination_port:
        destination += f", port {seen.destination_port}"
    return SeenEnds(destination, source) if leg.returns else SeenEnds(source, destination)


def change_text(before: SeenEnds, after: SeenEnds) -> str:
    """Say which ends of a packet have changed."""
    parts = [
        f"{word} {end}"
        for word, was, end in (
            ("from", before.source, after.source),
            ("to", before.destination, after.destination),
        )
        if end != was
    ]
    return " and ".join(parts)


def public_name(plan: Plan, rule: Translation) -> str:
    """Return the name of the public addresses of a translation: the interface that they belong to,
    or the addresses.
    """
    own = plan.devices[rule.device].interfaces[rule.interface]
    addresses = [each.address.value for each in own.in_family(rule.family)]
    if len(rule.public) == 1 and not rule.public[0].wildcard and rule.public[0].value in addresses:
        return str(own.point)
    return patterns_text(rule.public)


def patterns_text(patterns: Sequence[Pattern]) -> str:
    """Write prefixes as an entry can: a single one, several in a row as a range, others with
    commas.
    """
    ordered = sorted(patterns, key=lambda each: each.first)
    row = all(one.last + 1 == other.first for one, other in pairwise(ordered))
    if len(ordered) > 1 and row:
        family = ordered[0].family
        return f"{Address(family, ordered[0].first)}-{Address(family, ordered[-1].last)}"
    return ", ".join(map(str, ordered))


class WantedWords(NamedTuple):
    """What an entry asks for: its service, source and destination, as words."""

    service: str
    source: str
    destination: str


def asked_there(plan: Plan, first: Packet, view: View, asked: WantedWords) -> WantedWords:
    """Return what an entry must ask for, where a list sees packets in a view, to take those that
    `asked` would take as they were sent.
    """
    seen, rules = packet_in(view, first), plan.translations[first.family]
    for each in view:
        rule = rules[each.rule]
        if not each.side:
            alone = not each.pool and _is_one(plan, asked.source, first.family)
            name = str(Address(first.family, seen.source)) if alone else public_name(plan, rule)
            asked = asked._replace(source=name)
            continue
        inside = patterns_text(rule.inside)
        if _is_one(plan, asked.destination, first.family):
            address = Address(first.family, seen.destination)
            host = plan.host_of.get(address)
            inside = str(address) if host is None else host.name
        asked = asked._replace(destination=inside)
        if each.port is not None:
            word = protocol_word(first.protocol, first.family)
            asked = asked._replace(service=f"{word}/{each.port}")
    return asked


def _is_one(plan: Plan, word: str, family: Family) -> bool:
    """Whether words stand for a single address of a family."""
    meaning = meaning_of(plan, word)
    own = () if meaning is None else meaning.in_family(family)
    return len(own) == 1 and not own[0].wildcard
