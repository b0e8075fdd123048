"""Kinds of conversations: those that no list of a plan and nothing in its network distinguishes are
treated alike, and traced once.

Addresses are divided at the bounds of every list's patterns and of the address classes, ports at
the bounds of every list's port ranges. A client's own port rarely matters, and most machines of a
subnet are alike, so a week of traffic has few kinds.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import numpy as np

from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.address import Addresses, Family, Pattern
from crossgate.core.model.network import Translation
from crossgate.core.model.packets import PORTED, Indices, Packets, Words
from crossgate.core.network.address_classes import AddressClasses
from crossgate.core.network.translated import told_apart
from crossgate.core.sets.addresses import spans_of
from crossgate.core.sets.bounds import BoundFinder

_PORTS = 1 << 16
_MOST_SPANS = 1 << 12
"""A pattern in more spans is not counted out, and addresses of its family are then told apart one
by one.
"""
_MIX = np.uint64(0x9E3779B97F4A7C15)


class KindFinder:
    """Finds the kinds of conversations of one family, for some lists and the address classes of a
    network.
    """

    def __init__(
        self,
        family: Family,
        lists: Iterable[AccessList],
        classes: AddressClasses,
        rules: Sequence[Translation] = (),
    ) -> None:
        """Make it; where the network translates addresses by `rules`, translated addresses are
        divided by lists as well.
        """
        entries = [
            entry
            for each in lists
            if each.family is family
            for entry in each.entries
            if not entry.off
        ]
        patterns = dict.fromkeys(
            [*_patterns(entry.source for entry in entries), *(each.pattern for each in classes)]
        )
        patterns |= dict.fromkeys(_patterns(entry.destination for entry in entries))
        patterns |= dict.fromkeys(told_apart(rules, list(patterns)))
        scattered, bounds = [], {0}
        for each in patterns:
            if each.wildcard & each.wildcard + 1:
                scattered.append(spans_of(each, _MOST_SPANS))
            else:
                bounds.update((each.value, each.value + each.wildcard + 1))
        self._finder: BoundFinder | None = None
        if all(each is not None for each in scattered):
            bounds.update(bound for spans in scattered for span in spans or () for bound in span)
            bounds.discard(family.mask + 1)
            self._finder = BoundFinder(family, sorted(bounds))
        cuts = np.zeros(_PORTS + 1, np.bool_)
        for ports in dict.fromkeys(
            ports
            for entry in entries
            for ports in (
                *(term.ports for term in entry.service.terms),
                entry.qualifiers.source_ports,
            )
        ) | dict.fromkeys(term.ports for rule in rules for term in rule.services or ()):
            for first, last in ports or ():
                cuts[[first, last + 1]] = True
        for rule in rules:
            if rule.port is not None:  # behind the rule that is what tells who was led in
                cuts[[rule.port, rule.port + 1]] = True
        self._port = np.cumsum(cuts[:-1]).astype(np.uint64)
        self._marked = any(entry.qualifiers.dscp is not None for entry in entries)

    def find(self, packets: Packets, windows: Indices) -> tuple[Indices, Indices]:
        """Return the index of the first row of each kind of opening packets, and the kind of each
        row; rows in different `windows` are different kinds.
        """
        ported = PORTED[packets.protocol] & ~packets.fragment
        # Behind the ports' own numbers stand the messages of ICMP, each apart.
        ports = [
            np.where(ported, self._port[each], each.astype(np.uint64) + _PORTS)
            for each in (packets.source_port, packets.destination_port)
        ]
        itself = (packets.source == packets.destination).all(axis=0)
        rest: Words = np.bitwise_or.reduce(
            [
                packets.protocol.astype(np.uint64) << np.uint64(2),
                packets.fragment.astype(np.uint64) << np.uint64(1),
                itself.astype(np.uint64),
            ]
        )
        marks = packets.dscp.astype(np.uint64) * np.uint64(self._marked)
        words: list[Words] = [
            *self._ends(packets.source, packets.destination),
            ports[0] << np.uint64(32) | ports[1],
        ]
        words.append(
            np.bitwise_or(rest << np.uint64(40) | marks << np.uint64(32), windows.astype(np.uint64))
        )
        return alike(words)

    def _ends(self, source: Words, destination: Words) -> list[Words]:
        if self._finder is None:
            return [*source, *destination]
        return [
            self._finder.places(source).astype(np.uint64) << np.uint64(32)
            | self._finder.places(destination).astype(np.uint64)
        ]


def _patterns(several: Iterable[Addresses]) -> Iterable[Pattern]:
    """Yield the patterns of some sets; many of the sets may be written with the same patterns."""
    for patterns in {each.text: each.patterns for each in several}.values():
        yield from patterns


def alike(words: Sequence[Words]) -> tuple[Indices, Indices]:
    """Return the index of the first row for each different combination of values in some columns,
    and for each row the number of its combination.
    """
    digest = np.zeros(len(words[0]), np.uint64)
    for word in words:
        digest = (digest ^ word) * _MIX
        digest ^= digest >> np.uint64(29)
    _, first, inverse = np.unique(digest, return_index=True, return_inverse=True)
    if any((word != word[first][inverse]).any() for word in words):  # different rows of one digest
        _, first, inverse = np.unique(
            np.stack(words, axis=1), axis=0, return_index=True, return_inverse=True
        )
    return first, inverse.reshape(-1)
