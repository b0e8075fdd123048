"""Sets of packets in the fewest lines: products of services, sources and destinations.

Boxes come in many pieces. Here the pieces that agree in two of the three are joined in the third, again and again; then
each line is made as wide as the others allow, and those that add nothing are dropped.
"""

from __future__ import annotations

from collections.abc import Hashable, Iterable, Sequence
from typing import NamedTuple, TypeVar

from crossgate.core.model.service import join_ports
from crossgate.core.sets.boxes import LOW_FREE, Box, covers, first_left, whole
from crossgate.core.sets.effort import spend
from crossgate.core.sets.patterns import Excluded, Patterns, joined, less

_Key = TypeVar("_Key", bound=Hashable)


_Item = TypeVar("_Item")


_PIECES_A_LINE = 10
"""What comparing a line with the others costs, in pieces (`effort`)."""


MOST_COMPARED = 200
"""How many lines are compared with each other; more are left as they are."""


class SetLine(NamedTuple):
    """A set of packets as one product: these services (boxes that say nothing of addresses), sources and destinations."""

    services: frozenset[Box]
    source: Patterns
    destination: Patterns


def fewest_lines(pieces: Iterable[tuple[Box, Excluded]]) -> list[SetLine]:
    """Return pieces, each a box less some addresses, as few lines. The pieces are apart from each other."""
    found = []
    for box, excluded in pieces:
        every = whole(box.family)
        service = Box(box.family, box.value & LOW_FREE, every.wildcard & ~LOW_FREE | box.wildcard & LOW_FREE, *box.spans)
        line = SetLine(frozenset((service,)), less([box.source], excluded.sources), less([box.destination], excluded.destinations))
        if line.source and line.destination:
            found.append(line)
    before = 0
    while len(found) != before:
        before = len(found)
        spend(_PIECES_A_LINE * before)
        found = [
            SetLine(joined_services(services), *ends)
            for ends, services in grouped(((each.source, each.destination), each.services) for each in found)
        ]
        rows = grouped(((each.services, each.destination), each.source) for each in found)
        found = [SetLine(services, joined(source), destination) for (services, destination), source in rows]
        rows = grouped(((each.services, each.source), each.destination) for each in found)
        found = [SetLine(services, source, joined(destination)) for (services, source), destination in rows]
    return _widened(found) if len(found) <= MOST_COMPARED else found


def _widened(found: list[SetLine]) -> list[SetLine]:
    """Return the same packets in lines that may overlap: each as wide as the others allow, without those that add nothing."""
    for index, line in enumerate(found):
        for other in found:
            fits = [
                _inside(line.services, other.services),
                within(line.source, other.source),
                within(line.destination, other.destination),
            ]
            if sum(fits) != 2:
                continue
            services = line.services if fits[0] else joined_services({*line.services, *other.services})
            source = line.source if fits[1] else joined({*line.source, *less(other.source, line.source)})
            destination = line.destination if fits[2] else joined({*line.destination, *less(other.destination, line.destination)})
            line = found[index] = SetLine(services, source, destination)
    kept = list(found)
    for line in sorted(found, key=lambda each: len(each.services) + len(each.source) + len(each.destination), reverse=True):
        others = [each for each in kept if each is not line]
        if _adds_nothing(line, others):
            kept = others
    return kept


def _adds_nothing(line: SetLine, others: Sequence[SetLine]) -> bool:
    """Whether every service of a line is in some other line, for all of its addresses."""
    around = [each for each in others if within(line.source, each.source) and within(line.destination, each.destination)]
    return first_left(line.services, [box for each in around for box in each.services]) is None


def _inside(boxes: frozenset[Box], others: frozenset[Box]) -> bool:
    return boxes <= others or all(any(covers(other, box) for other in others) for box in boxes)


def within(patterns: Patterns, others: Patterns) -> bool:
    """Whether each of some patterns lies within one of others."""
    return patterns <= others or all(any(other.covers(each) for other in others) for each in patterns)


def grouped(pairs: Iterable[tuple[_Key, frozenset[_Item]]]) -> list[tuple[_Key, frozenset[_Item]]]:
    """Return each key once, with all that it came with."""
    groups: dict[_Key, set[_Item]] = {}
    for key, members in pairs:
        groups.setdefault(key, set()).update(members)
    return [(key, frozenset(members)) for key, members in groups.items()]


def joined_services(boxes: Iterable[Box]) -> frozenset[Box]:
    """Return the same packets in fewer boxes: spans that touch become one, and two that differ in one bit."""
    found = set(boxes)
    before = 0
    while len(found) != before:
        before = len(found)
        for first in (7, 5, 3):
            spans: dict[tuple[object, ...], list[tuple[int, int]]] = {}
            for box in found:
                spans.setdefault((*box[:first], *box[first + 2 :]), []).append((box[first], box[first + 1]))
            found = {Box._make((*key[:first], *span, *key[first:])) for key, several in spans.items() for span in join_ports(several)}
        for each in list(found):
            fixed = LOW_FREE & ~each.wildcard
            while fixed and each in found:
                bit = fixed & -fixed
                other = each._replace(value=each.value ^ bit)
                if other in found:
                    found -= {each, other}
                    found.add(each._replace(value=each.value & ~bit, wildcard=each.wildcard | bit))
                fixed ^= bit
    return frozenset(found)
