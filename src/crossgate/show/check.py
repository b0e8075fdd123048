"""Findings for people: what is wrong, at which line, and how to mend it."""

from __future__ import annotations

from collections.abc import Iterator

from crossgate.core.audit import Audited
from crossgate.core.audit.claims import by_place
from crossgate.core.model.accesslist import called, line_name
from crossgate.core.model.finding import MENDED, Finding
from crossgate.core.model.finding_kinds import Severity
from crossgate.core.model.plan import Plan
from crossgate.core.wording.sentences import packet_text
from crossgate.show.console import count, folded, name, quiet, strong, word


def lines(plan: Plan, audited: Audited) -> Iterator[str]:
    """Yield each finding in the order of the plan, then their number."""
    findings = by_place(plan, audited.findings)
    for finding in findings:
        yield f"{finding.place}: {word(finding.severity)} {strong(finding.name)}{where(finding)}"
        entry = _entry_text(plan, finding)
        if entry:
            yield quiet(f"    {entry}")
        yield from folded(finding.message, 4)
        if finding.packet is not None and packet_text(finding.packet) not in finding.message:
            yield f"    packet: {packet_text(finding.packet)}"
    if findings:
        totals = [
            (severity, sum(finding.severity is severity for finding in findings))
            for severity in Severity
        ]
        accepted = [f"{len(audited.accepted)} accepted"] if audited.accepted else []
        mended = sum(finding.name in MENDED for finding in findings)
        hint = (
            f"; {name('crossgate mend')} looks for edits that end {mended} of them"
            if mended
            else ""
        )
        yield (
            ", ".join(
                [
                    *(count(number, str(severity)) for severity, number in totals if number),
                    *accepted,
                ]
            )
            + hint
        )
    elif not (plan.every_list or plan.segments or plan.devices):
        yield f"{plan.files[0]} is empty: it has no network and no list yet"
    else:
        entries = sum(len(each.entries) for each in plan.every_list.values())
        yield (
            f"no findings in {count(len(plan.every_list), 'list')} with "
            f"{count(entries, 'entry', 'entries')}"
        )
    for finding, line in audited.accepted:
        yield quiet(
            f'accepted in line {plan.line_of(line.place)}: {finding.name}{where(finding)}, "{line.reason}"'
        )


def where(finding: Finding) -> str:
    """Return the list and entry that a finding is about, as ` in kiosk-fence 30`; "" where it is
    about none.
    """
    if finding.access_list is None:
        return ""
    if finding.entry is None:
        return f" in {called(finding.access_list)}"
    return f" in {line_name(finding.access_list, finding.entry)}"


def _entry_text(plan: Plan, finding: Finding) -> str:
    """Return the entry that a finding is about, as written."""
    if finding.access_list is None or finding.entry is None:
        return ""
    entry = plan.any_list(finding.access_list).entry(finding.entry)
    return "" if entry is None else f"{entry.number} {'off ' if entry.off else ''}{entry.text}"
