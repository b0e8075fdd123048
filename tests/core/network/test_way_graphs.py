"""All equal paths at once: against plain recursion over next hops on random networks, and on
networks made for one thing.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from crossgate.core.model.address import Address, Family, parse_address
from crossgate.core.model.plan import Plan
from crossgate.core.network.carriers import carriers_of
from crossgate.core.network.endpoints import at_address
from crossgate.core.network.matrix import Matrix
from crossgate.core.network.nodes import Sequence, SequenceEnd
from crossgate.core.network.paths import Crossing, Endpoint
from crossgate.core.network.way_graphs import WayGraphs
from crossgate.core.network.ways import Network
from tests.core.network import reference
from tests.core.network.reference import Reference, Way

Read = Callable[[str], Plan]


def told(graphs: WayGraphs, sequence: Sequence) -> Way:
    """Return a sequence as the reference tells it, which knows nothing of frames."""
    tokens = [graphs.tokens.of[number] for number in sequence.tokens]
    places = tuple(
        each.place for each in tokens if isinstance(each, Crossing) and each.rulings is None
    )
    return (
        places,
        frozenset(each for each in tokens if isinstance(each, str)),
        sequence.end is SequenceEnd.ARRIVED,
    )


def addresses(plan: Plan, family: Family) -> Iterator[Address]:
    yield from (
        address
        for host in plan.hosts.values()
        for address in host.addresses
        if address.family is family
    )
    yield from (
        address for address in (*plan.interface_of, *plan.gateway_at) if address.family is family
    )
    strangers = (
        ("10.0.0.200", "10.1.0.201", "192.0.2.1", "198.51.100.250")
        if family is Family.IPV4
        else ("2001:db8::c8", "2001:db8:aaaa::1")
    )
    yield from (
        address for address in map(parse_address, strangers) if plan.segment_of(address) is not None
    )


@settings(max_examples=12, deadline=None)
@given(st.integers(0, 1 << 32))
def test_all_equal_paths_are_those_of_plain_recursion(seed: int) -> None:
    plan = reference.random_plan(seed)
    network = Network(plan)
    for family in Family:
        plain, graphs = Reference(plan, family), network.graphs(family)
        every = list(addresses(plan, family))
        for source in every[seed % 4 :: 4]:
            origin = at_address(network, source)
            for destination in every:
                if source == destination:
                    continue
                expected = plain.ways_from(origin, destination)
                node = graphs.node(origin, destination)
                where = (seed, str(source), str(destination))
                sequences = graphs.nodes.sequences(node)
                assert {told(graphs, each) for each in sequences} == expected, where
                graph = graphs.graph(origin, destination, node)
                for token in {token for each in sequences for token in each.tokens}:
                    everywhere = all(token in each.tokens for each in sequences)
                    assert graph.all_meet({graphs.tokens.of[token]}) is everywhere, where
                assert not graph.all_meet(())
    del plan


@settings(max_examples=12, deadline=None)
@given(st.integers(0, 1 << 32), st.data())
def test_paths_avoid_what_is_down(seed: int, data: st.DataObject) -> None:
    whole = reference.random_plan(seed)
    points = [device.itself for device in whole.devices.values()]
    points += [
        each.point for device in whole.devices.values() for each in device.interfaces.values()
    ]
    points += [each.point for device in whole.devices.values() for each in device.ports.values()]
    plan = whole.without(data.draw(st.lists(st.sampled_from(points), min_size=1, max_size=2)))
    network, before = Network(plan), Network(whole)
    for family in Family:
        plain, graphs = Reference(plan, family), network.graphs(family)
        every = [
            each
            for each in addresses(plan, family)
            if each not in plan.interface_of or not plan.is_down(plan.interface_of[each])
        ]
        matrix = Matrix(graphs, [at_address(network, each) for each in every])
        numbers = matrix.numbers[matrix.row]
        for row, source in [*enumerate(every)][seed % 4 :: 4]:
            origin = at_address(network, source)
            for column, destination in enumerate(every):
                if source == destination:
                    continue
                expected = plain.ways_from(origin, destination)
                node = graphs.node(origin, destination)
                where = (seed, sorted(map(str, plan.down)), str(source), str(destination))
                assert {told(graphs, each) for each in graphs.nodes.sequences(node)} == expected, (
                    where
                )
                assert numbers[row, column] == node, where
                if carriers_of(before, origin, destination).isdisjoint(plan.down):
                    same = before.graphs(family)
                    assert {
                        told(same, each)
                        for each in same.nodes.sequences(same.node(origin, destination))
                    } == expected, where


@settings(max_examples=12, deadline=None)
@given(st.integers(0, 1 << 32))
def test_each_way_is_walked_and_the_first_is_the_path(seed: int) -> None:
    network = Network(reference.random_plan(seed))
    for family in Family:
        graphs = network.graphs(family)
        every = list(addresses(network.plan, family))[:8]
        for origin in (at_address(network, each) for each in every):
            for destination in every:
                if origin.address == destination:
                    continue
                ways = network.ways(origin, destination)
                assert ways[0] == network.path(origin, destination)
                sequences = graphs.nodes.sequences(graphs.node(origin, destination))
                assert len(ways) == len(sequences) <= graphs.paths(origin, destination)
                met = [
                    tuple(
                        each
                        for each in way.crossings
                        if each.rulings is None and (*each.place, family) in network.plan.placed
                    )
                    for way in ways
                ]
                expected = [told(graphs, each) for each in sequences]
                assert sorted(
                    map(str, zip(met, [way.arrived for way in ways], strict=True))
                ) == sorted(
                    str((tuple(_crossings(places)), arrived)) for places, _, arrived in expected
                )


def _crossings(places: tuple[reference.Met, ...]) -> list[object]:
    from crossgate.core.network.paths import Crossing

    return [Crossing(*each) for each in places]


def ladder(rungs: int, lists: bool = False) -> str:
    """Return pairs of routers in a row, each joined to both of the next pair: 2 to the power of
    their number paths.
    """
    lines = [
        "subnet start 10.0.0.0/24",
        "subnet end 10.255.0.0/24",
        *(f"subnet m{n} 10.{n + 1}.0.0/24" for n in range(rungs - 1)),
    ]
    for n in range(rungs):
        for side in (1, 2):
            near, far = ("start" if n == 0 else f"m{n - 1}"), ("end" if n == rungs - 1 else f"m{n}")
            left, right = (0 if n == 0 else n), (255 if n == rungs - 1 else n + 1)
            lines += [
                f"router r{n}x{side}",
                f"    interface in 10.{left}.0.{10 + side}/24 on {near}",
            ]
            lines += [f"    interface out 10.{right}.0.{side}/24 on {far}"]
    lines += ["host a 10.0.0.99 on start", "host b 10.255.0.99 on end"]
    if lists:
        lines += [
            "list deaf extended ipv4",
            "    otherwise deny",
            f"place deaf inbound on r{rungs // 2}x2.in",
        ]
    return "\n".join(lines) + "\n"


def ends(network: Network, source: str, destination: str) -> tuple[Endpoint, Address]:
    host = network.plan.hosts[source]
    return at_address(network, host.addresses[0]), network.plan.hosts[destination].addresses[0]


def test_a_ladder_of_forty_pairs_is_counted_and_parted_by_its_one_list(plan_of: Read) -> None:
    network = Network(plan_of(ladder(40, lists=True)))
    origin, destination = ends(network, "a", "b")
    graphs = network.graphs(Family.IPV4)
    assert graphs.paths(origin, destination) == 1 << 40
    ways = network.ways(origin, destination)
    assert len(ways) == 2
    assert sorted(any(str(each.point) == "r20x2.in" for each in way.crossings) for way in ways) == [
        False,
        True,
    ]
    assert all(way.arrived and way.forks for way in ways)


def test_hundreds_of_routers_in_a_row_are_a_way_whatever_lists_they_have(plan_of: Read) -> None:
    count = 400
    lines = [f"subnet s{n} 10.{n // 250}.{n % 250}.0/24" for n in range(count + 1)]
    for n in range(count):
        lines += [f"router r{n}", f"    interface a 10.{n // 250}.{n % 250}.2/24 on s{n}"]
        lines += [f"    interface b 10.{(n + 1) // 250}.{(n + 1) % 250}.1/24 on s{n + 1}"]
    lines += ["host a 10.0.0.99 on s0", f"host b 10.{count // 250}.{count % 250}.99 on s{count}"]
    lines += ["list l extended ipv4", "    otherwise permit"]
    lines += [
        f"place l {side}"
        for n in range(count)
        for side in (f"inbound on r{n}.a", f"outbound on r{n}.b")
    ]
    network = Network(plan_of("\n".join(lines) + "\n"))
    (way,) = network.ways(*ends(network, "a", "b"))
    assert (way.arrived, len(way.devices)) == (True, count)


RING = """
routing static
subnet a 10.0.0.0/24
subnet b 10.0.1.0/24
subnet c 10.0.2.0/24
router one
    interface a 10.0.0.1/24 on a
    interface b 10.0.1.1/24 on b
    route default via 10.0.1.2
