"""The tests of a sheet in words: what to run, what is seen, which counters rise."""

from __future__ import annotations

from shlex import quote

from crossgate.core.answers.sheet import SheetReason
from crossgate.core.answers.sheet.tests import Can, SeenInTest, Tried
from crossgate.core.model.accesslist import line_name
from crossgate.core.model.address import Address, Family
from crossgate.core.model.packet import CLIENT_PORT, TCP
from crossgate.core.model.service import protocol_name

PINGS = 3
"""So many times a ping is sent."""
PATIENCE = 3
"""So many seconds an answer is waited for."""
LOOKED_UP = "example.com"
"""The name that a name server is asked for (RFC 2606 section 3)."""


def command_line(tried: Tried) -> str:
    """Return a command line that makes a test, with a common program."""
    first, address = tried.conversation.first, _address(tried)
    six = first.family is Family.IPV6
    if tried.can is Can.PING:
        return f"ping{' -6' if six else ''} -c {PINGS} {address}"
    if tried.can is Can.LOOKUP:
        return f"dig +time={PATIENCE} +tries=1 @{address} {LOOKED_UP}"
    end = f"[{address}]" if six else str(address)
    port = first.source_port
    own = "" if port == CLIENT_PORT else f" --local-port {port}"
    target = quote(f"telnet://{end}:{first.destination_port}")
    return f"curl --connect-timeout {PATIENCE}{own} {target}"


def plain_words(tried: Tried) -> str:
    """Return what a test does, in everyday words."""
    conversation, first = tried.conversation, tried.conversation.first
    name = conversation.destination.name
    if tried.can is Can.PING:
        return f"ping {name}"
    if tried.can is Can.LOOKUP:
        return f"ask {name} for a name"
    from_port = "" if first.source_port == CLIENT_PORT else f", from port {first.source_port}"
    return f"connect to {name}, {protocol_name(TCP)}/{first.destination_port}{from_port}"


def _address(tried: Tried) -> Address:
    first = tried.conversation.first
    return Address(first.family, first.destination)


SEEN = {
    SeenInTest.ANSWERED: "an answer",
    SeenInTest.REFUSED: "refused at once",
    SeenInTest.SILENCE: "silence",
    SeenInTest.NOBODY_LISTENS: "connection refused: nobody listens",
}
"""What is seen of a test."""


def least_count(tried: Tried) -> int:
    """Return by how many packets a test raises the counter of a line at least."""
    return PINGS if tried.can is Can.PING else 1


def counters(tried: Tried) -> list[str]:
    """Return which lines' counters rise, and by how much at least."""
    return [f"{line_name(*key)} +{least_count(tried)}" for key in tried.deciders]


def note_of(tried: Tried) -> str:
    """Return what a person cannot distinguish at the machine that makes the test; "" for
    nothing.
    """
    if tried.seen is SeenInTest.ANSWERED and tried.can is Can.CONNECT:
        return "where nobody listens the machine refuses the connection, and it got there"
    if tried.seen is SeenInTest.SILENCE and tried.ending.leg.returns:
        return "it gets there, and the answer is stopped: here it looks as if it were denied"
    if tried.seen is SeenInTest.SILENCE and tried.ending.stop is None:
        return "there is no way for it: some device may say so"
    return ""


def reason_text(reason: SheetReason) -> str:
    """Say why a test is in the sheet."""
    if reason.claim is not None:
        return f"line {reason.claim.line}" + (", not of it" if reason.what == "left out" else "")
    assert reason.line is not None
    name = line_name(*reason.line)
    return {"beside": f"beside {name}", "counts": f"{name}, by its counter"}.get(reason.what, name)
