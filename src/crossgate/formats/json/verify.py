"""The document of `verify`: every expectation, and the entries that no expectation's traffic
reached.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any, Literal, TypedDict

from crossgate.core.answers.outage import Outage
from crossgate.core.answers.verify import Verified
from crossgate.core.model.accesslist import AnyList
from crossgate.core.model.claim import Promise
from crossgate.core.model.entry import AnyEntry
from crossgate.core.model.plan import Plan
from crossgate.formats.json.parts import (
    ListNameDocument,
    PacketDocument,
    PlanLineDocument,
    packet_document,
)


class ExpectationDocument(PlanLineDocument):
    """A claim: whether it held, and where it did not, why, what it needs and a packet that breaks
    it.
    """

    kind: str
    held: bool
    answered: bool
    states: int
    verdict: str | None
    why: str | None
    needed: str | None
    counterexample: PacketDocument | None


class UnreachedDocument(ListNameDocument):
    """An entry that no traffic of any claim reached."""

    entry: int
    line: int


class OutageDocument(TypedDict):
    """What else is taken to be down, and the claims that fail then."""

    down: str
    points: list[str]
    broken: list[ExpectationDocument]


class VerifyDocument(TypedDict):
    """Every claim of a plan, verified; those that are `over` were not."""

    schema: Literal["crossgate/verify/1"]
    plan: str
    down: list[str]
    expectations: list[ExpectationDocument]
    unreached: list[UnreachedDocument]
    over: list[PlanLineDocument]
    held: int
    failed: int
    outages: list[OutageDocument] | None


def verify_document(
    plan: Plan,
    results: Sequence[Verified],
    unreached: Iterable[tuple[AnyList[Any], AnyEntry]],
    outages: Sequence[Outage] | None = None,
    over: Sequence[Promise] = (),
) -> VerifyDocument:
    """Return `crossgate/verify/1`: every expectation, and the entries that none reached; `outages`
    where they were asked for; expectations that are `over` were not verified.

    `down` is what was taken to be down for all of it. An outage has what else is down and the
    claims that fail then.
    """
    failed = sum(not result.held for result in results)
    return {
        "schema": "crossgate/verify/1",
        "plan": plan.files[0],
        "down": sorted(map(str, plan.down)),
        "expectations": [_expectation(result) for result in results],
        "unreached": [
            {"list": each.name, "entry": entry.number, "line": entry.place.line}
            for each, entry in unreached
        ],
        "over": [
            {"file": each.place.file, "line": each.place.line, "text": each.text} for each in over
        ],
        "held": len(results) - failed,
        "failed": failed,
        "outages": None
        if outages is None
        else [
            {
                "down": outage.part.name,
                "points": [str(point) for point in outage.part.points],
                "broken": [_expectation(result) for result in outage.broken],
            }
            for outage in outages
        ],
    }


def _expectation(result: Verified) -> ExpectationDocument:
    return {
        "file": result.expectation.place.file,
        "line": result.expectation.place.line,
        "text": result.expectation.text,
        "kind": "keep" if result.expectation.keep else "expect",
        "held": result.held,
        "answered": result.answered,
        "states": result.states,
        "verdict": None if result.verdict is None else str(result.verdict),
        "why": None if result.held else result.why,
        "needed": None if result.held else result.needed,
        "counterexample": packet_document(result.counterexample) if result.counterexample else None,
    }
