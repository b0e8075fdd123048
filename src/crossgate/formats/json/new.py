"""The document of `new`: what the new plan contains, and what of the tables was changed or left
out.
"""

from __future__ import annotations

from collections.abc import Sequence

from crossgate.formats.json.parts import Document
from crossgate.language.beginning import Begun


def new_document(begun: Begun, unused: Sequence[str]) -> Document:
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
