"""The answers of the commands as JSON documents; each names its schema and version."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime
from typing import Any

from crossgate.core.answers.grid import Cell, Change
from crossgate.core.answers.points import CrossedPoint, Suited
from crossgate.core.answers.verify import Verified
from crossgate.core.audit import Audited, Finding
from crossgate.core.impact import Review
from crossgate.core.model.accesslist import AccessList, Entry
from crossgate.core.model.address import Address
from crossgate.core.model.packet import Packet
from crossgate.core.model.plan import Plan
from crossgate.core.model.window import open_at
from crossgate.core.network.routing import Endpoint
from crossgate.core.traffic.legs import service_of
from crossgate.core.traffic.trace import Asked, LegTrace, Trace, Verdict
from crossgate.core.wording.sentences import noticed, sentence

Document = dict[str, Any]


def trace_document(plan: Plan, at: datetime, traces: Iterable[Trace]) -> Document:
    """Return `crossgate/trace/1`: conversations with their legs and crossings."""
    return {
        "schema": "crossgate/trace/1",
        "plan": plan.files[0],
        "at": at.isoformat(),
        "conversations": [conversation(trace) for trace in traces],
    }


def conversation(trace: Trace) -> Document:
    """Return one traced conversation."""
    told = trace.conversation
    document: Document = {
        "family": int(told.first.family),
        "from": _end(told.source),
        "to": _end(told.destination),
        "service": service_of(told.first),
        "verdict": str(trace.verdict),
        "decided": _asked(trace.decided) if trace.decided else None,
        "sentence": sentence(trace),
        "sender": noticed(trace) or None,
        "other_paths": trace.forks,
        "legs": [_leg(leg) for leg in trace.legs],
    }
    if told.claimed is not None:
        document["as"] = str(told.claimed)
    return document


def _end(end: Endpoint) -> Document:
    return {"name": end.name, "address": str(end.address)}


def _leg(leg: LegTrace) -> Document:
    document: Document = {"leg": str(leg.leg), "outcome": str(leg.outcome), "crossings": [_asked(asked) for asked in leg.asked]}
    if not leg.path.arrived:
        document["reason"] = leg.path.reason
    return document


def _asked(asked: Asked) -> Document:
    decider = asked.decider
    document: Document = {
        "point": str(asked.crossing.point),
        "direction": str(asked.crossing.direction),
        "list": asked.access_list.name if asked.access_list else None,
        "entry": decider.number if decider else None,
        "action": str(decider.action) if decider else "permit",
        "line": decider.place.line if decider else None,
    }
    if asked.remembered:
        document["remembered"] = True
    return document


def packet_document(packet: Packet) -> Document:
    """Return one packet; fields that it does not have are left out."""
    document: Document = {
        "family": int(packet.family),
        "source": str(Address(packet.family, packet.source)),
        "destination": str(Address(packet.family, packet.destination)),
        "protocol": packet.protocol,
    }
    for name in ("source_port", "destination_port", "icmp_type", "icmp_code", "flags"):
        if getattr(packet, name) is not None:
            document[name] = getattr(packet, name)
    if packet.fragment:
        document["fragment"] = True
    if packet.dscp:
        document["dscp"] = packet.dscp
    return document


def check_document(plan: Plan, audited: Audited) -> Document:
    """Return `crossgate/check/1`: the findings of a plan, and those that it accepts with their reasons."""
    return {
        "schema": "crossgate/check/1",
        "plan": plan.files[0],
        "findings": [finding_document(finding) for finding in audited.findings],
        "accepted": [finding_document(finding) | {"reason": line.reason} for finding, line in audited.accepted],
        "unanswered": [error.message for error in audited.missed],
    }


def finding_document(finding: Finding) -> Document:
    """Return one finding."""
    return {
        "finding": finding.name,
        "severity": str(finding.severity),
        "file": finding.place.file,
        "line": finding.place.line,
        "list": finding.access_list,
        "entry": finding.entry,
        "message": finding.message,
        "because": list(finding.because),
        "packet": packet_document(finding.packet) if finding.packet else None,
    }


def edit_document(
    plan: Plan, said: str, diff: Sequence[str], found: Review | None, errors: Sequence[str], refused: str, done: bool
) -> Document:
    """Return `crossgate/edit/1`: a change of the plan, what it does, and whether it was written."""
    from crossgate.formats.sets import differences_document

    return {
        "schema": "crossgate/edit/1",
        "plan": plan.files[0],
        "change": said,
        "written": done,
        "refused": refused or None,
        "diff": list(diff),
        "errors": list(errors),
        "expectations": [
            {
                "line": each.now.expectation.place.line,
                "text": each.now.expectation.text,
                "kind": "keep" if each.now.expectation.keep else "expect",
                "held": each.held,
                "holds": each.now.held,
                "why": each.now.why or None,
            }
            for each in (found.turned if found else ())
        ],
        "differences": differences_document(plan, found.differences) if found else [],
        "findings": [finding_document(finding) for finding in (found.findings if found else ())],
    }


def lists_document(plan: Plan, at: datetime, lists: Iterable[AccessList]) -> Document:
    """Return `crossgate/lists/1`: lists as they are read, with what their names stand for."""
    opened = open_at(plan.windows.values(), at)
    return {
        "schema": "crossgate/lists/1",
        "plan": plan.files[0],
        "at": at.isoformat(),
        "lists": [_list(plan, each, opened) for each in lists],
    }


def _list(plan: Plan, access_list: AccessList, opened: frozenset[str]) -> Document:
    return {
        "list": access_list.name,
        "kind": str(access_list.kind),
        "family": int(access_list.family),
        "line": access_list.place.line,
        "placed": [
            {"point": str(placement.point), "direction": str(placement.direction), "line": placement.place.line}
            for placement in plan.placements
            if placement.access_list == access_list.name
        ],
        "entries": [
            {
                "entry": entry.number,
                "action": str(entry.action),
                "text": entry.text,
                "service": [term.text(access_list.family) for term in entry.service.terms],
                "source": [str(pattern) for pattern in entry.source.patterns],
                "destination": [str(pattern) for pattern in entry.destination.patterns],
                "during": entry.window,
                "off": entry.off,
                "in_force": entry.in_force(opened),
                "log": entry.log,
                "comment": entry.comment,
                "line": entry.place.line,
            }
            for entry in access_list.entries
        ],
        "otherwise": {
            "action": str(access_list.otherwise.action),
            "written": access_list.otherwise.written,
            "line": access_list.otherwise.place.line,
        },
    }


def verify_document(plan: Plan, results: Sequence[Verified], unreached: Iterable[tuple[AccessList, Entry]]) -> Document:
    """Return `crossgate/verify/1`: every expectation, and the entries that none reached."""
    failed = sum(not result.held for result in results)
    return {
        "schema": "crossgate/verify/1",
        "plan": plan.files[0],
        "expectations": [
            {
                "line": result.expectation.place.line,
                "text": result.expectation.text,
                "kind": "keep" if result.expectation.keep else "expect",
                "held": result.held,
                "answered": result.answered,
                "why": None if result.held else result.why,
                "needed": None if result.held else result.needed,
                "counterexample": packet_document(result.counterexample) if result.counterexample else None,
            }
            for result in results
        ],
        "unreached": [{"list": each.name, "entry": entry.number, "line": entry.place.line} for each, entry in unreached],
        "held": len(results) - failed,
        "failed": failed,
    }


def tally_document(plan: Plan, hits: Mapping[str, Mapping[int | None, int]]) -> Document:
    """Return `crossgate/tally/1`: hits of every entry; the entry is null for the otherwise line."""
    return {
        "schema": "crossgate/tally/1",
        "plan": plan.files[0],
        "lists": [
            {"list": name, "hits": [{"entry": number, "hits": count} for number, count in each.items()]} for name, each in hits.items()
        ],
    }


def grid_document(plan: Plan, at: datetime, cells: Iterable[Cell]) -> Document:
    """Return `crossgate/grid/1`: a cell a source, destination, service and family; `verdict` is `mixed` where its parts differ."""
    return {
        "schema": "crossgate/grid/1",
        "plan": plan.files[0],
        "at": at.isoformat(),
        "cells": [
            {
                "from": cell.source,
                "to": cell.destination,
                "service": cell.service,
                "family": int(family),
                "verdict": _verdict(verdicts),
            }
            for cell in cells
            for family, verdicts in cell.verdicts().items()
        ],
    }


def _verdict(verdicts: Sequence[Verdict] | None) -> str | None:
    return None if not verdicts else str(verdicts[0]) if len(verdicts) == 1 else "mixed"


def changes_document(plan: Plan, other: Plan, at: datetime, changes: Iterable[Change]) -> Document:
    """Return `crossgate/grid-changes/1`: the cells that two plans answer differently; null where a plan has no such cell."""
    return {
        "schema": "crossgate/grid-changes/1",
        "plan": plan.files[0],
        "against": other.files[0],
        "at": at.isoformat(),
        "changes": [
            {
                "from": change.source,
                "to": change.destination,
                "service": change.service,
                "family": int(change.family),
                "was": _verdict(change.was),
                "is": _verdict(change.now),
            }
            for change in changes
        ],
    }


def points_document(plan: Plan, found: Iterable[tuple[Endpoint, Endpoint, Sequence[CrossedPoint], Sequence[Suited]]]) -> Document:
    """Return `crossgate/points/1`: the places crossed, by family, and those that suit each kind of list."""
    return {
        "schema": "crossgate/points/1",
        "plan": plan.files[0],
        "conversations": [
            {
                "family": int(source.address.family),
                "from": _end(source),
                "to": _end(destination),
                "points": [
                    {
                        "leg": "back" if point.back else "there",
                        "point": str(point.crossing.point),
                        "direction": str(point.crossing.direction),
                        "list": point.placed.name if point.placed else None,
                    }
                    for point in points
                ],
                "suited": [
                    {
                        "kind": str(place.kind),
                        "point": str(place.crossing.point),
                        "direction": str(place.crossing.direction),
                        "also": [{"from": start, "to": end} for start, end in place.also],
                    }
                    for place in places
                ],
            }
            for source, destination, points, places in found
        ],
    }
