"""Which function finds what: every finding in `KINDS` has one, marked with its name."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from crossgate.core.audit.context import Case
from crossgate.core.model.finding import Finding
from crossgate.core.model.finding_kinds import KINDS

Audit = Callable[[Case], Iterator[Finding]]
"""Looks at a whole plan and yields the findings of one name."""

AUDITS: dict[str, Audit] = {}


def finds(name: str) -> Callable[[Audit], Audit]:
    """Mark a function as the one for the finding of this name in `KINDS`."""
    assert name in KINDS, f"{name} is no finding of core.model.finding.KINDS"

    def register(audit: Audit) -> Audit:
        AUDITS[name] = audit
        return audit

    return register
