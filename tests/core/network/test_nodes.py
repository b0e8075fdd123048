"""Sets of sequences as numbers: against plain sets of tuples."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from crossgate.core.network.nodes import End, Nodes, SequenceEnd

Sequences = frozenset[tuple[tuple[int, ...], End]]

SEQUENCES = st.frozensets(
    st.tuples(st.lists(st.integers(0, 2), max_size=4).map(tuple), st.sampled_from(SequenceEnd)),
    min_size=1,
    max_size=6,
)


def number(nodes: Nodes, sequences: Sequences) -> int:
    return nodes.union(
        frozenset(nodes.prepend(tokens, nodes.ending(end)) for tokens, end in sequences)
    )


def told(nodes: Nodes, of: int) -> Sequences:
    node = nodes.of[of]
    found: set[tuple[tuple[int, ...], End]] = {((), end) for end in node.ends}
    for token, child in node.children:
        found |= {((token, *tokens), end) for tokens, end in told(nodes, child)}
    return frozenset(found)


@given(st.lists(SEQUENCES, min_size=2, max_size=4))
def test_equal_sets_have_equal_numbers_however_they_were_put_together(
    sets: list[Sequences],
) -> None:
    nodes = Nodes()
    numbers = [number(nodes, each) for each in sets]
    assert [told(nodes, each) for each in numbers] == sets
    assert nodes.union(frozenset(numbers)) == number(nodes, frozenset().union(*sets))
    assert all(
        (one == other) == (sets[i] == sets[j])
        for i, one in enumerate(numbers)
        for j, other in enumerate(numbers)
    )


def test_long_sequences_with_much_in_common_are_united() -> None:
    nodes = Nodes()
    long = tuple(range(5_000))
    one, other = (
        nodes.prepend((*long, last), nodes.ending(SequenceEnd.ARRIVED)) for last in (-1, -2)
    )
    united = nodes.union(frozenset((one, other)))
    assert nodes.union(frozenset((united, one))) == united
    assert len(nodes.of[nodes.below(united)[1]].children) == 2
