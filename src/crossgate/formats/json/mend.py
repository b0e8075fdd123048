"""The document of `mend`: what can be mended, and the edits that do it."""

from __future__ import annotations

from collections.abc import Sequence

from crossgate.formats.json.compare import differences_document
from crossgate.formats.json.parts import Document, finding_document
from crossgate.language.mending import Mend, Mendable


def mend_document(plan: str, found: Sequence[Mendable], later: int = 0) -> Document:
    """Return `crossgate/mend/1`: everything that is wrong with its mends, by letter, and how many
    things were not looked at.

    A mend has its edits as sentences, as text (`lines` lines from `line` on are replaced by `text`)
    and as a diff.
    """
    return {
        "schema": "crossgate/mend/1",
        "plan": plan,
        "mends": [
            {
                "what": each.what,
                "file": each.place.file,
                "line": each.place.line,
                "why": each.why,
                "proposals": [
                    {"letter": letter} | _mend(mend)
                    for letter, mend in zip("abcdefgh", each.mends, strict=False)
                ],
                "reason": each.reason or None,
            }
            for each in found
        ],
        "not_looked_at": later,
    }


def _mend(mend: Mend) -> Document:
    impact = mend.proposal.impact
    return {
        "edits": list(mend.said),
        "text_edits": [
            {
                "file": file,
                "line": each.first + 1,
                "lines": each.last - each.first,
                "text": each.text,
            }
            for file, several in mend.proposal.edits.items()
            for each in several
        ],
        "diff": list(mend.proposal.diff),
        "differences": differences_document(mend.proposal.plan, impact.differences)
        if impact
        else [],
        "findings": [finding_document(each) for each in impact.findings] if impact else [],
        "gone": [finding_document(each) for each in impact.gone] if impact else [],
    }
