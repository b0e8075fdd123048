"""The rules of a conversation: which packets it has, which lists are asked about them, and what
becomes of it.

Theory of operation. A conversation is a few *legs*, each a packet that follows from the one that
opens it. All legs from the sender take one and the same of the equal ways there, and all legs back
one and the same of the ways back. So there are two walks and not one for each leg: a list that is
met on the way there settles at once what becomes of every leg that will pass it, and likewise on
the way back.

1. The opening packet says which legs follow (`legs_of`): TCP has SYN, SYN+ACK and ACK (RFC 9293
section 3.5), a packet that is answered has a request and a reply, and everything else is one leg.
`SHAPES` says what each leg's packet is.

2. The first leg of each direction is the *leading* one. A list that does not permit it ends the
conversation at once. For a *later* leg it is only noted that a list denies it (`Late`). That counts
if all legs before it arrive; the earliest such leg ends the conversation.

3. A stateful device that let a leg by asks its lists about no leg after that. So only lists at
stateless places are asked about later legs, and all lists about the leading leg back, except those
of stateful devices that were passed on the way there.

4. A list that asks for a TLS version permits what it permits for some version, as long as that is
not settled. The line that denies the real version is *due*. Its device *judges* if it is stateful
and both ways pass it. Where some device judges, the legs follow on which TLS settles (RFC 8446
section 2): with TLS the client's hello and the server's, without it the first data. Once it has
settled, what is due stops the conversation: on the way there the first line that is due, on the way
back the last one.

5. Nothing answers a packet that has no answer, or one that is handed to every machine on a link.
The answer to a claimed source address may go astray.

6. A list that stops the opening leg: `denied`. A list that stops a later one, or an answer that
goes astray: `half-open`. No path, after all lists that are met before it ends: `unroutable`.
Otherwise `permitted`.
"""

from __future__ import annotations

from collections.abc import Container, Sequence
from enum import StrEnum
from functools import cache
from typing import NamedTuple, Self

from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model import iana
from crossgate.core.model.accesslist import Decider
from crossgate.core.model.packet import ACK, PSH, SYN, TCP, Packet
from crossgate.core.network.paths import Crossing


class Leg(StrEnum):
    """Which packet of a conversation it is.

    A leg that `returns` goes from the far end back to the sender. With a leg that `settles`, the
    conversation has settled on a TLS version, or shown that it uses no TLS.
    """

    returns: bool
    settles: bool

    def __new__(cls, word: str, returns: bool = False, settles: bool = False) -> Self:
        """Make a member; what is asked for most often is stored as an attribute."""
        leg = str.__new__(cls, word)
        leg._value_ = word
        leg.returns, leg.settles = returns, settles
        return leg

    SYN = "SYN"
    SYN_ACK = "SYN+ACK", True
    ACK = "ACK"
    REQUEST = "request"
    REPLY = "reply", True
    CLIENT_HELLO = "client hello"
    SERVER_HELLO = "server hello", True, True
    DATA = "data", False, True


class Shape(NamedTuple):
    """A leg's packet in terms of the opening one: whether its ends are exchanged (`turned`), and
    its TCP `flags`, None where they stay as they were.
    """

    turned: bool = False
    flags: int | None = None


SHAPES = {
    Leg.SYN: Shape(flags=SYN),
    Leg.SYN_ACK: Shape(True, SYN | ACK),
    Leg.ACK: Shape(flags=ACK),
    Leg.REQUEST: Shape(),
    Leg.REPLY: Shape(True),
    Leg.CLIENT_HELLO: Shape(flags=ACK | PSH),
    Leg.SERVER_HELLO: Shape(True, ACK | PSH),
    Leg.DATA: Shape(flags=ACK | PSH),
}
OPENING = (Leg.SYN, Leg.REQUEST)
"""The legs that open; their packet is the one that opens."""
LEADING = (*OPENING, Leg.SYN_ACK, Leg.REPLY)
"""The first legs of each direction."""
HANDSHAKE = (Leg.SYN, Leg.SYN_ACK, Leg.ACK)
ANSWERED = (Leg.REQUEST, Leg.REPLY)
ALONE = (Leg.REQUEST,)
WITH_TLS = (Leg.CLIENT_HELLO, Leg.SERVER_HELLO)
WITHOUT_TLS = (Leg.DATA,)


def legs_of(
    first: Packet, on_link: bool, alone: bool = False
) -> tuple[tuple[Leg, ...], int | None]:
    """Return the legs of the conversation that a packet opens, and the ICMP type of its answer,
    None for none.

    `on_link` says that both ends are on one link. A later fragment opens nothing and is one leg by
    itself; so is any packet that is sent `alone`.
    """
    if first.fragment or alone:
        return ALONE, None
    if first.protocol == TCP:
        return HANDSHAKE, None
    if first.icmp_type is None:
        return ANSWERED, None
    answer = iana.ANSWERED[first.protocol].get(first.icmp_type)
    if answer is None and on_link:
        answer = iana.ANSWERED_ON_LINK[first.protocol].get(first.icmp_type)
    return (ALONE if answer is None else ANSWERED), answer


