"""The document of `trace ... lease`: how machines get leases, message by message."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal, TypedDict

from crossgate.core.answers.leases import Leased
from crossgate.core.model.condition import State
from crossgate.core.model.conditions import When
from crossgate.core.model.plan import Plan
from crossgate.formats.json.parts import (
    EndpointDocument,
    WhenDocument,
    endpoint_document,
    when_document,
)
from crossgate.formats.json.trace import ConversationDocument, conversation


class MessageDocument(ConversationDocument):
    """A message of an exchange, and what becomes of it."""

    message: str


class ExchangeDocument(TypedDict):
    """How a machine gets a lease, message by message up to the one that is `stopped`."""

    family: int
    client: EndpointDocument
    subnet: str
    server: EndpointDocument
    relay: EndpointDocument | None
    line: int
    verdict: str
    stopped: str | None
    sentence: str
    messages: list[MessageDocument]


class LeasesDocument(WhenDocument):
    """How machines get leases."""

    schema: Literal["crossgate/leases/1"]
    plan: str
    exchanges: list[ExchangeDocument]


def leases_document(plan: Plan, when: When, every: Sequence[Leased], why: bool) -> LeasesDocument:
    """Return `crossgate/leases/1`: exchanges, each with its messages as `crossgate/trace/1` has
    conversations, up to the first that does not get through.
    """
    state = plan.state_at(when) if why else None
    return {
        "schema": "crossgate/leases/1",
        "plan": plan.files[0],
        **when_document(when),
        "exchanges": [_exchange(each, state) for each in every],
    }


def _exchange(leased: Leased, state: State | None) -> ExchangeDocument:
    exchange, stopped = leased.exchange, leased.stopped
    return {
        "family": int(exchange.leases.family),
        "client": endpoint_document(exchange.client),
        "subnet": exchange.leases.on,
        "server": endpoint_document(exchange.server),
        "relay": None if exchange.relay is None else endpoint_document(exchange.relay),
        "line": exchange.leases.place.line,
        "verdict": str(leased.verdict),
        "stopped": None if stopped is None else stopped.what,
        "sentence": leased.sentence,
        "messages": [
            {"message": message.what, **conversation(trace, state)}
            for message, trace in zip(exchange.messages, leased.traces, strict=False)
        ],
    }
