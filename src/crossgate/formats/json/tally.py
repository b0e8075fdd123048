"""The document of `tally`: how often each line of a list decided."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal, TypedDict

from crossgate.core.model.plan import Plan
from crossgate.formats.json.parts import (
    ListNameDocument,
)


class HitsDocument(TypedDict):
    """How often a line of a list decided; `entry` is null for the otherwise line."""

    entry: int | None
    hits: int


class ListHitsDocument(ListNameDocument):
    """How often each line of a list decided."""

    hits: list[HitsDocument]


class TallyDocument(TypedDict):
    """How often the lines of lists decided."""

    schema: Literal["crossgate/tally/1"]
    plan: str
    lists: list[ListHitsDocument]


def tally_document(plan: Plan, hits: Mapping[str, Mapping[int | None, int]]) -> TallyDocument:
    """Return `crossgate/tally/1`: hits of every entry; the entry is null for the otherwise line."""
    return {
        "schema": "crossgate/tally/1",
        "plan": plan.files[0],
        "lists": [
            {
                "list": name,
                "hits": [{"entry": number, "hits": count} for number, count in each.items()],
            }
            for name, each in hits.items()
        ],
    }
