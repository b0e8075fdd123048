"""What a walk asks of whatever carries a conversation: one packet, a set or columns."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

from crossgate.core.conversation.places import Asked
from crossgate.core.conversation.rules import Decision, Leg
from crossgate.core.conversation.states import Part

Divided = tuple[tuple[Leg, Asked], Sequence[tuple[Part, Decision]]]
"""A list that divides a part on a leg, and the pieces."""


class Carrier(Protocol[Part]):
    """What is carried, in parts that are never empty."""

    def decide(self, part: Part, leg: Leg, asked: Asked) -> Sequence[tuple[Part, Decision]]:
        """Divide a part by what a list decides about the packets of a leg as it sees them; the
        pieces do not overlap, and together are the whole part.
        """
        ...
