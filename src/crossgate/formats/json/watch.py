"""The documents of `watch`, one on each line: the state of the plan at first, and the effect of
each save.
"""

from __future__ import annotations

from datetime import datetime

from crossgate.core.impact import Impact
from crossgate.core.model.errors import PlanError, PlanErrors
from crossgate.core.model.plan import Plan
from crossgate.formats.json.compare import differences_document
from crossgate.formats.json.edit import turned_document
from crossgate.formats.json.parts import Document, finding_document

_SCHEMA = "crossgate/watch/1"


def save_document(
    plan: Plan, at: datetime, impact: Impact | None, stands: tuple[int, int]
) -> Document:
    """Return `crossgate/watch/1` for a plan without errors: the effect of the changes since the
    last one; the first has no `impact`.
    """
    held, failed = stands
    return {
        "schema": _SCHEMA,
        "plan": plan.files[0],
        "at": at.isoformat(),
        "errors": [],
        "held": held,
        "failed": failed,
        "expectations": [turned_document(each) for each in impact.turned] if impact else [],
        "differences": differences_document(plan, impact.differences) if impact else [],
        "findings": [finding_document(each) for each in impact.findings] if impact else [],
        "gone": [finding_document(each) for each in impact.gone] if impact else [],
        "unanswered": [error.message for error in (*impact.missed, *impact.unaudited)]
        if impact
        else [],
    }


def errors_document(plan: str, at: datetime, error: PlanError) -> Document:
    """Return `crossgate/watch/1` for a plan that has errors."""
    errors = error.errors if isinstance(error, PlanErrors) else (error,)
    return {
        "schema": _SCHEMA,
        "plan": plan,
        "at": at.isoformat(),
        "errors": [str(each) for each in errors],
    }
