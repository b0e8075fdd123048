"""The document of every command that edits: the change, what it does, and whether it was
written.
"""

from __future__ import annotations

from crossgate.core.impact import Turned
from crossgate.formats.edit_history import Edits
from crossgate.formats.json.compare import differences_document
from crossgate.formats.json.parts import Document, finding_document
from crossgate.language.change import Proposal


def edit_document(proposal: Proposal, written: bool) -> Document:
    """Return `crossgate/edit/1`: a change of the plan, what it does, and whether it was written."""
    impact = proposal.impact
    return {
        "schema": "crossgate/edit/1",
        "plan": proposal.plan.files[0],
        "change": proposal.said,
        "remarks": list(proposal.remarks),
        "written": written,
        "refused": proposal.refused or None,
        "diff": list(proposal.diff),
        "errors": list(proposal.errors),
        "expectations": [turned_document(each) for each in impact.turned] if impact else [],
        "differences": differences_document(proposal.plan, impact.differences) if impact else [],
        "findings": [finding_document(finding) for finding in impact.findings] if impact else [],
        "gone": [finding_document(finding) for finding in impact.gone] if impact else [],
        "unanswered": [error.message for error in (*impact.missed, *impact.unaudited)]
        if impact
        else [],
    }


def edits_document(edits: Edits) -> Document:
    """Return `crossgate/edits/1`: the edits of a plan that can be undone or made again, the oldest
    first.
    """
    return {
        "schema": "crossgate/edits/1",
        "edits": [
            {
                "made": each.made,
                "command": each.command,
                "files": [one.file for one in each.files],
                "undone": undone,
            }
            for several, undone in ((edits.done, False), (edits.taken_back, True))
            for each in several
        ],
    }


def turned_document(turned: Turned) -> Document:
    """Return an expectation whose answer a change reverses."""
    expectation = turned.now.expectation
    return {
        "file": expectation.place.file,
        "line": expectation.place.line,
        "text": expectation.text,
        "kind": "keep" if expectation.keep else "expect",
        "held": turned.held,
        "holds": turned.now.held,
        "why": turned.now.why or None,
    }
