"""A packet as translations have left it, and the sorts of packets that they tell apart."""

from __future__ import annotations

from itertools import pairwise
from typing import NamedTuple

from crossgate.core.model.address import Address
from crossgate.core.model.network import Translation
from crossgate.core.network.failure import Failure
from crossgate.core.network.view import View
from crossgate.core.sets import spans as line
from crossgate.core.sets.region import (
    ALL_WHAT,
    PROTOCOL_SHIFT,
    PROTOCOLS,
    WHAT_END,
    term_line,
)
from crossgate.core.sets.spans import Spans


class Sorts:
    """What is carried, divided into sorts so that each rule takes all or nothing of a sort."""

    def __init__(self, rules: tuple[Translation, ...]) -> None:
        lines = [ALL_WHAT if each.services is None else term_line(each.services) for each in rules]
        some = [each.services is not None for each in rules]
        bounds = {0, WHAT_END, *(bound for each in lines for span in each for bound in span)}
        if any(some):
            bounds.update(protocol << PROTOCOL_SHIFT for protocol in range(PROTOCOLS))
        ordered = sorted(bounds)
        spans: dict[tuple[tuple[bool, ...], int | None], list[line.Span]] = {}
        for first, end in pairwise(ordered):
            taken = tuple(line.contains(each, first) for each in lines)
            told = any(own and asks for own, asks in zip(taken, some, strict=True))
            protocol = first >> PROTOCOL_SHIFT if told else None
            spans.setdefault((taken, protocol), []).append((first, end))
        self.spans: list[Spans] = [line.joined(each) for each in spans.values()]
        """The sorts, as spans of the line of what is carried (`sets.region`)."""
        self.taken = [taken for taken, _ in spans]
        """By the sort, which rules take it."""
        self._protocols = [protocol for _, protocol in spans]

    def of(self, what: int) -> int:
        """Return the sort of some traffic."""
        return next(number for number, each in enumerate(self.spans) if line.contains(each, what))

    def to_port(self, sort: int, port: int) -> int:
        """Return the sort of the same traffic after its destination port is changed."""
        protocol = self._protocols[sort]
        assert protocol is not None  # a rule with a port asks for services
        return self.of(protocol << PROTOCOL_SHIFT | port)

    def takes_answer(self, rule: Translation, sort: int) -> bool:
        """Whether a rule takes the answers to some traffic. An answer goes to a port that a client
        has chosen, so a rule for a single port does not take it.
        """
        protocol = self._protocols[sort]
        return rule.services is None or any(
            each.protocol == protocol and each.ports is None and each.icmp_type is None
            for each in rule.services
        )


class TranslatedState(NamedTuple):
    """All that has happened to a packet and that a later border asks about.

    `sources` are its source addresses so far, the present one last; `destination` is its present
    destination. `known` are the devices that remember the conversation: those it passed on its way
    there. For an answer, the view and the sources are those of the packet that it answers, as far
    as they have not been undone, and `answering` is the answer's own source, which is None
    otherwise.
    """

    view: View
    sources: tuple[Address, ...]
    destination: Address
    sort: int
    known: frozenset[str] = frozenset()
    answering: Address | None = None

    def answer(self) -> TranslatedState:
        """Return the state of the answer to a packet that has arrived, as it sets out."""
        return self._replace(destination=self.sources[-1], answering=self.destination)


class Turn(NamedTuple):
    """What a border makes of a packet: its new state, the device that sends it on to a new
    destination, if there is one, and why it is lost, if it is.
    """

    state: TranslatedState
    device: str | None = None
    lost: Failure | None = None
