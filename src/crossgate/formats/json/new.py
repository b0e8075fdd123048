"""The document of `new`: what the new plan contains, and what of the tables was changed or left
out.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal, TypedDict

from crossgate.language.beginning import Begun


class RenamedDocument(TypedDict):
    """A name as a table has it, and in the plan."""

    given: str
    name: str


class NewDocument(TypedDict):
    """What a new plan contains, and the cells of the tables that it does not."""

    schema: Literal["crossgate/new/1"]
    plan: str
    subnets: int
    devices: int
    hosts: int
    renamed: list[RenamedDocument]
    unused: list[str]


def new_document(begun: Begun, unused: Sequence[str]) -> NewDocument:
    """Return `crossgate/new/1`."""
    plan = begun.plan
    return {
        "schema": "crossgate/new/1",
        "plan": plan.files[0],
        "subnets": sum(not each.outside for each in plan.segments.values()),
        "devices": len(plan.devices),
        "hosts": len(plan.hosts),
        "renamed": [{"given": given, "name": name} for given, name in begun.renamed],
        "unused": list(unused),
    }
