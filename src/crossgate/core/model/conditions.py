"""The conditions of entries, except the one on TLS (`tls.TlsTest`), and the states that they can be
in.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from datetime import datetime
from typing import NamedTuple

from crossgate.core.model.condition import Abilities, Condition, EntryAsks, State
from crossgate.core.model.packet import ACK, SYN, TCP, Packet
from crossgate.core.model.service import (
    ESTABLISHED,
    FlagTest,
    Ports,
    Qualifiers,
    Service,
    format_ports,
    with_qualifiers,
)
from crossgate.core.model.tls import Hello
from crossgate.core.model.window import last_day, of_window

SECOND, MINUTE = 1, 60
"""The stretches of time, in seconds, that a limit may count over."""
ALL_FLAGS = 0xFF
"""Every TCP flag is asked for, set or not set."""


@dataclass(frozen=True, slots=True)
class SourcePorts(Condition):
    """`source port PORTS`: the packet comes from one of these ports."""

    keyword = "source"
    ports: Ports

    def __str__(self) -> str:
        return f"source port {format_ports(self.ports)}"

    @property
    def qualifiers(self) -> Qualifiers:
        """The ports."""
        return Qualifiers(source_ports=self.ports)

    def explained(self) -> str:
        """Return in words from which ports a packet must come."""
        return f"from {self}"

    def refusal(self, able: Abilities) -> str:
        """Return "": whether a format can ask for ports depends on each protocol of the service."""
        return ""


@dataclass(frozen=True, slots=True)
class Flags(Condition):
    """`flags FLAGS`, `established`, or both: the segment passes at least one of some tests of its
    TCP flags; `text` is how they are written.
    """

    keyword = "flags"
    tests: tuple[FlagTest, ...]
    text: str

    def __str__(self) -> str:
        return self.text

    @property
    def qualifiers(self) -> Qualifiers:
        """The tests."""
        return Qualifiers(flags=self.tests)

    @property
    def meaning(self) -> object:
        """The tests themselves: equal for two texts that ask the same."""
        return self.tests

    def explained(self) -> str:
        """Return in words which flags must be set."""
        if self.tests == ESTABLISHED:
            return "on a connection that is under way (ACK or RST is set)"
        return f"with the TCP {self}"

    def refusal(self, able: Abilities) -> str:
        """Return why a format cannot ask for the flags: some formats can ask for any flags, some
        for `established`, some only for certain flags.
        """
        exact = able.exact_flags and all(test.care == ALL_FLAGS for test in self.tests)
        one_by_one = able.masked_flags and all(
            not test.care & ~able.masked_flags for test in self.tests
        )
        if exact or one_by_one or (able.established and self.tests == ESTABLISHED):
            return ""
        what = (
            "established" if self.tests == ESTABLISHED else "some TCP flags whatever the others are"
        )
        return f"{able.name} cannot ask for {what}"


@dataclass(frozen=True, slots=True)
class Fragments(Condition):
    """`fragments`: the packet is a fragment that is not the first (RFC 1858)."""

    keyword = "fragments"

    def __str__(self) -> str:
        return self.keyword

    @property
    def qualifiers(self) -> Qualifiers:
        """That the packet must be a later fragment."""
        return Qualifiers(fragments=True)

    def explained(self) -> str:
        """Return in words that the packet must be a later fragment."""
        return "as a fragment that is not the first"


@dataclass(frozen=True, slots=True)
class Dscp(Condition):
    """`dscp N`: the packet has this codepoint (RFC 2474 section 3)."""

    keyword = "dscp"
    value: int

    def __str__(self) -> str:
        return f"dscp {self.value}"

    @property
    def qualifiers(self) -> Qualifiers:
        """The codepoint."""
        return Qualifiers(dscp=self.value)

    def explained(self) -> str:
        """Return in words that a packet must carry this codepoint."""
        return f"marked {self}"

    def refusal(self, able: Abilities) -> str:
        """Return why a format cannot ask for it."""
        return "" if self.keyword in able.conditions else f"{able.name} cannot ask for DSCP"


@dataclass(frozen=True, slots=True)
class During(Condition):
    """`during WINDOW`, `until DATE` or both: the entry is in its list while a window is open, until
    the end of a day (`window.until_name`).
    """

    keyword = "during"
    window: str

    def __str__(self) -> str:
        return f"during {self.window}" if of_window(self.window) else self.window

    @property
    def meaning(self) -> object:
        """None: while it is open, the entry acts like any other."""
        return None

    @property
    def needs_state(self) -> bool:
        """True: it depends on whether the window is open."""
        return True

    def applies(self, state: State) -> bool:
        """Whether the window is open in a state."""
        return self.window in state

    def refusal(self, able: Abilities) -> str:
        """Return why a format cannot express when an entry is in force."""
        return "" if self.keyword in able.conditions else f"{able.name} has no time windows"

    def explained(self) -> str:
        """Return in words when the entry is in force."""
        name, until = of_window(self.window), last_day(self.window)
        parts = [f"while {name} is open"] if name else []
        return ", ".join([*parts, *([] if until is None else [f"until {until}"])])


@dataclass(frozen=True, slots=True, order=True)
class Limit(Condition):
    """`at most N a second` or `a minute`: how many new conversations an entry takes in `seconds`,
    from each source separately or from all together.

    What exceeds it goes on to the next entry. It counts opening packets: TCP segments with SYN and
    without ACK, and every packet without TCP flags; other TCP segments match without being counted.
    `access_list` and `entry` say to which entry it belongs.
    """

    keyword = "at"
    most: int
    seconds: int
    each_source: bool
    access_list: str
    entry: int

    @property
    def rate(self) -> tuple[int, int, bool]:
        """Its text without the entry that it belongs to."""
        return self.most, self.seconds, self.each_source

    def __str__(self) -> str:
        each = " from each source" if self.each_source else ""
        return f"at most {self.most} a {'second' if self.seconds == SECOND else 'minute'}{each}"

    @property
    def meaning(self) -> object:
        """Its text, whatever entry it belongs to."""
        return self.rate

    @property
    def needs_state(self) -> bool:
        """True: it depends on whether the limit is exceeded."""
        return True

    def applies(self, state: State) -> bool:
        """Whether it is not exceeded in a state."""
        return self not in state

    def in_state(self, asked: EntryAsks, state: State) -> EntryAsks | None:
        """Return what an entry asks; where the limit is exceeded, only those of its TCP segments
        that no limit counts.
        """
        if self not in state:
            return asked
        service, qualifiers = asked
        terms = tuple(
            term._replace(protocol=TCP)
            for term in service.terms
            if term.protocol in (None, TCP) and not qualifiers.fragments
        )
        uncounted = Service(f"{service.text} uncounted", terms)
        return (
            EntryAsks(uncounted, with_qualifiers(qualifiers, Qualifiers(flags=UNCOUNTED)))
            if terms
            else None
        )

    def refusal(self, able: Abilities) -> str:
        """Return why a format cannot express the limit."""
        return (
            ""
            if self.keyword in able.conditions
            else f"{able.name} has no limit of how many a second"
        )


UNCOUNTED = (FlagTest(0, SYN), FlagTest(ACK, ACK))
"""TCP segments that no limit counts: without SYN, or with ACK."""


def is_counted(packet: Packet) -> bool:
    """Whether a limit counts a packet: it opens something, or has no TCP flags by which one could
    tell.
    """
    return packet.flags is None or not any(test.holds(packet.flags) for test in UNCOUNTED)


class When(NamedTuple):
    """Which time and which conversations a question is about: with `flooding`, traffic beyond every
    limit; and conversations that settle on `hello`.
    """

    at: datetime
    flooding: bool = False
    hello: Hello | None = None


def exceeded(limits: Iterable[Limit]) -> list[frozenset[Limit]]:
    """Return sets of limits that may be exceeded together, as many as are needed to show every
    effect: none, all, and some of each list.

    An entry matters most where the limits of its list above it are exceeded, its own is not, and
    those below it are or are not: exceeded limits above it hide less of it, and whether one below
    takes its place depends on what both do.
    """
    every = sorted(
        limits,
        key=lambda each: (each.access_list, each.entry, each.seconds, each.each_source, each.most),
    )
    whole = frozenset(every)
    found = [frozenset[Limit](), whole]
    for each in every:
        own = [other for other in every if other.access_list == each.access_list]
        found += [whole - {each}, frozenset(own[: own.index(each) + 1])]
    return list(
        dict.fromkeys(
            state for state in found if all(map(state.__contains__, _lower(state, every)))
        )
    )


def _lower(state: frozenset[Limit], every: Iterable[Limit]) -> list[Limit]:
    """Return the limits that are exceeded where all limits of a state are: those of the same lines,
    in another plan, that permit less.
    """
    return [
        each
        for each in every
        if any(
            replace(each, most=other.most) == other and each.most < other.most for other in state
        )
    ]
