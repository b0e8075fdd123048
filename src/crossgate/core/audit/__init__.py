"""What is written but does not do what its author meant: findings, one function a finding.

A finding is a function from a plan to `Finding`s, listed in `AUDITS`; a module holds a family of them.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator

from crossgate.core.audit import order, placing
from crossgate.core.audit.finding import Finding, Severity
from crossgate.core.plan import Plan

__all__ = ["AUDITS", "Finding", "Severity", "audit"]

AUDITS: tuple[Callable[[Plan], Iterator[Finding]], ...] = (placing.unplaced, order.number_kind, order.out_of_order)


def audit(plan: Plan) -> list[Finding]:
    """Return every finding of a plan, in the order of its lines."""
    rank = {file: number for number, file in enumerate(plan.files)}
    found = [finding for each in AUDITS for finding in each(plan)]
    return sorted(found, key=lambda finding: (rank[finding.place.file], finding.place.line, list(Severity).index(finding.severity)))
