"""The document of `check`: findings, accepted findings, and questions without an answer."""

from __future__ import annotations

from typing import Literal, TypedDict

from crossgate.core.audit import Audited
from crossgate.core.model.plan import Plan
from crossgate.formats.json.parts import (
    FindingDocument,
    finding_document,
)


class AcceptedDocument(FindingDocument):
    """A finding that the plan accepts, with the reason."""

    reason: str


class CheckDocument(TypedDict):
    """The findings of a plan, and the questions without an answer."""

    schema: Literal["crossgate/check/1"]
    plan: str
    findings: list[FindingDocument]
    accepted: list[AcceptedDocument]
    unanswered: list[str]


def check_document(plan: Plan, audited: Audited) -> CheckDocument:
    """Return `crossgate/check/1`: the findings of a plan, and those that it accepts with their
    reasons.
    """
    return {
        "schema": "crossgate/check/1",
        "plan": plan.files[0],
        "findings": [finding_document(finding) for finding in audited.findings],
        "accepted": [
            {**finding_document(finding), "reason": line.reason}
            for finding, line in audited.accepted
        ],
        "unanswered": [error.message for error in audited.missed],
    }
