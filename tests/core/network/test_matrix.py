"""The graphs of all pairs at once: against each pair asked by itself, on random networks."""

from __future__ import annotations

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from crossgate.core.model.address import Family
from crossgate.core.network.address_classes import address_classes
from crossgate.core.network.matrix import Matrix
from crossgate.core.network.ways import Network
from tests.core.network import reference


@settings(max_examples=15, deadline=None)
@given(st.integers(0, 1 << 32))
def test_every_number_is_that_of_its_pair(seed: int) -> None:
    plan = reference.random_plan(seed)
    network = Network(plan)
    alone = Network(plan, beside=network)
    for family in Family:
        graphs = network.graphs(family)
        ends = [each.end for each in address_classes(network, family)]
        matrix = Matrix(graphs, ends)
        numbers = matrix.numbers
        for row, origin in zip(matrix.row, ends, strict=True):
            expected = [alone.graphs(family).node(origin, end.address) for end in ends]
            assert numbers[row].tolist() == expected, (seed, str(origin.address))
        tokens = {
            token
            for number in numbers.flat
            for each in graphs.nodes.sequences(int(number))
            for token in each.tokens
        }
        for token in tokens:
            found = dict(matrix.meeting(1 << token))
            for row, own in enumerate(numbers):
                meets = [
                    any(token in each.tokens for each in graphs.nodes.sequences(int(number)))
                    for number in own
                ]
                assert (found[row].tolist() if row in found else [False] * len(ends)) == meets
            arriving = dict(matrix.meeting(1 << token, arriving=True))
            for row, own in enumerate(numbers):
                meets = [bool(graphs.met(int(number), True) >> token & 1) for number in own]
                assert (arriving[row].tolist() if row in arriving else [False] * len(ends)) == meets


@settings(max_examples=15, deadline=None)
@given(st.integers(0, 1 << 32), st.data())
def test_columns_worked_out_when_they_are_asked_for_are_those_of_all(
    seed: int, data: st.DataObject
) -> None:
    network = Network(reference.random_plan(seed))
    for family in Family:
        graphs = network.graphs(family)
        ends = [each.end for each in address_classes(network, family)]
        whole, part = Matrix(graphs, ends), Matrix(graphs, ends)
        expected = whole.numbers
        chosen: set[int] = set()
        for _ in range(3):
            columns = data.draw(st.sets(st.integers(0, max(len(ends) - 1, 0)))) if ends else set()
            chosen |= columns
            asked = np.array(sorted(columns), dtype=np.intp)
            assert (part.numbers_to(asked) == expected[:, asked]).all()
            tokens = data.draw(st.integers(0, 1 << 8))
            meeting = dict(part.meeting(tokens, columns=columns))
            every = dict(whole.meeting(tokens))
            for row in range(len(expected)):
                meets = every[row].tolist() if row in every else [False] * len(ends)
                assert (meeting[row].tolist() if row in meeting else [False] * len(ends)) == [
                    each and index in columns for index, each in enumerate(meets)
                ]
        for one in range(len(ends)):
            others = data.draw(st.lists(st.integers(0, len(ends) - 1)))
            for matrix in (part, whole):
                between = list(zip(*matrix.between_each(one, others), strict=True))
                assert between == [whole.between(one, other) for other in others]
            for other in range(len(ends)):
                assert part.between(one, other) == whole.between(one, other)
                if {one, other} <= chosen:
                    among = np.array(sorted(chosen))
                    assert part.alike(one, other, among) == whole.alike(one, other, among)
