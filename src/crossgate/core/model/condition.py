"""The conditions that entries may carry, and the states that these can be in.

An entry with conditions is part of its list only while they hold: a window must be open (`during`), a limit must not be
exceeded (`at most`), the conversation must have settled on a TLS version and suite (`tls`, `cipher`). A *state* is all that is so at
one time: the names of the windows that are open, the limits that are exceeded, and what the conversation settled on, nothing
where it speaks no TLS. A list in a state is an ordinary list (`AccessList.in_force`), so that matching and all proofs know nothing of
conditions but which states to go over.
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from typing import NamedTuple

from crossgate.core.model.packet import ACK, SYN, Packet
from crossgate.core.model.service import FlagTest
from crossgate.core.model.tls import Hello

SECOND, MINUTE = 1, 60
"""The stretches of time, in seconds, that a limit may count over."""


class Limit(NamedTuple):
    """`at most N a second` or `a minute`: how many new conversations an entry takes in `seconds`, from each source by itself or in all.

    What is beyond goes on to the next entry. It counts the packets that open: TCP segments with SYN and without ACK, and every
    packet that carries no TCP flags; other TCP segments match uncounted. `access_list` and `entry` tell whose it is.
    """

    most: int
    seconds: int
    each_source: bool
    access_list: str
    entry: int

    @property
    def rate(self) -> tuple[int, int, bool]:
        """What it says, wherever it stands."""
        return self.most, self.seconds, self.each_source

    def __str__(self) -> str:
        each = " from each source" if self.each_source else ""
        return f"at most {self.most} a {'second' if self.seconds == SECOND else 'minute'}{each}"


Condition = str | Limit | Hello
"""The name of a window, a limit, or what a conversation settles on."""

State = frozenset[Condition]
"""The windows that are open, the limits that are exceeded and what is settled on, of those that matter to a question."""


def hello_of(state: State) -> Hello | None:
    """Return what conversations settle on in a state, None where they speak no TLS."""
    return next((each for each in state if isinstance(each, Hello)), None)


def settled(state: State, hello: Hello | None) -> State:
    """Return a state as it is for conversations that settle on something else, None for no TLS."""
    rest: State = frozenset(each for each in state if not isinstance(each, Hello))
    return rest if hello is None else rest | {hello}


class When(NamedTuple):
    """Of which time, and of which conversations, a question is: with `flooding` beyond every limit, and of those that settle on `hello`."""

    at: datetime
    flooding: bool = False
    hello: Hello | None = None


UNCOUNTED = (FlagTest(0, SYN), FlagTest(ACK, ACK))
"""TCP segments that no limit counts: without SYN, or with ACK."""


def is_counted(packet: Packet) -> bool:
    """Whether a limit counts a packet: one that opens something, or has no TCP flags to tell."""
    return packet.flags is None or not any(test.holds(packet.flags) for test in UNCOUNTED)


def exceeded(limits: Iterable[Limit]) -> list[frozenset[Limit]]:
    """Return which of some limits are exceeded, in as many states as show all that they can do: none, all, and some of a list.

    An entry matters most where the limits of its list above it are exceeded, its own is not, and those below it are or are
    not: exceeded ones above it hide less of it, and whether one below stands in for it depends on what both do.
    """
    every = sorted(limits, key=lambda each: (each.access_list, each.entry, each.seconds, each.each_source, each.most))
    whole = frozenset(every)
    found = [frozenset[Limit](), whole]
    for each in every:
        own = [other for other in every if other.access_list == each.access_list]
        found += [whole - {each}, frozenset(own[: own.index(each) + 1])]
    return list(dict.fromkeys(state for state in found if all(map(state.__contains__, _lower(state, every)))))


def _lower(state: frozenset[Limit], every: Iterable[Limit]) -> list[Limit]:
    """Return the limits that are exceeded where all of a state are: those of the same lines, of another plan, that let less through."""
    return [each for each in every if any(each._replace(most=other.most) == other and each.most < other.most for other in state)]
