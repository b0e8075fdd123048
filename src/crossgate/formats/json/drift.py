"""The document of `drift`: what runs on devices against the plan."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from crossgate.core.answers.drift import Drift
from crossgate.core.model.plan import Plan
from crossgate.formats.json.compare import differences_document
from crossgate.formats.json.parts import Document


def drift_document(plan: Plan, drifts: Sequence[Drift], at: datetime) -> Document:
    """Return `crossgate/drift/1`: for each device whether it was asked, and what fares otherwise."""
    return {
        "schema": "crossgate/drift/1",
        "plan": plan.files[0],
        "at": at.isoformat(),
        "devices": [
            {
                "device": each.device,
                "asked": not each.why,
                "why": each.why,
                "differs": each.differs,
                "reworded": each.reworded,
                "differences": differences_document(each.plan, each.found),
                "told": list(each.told),
            }
            for each in drifts
        ],
    }
