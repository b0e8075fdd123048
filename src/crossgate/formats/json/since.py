"""The document of `since`."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Literal, TypedDict

from crossgate.core.model.plan import Plan
from crossgate.formats.past import Since, Version, VersionAnswer


class AnswerDocument(TypedDict):
    """An answer that a version of the plan gives, and the line that makes it so."""

    verdict: str
    why: str
    line: str | None


class CommitDocument(TypedDict):
    """A commit of the plan."""

    id: str
    made: str
    author: str
    subject: str


class AnswerChangeDocument(TypedDict):
    """A change of an answer: the commit that made it, null for what is not committed."""

    commit: CommitDocument | None
    now: AnswerDocument
    before: AnswerDocument
    skipped: int


class AnswersDocument(TypedDict):
    """The answer of today to a question, how it came about, and the oldest version that was
    asked.
    """

    asked: str
    today: AnswerDocument
    changes: list[AnswerChangeDocument]
    oldest: CommitDocument | None


class SinceDocument(TypedDict):
    """How answers changed over the versions of a plan, the newest first."""

    schema: Literal["crossgate/since/1"]
    plan: str
    answers: list[AnswersDocument]


def since_document(plan: Plan, found: Iterable[Since]) -> SinceDocument:
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


def _answer(answer: VersionAnswer) -> AnswerDocument:
    return {"verdict": answer.verdict, "why": answer.why, "line": answer.line or None}


def _commit(version: Version) -> CommitDocument | None:
    commit = version.commit
    if commit is None:
        return None
    return {
        "id": commit.id,
        "made": commit.made.isoformat(),
        "author": commit.author,
        "subject": commit.subject,
    }
