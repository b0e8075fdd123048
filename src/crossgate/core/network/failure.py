"""Why a packet does not arrive although no list denied it: a kind for programs, and a sentence for
people.
"""

from __future__ import annotations

from enum import StrEnum
from typing import NamedTuple


class FailureKind(StrEnum):
    """The kind of reason for which a packet is lost."""

    SOURCE_NOWHERE = "source-nowhere"
    NO_DESTINATION = "no-destination"
    NO_GATEWAY = "no-gateway"
    NO_ROUTE = "no-route"
    NEXT_HOP = "next-hop"
    DISCARDED = "discarded"
    OTHER_OUTSIDE = "other-outside"
    NO_CABLE = "no-cable"
    ISOLATED = "isolated"
    DOWN = "down"
    LINK_ONLY = "link-only"
    LOOP = "loop"
    NO_TRANSLATION = "no-translation"


class Failure(NamedTuple):
    """Why a packet is lost: the kind of reason, and a sentence that tells it."""

    kind: FailureKind
    text: str

    def __str__(self) -> str:
        return self.text
