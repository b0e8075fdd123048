"""The document of every command that edits: the change, what it does, and whether it was
written.
"""

from __future__ import annotations

from typing import Literal, TypedDict

from crossgate.core.impact import Impact, Turned
from crossgate.core.model.plan import Plan
from crossgate.formats.edit_history import Edits
from crossgate.formats.json.compare import DifferenceDocument, differences_document
from crossgate.formats.json.parts import (
    FindingDocument,
    PlanLineDocument,
    finding_document,
)
from crossgate.language.change import Proposal


class TurnedDocument(PlanLineDocument):
    """A claim whose answer a change reverses: whether it `held` before, null for a new one, and
    `holds` after it.
    """

    kind: str
    held: bool | None
    holds: bool
    why: str | None


class EffectDocument(TypedDict):
    """What a change of a plan does: claims that turn, traffic that is treated differently, findings
    that are new or gone, and questions without an answer.
    """

    expectations: list[TurnedDocument]
    differences: list[DifferenceDocument]
    findings: list[FindingDocument]
    gone: list[FindingDocument]
    unanswered: list[str]


class EditDocument(EffectDocument):
    """A change of a plan, what it does, and whether it was written."""

    schema: Literal["crossgate/edit/1"]
    plan: str
    change: str
    remarks: list[str]
    written: bool
    refused: str | None
    diff: list[str]
    errors: list[str]


class MadeEditDocument(TypedDict):
    """An edit that can be undone, or that was `undone` and can be made again."""

    made: str
    command: str
    files: list[str]
    undone: bool


class EditsDocument(TypedDict):
    """The edits of a plan, the oldest first."""

    schema: Literal["crossgate/edits/1"]
    edits: list[MadeEditDocument]


def edit_document(proposal: Proposal, written: bool) -> EditDocument:
    """Return `crossgate/edit/1`: a change of the plan, what it does, and whether it was written."""
    return {
        "schema": "crossgate/edit/1",
        "plan": proposal.plan.files[0],
        "change": proposal.said,
        "remarks": list(proposal.remarks),
        "written": written,
        "refused": proposal.refused or None,
        "diff": list(proposal.diff),
        "errors": list(proposal.errors),
        **effect_document(proposal.plan, proposal.impact),
    }


def effect_document(plan: Plan, impact: Impact | None) -> EffectDocument:
    """Return what a change does to a plan; nothing where it has no `impact`."""
    if impact is None:
        return {
            "expectations": [],
            "differences": [],
            "findings": [],
            "gone": [],
            "unanswered": [],
        }
    return {
        "expectations": [turned_document(each) for each in impact.turned],
        "differences": differences_document(plan, impact.differences),
        "findings": [finding_document(finding) for finding in impact.findings],
        "gone": [finding_document(finding) for finding in impact.gone],
        "unanswered": [error.message for error in (*impact.missed, *impact.unaudited)],
    }


def edits_document(edits: Edits) -> EditsDocument:
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


def turned_document(turned: Turned) -> TurnedDocument:
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
