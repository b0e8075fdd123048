"""Families as diagrams against plain counters of sets."""

from __future__ import annotations

from collections import Counter

from hypothesis import given
from hypothesis import strategies as st

from crossgate.core.conversation.families import NONE, Families

Plain = Counter[frozenset[int]]
NUMBERS = st.integers(0, 5)
STEPS = st.lists(
    st.tuples(
        st.sampled_from(["add", "part", "sum", "times", "without"]),
        NUMBERS,
        st.integers(0, 20),
        st.integers(0, 20),
    ),
    max_size=30,
)


@given(STEPS)
def test_families_are_counters_of_sets(steps: list[tuple[str, int, int, int]]) -> None:
    families = Families()
    known: list[tuple[int, Plain]] = [(families.leaf(1), Counter({frozenset(): 1}))]
    for what, number, one, other in steps:
        (family, plain), (second, beside) = known[one % len(known)], known[other % len(known)]
        if what == "add":
            raised = Counter[frozenset[int]]()
            for own, count in plain.items():
                raised[own | {number}] += count
            known.append((families.adding(family, number), raised))
        elif what == "part":
            for each, has in zip(families.parted(family, number), (True, False), strict=True):
                known.append(
                    (
                        each,
                        Counter(
                            {own: count for own, count in plain.items() if (number in own) is has}
                        ),
                    )
                )
        elif what == "sum":
            known.append((families.sum(family, second), plain + beside))
        elif what == "times":
            known.append(
                (
                    families.times(family, number + 1),
                    Counter({own: count * (number + 1) for own, count in plain.items()}),
                )
            )
        else:
            numbers = {number, one % 6}
            known.append(
                (
                    families.without(family, numbers),
                    Counter({own: count for own, count in plain.items() if not own & numbers}),
                )
            )
    same: dict[int, Plain] = {}
    for family, plain in known:
        assert same.setdefault(family, plain) == plain  # equal numbers are equal families
        assert families.total(family) == plain.total()
        assert families.numbers(family) == {number for own in plain for number in own}
        assert (family == NONE) is not bool(plain)
        assert family == NONE or frozenset(families.member(family)) in plain
    assert len({frozenset(plain.items()) for plain in same.values()}) == len(same)


def test_many_pairs_are_a_small_diagram() -> None:
    families = Families()
    family = families.leaf(1)
    for pair in range(500):
        family = families.sum(
            families.adding(family, 2 * pair), families.adding(family, 2 * pair + 1)
        )
    assert families.total(family) == 2**500
    assert len(families.numbers(family)) == 1000
    assert families.total(families.without(family, range(0, 1000, 2))) == 1
