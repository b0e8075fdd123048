"""Answers that are sets of packets, as JSON documents: `reach` and `compare`. Field names are relied on from outside."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime

from crossgate.core.answers.compare import Difference, Fate, ListDifference
from crossgate.core.answers.reach import Reached
from crossgate.core.model.accesslist import Decider
from crossgate.core.model.errors import PlanError
from crossgate.core.model.plan import Plan
from crossgate.core.sets.minimise import Line
from crossgate.core.traffic.flows import Decided
from crossgate.core.wording.sets import Sort, Wording
from crossgate.formats.answers import Document, packet_document


def reach_document(
    plan: Plan, source: str, destination: str, at: datetime, found: Iterable[Reached], strays: bool, missed: Iterable[PlanError] = ()
) -> Document:
    """Return `crossgate/reach/1`: the fate of everything from one end to another."""
    wording, sort = Wording(plan), Sort.STRAY if strays else Sort.OPENING
    return {
        "schema": "crossgate/reach/1",
        "plan": plan.files[0],
        "at": at.isoformat(),
        "from": source,
        "to": destination,
        "strays": strays,
        "unanswered": [error.message for error in missed],
        "answers": [
            {
                "family": int(reached.family),
                "devices": reached.devices,
                "parts": [
                    {
                        "verdict": str(part.verdict),
                        "decided": _stop(part.stop),
                        "leg": "back" if part.back else "there",
                        "lines": _lines(wording, part.lines, sort, not reached.devices),
                        "packet": packet_document(part.packet),
                    }
                    for part in reached.parts
                ],
            }
            for reached in found
        ],
    }


def compare_document(old: Plan, new: Plan, found: Sequence[Difference], missed: Iterable[PlanError] = ()) -> Document:
    """Return `crossgate/compare/1`: all traffic that two plans treat differently; empty when they differ in none."""
    return {
        "schema": "crossgate/compare/1",
        "plan": old.files[0],
        "against": new.files[0],
        "list": None,
        "differences": differences_document(new, found),
        "unanswered": [error.message for error in missed],
    }


def differences_document(plan: Plan, found: Sequence[Difference]) -> list[Document]:
    """Return differences in traffic, in the words of a plan."""
    wording = Wording(plan)
    return [
        {
            "family": int(each.family),
            "opens": not each.stray,
            "devices": each.devices,
            "at": each.moment.isoformat() if each.moment else None,
            "was": _fate(each.was),
            "is": _fate(each.now),
            "lines": _lines(wording, each.lines, Sort.STRAY if each.stray else Sort.OPENING, not each.devices),
            "packet": packet_document(each.packet),
        }
        for each in found
    ]


def compare_lists_document(old: Plan, new: Plan, name: str, found: Sequence[ListDifference]) -> Document:
    """Return `crossgate/compare/1` for one list of two plans."""
    wording = Wording(new)
    return {
        "schema": "crossgate/compare/1",
        "plan": old.files[0],
        "against": new.files[0],
        "list": name,
        "differences": [
            {
                "family": int(new.lists[name].family),
                "at": each.moment.isoformat() if each.moment else None,
                "was": _line(each.was),
                "is": _line(each.now),
                "lines": _lines(wording, each.lines, Sort.PACKET),
                "packet": packet_document(each.packet),
            }
            for each in found
        ],
    }


def _lines(wording: Wording, lines: Iterable[Line], sort: Sort, machines: bool = False) -> list[Document]:
    rows = wording.rows(lines, sort, machines)
    return [{"service": service, "source": source, "destination": destination} for service, source, destination in rows]


def _fate(fate: Fate) -> Document:
    return {"verdict": str(fate.verdict), "decided": _stop(fate.decided)}


def _stop(stop: Decided | None) -> Document | None:
    if stop is None:
        return None
    place = {"point": str(stop.crossing.point), "direction": str(stop.crossing.direction), "list": stop.decider.access_list.name}
    return place | _line(stop.decider)


def _line(decider: Decider) -> Document:
    return {"entry": decider.number, "action": str(decider.action), "line": decider.place.line}
