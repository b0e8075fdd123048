"""What an entry may ask beyond its action, its service and its ends: conditions, each an object of
a class of its own.

A condition either asks something of the packet (its source port, its TCP flags: `qualifiers`), or
it puts the entry into its list only in some states (`applies`): a window must be open, a rate limit
must not be exceeded, the conversation must have settled on a TLS version. A *state* is all that
holds at one time: the names of the windows that are open, the limits that are exceeded, and the TLS
that the conversation settled on, nothing where it uses no TLS.

A list in a state is an ordinary list (`AccessList.in_force`), so matching and proofs know nothing
of conditions except which states to go through. The existing conditions are in `conditions`, and
how each is written is in `language.conditions`. To add one, write its class there, its form here,
and a word for the glossary.
"""

from __future__ import annotations

from collections.abc import Collection, Hashable, Iterable
from dataclasses import dataclass
from typing import ClassVar, NamedTuple

from crossgate.core.model.service import NO_QUALIFIERS, Qualifiers, Service, with_qualifiers

State = frozenset[Hashable]
"""What is so at one time, of what matters to a question: names of windows, `Limit`s, and at most
one `Hello`.
"""


class EntryAsks(NamedTuple):
    """What an entry asks of a packet besides its ends."""

    service: Service
    qualifiers: Qualifiers


@dataclass(frozen=True)
class Abilities:
    """What rules of a format can express."""

    name: str
    ported: Collection[int]
    """The protocols whose ports a rule can name."""
    one_range: bool = False
    """Ports are one range, not several."""
    exact_flags: bool = False
    """TCP flags can be asked for all together, each of them set or not set."""
    established: bool = False
    masked_flags: int = 0
    """Which TCP flags can be asked for one by one."""
    icmp_code: bool = False
    icmp_types: Collection[int] | None = None
    """The ICMP types that can be asked for, of ICMP alone and not of ICMPv6; None for all of both.
    """
    conditions: Collection[str] = ()
    """The first words of other conditions that a rule can ask for."""
    log: bool = False
    reject: bool = False


class Condition:
    """A condition of an entry; equal ones ask the same. `str` of one is its text in the plan
    language.
    """

    __slots__ = ()
    keyword: ClassVar[str]
    """The word that begins it."""

    @property
    def qualifiers(self) -> Qualifiers:
        """What it asks of a packet."""
        return NO_QUALIFIERS

    @property
    def meaning(self) -> object:
        """A value that is equal for conditions with the same effect, whatever entries they belong
        to; None where only the state matters.
        """
        return self

    def applies(self, state: State) -> bool:
        """Whether an entry with this condition is in its list in a state, for opening packets."""
        return True

    def in_state(self, asked: EntryAsks, state: State) -> EntryAsks | None:
        """Return what an entry with this condition asks in a state: None where it is not in its
        list.
        """
        return asked if self.applies(state) else None

    @property
    def needs_state(self) -> bool:
        """Whether the effect of an entry with this condition depends on the state."""
        return False

    def refusal(self, able: Abilities) -> str:
        """Return why a format cannot express it, "" where it can."""
        return (
            "" if self.keyword in able.conditions else f"{able.name} cannot ask for {self.keyword}"
        )

    def explained(self) -> str:
        """Return what it asks in everyday words, to follow the words for what the entry takes."""
        return str(self)


def qualifiers_of(conditions: Iterable[Condition]) -> Qualifiers:
    """Return what all of some conditions together ask of a packet."""
    asked = NO_QUALIFIERS
    for each in conditions:
        own = each.qualifiers
        asked = (
            own
            if asked is NO_QUALIFIERS
            else asked
            if own is NO_QUALIFIERS
            else with_qualifiers(asked, own)
        )
    return asked
