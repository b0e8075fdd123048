"""The document of `trace`: conversations with their legs and crossings."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Literal, NotRequired, TypedDict

from crossgate.core.answers.why import Why, why_there
from crossgate.core.conversation.opening import Conversation, service_of
from crossgate.core.conversation.story import CrossingStory, LegTrace, Trace
from crossgate.core.model.condition import State
from crossgate.core.model.conditions import When
from crossgate.core.model.plan import Plan
from crossgate.core.wording.sentences import noticed, sentence
from crossgate.core.wording.translated import seen_ends
from crossgate.formats.json.parts import (
    AskedListDocument,
    EndsDocument,
    WhenDocument,
    asked_list,
    endpoint_document,
    when_document,
)


class CrossingDocument(AskedListDocument):
    """A place that a leg crosses, and what the list there does; `line` is null where no list
    decides. A list is not asked `again` what it was asked for the leg before, nor where the device
    has `remembered` the connection; `passed` are the entries above that do not match.
    """

    point: str
    direction: str
    entry: int | None
    action: str
    line: int | None
    again: NotRequired[bool]
    remembered: NotRequired[bool]
    seen: NotRequired[SeenDocument]
    passed: NotRequired[list[PassedDocument]]


class SeenDocument(TypedDict):
    """The ends of a packet where translations have changed them."""

    source: str
    destination: str


class PassedDocument(TypedDict):
    """An entry that a packet passes, and the field that does not match."""

    entry: int
    field: str


class LegDocument(TypedDict):
    """A packet of a conversation; where it does not arrive for want of a way, `reason` says why in
    words and `failure` of which kind that is.
    """

    leg: str
    outcome: str
    crossings: list[CrossingDocument]
    reason: NotRequired[str]
    failure: NotRequired[str | None]


_As = TypedDict("_As", {"as": NotRequired[str]})


class ConversationDocument(EndsDocument, _As):
    """A conversation that was traced; `as` is the source address that it claims."""

    family: int
    service: str
    verdict: str
    decided: CrossingDocument | None
    sentence: str
    sender: str | None
    other_paths: bool
    varies: bool
    ways: int
    legs: list[LegDocument]


class TraceDocument(WhenDocument):
    """Conversations with their legs and crossings."""

    schema: Literal["crossgate/trace/1"]
    plan: str
    conversations: list[ConversationDocument]


def trace_document(
    plan: Plan, when: When, traces: Iterable[Trace], why: bool = False
) -> TraceDocument:
    """Return `crossgate/trace/1`: conversations with their legs and crossings; with `why` also the
    entries above the deciding one, and the field of each that does not match.
    """
    state = plan.state_at(when) if why else None
    return {
        "schema": "crossgate/trace/1",
        "plan": plan.files[0],
        **when_document(when),
        "conversations": [conversation(trace, state) for trace in traces],
    }


def conversation(trace: Trace, state: State | None = None) -> ConversationDocument:
    """Return one traced conversation; with a `state` also why entries did not match in it."""
    told = trace.conversation
    document: ConversationDocument = {
        "family": int(told.first.family),
        "from": endpoint_document(told.source),
        "to": endpoint_document(told.destination),
        "service": service_of(told.first),
        "verdict": str(trace.verdict),
        "decided": _asked(trace.decided) if trace.decided else None,
        "sentence": sentence(trace),
        "sender": noticed(trace) or None,
        "other_paths": trace.forks,
        "varies": trace.differing is not None,
        "ways": trace.ways,
        "legs": [_leg(told, leg, state) for leg in trace.legs],
    }
    if told.claimed is not None:
        document["as"] = str(told.claimed)
    return document


def _crossing(
    told: Conversation, leg: LegTrace, asked: CrossingStory, state: State | None
) -> CrossingDocument:
    document = _asked(asked)
    if asked.crossing.view:
        source, destination = seen_ends(told.first, leg.leg, asked.crossing.view)
        document["seen"] = {"source": source, "destination": destination}
    why = None if state is None else why_there(told, leg.leg, asked, state)
    if why is not None:
        document["passed"] = passed_document(why)
    return document


def passed_document(why: Why) -> list[PassedDocument]:
    """Return the entries that a packet passes, each with the field that does not match."""
    return [{"entry": each.entry.number, "field": str(each.field)} for each in why.passed]


def _leg(told: Conversation, leg: LegTrace, state: State | None) -> LegDocument:
    document: LegDocument = {
        "leg": str(leg.leg),
        "outcome": str(leg.outcome),
        "crossings": [_crossing(told, leg, asked, state) for asked in leg.asked],
    }
    if not leg.path.arrived:
        document["reason"] = leg.path.reason
        document["failure"] = None if leg.path.failure is None else str(leg.path.failure.kind)
    return document


def _asked(asked: CrossingStory) -> CrossingDocument:
    decider, own = asked.decider, asked_list(asked.access_list)
    document: CrossingDocument = {
        "point": str(asked.crossing.point),
        "direction": str(asked.crossing.direction),
        "list": own["list"],
        "entry": decider.number if decider else None,
        "action": str(decider.action) if decider else "permit",
        "line": decider.place.line if decider else None,
    }
    if "closed" in own:
        document["closed"] = own["closed"]
    if asked.again:
        document["again"] = True
    if asked.remembered:
        document["remembered"] = True
    return document
