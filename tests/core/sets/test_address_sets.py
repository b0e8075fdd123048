"""Sets of addresses as values: when they are equal, which one is alone, and what a word names."""

from __future__ import annotations

import random
from collections.abc import Iterable

import pytest
from hypothesis import given
from hypothesis import strategies as st

from crossgate.core.model.address import Family, Pattern, parse_addresses
from crossgate.core.model.packet import ECHO, icmp_of
from crossgate.core.sets.addresses import AddressSet
from crossgate.core.sets.meaning import of_patterns
from crossgate.core.sets.patterns import less
from crossgate.core.sets.region import ALL_DSCP, ALL_FLAGS, ALL_PORTS, protocol_line, some_service

SCATTERED = Pattern(Family.IPV4, 1, 0xFFFFFFFE)
"""The odd addresses: more spans than are counted out."""


def test_equal_sets_have_one_family_and_the_same_members() -> None:
    small = AddressSet(Family.IPV4, spans=((1, 3),))
    assert small == AddressSet.of(
        Family.IPV4, (Pattern(Family.IPV4, 1, 0), Pattern(Family.IPV4, 2, 0))
    )
    assert small != AddressSet(Family.IPV6, spans=((1, 3),))
    assert small != ((1, 3),)
    odd = AddressSet.of(Family.IPV4, (SCATTERED,))
    assert odd != small
    assert odd - small == odd - AddressSet(Family.IPV4, spans=((1, 2),))


@given(st.lists(st.integers(0, 9), max_size=3), st.booleans())
def test_an_address_is_alone_where_there_is_no_other(values: list[int], scattered: bool) -> None:
    own = AddressSet.of(Family.IPV4, [Pattern(Family.IPV4, each, 0) for each in values])
    if scattered:  # all odd ones, and then those of the odd ones that are wanted
        odd = AddressSet.of(Family.IPV4, (SCATTERED,))
        own, values = odd & own, [each for each in values if each % 2]
    assert own.single == (values[0] if len(set(values)) == 1 else None)
    assert AddressSet.of(Family.IPV4, (SCATTERED,)).single is None


@pytest.mark.parametrize(
    ("word", "named"),
    [("10.0.0.9", 1), ("10.0.0.8/31", 0), ("10.0.0.8-10.0.0.10", 0), ("2001:db8::9/128", 1)],
)
def test_only_a_single_address_is_named(word: str, named: int) -> None:
    assert len(of_patterns(parse_addresses(word)).named) == named


@pytest.mark.parametrize("family", Family)
def test_of_all_messages_an_echo_request_is_shown(family: Family) -> None:
    every = protocol_line(icmp_of(family))
    packet = some_service(family, every, ALL_PORTS, ALL_FLAGS, ALL_DSCP)
    assert (packet.icmp_type, packet.icmp_code) == (ECHO[family], 0)


@pytest.mark.parametrize(
    ("what", "protocol", "number"),
    [
        (((0, 1 << 25),), 6, 443),
        (((17 << 17, 18 << 17),), 17, 53),
        (((6 << 17, (6 << 17) + 400), (17 << 17, 18 << 17)), 6, 80),
        (((6 << 17, (6 << 17) + 20), (17 << 17, 18 << 17)), 17, 53),
        (((1 << 17, 2 << 17),), 1, 8 << 8),
        (((6 << 17, (6 << 17) + 10),), 6, 1),
        ((((6 << 17) + 30000, (6 << 17) + 30005),), 6, 30000),
    ],
)
def test_an_example_is_what_a_person_would_send(
    what: tuple[tuple[int, int], ...], protocol: int, number: int
) -> None:
    packet = some_service(Family.IPV4, what, ALL_PORTS, ALL_FLAGS, ALL_DSCP)
    told = packet.destination_port
    if told is None:
        assert packet.icmp_type is not None
        assert packet.icmp_code is not None
        told = packet.icmp_type << 8 | packet.icmp_code
    assert (packet.protocol, told) == (protocol, number)


@pytest.mark.parametrize("seed", range(30))
def test_what_is_left_without_many_prefixes(seed: int) -> None:
    chance = random.Random(seed)

    def drawn(count: int, wild: bool) -> list[Pattern]:
        free = [(1 << chance.randrange(6)) - 1 for _ in range(count)]
        if wild:
            free = [each | chance.choice((0, 64, 5)) for each in free]
        return [Pattern(Family.IPV4, chance.randrange(256) & ~each, each) for each in free]

    def members(patterns: Iterable[Pattern]) -> set[int]:
        return {value for value in range(256) for each in patterns if each.contains(value)}

    own, out = drawn(20, wild=True), drawn(chance.choice((30, 40, 80)), wild=False)
    assert members(less(own, out)) == members(own) - members(out)