router two
    interface b 10.0.1.2/24 on b
    interface c 10.0.2.2/24 on c
    route 10.0.9.0/24 via 10.0.1.1
outside sea
router three
    interface c 10.0.2.3/24 on c
    interface sea 203.0.113.1/30 on sea
host h 10.0.0.9 on a
list f extended ipv4
    otherwise deny
"""


@pytest.mark.parametrize(
    "place", ["outbound on one.b", "inbound on two.b", "outbound on two.b", "inbound on one.b"]
)
def test_the_lists_of_a_whole_turn_are_met(plan_of: Read, place: str) -> None:
    network = Network(plan_of(RING + f"place f {place}\n"))
    origin = at_address(network, parse_address("10.0.0.9"))
    (way,) = network.ways(origin, parse_address("10.0.9.9"))
    assert not way.arrived
    assert way.reason == "it goes round in a circle: one to two to one"
    assert any((*each.place, Family.IPV4) in network.plan.placed for each in way.crossings)
    (sequence,) = network.graphs(Family.IPV4).nodes.sequences(
        network.graphs(Family.IPV4).node(origin, parse_address("10.0.9.9"))
    )
    assert (len(sequence.tokens), sequence.end) == (1, SequenceEnd.LOST)
    assert Path(network.plan.files[0]).exists()
