"""The document of `mend`: what can be mended, and the edits that do it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal, TypedDict

from crossgate.formats.json.compare import DifferenceDocument
from crossgate.formats.json.edit import effect_document
from crossgate.formats.json.parts import (
    FindingDocument,
)
from crossgate.language.mending import Mend, Mendable


class TextEditDocument(TypedDict):
    """An edit of a file: so many `lines` from `line` on are replaced by `text`."""

    file: str
    line: int
    lines: int
    text: str


class MendingDocument(TypedDict):
    """A mend: its edits as sentences, as text and as a diff, and what it does."""

    letter: str
    edits: list[str]
    text_edits: list[TextEditDocument]
    diff: list[str]
    differences: list[DifferenceDocument]
    findings: list[FindingDocument]
    gone: list[FindingDocument]


class MendableDocument(TypedDict):
    """What is wrong with a plan, and its mends; `reason` says why there is none."""

    what: str
    file: str
    line: int
    why: str
    proposals: list[MendingDocument]
    reason: str | None


class MendDocument(TypedDict):
    """All that is wrong with a plan, with its mends."""

    schema: Literal["crossgate/mend/1"]
    plan: str
    mends: list[MendableDocument]
    not_looked_at: int


def mend_document(plan: str, found: Sequence[Mendable], later: int = 0) -> MendDocument:
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
                    _mend(letter, mend)
                    for letter, mend in zip("abcdefgh", each.mends, strict=False)
                ],
                "reason": each.reason or None,
            }
            for each in found
        ],
        "not_looked_at": later,
    }


def _mend(letter: str, mend: Mend) -> MendingDocument:
    effect = effect_document(mend.proposal.plan, mend.proposal.impact)
    return {
        "letter": letter,
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
        "differences": effect["differences"],
        "findings": effect["findings"],
        "gone": effect["gone"],
    }
