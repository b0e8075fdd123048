"""Findings for people: what is wrong, at which line, and how to mend it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from crossgate.core.audit import Finding, Severity
from crossgate.core.plan import Plan
from crossgate.show.console import count, quiet, strong, word


def lines(plan: Plan, findings: Sequence[Finding]) -> Iterator[str]:
    """Yield each finding in the order of the plan, then how many there are."""
    for finding in findings:
        where = f" in {finding.access_list}" if finding.access_list is not None else ""
        number = f" {finding.entry}" if finding.entry is not None else ""
        yield f"{finding.place}: {word(finding.severity)} {strong(finding.name)}{where}{number}"
        entry = _entry_text(plan, finding)
        if entry:
            yield quiet(f"    {entry}")
        yield f"    {finding.message}"
    if findings:
        totals = [(severity, sum(finding.severity is severity for finding in findings)) for severity in Severity]
        yield ", ".join(count(number, str(severity)) for severity, number in totals if number)
    elif not (plan.lists or plan.segments or plan.devices):
        yield f"{plan.files[0]} is empty: it has no network and no list yet"
    else:
        entries = sum(len(each.entries) for each in plan.lists.values())
        yield f"no findings in {count(len(plan.lists), 'list')} with {count(entries, 'entry', 'entries')}"


def _entry_text(plan: Plan, finding: Finding) -> str:
    """Return the entry that a finding is about, as written."""
    if finding.access_list is None or finding.entry is None:
        return ""
    entries = plan.lists[finding.access_list].entries
    return next((f"{entry.number} {'off ' if entry.off else ''}{entry.text}" for entry in entries if entry.number == finding.entry), "")
