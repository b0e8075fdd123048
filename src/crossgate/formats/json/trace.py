"""The document of `trace`: conversations with their legs and crossings."""

from __future__ import annotations

from collections.abc import Iterable

from crossgate.core.answers.why import Why, why_there
from crossgate.core.conversation.opening import Conversation, service_of
from crossgate.core.conversation.story import Asked, LegTrace, Trace
from crossgate.core.model.condition import State
from crossgate.core.model.conditions import When
from crossgate.core.model.packet import Packet
from crossgate.core.model.plan import Plan
from crossgate.core.wording.sentences import noticed, sentence
from crossgate.core.wording.translated import seen_ends
from crossgate.formats.json.parts import Document, asked_list, endpoint_document, when_document


def trace_document(plan: Plan, when: When, traces: Iterable[Trace], why: bool = False) -> Document:
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


def conversation(trace: Trace, state: State | None = None) -> Document:
    """Return one traced conversation; with a `state` also why entries did not match in it."""
    told = trace.conversation
    document: Document = {
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


def _seen(first: Packet, leg: LegTrace, asked: Asked) -> Document:
    """Return the ends of a packet where translations have changed them."""
    if not asked.crossing.view:
        return {}
    return {"seen": seen_ends(first, leg.leg, asked.crossing.view)._asdict()}


def _why(told: Conversation, leg: LegTrace, asked: Asked, state: State | None) -> Document:
    why = None if state is None else why_there(told, leg.leg, asked, state)
    return {} if why is None else {"passed": passed_document(why)}


def passed_document(why: Why) -> list[Document]:
    """Return the entries that a packet passes, each with the field that does not match."""
    return [{"entry": each.entry.number, "field": str(each.field)} for each in why.passed]


def _leg(told: Conversation, leg: LegTrace, state: State | None) -> Document:
    document: Document = {
        "leg": str(leg.leg),
        "outcome": str(leg.outcome),
        "crossings": [
            _asked(asked) | _seen(told.first, leg, asked) | _why(told, leg, asked, state)
            for asked in leg.asked
        ],
    }
    if not leg.path.arrived:
        document["reason"] = leg.path.reason
        document["failure"] = None if leg.path.failure is None else str(leg.path.failure.kind)
    return document


def _asked(asked: Asked) -> Document:
    decider = asked.decider
    document: Document = {
        "point": str(asked.crossing.point),
        "direction": str(asked.crossing.direction),
        **asked_list(asked.access_list),
        "entry": decider.number if decider else None,
        "action": str(decider.action) if decider else "permit",
        "line": decider.place.line if decider else None,
    }
    if asked.again:
        document["again"] = True
    if asked.remembered:
        document["remembered"] = True
    return document
