"""The document of `reach`: the fate of everything from one end to another."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime

from crossgate.core.answers.reach import Reached
from crossgate.core.model.errors import PlanError
from crossgate.core.model.plan import Plan
from crossgate.core.wording.services import Sort
from crossgate.core.wording.sets import Wording
from crossgate.formats.json.parts import Document, decided_document, lines_document, packet_document


def reach_document(
    plan: Plan, source: str, destination: str, at: datetime, found: Iterable[Reached], strays: bool, missed: Iterable[PlanError] = ()
) -> Document:
    """Return `crossgate/reach/1`: the fate of everything from one end to another."""
    wording, sort = Wording(plan), Sort.STRAY if strays else Sort.OPENING
    return {
        "schema": "crossgate/reach/1",
        "plan": plan.files[0],
        "at": at.isoformat(),
        "from": source,
        "to": destination,
        "strays": strays,
        "unanswered": [error.message for error in missed],
        "answers": [
            {
                "family": int(reached.family),
                "devices": reached.devices,
                "parts": [
                    {
                        "verdict": str(part.verdict),
                        "decided": decided_document(part.stop),
                        "leg": "back" if part.back else "there",
                        "lines": lines_document(wording, part.lines, sort, not reached.devices),
                        "clients": lines_document(wording, part.clients, sort, not reached.devices),
                        "packet": packet_document(part.packet),
                    }
                    for part in reached.parts
                ],
            }
            for reached in found
        ],
    }
