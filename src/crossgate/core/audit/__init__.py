"""What is written but does not do what its author meant: findings, one function a finding.

A finding is a function from a `Case` to `Finding`s, listed in `AUDITS`; a module holds a family of them. What the plan
accepts with a reason is set apart.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from datetime import datetime
from typing import NamedTuple

from crossgate.core.audit import entries, neighbours, notation, numbering, placing, traffic
from crossgate.core.audit.context import Case, Focus
from crossgate.core.model.finding import KINDS, Acceptance, Finding, Severity
from crossgate.core.model.progress import Tell
from crossgate.core.sets.effort import TooManyPieces, gathered
from crossgate.core.traffic.session import Session

__all__ = ["AUDITS", "KINDS", "Acceptance", "Audited", "Finding", "Severity", "audit"]

AUDITS: tuple[Callable[[Case], Iterator[Finding]], ...] = (
    entries.never_reached,
    entries.no_effect,
    notation.mask_reversed,
    notation.subnet_missed,
    notation.protocol_meant,
    notation.transport_narrowed,
    placing.unplaced,
    entries.nothing_permitted,
    entries.too_broad,
    traffic.locked_out,
    placing.wrong_side,
    placing.standard_near_source,
    placing.unjoined,
    traffic.replies_blocked,
    traffic.spoofable,
    traffic.icmp6_needed,
    neighbours.neighbour_blocked,
    placing.one_family,
    numbering.number_kind,
    numbering.out_of_order,
    entries.window_never,
)


class Audited(NamedTuple):
    """The findings of a plan in the order of its lines, and those that it accepts, each with its `accept` line.

    `missed` are the questions that fell into too many pieces: of those findings there may be more.
    """

    findings: list[Finding]
    accepted: list[tuple[Finding, Acceptance]]
    missed: list[TooManyPieces]


def audit(session: Session, now: datetime, tell: Tell | None = None, focus: Focus | None = None) -> Audited:
    """Return every finding of a plan as things are at a time; with a `focus`, of entries only those."""
    plan, case = session.plan, Case(session, now, tell, focus)
    rank = {file: number for number, file in enumerate(plan.files)}
    found: list[Finding] = []
    for each in AUDITS:
        with gathered(case.missed):
            found.extend(each(case))
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
            message = f"there is no {line.finding} in {where} to accept any more; drop this line"
            left.append(Finding("accept-unused", line.place, line.access_list, line.entry, message))
    left.sort(key=lambda finding: (rank[finding.place.file], finding.place.line, list(Severity).index(finding.severity)))
    return Audited(left, accepted, case.missed)
