"""The bound on one exact question: counted, named with its mend, and the rest answered."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from datetime import datetime

import pytest

from crossgate.core.answers.compare import differences
from crossgate.core.answers.reach import reach
from crossgate.core.answers.verify import Verifier
from crossgate.core.audit import audit
from crossgate.core.model.conditions import When
from crossgate.core.model.plan import Plan
from crossgate.core.sets.effort import MOST_PIECES, TooManyPieces, allow, answered, question, spend
from crossgate.core.traffic.session import Session

Read = Callable[[str], Plan]
NOON = datetime(2026, 11, 30, 12)
NET = """
subnet a 10.0.1.0/24
subnet b 10.0.2.0/24
subnet c 10.0.3.0/24
router r
    interface a 10.0.1.1/24 on a
    interface b 10.0.2.1/24 on b
    interface c 10.0.3.1/24 on c
list hard extended ipv4
{}    permit ip any to any
place hard inbound on r.a
expect permit gre b to c
expect deny gre a to b
"""
HARD = NET.format(
    "".join(
        (
            f"    deny tcp 10.0.1.0 wild 0.0.0.{255 - (1 << bit)} to 10.0.2.0 wild "
            f"0.0.0.{255 - (1 << bit)}\n"
        )
        for bit in range(8)
    )
)


@pytest.fixture
def few_pieces() -> Iterator[None]:
    allow(60)
    yield
    allow(MOST_PIECES)


def test_work_is_counted_within_a_question_only() -> None:
    spend(10 * MOST_PIECES)
    with question("one"), question("two"):
        spend(MOST_PIECES)
        with pytest.raises(
            TooManyPieces, match=r"one falls into more than 1,000,000 pieces.*--pieces 10000000"
        ):
            spend()
    spend(10 * MOST_PIECES)
    missed: list[TooManyPieces] = []
    with answered("three", missed):
        spend(MOST_PIECES + 1)
    assert [error.message.split(" falls")[0] for error in missed] == ["three"]
    with pytest.raises(TooManyPieces), answered("four", None):
        spend(MOST_PIECES + 1)


def test_what_is_given_up_is_named_and_the_rest_is_answered(
    plan_of: Read, few_pieces: None
) -> None:
    plan = plan_of(HARD)
    missed: list[TooManyPieces] = []
    found = list(reach(Session(plan), "any", "any", When(NOON), missed=missed))
    assert "what is sent as from 10.0.1.2 to 10.0.2.2" in {
        error.message.split(" falls")[0] for error in missed
    }
    assert not any("10.0.2.2 to 10.0.3.2" in error.message for error in missed)
    assert found
    with pytest.raises(TooManyPieces):
        list(reach(Session(plan), "any", "any", When(NOON)))


def test_a_claim_that_is_given_up_is_neither_held_nor_failed(
    plan_of: Read, few_pieces: None
) -> None:
    plan = plan_of(HARD.replace("expect deny gre", "expect deny tcp"))
    results = [Verifier(Session(plan)).verify(each) for each in plan.expectations]
    assert [(each.held, each.answered) for each in results] == [(True, True), (False, False)]
    assert "falls into more than 60 pieces" in results[1].why


def test_findings_and_comparisons_name_what_they_gave_up(plan_of: Read, few_pieces: None) -> None:
    together = NET.format(
        "    deny tcp/-1000 any to any\n    deny tcp/1001- any to any\n    permit tcp/500-2000 "
        "any to any\n"
    )
    hidden = plan_of(together)
    assert "never-reached" in {finding.name for finding in audit(Session(hidden), NOON).findings}
    allow(1)
    audited = audit(Session(plan_of(together)), NOON)
    assert any("whether hard 30 is ever reached" in error.message for error in audited.missed)
    assert "never-reached" not in {finding.name for finding in audited.findings}
    allow(60)
    plan = plan_of(HARD)
    other = plan_of(HARD.replace("deny tcp", "deny udp", 3))
    missed: list[TooManyPieces] = []
    differences(Session(plan), Session(other), missed=missed)
    assert any("as from 10.0.1." in error.message for error in missed)


def test_the_same_pieces_are_counted_each_time(plan_of: Read) -> None:
    plan = plan_of(NET.format("    deny tcp 10.0.1.0/25 to 10.0.2.0/26\n"))
    counts = []
    for _ in range(2):
        low, high = 1, 20_000
        while low < high:
            middle = (low + high) // 2
            allow(middle)
            missed: list[TooManyPieces] = []
            list(reach(Session(plan), "a", "b", When(NOON), missed=missed))
            low, high = (low, middle) if not missed else (middle + 1, high)
        counts.append(low)
    allow(MOST_PIECES)
    assert counts[0] == counts[1]
    assert 10 < counts[0] < 20_000
