"""The document of `cause`."""

from __future__ import annotations

from typing import Literal, TypedDict

from crossgate.core.answers.cause import Cause, Explained
from crossgate.core.answers.sheet.words import command_line
from crossgate.core.model.conditions import When
from crossgate.core.model.plan import Plan
from crossgate.formats.json.parts import (
    WhenDocument,
    when_document,
)


class CauseOfDocument(TypedDict):
    """Faults that together explain observations."""

    faults: list[str]
    explained: int
    not_explained: list[str]


class NextDocument(TypedDict):
    """The test that tells the best cause from another one: the command, what is seen where the best
    one is true, and where the other `faults` are.
    """

    machine: str
    command: str
    first: str
    other: str
    faults: list[str]


class CauseDocument(WhenDocument):
    """The observations that a plan does not predict, and what explains them."""

    schema: Literal["crossgate/cause/1"]
    plan: str
    observations: int
    wrong: list[str]
    tried: int
    causes: list[CauseOfDocument]
    next: NextDocument | None


def cause_document(plan: Plan, when: When, cause: Cause) -> CauseDocument:
    """Return `crossgate/cause/1`: the observations that the plan does not predict, and what
    explains them, the best cause first.
    """
    following = cause.next
    return {
        "schema": "crossgate/cause/1",
        "plan": plan.files[0],
        **when_document(when),
        "observations": len(cause.observed),
        "wrong": [str(each) for each in cause.wrong],
        "tried": cause.tried,
        "causes": [_cause(each) for each in cause.ranked],
        "next": None
        if following is None
        else {
            "machine": following.tried.conversation.source.name,
            "command": command_line(following.tried),
            "first": str(following.best),
            "other": str(following.seen),
            "faults": [each.text for each in following.other.faults],
        },
    }


def _cause(explained: Explained) -> CauseOfDocument:
    return {
        "faults": [each.text for each in explained.faults],
        "explained": len(explained.explained),
        "not_explained": [str(each) for each in explained.not_explained],
    }
