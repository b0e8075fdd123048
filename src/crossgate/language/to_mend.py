"""What there is to mend in a plan: claims that fail, and findings that an edit may end."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import datetime

from crossgate.core.answers.verify import Verified, Verifier
from crossgate.core.audit import audit
from crossgate.core.model.errors import PlanError, unknown
from crossgate.core.model.finding import Finding
from crossgate.core.model.finding_kinds import KINDS
from crossgate.core.model.window import is_past
from crossgate.core.traffic.session import Session
from crossgate.language.ending import mend_finding, moves
from crossgate.language.mending import Mendable, mend_claim
from crossgate.language.reader import Reading
from crossgate.language.statements import claim_at


def to_mend(
    reading: Reading, words: Sequence[str], now: datetime
) -> list[Callable[[], Mendable | None]]:
    """Return, for each thing that is named, the function that looks for its mends: a claim by its
    line, or a finding by its name, list and entry; without words all claims that fail, and all
    findings. A finding that nobody named and no edit ends gives nothing.

    Raises `PlanError` for a word that names neither, and for a claim that holds.
    """
    plan, session = reading.plan, Session(reading.plan)
    verifier, known = Verifier(session), lambda session, packet: moves(session, packet, now)

    def of_claim(index: int, verified: Verified) -> Callable[[], Mendable | None]:
        return lambda: mend_claim(reading, index, verified, now, verifier, known)

    def of_finding(finding: Finding) -> Callable[[], Mendable | None]:
        def look() -> Mendable | None:
            mended = mend_finding(reading, finding, now, session)
            return mended if words or mended.mends else None

        return look

    if words and words[0].rpartition(":")[2].isdecimal():
        claim = claim_at(plan, words[0])
        verified = verifier.verify(claim)
        if verified.held:
            raise PlanError(f"line {words[0]} holds: {claim.text}")
        index = next(at for at, each in enumerate(plan.expectations) if each is claim)
        return [of_claim(index, verified)]
    if words and words[0] not in KINDS:
        raise PlanError(unknown("finding", words[0], list(KINDS)))
    found = (
        []
        if words
        else [
            of_claim(index, result)
            for index, each in enumerate(plan.expectations)
            if not is_past(each.until, now) and not (result := verifier.verify(each)).held
        ]
    )
    named, borders = False, set[str]()
    for finding in audit(session, now).findings:
        told = (
            finding.name,
            finding.access_list or "",
            "" if finding.entry is None else str(finding.entry),
        )
        if tuple(words) != told[: len(words)] or finding.name == "locked-out":
            continue
        named = True
        if finding.name == "spoofable" and finding.segment is not None and len(words) < 3:
            if finding.segment in borders:
                continue  # what closes its subnet ends it too
            borders.add(finding.segment)
        found.append(of_finding(finding))
    if words and not named:
        raise PlanError(
            f"there is no finding {' '.join(words)}; crossgate check shows those there are"
        )
    return found
