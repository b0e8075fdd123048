"""Claims that are verified by other processes: each takes some of them, or some parts of the
network that are down.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import TypeVar

from crossgate.core.answers.outage import DownPart, Outage, Outages, parts
from crossgate.core.answers.verify import Proof, Verified, Verifier
from crossgate.core.model.claim import Promise
from crossgate.core.model.plan import Plan
from crossgate.core.model.progress import Tell
from crossgate.core.sets.effort import allow, allowed
from crossgate.core.traffic.session import Session
from crossgate.spread.jobs import given, kept, packed, shared_evenly, unpacked
from crossgate.spread.pools import Part, Pool, Task

Result = TypeVar("Result")


@dataclass(frozen=True)
class VerifyJob:
    """What to verify: claims of a plan, and how many pieces a question may take."""

    plan: Plan
    pieces: int

    def begun(self) -> tuple[VerifyJob, Verifier]:
        """Return it, and a verifier of the plan that knows nothing yet."""
        return self, Verifier(Session(self.plan))


@dataclass(frozen=True)
class OutageJob(VerifyJob):
    """What to verify with parts of the network down: the claims that hold without that, by their
    numbers in the plan.
    """

    held: tuple[int, ...]

    def looked_into(self) -> tuple[OutageJob, Outages, list[DownPart]]:
        """Return it, what finds the claims that do not hold with a part down, and the parts."""
        held = [self.plan.expectations[each] for each in self.held]
        return self, Outages(Session(self.plan), held), list(parts(self.plan))


def verify_part(job: bytes, part: Part) -> list[Proof]:
    """Verify the claims that a part names by their numbers in the plan; `job` is a `VerifyJob`
    as it was given.
    """
    wanted, verifier = kept(job, VerifyJob.begun)
    allow(wanted.pieces)
    return [verifier.proof(wanted.plan.expectations[each]) for each in unpacked(part)]


def outages_part(job: bytes, part: Part) -> list[Outage]:
    """Return what becomes of claims with each part of the network down that a part names by its
    number; `job` is an `OutageJob` as it was given.
    """
    wanted, outages, several = kept(job, OutageJob.looked_into)
    allow(wanted.pieces)
    return [outages.of(several[each]) for each in unpacked(part)]


def verify_in_parts(
    verifier: Verifier, promises: Sequence[Promise], pool: Pool, tell: Tell
) -> None:
    """Have claims of a plan verified by other processes; the verifier knows their results then.
    Raises `PlanError` where parts are lost.
    """
    plan = verifier.session.plan
    job = given(pool, VerifyJob(plan, allowed()), VerifyJob.begun)
    numbers = sorted(set(_numbers_of(plan, promises)))
    shares = shared_evenly(numbers, pool)
    for number, proof in _done(pool, verify_part, job, shares, tell):
        verifier.know(plan.expectations[number], proof)


def outages_in_parts(
    plan: Plan, results: Sequence[Verified], pool: Pool, tell: Tell
) -> list[Outage]:
    """Return the outages of a plan, as `outage.any_one_down` does. Raises `PlanError` where parts
    are lost.
    """
    held = _numbers_of(plan, [each.expectation for each in results if each.held])
    job = given(pool, OutageJob(plan, allowed(), tuple(held)), OutageJob.looked_into)
    shares = shared_evenly(range(len(list(parts(plan)))), pool)
    return [outage for _, outage in sorted(_done(pool, outages_part, job, shares, tell))]


def _numbers_of(plan: Plan, promises: Sequence[Promise]) -> list[int]:
    """Return the number of each claim among those of a plan; of equal ones, that of the first."""
    first: dict[Promise, int] = {}
    for number, each in enumerate(plan.expectations):
        first.setdefault(each, number)
    return [first[each] for each in promises]


def _done(
    pool: Pool,
    task: Task[Sequence[Result]],
    job: bytes,
    shares: Sequence[Sequence[int]],
    tell: Tell,
) -> Iterator[tuple[int, Result]]:
    """Yield each number of some shares with its result."""
    for count, (share, results) in enumerate(
        zip(shares, pool.done(task, job, [packed(each) for each in shares]), strict=True), 1
    ):
        yield from zip(share, results, strict=True)
        tell(count, len(shares))
