"""The document of `since`."""

from __future__ import annotations

from collections.abc import Iterable

from crossgate.core.model.plan import Plan
from crossgate.formats.json.parts import Document
from crossgate.formats.past import Answer, Since, Version


def since_document(plan: Plan, found: Iterable[Since]) -> Document:
    """Return `crossgate/since/1`: how answers changed over the versions, newest first."""
    return {
        "schema": "crossgate/since/1",
        "plan": plan.files[0],
        "answers": [
            {
                "asked": each.asked,
                "today": _answer(each.today),
                "changes": [
                    {
                        "commit": _commit(change.version),
                        "now": _answer(change.now),
                        "before": _answer(change.before),
                        "skipped": change.skipped,
                    }
                    for change in each.changes
                ],
                "oldest": _commit(each.oldest),
            }
            for each in found
        ],
    }


def _answer(answer: Answer) -> Document:
    return {"verdict": answer.verdict, "why": answer.why, "line": answer.line or None}


def _commit(version: Version) -> Document | None:
    commit = version.commit
    if commit is None:
        return None
    return {
        "id": commit.id,
        "made": commit.made.isoformat(),
        "author": commit.author,
        "subject": commit.subject,
    }
