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
    plan: Plan,
    source: str,
    destination: str,
    at: datetime,
    found: Iterable[Reached],
    strays: bool,
    missed: Iterable[PlanError] = (),
    flooding: bool = False,
    beyond: Iterable[Reached] = (),
) -> Document:
    """Return `crossgate/reach/1`: the fate of everything from one end to another, and of what is `beyond` every limit where that fares otherwise."""
    wording, sort = Wording(plan), Sort.STRAY if strays else Sort.OPENING
    answers, exceeded = ([_answer(wording, sort, each) for each in several] for several in (found, beyond))
    return {
        "schema": "crossgate/reach/1",
        "plan": plan.files[0],
        "at": at.isoformat(),
        "flooding": flooding,
        "from": source,
        "to": destination,
        "strays": strays,
        "unanswered": [error.message for error in missed],
        "answers": answers,
        "beyond": exceeded,
    }


def _answer(wording: Wording, sort: Sort, reached: Reached) -> Document:
    return {
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
