"""The documents of `watch`, one on each line: the state of the plan at first, and the effect of
each save.
"""

from __future__ import annotations

from datetime import datetime
from typing import Final, Literal, TypedDict

from crossgate.core.impact import Impact
from crossgate.core.model.errors import PlanError, PlanErrors
from crossgate.core.model.plan import Plan
from crossgate.formats.json.edit import EffectDocument, effect_document


class SaveDocument(EffectDocument):
    """A save of a plan without errors, and what has changed since the last one."""

    schema: Literal["crossgate/watch/1"]
    plan: str
    at: str
    errors: list[str]
    held: int
    failed: int


class ErrorsDocument(TypedDict):
    """A save of a plan with errors."""

    schema: Literal["crossgate/watch/1"]
    plan: str
    at: str
    errors: list[str]


_SCHEMA: Final = "crossgate/watch/1"


def save_document(
    plan: Plan, at: datetime, impact: Impact | None, stands: tuple[int, int]
) -> SaveDocument:
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
        **effect_document(plan, impact),
    }


def errors_document(plan: str, at: datetime, error: PlanError) -> ErrorsDocument:
    """Return `crossgate/watch/1` for a plan that has errors."""
    errors = error.errors if isinstance(error, PlanErrors) else (error,)
    return {
        "schema": _SCHEMA,
        "plan": plan,
        "at": at.isoformat(),
        "errors": [str(each) for each in errors],
    }
