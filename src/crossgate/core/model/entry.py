"""Entries of access lists, and what else stands in a list."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import date
from enum import StrEnum
from typing import NamedTuple, Self, TypeVar

from crossgate.core.model.address import Addresses
from crossgate.core.model.condition import Condition, EntryAsks, State
from crossgate.core.model.conditions import During, Limit
from crossgate.core.model.errors import Place, placeless
from crossgate.core.model.packet import Packet
from crossgate.core.model.service import NO_QUALIFIERS, Qualifiers, Service
from crossgate.core.model.tls import TlsTest
from crossgate.core.model.window import last_day

MOST_NUMBER = (1 << 32) - 1
"""The largest number that a list or an entry can have: 32 bits."""


class Action(StrEnum):
    """What an entry does with a packet: permit it, drop it silently, or drop it and tell the
    sender.
    """

    PERMIT = "permit"
    DENY = "deny"
    REJECT = "reject"


class Kind(StrEnum):
    """A standard list asks for sources only; an extended one for everything."""

    STANDARD = "standard"
    EXTENDED = "extended"


ACondition = TypeVar("ACondition", bound=Condition)


@dataclass(slots=True, eq=False, repr=False)
class AnyEntry:
    """What an entry of any list has; it is never changed.

    `text` is the entry as written, from its action on, without number, `owner` (who answers for it)
    and comment. An entry equals only itself. It is not a frozen dataclass, since making one takes
    four times as long.
    """

    number: int
    action: Action
    conditions: tuple[Condition, ...]
    off: bool
    log: bool
    comment: str
    owner: str
    text: str
    place: Place

    def __repr__(self) -> str:
        return f"<{type(self).__name__} {self.number} {self.text}>"

    def moved(self, lines: int) -> Self:
        """Return the entry some lines further down."""
        return replace(self, place=Place(self.place.file, self.place.line + lines))

    def condition(self, kind: type[ACondition]) -> ACondition | None:
        """Return the entry's condition of the given class, None where it has none."""
        for each in self.conditions:
            if isinstance(each, kind):
                return each
        return None

    @property
    def window(self) -> str | None:
        """The name of the window in which it is in force."""
        own = self.condition(During)
        return None if own is None else own.window

    @property
    def said(self) -> str:
        """Its owner and comment, as the plan writes both after its text, "" for neither."""
        owner = f' for "{self.owner}"' if self.owner else ""
        return owner + (f' "{self.comment}"' if self.comment else "")

    @property
    def until(self) -> date | None:
        """The last day on which it is in force, None where it has none."""
        return None if self.window is None else last_day(self.window)

    @property
    def limit(self) -> Limit | None:
        """Its rate limit."""
        return self.condition(Limit)

    @property
    def tls(self) -> TlsTest | None:
        """What it asks of the TLS version."""
        return self.condition(TlsTest)

    @property
    def needs_state(self) -> bool:
        """Whether what it does depends on a state."""
        return any(each.needs_state for each in self.conditions)

    def is_awake(self, state: State) -> bool:
        """Whether the entry belongs to the list for some conversations in a state: it is not off,
        and its window is open.
        """
        return not self.off and (self.window is None or self.window in state)

    def in_force(self, state: State) -> bool:
        """Whether the entry belongs to the list in a state, and takes opening packets."""
        return not self.off and all(each.applies(state) for each in self.conditions)


@dataclass(slots=True, eq=False, repr=False)
class Entry(AnyEntry):
    """An entry for packets of one family; a standard one has `ip` as its service and `any` as its
    destination. `qualifiers` combine what all its conditions ask of a packet.
    """

    service: Service
    source: Addresses
    destination: Addresses
    qualifiers: Qualifiers

    def has_only_moved(self, other: Entry) -> bool:
        """Whether it is another entry as it was read, in another line perhaps; a faster test than
        that of `meaning`, which may miss entries that are the same.
        """
        return self is other or (
            self.source is other.source
            and self.destination is other.destination
            and self.service is other.service
            and self.conditions is other.conditions
            and self.action is other.action
            and (self.number, self.off, self.log) == (other.number, other.off, other.log)
        )

    @property
    def meaning(self) -> tuple[object, ...]:
        """All that decides what the entry does while it is in force, whatever its number and
        place.
        """
        asked = frozenset(
            (type(each), each.meaning) for each in self.conditions if each.meaning is not None
        )
        return (
            self.action,
            self.service.terms,
            self.source.patterns,
            self.destination.patterns,
            asked,
        )

    def in_state(self, state: State) -> Entry | None:
        """Return the entry as it is in a state: None where it is not in the list then, a changed
        one where a condition says so.
        """
        if self.off or not self.conditions:
            return None if self.off else self
        asked: EntryAsks | None = EntryAsks(self.service, self.qualifiers)
        for each in self.conditions:
            asked = None if asked is None else each.in_state(asked, state)
        if asked is None or asked.service is self.service:
            return None if asked is None else self
        return replace(self, service=asked.service, qualifiers=asked.qualifiers)

    def matches(self, packet: Packet) -> bool:
        """Whether the entry takes this packet, which is of the list's family."""
        return (
            self.source.contains(packet.source)
            and self.destination.contains(packet.destination)
            and self.service.matches(packet)
            and (self.qualifiers is NO_QUALIFIERS or self.qualifiers.match(packet))
        )


@placeless
class Note(NamedTuple):
    """A remark between entries, and the line where it stands."""

    text: str
    place: Place


@placeless
class Otherwise(NamedTuple):
    """What becomes of packets that no entry takes; `place` is the list's first line where it is not
    written.
    """

    action: Action
    place: Place
    written: bool


AnEntry = TypeVar("AnEntry", bound=AnyEntry)
