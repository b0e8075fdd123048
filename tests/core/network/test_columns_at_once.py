"""The columns of many destinations at once: against each worked out by itself, on random
networks.
"""

from __future__ import annotations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from crossgate.core.model.address import Family, parse_address
from crossgate.core.network import columns_at_once
from crossgate.core.network.address_classes import address_classes
from crossgate.core.network.columns_at_once import cheapest_columns
from crossgate.core.network.costs import FAR
from crossgate.core.network.nodes import SequenceEnd
from crossgate.core.network.ways import Network
from tests.conftest import Read
from tests.core.network import reference


@pytest.mark.parametrize("cells", [1, 1 << 21])
@settings(max_examples=40, deadline=None)
@given(seed=st.integers(0, 1 << 32))
def test_columns_are_those_of_each_destination(seed: int, cells: int) -> None:
    """Whether a column is worked out beside others or alone."""
    network = Network(reference.random_plan(seed))
    for family in Family:
        graphs = network.graphs(family)
        at = {
            near: each.end.address
            for each in address_classes(network, family)
            if (near := graphs.destinations.near(each.end.address)) is not None
        }
        with pytest.MonkeyPatch.context() as patched:
            patched.setattr(columns_at_once, "_MOST_CELLS", cells)
            found = cheapest_columns(graphs, list(at)) if at else None
        for place, address in enumerate(at.values()):
            assert found is not None
            column = graphs.destinations.column(address)
            assert found.costs[:, place].tolist() == (
                column.costs or [FAR] * len(graphs.destinations.names)
            )
            assert found.numbers[:, place].tolist() == column.numbers, seed


UNCABLED = """
subnet x 10.0.0.0/24
subnet link 10.1.0.0/24
subnet y 10.2.0.0/24
switch one
    interface vx 10.0.0.1/24 on x
    interface va 10.1.0.1/24 on link
    port 1
switch two
    interface vb 10.1.0.2/24 on link
    interface vy 10.2.0.1/24 on y
    port 1
host left 10.0.0.9 on x at one.1
host right 10.2.0.9 on y at two.1
"""


def test_what_no_cable_leads_on_is_lost(plan_of: Read) -> None:
    graphs = Network(plan_of(UNCABLED)).graphs(Family.IPV4)
    near = graphs.destinations.near(parse_address("10.2.0.9"))
    assert near is not None
    ((first,), (second,)) = cheapest_columns(graphs, [near]).numbers.tolist()
    assert [first, second] == graphs.destinations.column(parse_address("10.2.0.9")).numbers
    assert graphs.nodes.sequences(first) == [((), SequenceEnd.LOST)]
    assert graphs.nodes.sequences(second) == [((), "two")]
