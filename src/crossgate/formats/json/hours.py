"""The document of `trace --week`: verdicts on conversations over time."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from typing import Literal, TypedDict

from crossgate.core.answers.hours import ConversationHours, Stretch
from crossgate.core.conversation.opening import service_of
from crossgate.core.model.accesslist import Decider
from crossgate.core.model.conditions import When
from crossgate.core.model.plan import Plan
from crossgate.core.wording.sentences import sentence
from crossgate.formats.json.parts import (
    DeciderDocument,
    EndsDocument,
    ListNameDocument,
    WhenDocument,
    decider_document,
    endpoint_document,
    when_document,
)


class LineDocument(ListNameDocument, DeciderDocument):
    """A line of a list."""


class OpenConversationsDocument(TypedDict):
    """What becomes, at the end of a stretch, of conversations that are open then: by what, and the
    line that decides.
    """

    what: str
    by: str | None
    decided: LineDocument | None


class _Stretch(TypedDict):
    until: str | None
    verdict: str
    varies: bool
    decided: LineDocument | None
    lines: list[LineDocument]
    sentence: str
    open_conversations: OpenConversationsDocument | None


_From = TypedDict("_From", {"from": str})


class StretchDocument(_Stretch, _From):
    """A time through which a conversation has one verdict, and all lines that decide in it."""


class ConversationHoursDocument(EndsDocument):
    """The verdicts on a conversation, and the next one after the time that was asked about."""

    family: int
    service: str
    stretches: list[StretchDocument]
    next: StretchDocument | None


class HoursDocument(WhenDocument):
    """The verdicts on conversations from a time until another."""

    schema: Literal["crossgate/hours/1"]
    plan: str
    until: str
    conversations: list[ConversationHoursDocument]


def hours_document(
    plan: Plan, when: When, until: datetime, found: Iterable[ConversationHours]
) -> HoursDocument:
    """Return `crossgate/hours/1`: the verdicts on conversations from a time until another one."""
    return {
        "schema": "crossgate/hours/1",
        "plan": plan.files[0],
        **when_document(when),
        "until": until.isoformat(),
        "conversations": [_conversation(each) for each in found],
    }


def _conversation(hours: ConversationHours) -> ConversationHoursDocument:
    told = hours.told
    return {
        "family": int(told.first.family),
        "from": endpoint_document(told.source),
        "to": endpoint_document(told.destination),
        "service": service_of(told.first),
        "stretches": [_stretch(each) for each in hours.stretches],
        "next": None if hours.next is None else _stretch(hours.next),
    }


def _stretch(stretch: Stretch) -> StretchDocument:
    turn, decided = stretch.turn, stretch.trace.decided
    stopped_by = None if decided is None or decided.decider is None else decided.decider
    return {
        "from": stretch.start.isoformat(),
        "until": None if stretch.end is None else stretch.end.isoformat(),
        "verdict": str(stretch.trace.verdict),
        "varies": stretch.trace.differing is not None,
        "decided": None if stopped_by is None else _line(stopped_by),
        "lines": [_line(each) for each in stretch.trace.deciders()],
        "sentence": sentence(stretch.trace),
        "open_conversations": None
        if turn is None
        else {
            "what": str(turn.opened),
            "by": turn.by,
            "decided": None if turn.decider is None else _line(turn.decider),
        },
    }


def _line(decider: Decider) -> LineDocument:
    return {"list": decider.access_list.name, **decider_document(decider)}
