"""An audit whose parts are done by other processes: each looks at some lists of the plan."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime

from crossgate.core.audit import Audited, NamedFindings, audit_share, together
from crossgate.core.audit.context import Case
from crossgate.core.model.plan import Plan
from crossgate.core.model.progress import Tell
from crossgate.core.sets.effort import allow, allowed
from crossgate.core.traffic.session import Session
from crossgate.spread.jobs import PARTS_EACH, given, kept, packed, unpacked
from crossgate.spread.pools import Part, Pool


@dataclass(frozen=True)
class CheckJob:
    """What to audit: the plan, the time, and how many pieces a question may take."""

    plan: Plan
    now: datetime
    pieces: int


def _begun(wanted: CheckJob) -> tuple[CheckJob, Session]:
    return wanted, Session(wanted.plan)


def _made_ready(wanted: CheckJob) -> tuple[CheckJob, Session]:
    """Return what all parts need, with all ways worked out."""
    begun = _begun(wanted)
    Case(begun[1], wanted.now).passages.work_out_ways()
    return begun


def check_part(job: bytes, part: Part) -> Mapping[str, NamedFindings]:
    """Audit the lists that a part names; the first part also does what is about no list. `job` is a
    `CheckJob` as it was given.
    """
    wanted, session = kept(job, _begun)
    allow(wanted.pieces)
    lists, others = unpacked(part)
    return audit_share(session, wanted.now, lists, others)


def audit_in_parts(plan: Plan, now: datetime, pool: Pool, tell: Tell) -> Audited:
    """Return the findings of a plan, as `core.audit.audit` does. Raises `PlanError` where parts are
    lost.
    """
    job = given(pool, CheckJob(plan, now, allowed()), _made_ready)
    parts = [
        packed((names, number == 0))
        for number, names in enumerate(_shared(plan, PARTS_EACH * pool.size))
    ]
    shares = []
    for share in pool.done(check_part, job, parts):
        shares.append(share)
        tell(len(shares), len(parts))
    return together(plan, shares)


def _shared(plan: Plan, most: int) -> list[set[str]]:
    """Return the names of a plan's lists in `most` parts at most, with about equal numbers of
    entries; no part is empty unless there are no lists.
    """
    parts: list[set[str]] = [set() for _ in range(most)]
    sizes = [0] * most
    for name, each in sorted(plan.every_list.items(), key=lambda own: -len(own[1].entries)):
        least = sizes.index(min(sizes))
        parts[least].add(name)
        sizes[least] += len(each.entries) + 1
    return [each for each in parts if each] or [set()]
