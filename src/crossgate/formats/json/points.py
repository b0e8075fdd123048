"""The document of `points`: the places crossed, and those that suit each kind of list."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Literal, TypedDict

from crossgate.core.answers.points import Points
from crossgate.core.model.plan import Plan
from crossgate.formats.json.parts import (
    AskedListDocument,
    EndNamesDocument,
    EndsDocument,
    asked_list,
    endpoint_document,
)


class PointDocument(AskedListDocument):
    """A place that is crossed, with the list that stands there; `elsewhere`
    says that not the first of the equal ways crosses it, but another one.
    """

    leg: str
    point: str
    direction: str
    elsewhere: bool


class SuitedDocument(TypedDict):
    """A place that suits a kind of list, the equal ones beside it, and what else crosses it."""

    kind: str
    point: str
    direction: str
    beside: list[str]
    also: list[EndNamesDocument]


class PointsOfDocument(EndsDocument):
    """The places that a conversation crosses."""

    family: int
    points: list[PointDocument]
    suited: list[SuitedDocument]


class PointsDocument(TypedDict):
    """The places that conversations cross, and those that suit each kind of list."""

    schema: Literal["crossgate/points/1"]
    plan: str
    conversations: list[PointsOfDocument]


def points_document(plan: Plan, found: Iterable[Points]) -> PointsDocument:
    """Return `crossgate/points/1`: the places crossed, by family, and those that suit each kind of
    list.
    """
    return {
        "schema": "crossgate/points/1",
        "plan": plan.files[0],
        "conversations": [
            {
                "family": int(each.source.address.family),
                "from": endpoint_document(each.source),
                "to": endpoint_document(each.destination),
                "points": [
                    {
                        "leg": "back" if point.back else "there",
                        "point": str(point.crossing.point),
                        "direction": str(point.crossing.direction),
                        **asked_list(point.placed),
                        "elsewhere": point.elsewhere,
                    }
                    for point in each.crossed
                ],
                "suited": [
                    {
                        "kind": str(place.kind),
                        "point": str(place.crossing.point),
                        "direction": str(place.crossing.direction),
                        "beside": [str(one.point) for one in place.beside],
                        "also": [{"from": start, "to": end} for start, end in place.also],
                    }
                    for place in each.suited
                ],
            }
            for each in found
        ],
    }
