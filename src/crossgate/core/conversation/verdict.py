"""What becomes of a conversation, in one word."""

from __future__ import annotations

from enum import StrEnum

from crossgate.core.model.claim import Claim


class Verdict(StrEnum):
    """What becomes of a conversation; for a set of them, `SOME` where they do not all get the same
    verdict.
    """

    PERMITTED = "permitted"
    DENIED = "denied"
    HALF_OPEN = "half-open"
    UNROUTABLE = "unroutable"
    VARIES = "varies"
    SOME = "some"


VERDICTS = {
    Claim.PERMIT: Verdict.PERMITTED,
    Claim.DENY: Verdict.DENIED,
    Claim.HALF_OPEN: Verdict.HALF_OPEN,
}
"""What a claim says becomes of a conversation."""
