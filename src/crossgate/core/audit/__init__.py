"""What is written but does not do what its author meant: findings, a module a family.

A finding is a row of `core.model.finding.KINDS` and a function here that is marked with its name
(`registry.finds`); all modules of this folder are looked through. What the plan accepts with a
reason is set apart.
"""

from __future__ import annotations

from collections.abc import Collection
from datetime import datetime
from importlib import import_module
from pkgutil import iter_modules
from typing import NamedTuple

from crossgate.core.audit.context import Case, Focus, Touched
from crossgate.core.audit.registry import AUDITS
from crossgate.core.model.finding import KINDS, Acceptance, Fault, Finding, Severity
from crossgate.core.model.progress import Tell
from crossgate.core.sets.effort import TooManyPieces, gathered
from crossgate.core.traffic.session import Session

for _module in iter_modules(__path__, f"{__name__}."):
    import_module(_module.name)


class Audited(NamedTuple):
    """The findings of a plan in the order of its lines, and those that it accepts, each with its
    `accept` line.

    `missed` are the questions that fell into too many pieces: of those findings there may be more.
    """

    findings: list[Finding]
    accepted: list[tuple[Finding, Acceptance]]
    missed: list[TooManyPieces]


def audit(
    session: Session,
    now: datetime,
    tell: Tell | None = None,
    focus: Focus | None = None,
    leave_out: Collection[str] = (),
    touched: Touched | None = None,
) -> Audited:
    """Return every finding of a plan as things are at a time but for those to `leave_out`, errors
    first, then in the order of the file; with a `focus`, of entries only those.

    Findings about traffic are then just of what is `touched`.
    """
    plan, case = session.plan, Case(session, now, tell, focus, touched)
    rank = {file: number for number, file in enumerate(plan.files)}
    found: list[Finding] = []
    for name in KINDS:
        if name in AUDITS and name not in leave_out:
            with gathered(case.missed):
                found.extend(AUDITS[name](case))
    accepted, used = [], set()
    left = []
    for finding in found:
        line = next((each for each in plan.acceptances if each.covers(finding)), None)
        if line is None:
            left.append(finding)
        else:
            accepted.append((finding, line))
            used.add(line.place)
    for line in plan.acceptances:
        if line.place not in used and focus is None:
            where = line.access_list if line.entry is None else f"{line.access_list} {line.entry}"
            fault = Fault(
                f"there is no {line.finding} in {where} to accept any more", "drop this line"
            )
            left.append(Finding("accept-unused", line.place, line.access_list, line.entry, fault))
    severities = list(Severity)
    left.sort(
        key=lambda finding: (
            severities.index(finding.severity),
            rank[finding.place.file],
            finding.place.line,
        )
    )
    accepted.sort(key=lambda each: (rank[each[1].place.file], each[1].place.line))
    return Audited(left, accepted, case.missed)
