"""The document of `cause`."""

from __future__ import annotations

from crossgate.core.answers.cause import Cause, Explained
from crossgate.core.answers.cause.observed import Observed
from crossgate.core.answers.sheet.words import command_line
from crossgate.core.model.conditions import When
from crossgate.core.model.plan import Plan
from crossgate.formats.json.parts import Document, when_document


def cause_document(plan: Plan, when: When, observed: Observed, cause: Cause) -> Document:
    """Return `crossgate/cause/1`: the observations that the plan does not predict, and what
    explains them, the best cause first.
    """
    following = cause.next
    return {
        "schema": "crossgate/cause/1",
        "plan": plan.files[0],
        **when_document(when),
        "observations": len(observed),
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


def _cause(explained: Explained) -> Document:
    return {
        "faults": [each.text for each in explained.faults],
        "explained": len(explained.explained),
        "not_explained": [str(each) for each in explained.not_explained],
    }
