"""The documents of `grid`: who reaches whom, and what two plans answer differently."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime
from typing import Literal, TypedDict

from crossgate.core.answers.grid import Cell, CellChange, LeftOut
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.conditions import When
from crossgate.core.model.plan import Plan
from crossgate.formats.json.parts import (
    EndNamesDocument,
    WhenDocument,
    when_document,
)


class CellDocument(EndNamesDocument):
    """What becomes of a service between two names; `mixed` where parts of them differ."""

    service: str
    family: int
    verdict: str | None


class LeftOutDocument(TypedDict):
    """The names and services that a grid does not show."""

    names: list[str]
    services: list[str]


class GridDocument(WhenDocument):
    """A cell for each source, destination, service and family."""

    schema: Literal["crossgate/grid/1"]
    plan: str
    cells: list[CellDocument]
    left_out: LeftOutDocument


_Verdicts = TypedDict("_Verdicts", {"was": str | None, "is": str | None})


class CellChangeDocument(EndNamesDocument, _Verdicts):
    """A cell that two plans answer differently, null where a plan has no such cell."""

    service: str
    family: int


class GridChangesDocument(TypedDict):
    """The cells that two plans answer differently."""

    schema: Literal["crossgate/grid-changes/1"]
    plan: str
    against: str
    at: str
    changes: list[CellChangeDocument]
    left_out: LeftOutDocument


def grid_document(plan: Plan, when: When, cells: Iterable[Cell], left: LeftOut) -> GridDocument:
    """Return `crossgate/grid/1`: a cell for each source, destination, service and family; `verdict`
    is `mixed` where its parts differ.
    """
    return {
        "schema": "crossgate/grid/1",
        "plan": plan.files[0],
        **when_document(when),
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
        "left_out": {"names": list(left.names), "services": list(left.services)},
    }


def _verdict(verdicts: Sequence[Verdict] | None) -> str | None:
    return None if not verdicts else str(verdicts[0]) if len(verdicts) == 1 else "mixed"


def changes_document(
    plan: Plan, other: Plan, at: datetime, changes: Iterable[CellChange], left: LeftOut
) -> GridChangesDocument:
    """Return `crossgate/grid-changes/1`: the cells that two plans answer differently; null where a
    plan has no such cell.
    """
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
        "left_out": {"names": list(left.names), "services": list(left.services)},
    }
