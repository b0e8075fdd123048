"""Access lists: entries in the order of their numbers, and which of them decides.

The rule here is first match: a packet is checked against the entries in force by number, the first
that matches decides, and nothing after it is looked at; when none matches, the list's `otherwise`
line decides.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from datetime import date
from functools import cached_property
from typing import Any, Generic, NamedTuple, Self

from crossgate.core.model.address import Family
from crossgate.core.model.condition import State
from crossgate.core.model.conditions import Limit
from crossgate.core.model.entry import Action, AnEntry, AnyEntry, Entry, Kind, Note, Otherwise
from crossgate.core.model.errors import Place
from crossgate.core.model.network import Point
from crossgate.core.model.packet import Packet
from crossgate.core.model.tls import Hello, TlsTest, classes, hello_of, settled


class Decider(NamedTuple):
    """The line of a list that decides about a packet: an entry, or None for the otherwise line."""

    access_list: AnyList[Any]
    entry: AnyEntry | None

    def __repr__(self) -> str:
        return f"<Decider {self.name}>"

    @property
    def action(self) -> Action:
        """What the line does with the packet."""
        return self.access_list.otherwise.action if self.entry is None else self.entry.action

    @property
    def permits(self) -> bool:
        """Whether the line permits the packet."""
        return self.action is Action.PERMIT

    @property
    def place(self) -> Place:
        """Where the line is written; the list's first line where its otherwise line is not
        written.
        """
        return self.access_list.otherwise.place if self.entry is None else self.entry.place

    @property
    def number(self) -> int | None:
        """The entry's number; None for the otherwise line."""
        return None if self.entry is None else self.entry.number

    @property
    def name(self) -> str:
        """The list's name and the entry's number, or `otherwise`: `kiosk-fence 30`, `list 12 entry
        30`; `wall.dmz, closed` for a closed place.
        """
        return line_name(self.access_list.name, self.number)

    @property
    def key(self) -> DeciderKey:
        """The names by which a tally or a claim knows the line."""
        return DeciderKey(self.access_list.name, self.number)


_CLOSED = ", closed"


def called(list_name: str) -> str:
    """Return a list's name as used in a sentence: `list 101` for a number, or else the name
    alone.
    """
    return f"list {list_name}" if list_name.isdigit() else list_name


def line_name(list_name: str, number: int | None) -> str:
    """Return the name of a line as used in a sentence, with None for the otherwise line: `web 20`,
    `list 101 entry 20`, `web otherwise`.
    """
    if list_name.endswith(_CLOSED):
        return list_name
    if number is None:
        return f"{called(list_name)} otherwise"
    return f"{called(list_name)}{' entry' if list_name.isdigit() else ''} {number}"


class DeciderKey(NamedTuple):
    """A line of a list by names: the list's, and the entry's number, None for the otherwise
    line.
    """

    access_list: str
    entry: int | None


