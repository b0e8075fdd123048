"""Findings: what is written in a plan but does not do what its author meant, a module for each
group of findings.

A finding is a row of `core.model.finding.KINDS` and a function here that is marked with its name
(`registry.finds`); all modules of this folder are searched for them. What the plan accepts with a
reason is told separately.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from datetime import datetime
from importlib import import_module
from pkgutil import iter_modules
from typing import NamedTuple

from crossgate.core.audit.context import Case
from crossgate.core.audit.registry import AUDITS
from crossgate.core.audit.scope import Focus, Touched
from crossgate.core.model.finding import Acceptance, Fault, Finding
from crossgate.core.model.finding_kinds import KINDS, Severity
from crossgate.core.model.plan import Plan
from crossgate.core.model.progress import Tell
from crossgate.core.sets.effort import TooManyPieces, gathered
from crossgate.core.traffic.session import Session

for _module in iter_modules(__path__, f"{__name__}."):
    import_module(_module.name)


class Audited(NamedTuple):
    """The findings of a plan in the order of its lines, and those that it accepts, each with its
    `accept` line. `missed` are the questions that fell into too many pieces: there may be more
    findings of that kind.
    """

    findings: list[Finding]
    accepted: list[tuple[Finding, Acceptance]]
    missed: list[TooManyPieces]


class NamedFindings(NamedTuple):
    """The findings of one name, before accepted ones are set aside, and the questions that fell
    into too many pieces.
    """

    findings: list[Finding]
    missed: list[TooManyPieces]


def audit(
    session: Session,
    now: datetime,
    tell: Tell | None = None,
    focus: Focus | None = None,
    leave_out: Collection[str] = (),
    touched: Touched | None = None,
) -> Audited:
    """Return the findings of a plan as things are at a time, except those in `leave_out`: errors
    first, then in the order of the file.

    With a `focus`, only findings of those entries are returned; findings about traffic are then
    only about what is `touched`.
    """
    case = Case(session, now, tell, focus, touched)
    told = _told(case, leave_out)
    return _audited(session.plan, told.values(), with_unused=focus is None)


def audit_share(
    session: Session, now: datetime, lists: Collection[str], others: bool
) -> dict[str, NamedFindings]:
    """Return the findings of some lists, by name; with `others` also those that are about no list.
    The results of several shares are combined by `together`.
    """
    plan = session.plan
    focus = {
        name: {entry.number for entry in each.entries}
        for name, each in plan.every_list.items()
        if name in lists
    }
    return {
        name: told._replace(
            findings=[
                each
                for each in told.findings
                if (each.access_list in focus if each.access_list in plan.every_list else others)
            ]
        )
        for name, told in _told(Case(session, now, focus=focus)).items()
    }


def together(plan: Plan, shares: Sequence[Mapping[str, NamedFindings]]) -> Audited:
    """Return the findings of a plan from several shares: each list is in exactly one share, and so
    is what is about no list.
    """
    told = [each[name] for name in KINDS for each in shares if name in each]
    return _audited(plan, told, with_unused=True)


def _told(case: Case, leave_out: Collection[str] = ()) -> dict[str, NamedFindings]:
    """Return the findings of each name, in the order of the names."""
    found: dict[str, NamedFindings] = {}
    for name in KINDS:
        if name in AUDITS and name not in leave_out:
            findings: list[Finding] = []
            before = len(case.missed)
            with gathered(case.missed):
                findings.extend(AUDITS[name](case))
            found[name] = NamedFindings(findings, case.missed[before:])
    return found


def _audited(plan: Plan, told: Iterable[NamedFindings], with_unused: bool) -> Audited:
    """Set aside what a plan accepts, and sort the rest; `with_unused` adds a finding for each
    acceptance that nothing needs.
    """
    rank = {file: number for number, file in enumerate(plan.files)}
    missed: dict[str, TooManyPieces] = {}
    accepted, used = [], set()
    left = []
    for each in told:
        for question in each.missed:
            missed.setdefault(question.message, question)
        for finding in each.findings:
            line = next((own for own in plan.acceptances if own.covers(finding)), None)
            if line is None:
                left.append(finding)
            else:
                accepted.append((finding, line))
                used.add(line.place)
    for line in plan.acceptances if with_unused else ():
        if line.place not in used:
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
    return Audited(left, accepted, list(missed.values()))
