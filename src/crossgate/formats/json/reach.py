"""The document of `reach`: the fate of everything from one end to another."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Literal, TypedDict

from crossgate.core.answers.reach import Reached
from crossgate.core.model.conditions import When
from crossgate.core.model.errors import PlanError
from crossgate.core.model.plan import Plan
from crossgate.core.wording.services import Sort
from crossgate.core.wording.sets import Wording
from crossgate.formats.json.parts import (
    DecidedDocument,
    EndNamesDocument,
    HelloDocument,
    PacketDocument,
    ServiceLineDocument,
    WhenDocument,
    decided_document,
    hello_document,
    lines_document,
    packet_document,
    when_document,
)


class ReachPartDocument(TypedDict):
    """Conversations with one fate: the line that decides it, on the way there or back, and a
    packet; `rest` says that it is all that no part before it has.
    """

    verdict: str
    decided: DecidedDocument | None
    leg: str
    lines: list[ServiceLineDocument]
    clients: list[ServiceLineDocument]
    packet: PacketDocument
    rest: bool


class ReachedDocument(TypedDict):
    """What becomes of all of one family, of machines or of the devices' own."""

    family: int
    devices: bool
    parts: list[ReachPartDocument]


class SpokenDocument(TypedDict):
    """What becomes of conversations that settle on some TLS."""

    tls: HelloDocument | None
    answers: list[ReachedDocument]


class ReachDocument(WhenDocument, EndNamesDocument):
    """The fate of everything from one end to another; `beyond` is that of what is beyond every rate
    limit, `spoken` that of conversations with another TLS, as far as they are different.
    """

    schema: Literal["crossgate/reach/1"]
    plan: str
    strays: bool
    unanswered: list[str]
    answers: list[ReachedDocument]
    beyond: list[ReachedDocument]
    spoken: list[SpokenDocument]


def reach_document(
    plan: Plan,
    source: str,
    destination: str,
    when: When,
    found: Iterable[Reached],
    strays: bool,
    missed: Iterable[PlanError] = (),
    differing: Sequence[tuple[When, Iterable[Reached]]] = (),
) -> ReachDocument:
    """Return `crossgate/reach/1`: the fate of everything from one end to another, and of other
    conversations with another fate.

    These are, as far as they are `differing`, the ones beyond every rate limit, and those that
    settle on some TLS version.
    """
    wording, sort = Wording(plan), Sort.STRAY if strays else Sort.OPENING
    others = [
        (each, [_answer(wording, sort, part) for part in several]) for each, several in differing
    ]
    return {
        "schema": "crossgate/reach/1",
        "plan": plan.files[0],
        **when_document(when),
        "from": source,
        "to": destination,
        "strays": strays,
        "unanswered": [error.message for error in missed],
        "answers": [_answer(wording, sort, each) for each in found],
        "beyond": [
            each for other, answers in others if other.hello == when.hello for each in answers
        ],
        "spoken": [
            {"tls": hello_document(other.hello), "answers": answers}
            for other, answers in others
            if other.hello != when.hello
        ],
    }


def _answer(wording: Wording, sort: Sort, reached: Reached) -> ReachedDocument:
    return {
        "family": int(reached.family),
        "devices": reached.devices,
        "parts": [
            {
                "verdict": str(part.verdict),
                "decided": decided_document(part.stop),
                "leg": "back" if part.back else "there",
                "lines": lines_document(wording, part.lines, sort, not reached.devices),
                "clients": lines_document(wording, part.clients, sort, not reached.devices),
                "packet": packet_document(part.packet),
                "rest": part.rest,
            }
            for part in reached.parts
        ],
    }
