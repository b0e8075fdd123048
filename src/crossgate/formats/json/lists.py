"""The document of `lists`: lists as they are read, with what their names stand for."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime

from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.network import PointKind
from crossgate.core.model.plan import Plan
from crossgate.core.model.window import open_at
from crossgate.formats.json.parts import Document


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
            {
                "point": str(placement.point),
                "direction": str(placement.direction),
                "line": placement.place.line,
                "hosts": [each.owner for each in plan.points_of(placement.point, access_list.family) if each.kind is PointKind.HOST],
            }
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
                "at_most": None
                if entry.limit is None
                else {"count": entry.limit.most, "seconds": entry.limit.seconds, "each_source": entry.limit.each_source},
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
