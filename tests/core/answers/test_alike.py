"""Names that stand in a grid as one: just those of which every cell reads alike."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from crossgate.core.answers.alike import MANY, AlikeNames, example_of, names_alike


@st.composite
def grids(draw: st.DrawFn) -> tuple[list[str], dict[tuple[str, str], int]]:
    """Draw names, each of some kind, and what kinds reach of each other; a few cells are odd."""
    kinds = draw(st.lists(st.integers(0, 2), min_size=MANY + 1, max_size=MANY + 6))
    reach = draw(st.lists(st.integers(0, 1), min_size=9, max_size=9))
    names = [f"n{number}" for number in range(len(kinds))]
    cells = {
        (one, other): reach[3 * kinds[here] + kinds[there]]
        for here, one in enumerate(names)
        for there, other in enumerate(names)
        if one != other
    }
    for _ in range(draw(st.integers(0, 2))):
        cells[draw(st.sampled_from(sorted(cells)))] = 2
    return names, cells


@given(grids())
def test_each_cell_of_a_group_is_the_one_that_is_shown(
    grid: tuple[list[str], dict[tuple[str, str], int]],
) -> None:
    names, cells = grid
    here, far = names_alike(names, names, lambda one, other: cells.get((one, other)))
    assert here == far
    assert [name for each in here for name in each.names if name in names] != []
    assert sorted(name for each in here for name in each.names) == sorted(names)
    for one in here:
        for other in here:
            shown = cells.get(example_of(one, other))
            assert {cells[a, b] for a in one.names for b in other.names if a != b} == (
                {shown} if shown is not None else set()
            )


@pytest.mark.parametrize("odd", [(0, 1), (1, 0), (2, 3), (0, 2), (3, MANY)])
def test_a_single_cell_that_is_another_sets_its_two_names_apart(odd: tuple[int, int]) -> None:
    names = [f"n{number}" for number in range(MANY + 1)]
    one, other = (names[each] for each in odd)
    here, far = names_alike(names, names, lambda *cell: 2 if cell == (one, other) else 0)
    assert here == far
    assert [each.names for each in here if {one, other} & {*each.names}] == [
        (name,) for name in names if name in (one, other)
    ]
    assert len(here) == 3


@given(grids(), st.integers(1, MANY))
def test_senders_and_receivers_that_are_others_are_told_apart_by_themselves(
    grid: tuple[list[str], dict[tuple[str, str], int]], split: int
) -> None:
    names, cells = grid
    receivers = [f"to-{each}" for each in names[:split]]

    def told(one: str, other: str) -> int | None:
        return cells.get((one, other.removeprefix("to-")))

    here, far = names_alike(names, receivers, told)
    assert far == [AlikeNames((each,)) for each in receivers]
    rows = [{tuple(told(name, each) for each in receivers) for name in one.names} for one in here]
    assert all(len(each) == 1 for each in rows)
    assert len({next(iter(each)) for each in rows}) == len(rows)


def test_few_names_stand_each_for_itself() -> None:
    names = [f"n{number}" for number in range(MANY)]
    assert names_alike(names, names, lambda one, other: 1)[0] == [
        AlikeNames((each,)) for each in names
    ]
    assert AlikeNames(("a", "b", "c")).label == "a +2"


def test_a_name_among_both_says_nothing_of_itself() -> None:
    senders = [f"n{number}" for number in range(MANY + 2)]
    here, far = names_alike(senders, ["n0", "k"], lambda one, other: 0 if one == other else 1)
    assert [each.label for each in here] == [f"n0 +{MANY + 1}"]
    assert [each.label for each in far] == ["n0", "k"]
    assert example_of(here[0], far[0]) == ("n1", "n0")
