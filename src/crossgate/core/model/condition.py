"""What an entry may ask beyond its action, its service and its ends: a condition, one object of a
class of its own.

A condition either asks something of the packet (its source port, its TCP flags: `qualifiers`), or
it makes the entry part of its list only in some states (`applies`): a window must be open, a limit
must not be exceeded, the conversation must have settled on a TLS version. A *state* is all that is
so at one time: the names of the windows that are open, the limits that are exceeded, and what the
conversation settled on, nothing where it speaks no TLS. A list in a state is an ordinary list
(`AccessList.in_force`), so that matching and all proofs know nothing of conditions but which states
to go over.

The conditions that there are stand in `conditions`, how each is written in `language.conditions`.
Who adds one writes its class there and its form here, and a word for the glossary.
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


class Asked(NamedTuple):
    """What an entry asks of a packet besides its ends."""

    service: Service
    qualifiers: Qualifiers


@dataclass(frozen=True)
class Abilities:
    """What rules of a format can say."""

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
    """A condition of an entry; equal ones ask the same. `str` of one is how the plan language
    writes it.
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
        """What two of them have in common that do the same, whatever entries they are of; None
        where the state alone tells.
        """
        return self

    def applies(self, state: State) -> bool:
        """Whether an entry with it is part of its list in a state, for what opens a
        conversation.
        """
        return True

    def in_state(self, asked: Asked, state: State) -> Asked | None:
        """Return what an entry with it asks in a state: None where it is no part of its list."""
        return asked if self.applies(state) else None

    @property
    def needs_state(self) -> bool:
        """Whether it depends on the state what an entry with it does."""
        return False

    def refusal(self, able: Abilities) -> str:
        """Return why a format cannot carry it, "" where it can."""
        return (
            "" if self.keyword in able.conditions else f"{able.name} cannot ask for {self.keyword}"
        )

    def explained(self) -> str:
        """Return what it asks as people say it, behind what an entry takes."""
        return str(self)


def qualifiers_of(conditions: Iterable[Condition]) -> Qualifiers:
    """Return what some conditions ask of a packet, all together."""
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
