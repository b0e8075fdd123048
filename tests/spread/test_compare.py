"""Plans that are compared in parts come to the same differences, with the same deciding lines."""

from __future__ import annotations

import re
from functools import partial
from pathlib import Path
from random import Random

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from crossgate.core.answers.compare import differences
from crossgate.core.answers.difference import Difference
from crossgate.core.model.plan import Plan
from crossgate.core.sets.effort import TooManyPieces, allow, allowed
from crossgate.core.traffic.session import Session
from crossgate.library import parse, read
from crossgate.spread.compare import compared_in_parts
from tests.conftest import Run
from tests.core.network import reference
from tests.spread.here import Here


def alone(old: Plan, new: Plan) -> list[Difference]:
    return differences(Session(old), Session(new))


def shared(
    old: Plan, new: Plan, size: int, missed: list[TooManyPieces] | None = None
) -> list[Difference]:
    told: list[tuple[int, int]] = []
    ahead = partial(compared_in_parts, pool=Here(size), tell=lambda *done: told.append(done))
    found = differences(Session(old), Session(new), missed=missed, ahead=ahead)
    assert all(each[1] == told[-1][0] for each in told)
    return found


def turned(text: str, chance: Random) -> str:
    """Return a plan with the action of some lines the other way round."""
    other = {"permit": "deny", "deny": "permit"}
    return re.sub(
        r"(?m)^(    (?:\d+ )?)(permit|deny)\b(?!.* at most )",
        lambda found: found[1] + (other[found[2]] if chance.random() < 0.3 else found[2]),
        text,
    )


@settings(max_examples=15)
@given(st.integers(0, 1 << 32), st.integers(1, 3))
def test_parts_come_to_what_one_process_finds(seed: int, size: int) -> None:
    text = reference.network(seed)
    old, new = parse(text), parse(turned(text, Random(seed)))
    assert shared(old, new, size) == alone(old, new)


def test_windows_limits_tls_and_frames_are_named_and_found_again(traffic: Path) -> None:
    plan = traffic / "ternhaven.gate"
    old, text = read(plan), plan.read_text()
    changed = read(traffic / "proposal" / "ternhaven.gate")
    for new in (changed, *(parse(turned(text, Random(seed))) for seed in range(3))):
        found = alone(old, new)
        assert found
        assert shared(old, new, 2) == found
    deciders = {
        fate.decided.crossing.rulings is None
        for each in alone(changed, old)
        for fate in (each.was, each.now)
        if fate.decided is not None
    }
    assert deciders == {True, False}  # packets and frames


def test_a_pair_in_too_many_pieces_is_told_by_whoever_waits(traffic: Path) -> None:
    old, new = (read(traffic / each) for each in ("ternhaven.gate", "proposal/ternhaven.gate"))
    before, missed = allowed(), list[TooManyPieces]()
    try:
        allow(50)
        shared(old, new, 2, missed)
        with pytest.raises(TooManyPieces, match="more than 50 pieces"):
            shared(old, new, 2)
    finally:
        allow(before)
    assert any("what the two plans do with what is sent" in each.message for each in missed)


@pytest.mark.process
def test_processes_tell_the_same_to_the_letter(run: Run, launch: Run, traffic: Path) -> None:
    words = ("compare", str(traffic / "proposal" / "ternhaven.gate"), "--all")
    whole = run(*words)
    assert (whole.returncode, whole.stderr) == (1, "")
    for way in (run, launch):  # a process with threads, as the tests', is not copied
        found = way(*words, "--workers", "2")
        assert (found.returncode, found.stdout, found.stderr) == (1, whole.stdout, "")
    refused = run(*words, "--workers", "2", "--list", "banned")
    assert (refused.returncode, refused.stdout) == (2, "")
    assert "--workers shares the pairs of addresses" in refused.stderr