@dataclass(frozen=True, eq=False, repr=False)
class AnyList(Generic[AnEntry]):
    """What any list has; `entries` are in the order of their numbers, whatever the order of the
    lines.

    A list equals only itself, so that results for it can be kept by it.
    """

    name: str
    kind: Kind
    entries: tuple[AnEntry, ...]
    otherwise: Otherwise
    place: Place
    notes: tuple[Note, ...]
    until: date | None = field(default=None, kw_only=True)
    """The day to which it is wanted, None where it has none. It stands where it is placed until
    somebody lifts it: a list that went by itself would let everything by.
    """
    owner: str = field(default="", kw_only=True)
    """Who answers for it, "" where nobody is named."""

    def __repr__(self) -> str:
        return f"<{type(self).__name__} {self.name} entries={len(self.entries)}>"

    def moved(self, lines: int) -> Self:
        """Return the list some lines further down."""

        def place(old: Place) -> Place:
            return Place(old.file, old.line + lines)

        return replace(
            self,
            entries=tuple(each.moved(lines) for each in self.entries),
            otherwise=self.otherwise._replace(place=place(self.otherwise.place)),
            place=place(self.place),
            notes=tuple(each._replace(place=place(each.place)) for each in self.notes),
        )

    @property
    def about(self) -> str:
        """The word for the packets it is about, as its first line has it."""
        raise NotImplementedError

    @property
    def label(self) -> str:
        """What the list is about, in everyday words: IPv4, IPv6 or frames."""
        raise NotImplementedError

    def entry(self, number: int) -> AnEntry | None:
        """Return the entry with a number, None where there is none."""
        index = bisect_left(self.entries, number, key=lambda each: each.number)
        return (
            self.entries[index]
            if index < len(self.entries) and self.entries[index].number == number
            else None
        )

    @cached_property
    def windows(self) -> frozenset[str]:
        """The names of the windows that entries of the list use."""
        return frozenset(
            entry.window for entry in self.entries if entry.window is not None and not entry.off
        )

    @cached_property
    def limits(self) -> frozenset[Limit]:
        """The rate limits of the list's entries."""
        return frozenset(
            entry.limit for entry in self.entries if entry.limit is not None and not entry.off
        )

    @cached_property
    def tls(self) -> frozenset[TlsTest]:
        """The tests for TLS versions and cipher suites in the list's entries."""
        return frozenset(
            entry.tls for entry in self.entries if entry.tls is not None and not entry.off
        )

    @cached_property
    def is_conditional(self) -> bool:
        """Whether what the list does depends on a state."""
        return any(entry.needs_state for entry in self.entries if not entry.off)

    def relevant(self, state: State) -> State:
        """Return the part of a state that matters to the list; with equal parts it does the
        same.
        """
        own: State = state & (self.windows | self.limits)
        hello = hello_of(state) if self.tls else None
        return own if hello is None else settled(own, self._like(hello))

    @cached_property
    def hellos(self) -> tuple[Hello, ...]:
        """One hello for each sort of TLS conversation that the list treats differently from the
        others.
        """
        return tuple(
            each for each in classes(self.tls) if any(test.takes(each) for test in self.tls)
        )

    def _like(self, hello: Hello) -> Hello | None:
        """Return which of `hellos` the list treats like this one; None where it treats it like no
        TLS.
        """
        same = (
            each
            for each in self.hellos
            if all(test.takes(each) is test.takes(hello) for test in self.tls)
        )
        return next(same, None) if any(test.takes(hello) for test in self.tls) else None

    def undecided(self, state: State) -> tuple[State, ...]:
        """Return the other states in which a conversation may turn out to be, before its TLS
        version is settled.
        """
        own = self.relevant(state)
        every = (settled(own, each) for each in (*self.hellos, None)) if self.tls else ()
        return tuple(each for each in every if each != own)


@dataclass(frozen=True, eq=False, repr=False)
class AccessList(AnyList[Entry]):
    """An access list for packets of one family."""

    family: Family
    by_state: dict[State, tuple[Entry, ...]] = field(default_factory=dict, init=False, repr=False)
    """The entries in force in each state that was asked about (`in_force`)."""

    @property
    def about(self) -> str:
        """The plan's word for the packets that it is for: `ipv4` or `ipv6`."""
        return self.family.word

    @property
    def label(self) -> str:
        """The family as people write it."""
        return self.family.label

    @cached_property
    def asks_for_flags(self) -> bool:
        """Whether some entry asks for TCP flags; where none does, the list treats all packets of a
        conversation in one direction alike.
        """
        return any(entry.qualifiers.flags for entry in self.entries)

    def in_force(self, state: State) -> tuple[Entry, ...]:
        """Return the entries that are in the list in a state, as they are then."""
        if state not in self.by_state:
            self.by_state[state] = tuple(
                found for entry in self.entries if (found := entry.in_state(state)) is not None
            )
        return self.by_state[state]

    def decide(self, packet: Packet, state: State = frozenset()) -> Decider:
        """Return what the list does with a packet of its family in a state, and the entry that
        decided.
        """
        for entry in self.in_force(state):
            if entry.matches(packet):
                return Decider(self, entry)
        return Decider(self, None)

    @property
    def says(self) -> tuple[object, ...]:
        """All that decides what the list does, in the order in which it is checked."""
        return tuple(
            (each.meaning, each.window) for each in self.entries if not each.off
        ), self.otherwise.action


@dataclass(frozen=True, eq=False, repr=False)
class ClosedPlace(AccessList):
    """What a closed device does at a place where no inbound list of a family stands: like an empty
    list, it denies.
    """

    point: Point | None = None

    @classmethod
    def at(cls, point: Point, family: Family, place: Place) -> ClosedPlace:
        """Return the one for an interface; `place` is the device's line."""
        return cls(
            f"{point}{_CLOSED}",
            Kind.EXTENDED,
            (),
            Otherwise(Action.DENY, place, False),
            place,
            (),
            family,
            point=point,
        )


def numbered_kind(number: int, numbering: Iterable[tuple[Kind, int, int]]) -> Kind | None:
    """Return the kind of list that a number stands for, by the ranges in `numbering` (kind, first,
    last); None where it is in no range.
    """
    return next((kind for kind, first, last in numbering if first <= number <= last), None)
