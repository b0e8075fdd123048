"""The document of every command that edits: the change, what it does, and whether it was written."""

from __future__ import annotations

from collections.abc import Sequence

from crossgate.core.impact import Review
from crossgate.core.model.plan import Plan
from crossgate.formats.json.parts import Document, finding_document


def edit_document(
    plan: Plan, said: str, diff: Sequence[str], found: Review | None, errors: Sequence[str], refused: str, done: bool
) -> Document:
    """Return `crossgate/edit/1`: a change of the plan, what it does, and whether it was written."""
    from crossgate.formats.json.compare import differences_document

    return {
        "schema": "crossgate/edit/1",
        "plan": plan.files[0],
        "change": said,
        "written": done,
        "refused": refused or None,
        "diff": list(diff),
        "errors": list(errors),
        "expectations": [
            {
                "line": each.now.expectation.place.line,
                "text": each.now.expectation.text,
                "kind": "keep" if each.now.expectation.keep else "expect",
                "held": each.held,
                "holds": each.now.held,
                "why": each.now.why or None,
            }
            for each in (found.turned if found else ())
        ],
        "differences": differences_document(plan, found.differences) if found else [],
        "findings": [finding_document(finding) for finding in (found.findings if found else ())],
    }
