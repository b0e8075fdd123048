"""The document of `check`: findings, accepted findings, and questions without an answer."""

from __future__ import annotations

from crossgate.core.audit import Audited
from crossgate.core.model.plan import Plan
from crossgate.formats.json.parts import Document, finding_document


def check_document(plan: Plan, audited: Audited) -> Document:
    """Return `crossgate/check/1`: the findings of a plan, and those that it accepts with their
    reasons.
    """
    return {
        "schema": "crossgate/check/1",
        "plan": plan.files[0],
        "findings": [finding_document(finding) for finding in audited.findings],
        "accepted": [
            finding_document(finding) | {"reason": line.reason}
            for finding, line in audited.accepted
        ],
        "unanswered": [error.message for error in audited.missed],
    }
