"""The document of `reach`: the fate of everything from one end to another."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from crossgate.core.answers.reach import Reached
from crossgate.core.model.conditions import When
from crossgate.core.model.errors import PlanError
from crossgate.core.model.plan import Plan
from crossgate.core.wording.services import Sort
from crossgate.core.wording.sets import Wording
from crossgate.formats.json.parts import (
    Document,
    decided_document,
    hello_document,
    lines_document,
    packet_document,
    when_document,
)


def reach_document(
    plan: Plan,
    source: str,
    destination: str,
    when: When,
    found: Iterable[Reached],
    strays: bool,
    missed: Iterable[PlanError] = (),
    differing: Sequence[tuple[When, Iterable[Reached]]] = (),
) -> Document:
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


def _answer(wording: Wording, sort: Sort, reached: Reached) -> Document:
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
