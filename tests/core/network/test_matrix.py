"""The graphs of all pairs at once: against each pair asked by itself, on random networks."""

from __future__ import annotations

from hypothesis import given, settings
from hypothesis import strategies as st

from crossgate.core.model.address import Family
from crossgate.core.network.address_classes import address_classes
from crossgate.core.network.matrix import Matrix
from crossgate.core.network.ways import Network
from tests.core.network import reference


@settings(max_examples=30, deadline=None)
@given(st.integers(0, 1 << 32))
def test_every_number_is_that_of_its_pair(seed: int) -> None:
    plan = reference.random_plan(seed)
    network = Network(plan)
    alone = Network(plan, beside=network)
    for family in Family:
        graphs = network.graphs(family)
        ends = [each.end for each in address_classes(network, family)]
        matrix = Matrix(graphs, ends)
        for row, origin in zip(matrix.row, ends, strict=True):
            expected = [alone.graphs(family).node(origin, end.address) for end in ends]
            assert matrix.numbers[row].tolist() == expected, (seed, str(origin.address))
        tokens = {
            token
            for number in matrix.numbers.flat
            for each in graphs.nodes.sequences(int(number))
            for token in each.tokens
        }
        for token in tokens:
            found = dict(matrix.meeting(1 << token))
            for row, numbers in enumerate(matrix.numbers):
                meets = [
                    any(token in each.tokens for each in graphs.nodes.sequences(int(number)))
                    for number in numbers
                ]
                assert (found[row].tolist() if row in found else [False] * len(ends)) == meets
