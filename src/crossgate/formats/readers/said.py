"""What a table says about a device's decision: words from many logs, and two numbers of IPFIX."""

from __future__ import annotations

from crossgate.core.traffic.seen import SAID_DENIED, SAID_PERMITTED
from crossgate.formats.readers.names import plain

_WORDS = {
    **dict.fromkeys(
        [
            "permit",
            "permitted",
            "allow",
            "allowed",
            "accept",
            "accepted",
            "pass",
            "passed",
            "forward",
            "forwarded",
        ],
        SAID_PERMITTED,
    ),
    **dict.fromkeys(
        [
            "deny",
            "denied",
            "drop",
            "dropped",
            "reject",
            "rejected",
            "block",
            "blocked",
            "discard",
            "discarded",
        ],
        SAID_DENIED,
    ),
}
SAID = "permit, allow, accept, pass, forward; deny, drop, reject, block or discard"
"""What a cell may say, for messages; the past forms too."""

_STATUS = {0: 0, 1: SAID_PERMITTED, 2: SAID_DENIED, 3: SAID_PERMITTED}
"""The upper two bits of forwardingStatus, IPFIX element 89 (RFC 7270 section 4.12): unknown,
forwarded, dropped, consumed by the device itself.
"""
_EVENTS = {0: 0, 1: SAID_PERMITTED, 2: SAID_PERMITTED, 3: SAID_DENIED, 4: 0, 5: SAID_PERMITTED}
"""firewallEvent, IPFIX element 233 (IANA registry): ignore, created, deleted, denied, alert,
update of a flow.
"""


def said_by(column: str, text: str) -> int | None:
    """Return the decision in a cell of a column, 0 for none; None for an unknown word."""
    if text.lower() in _WORDS:
        return _WORDS[text.lower()]
    if not (text.isascii() and text.isdecimal() and len(text) <= 3):
        return None
    number = int(text)
    if plain(column) == "forwardingstatus":
        return _STATUS[number >> 6] if number < 256 else None
    return _EVENTS.get(number) if plain(column) == "firewallevent" else None
