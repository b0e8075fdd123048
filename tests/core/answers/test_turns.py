"""Where answers turn among versions: by halves, and one by one."""

from __future__ import annotations

from itertools import pairwise
from math import log2

from hypothesis import given
from hypothesis import strategies as st

from crossgate.core.answers.turns import TurnedVersions, turns

ANSWERS = st.lists(st.sampled_from(["a", "a", "a", "b", "b", None]), max_size=60)


def plain(answers: list[str | None]) -> list[TurnedVersions]:
    """Return every turn, by looking at all versions in a row."""
    known = [(at, each) for at, each in enumerate(answers) if each is not None]
    return [
        TurnedVersions(first, last, last - first - 1)
        for (first, one), (last, other) in pairwise(known)
        if one != other
    ]


@given(answers=ANSWERS)
def test_every_turn_is_found_where_every_version_is_looked_at(answers: list[str | None]) -> None:
    assert list(turns(len(answers), lambda at: answers[at], every=True)) == plain(answers)


@given(answers=ANSWERS)
def test_by_halves_only_true_turns_are_found_and_those_of_the_ends(
    answers: list[str | None],
) -> None:
    found = list(turns(len(answers), lambda at: answers[at]))
    every = plain(answers)
    assert [each for each in every if each in found] == found
    known = [each for each in answers if each is not None]
    if known:
        assert len(found) % 2 == (known[0] != known[-1])


@given(count=st.integers(2, 5000), data=st.data())
def test_a_single_turn_is_found_with_few_looks(count: int, data: st.DataObject) -> None:
    turn = data.draw(st.integers(0, count - 2))
    looked = set()

    def look(at: int) -> bool:
        looked.add(at)
        return at <= turn

    assert list(turns(count, look)) == [TurnedVersions(turn, turn + 1, 0)]
    assert len(looked) <= 2 * log2(count) + 3