def packet_on(first: Packet, leg: Leg, answer: int | None) -> Packet:
    """Return the packet of a leg of the conversation that `first` opens; `answer` is the ICMP type
    of the reply, None for other protocols.
    """
    turned, flags = SHAPES[leg]
    if turned:
        kind, code = (first.icmp_type, first.icmp_code) if answer is None else (answer, 0)
        first = first._replace(
            source=first.destination,
            destination=first.source,
            source_port=first.destination_port,
            destination_port=first.source_port,
            icmp_type=kind,
            icmp_code=code,
        )
    return first if flags is None or first.flags == flags else first._replace(flags=flags)


def unasked(leg: Leg, there: frozenset[str], back: frozenset[str]) -> frozenset[str]:
    """Return the stateful devices that ask no list about a leg, of those on its way `there` and its
    way `back` (rule 3).
    """
    if leg in OPENING:
        return frozenset()
    return there | back if leg.returns and leg not in LEADING else there


def judges(crossing: Crossing, there: Container[str], back: Container[str]) -> bool:
    """Whether a list on the way there judges the TLS version; `there` and `back` are the stateful
    devices on the ways.
    """
    device = crossing.remembered_by
    return device is not None and device in there and device in back


class Decided(NamedTuple):
    """A list that was asked about a leg: the crossing, and the line that decided."""

    crossing: Crossing
    decider: Decider


class Decision(NamedTuple):
    """What a list decides about packets: the deciding line, whether it permits them, and the line
    that is due once their TLS version settles.
    """

    decider: Decider
    permits: bool
    due: Decider | None = None


class Late(NamedTuple):
    """The number of the earliest later leg that some list denies, and the first list that does."""

    leg: int
    stop: Decided


class Script:
    """The legs of a conversation: those that `always` follow, and those on which it is `settling`
    its TLS version where some device judges that.

    A leg's number is its index in `legs`, which has both. `there` and `back` are the numbers of the
    legs of each direction, the leading one first; `leading` are these two legs, and `later` the
    others with their numbers, there and back. Nothing comes back where it is `unanswered`. `astray`
    says that the answer goes to another machine.
    """

    def __init__(
        self, always: tuple[Leg, ...], settling: tuple[Leg, ...], unanswered: bool, astray: bool
    ) -> None:
        self.always, self.settling, self.unanswered, self.astray = (
            always,
            settling,
            unanswered,
            astray,
        )
        self.legs: tuple[Leg, ...] = (*always, *settling)
        taken = self.legs[:1] if unanswered else self.legs
        self.there = tuple(number for number, leg in enumerate(taken) if not leg.returns)
        self.back = tuple(number for number, leg in enumerate(taken) if leg.returns)
        self.leading = self.legs[0], self.legs[self.back[0] if self.back else 0]
        self.later = tuple(
            tuple((number, self.legs[number]) for number in each[1:])
            for each in (self.there, self.back)
        )


@cache
def script(
    legs: tuple[Leg, ...],
    speaks: bool | None = None,
    unanswered: bool = False,
    astray: bool = False,
) -> Script:
    """Return the script for some legs; `speaks` is whether the conversation uses TLS, None where no
    list on the way there asks.
    """
    settling = () if legs != HANDSHAKE or speaks is None else WITH_TLS if speaks else WITHOUT_TLS
    return Script(legs, settling, unanswered or len(legs) == 1, astray)


class Finish(NamedTuple):
    """How a conversation ends: its verdict, the leg, and the list that stopped it there, None where
    no list did.
    """

    verdict: Verdict
    leg: Leg
    stop: Decided | None = None


def when_stopped(script: Script, leg: int, stop: Decided | None) -> Finish:
    """Return how a conversation ends whose leading leg, given by its number, is stopped by a list;
    None stands for a missing path.
    """
    if stop is None:
        return Finish(Verdict.UNROUTABLE, script.legs[leg])
    return Finish(Verdict.HALF_OPEN if leg else Verdict.DENIED, script.legs[leg], stop)


def when_arrived(script: Script, late: Late | None, judged: bool, due: Sequence[Decided]) -> Finish:
    """Return how a conversation ends whose first packet and whose answer both arrive.

    `late` is the line that denies a later leg, if one does. `judged` says that some device judges
    the TLS version, and `due` are the lines that then stop the conversation, in the order of the
    way there.
    """
    if script.unanswered:
        return Finish(Verdict.PERMITTED, script.always[-1])
    if script.astray:
        return Finish(Verdict.HALF_OPEN, script.always[1])
    if late is not None and late.leg < len(script.always):
        return Finish(Verdict.HALF_OPEN, script.legs[late.leg], late.stop)
    if not judged:
        return Finish(Verdict.PERMITTED, script.always[-1])
    for number, leg in enumerate(script.settling, len(script.always)):
        if leg.settles and due:
            return Finish(Verdict.HALF_OPEN, leg, due[-1 if leg.returns else 0])
        if late is not None and late.leg == number:
            return Finish(Verdict.HALF_OPEN, leg, late.stop)
    return Finish(Verdict.PERMITTED, script.legs[-1])
