"""Findings about where lists stand."""

from __future__ import annotations

from collections.abc import Iterator

from crossgate.core.audit.finding import Finding, Severity
from crossgate.core.plan import Plan


def unplaced(plan: Plan) -> Iterator[Finding]:
    """Yield the lists that nothing places: they are asked nowhere."""
    placed = {placement.access_list for placement in plan.placements}
    for access_list in plan.lists.values():
        if access_list.name not in placed:
            message = f"nothing places it, so no packet ever meets it; write: place {access_list.name} inbound on DEVICE.INTERFACE"
            yield Finding("unplaced", Severity.WARNING, access_list.place, access_list.name, None, message)
