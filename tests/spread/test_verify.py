"""Claims that are verified in parts come to what one process finds, to the last count."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import islice, permutations
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from crossgate.core.answers.outage import any_one_down
from crossgate.core.answers.verify import Verifier
from crossgate.core.sets.effort import allow, allowed
from crossgate.core.traffic.session import Session
from crossgate.library import parse
from crossgate.spread.pools import Done, Part, Task
from crossgate.spread.verify import outages_in_parts, verify_in_parts
from tests.conftest import Run
from tests.core.network import reference
from tests.spread.here import Here


@settings(max_examples=10)
@given(st.integers(0, 1 << 32), st.integers(1, 3))
def test_parts_come_to_what_one_process_finds(seed: int, size: int) -> None:
    text = reference.network(seed)
    claims = [
        f"expect {('permit', 'deny')[number % 2]} tcp/80 {one} to {other}"
        for number, (one, other) in enumerate(islice(permutations(parse(text).hosts, 2), 9))
    ]
    plan = parse("\n".join([text, *claims, *claims[:2], ""]))
    alone, shared = Verifier(Session(plan)), Verifier(Session(plan))
    results = [alone.verify(each) for each in plan.expectations]
    told: list[tuple[int, int]] = []
    verify_in_parts(shared, plan.expectations, Here(size), lambda *done: told.append(done))
    shared.session.network = None  # type: ignore[assignment]  # nothing is worked out again
    found = [shared.verify(each) for each in plan.expectations]
    assert [each._replace(broken=None) for each in found] == [
        each._replace(broken=None) for each in results
    ]
    assert [each.expectation.place for each in found] == [each.place for each in plan.expectations]
    assert shared.reached == alone.reached
    assert told[-1] == (len(told), len(told))
    down = outages_in_parts(plan, results, Here(size), lambda *done: None)
    assert [(each.part, [one.why for one in each.broken]) for each in down] == [
        (each.part, [one.why for one in each.broken])
        for each in any_one_down(alone.session, results)
    ]


def test_the_bound_on_pieces_goes_with_the_job() -> None:
    class Elsewhere(Here):
        def done(self, task: Task[Done], job: bytes, parts: Sequence[Part]) -> Iterator[Done]:
            allow(99)  # as a process of its own begins with another bound
            yield from super().done(task, job, parts)
            bounds.append(allowed())

    bounds: list[int] = []
    plan = parse(reference.network(1) + "expect deny tcp/80 any to any\n")
    before = allowed()
    try:
        verifier = Verifier(Session(plan))
        for bound in (5_000, 6_000):
            allow(bound)
            verify_in_parts(verifier, plan.expectations, Elsewhere(1), lambda *done: None)
            allow(bound)
            outages_in_parts(plan, [], Elsewhere(1), lambda *done: None)
    finally:
        allow(before)
    assert bounds == [5_000, 5_000, 6_000, 6_000]


@pytest.mark.process
def test_processes_tell_the_same_to_the_letter(run: Run, launch: Run, traffic: Path) -> None:
    plan = traffic / "ternhaven.gate"
    plan.write_text(plan.read_text() + "expect deny booking kiosk-1 to manifest\n")
    words = ("verify", "--any-one-down", "--json")
    alone = run(*words)
    assert (alone.returncode, alone.stderr) == (1, "")
    for way in (run, launch):  # a process with threads, as the tests', is not copied
        shared = way(*words, "--workers", "2")
        assert (shared.returncode, shared.stdout, shared.stderr) == (1, alone.stdout, "")
    refused = run("verify", "--workers", "2", "--cluster", "tcp://127.0.0.1:9")
    assert (refused.returncode, "exclude each other" in refused.stderr) == (2, True)
