"""The algebra of sets of packets against packets tried one by one: drawn entries with scattered
wildcards, groups, flags, both families.
"""

from __future__ import annotations

from itertools import pairwise, product
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from crossgate.core.lists.split import EntryRegion
from crossgate.core.model.address import (
    Address,
    Family,
    Pattern,
    parse_address,
    parse_block,
    pattern,
    single,
)
from crossgate.core.model.packet import Packet
from crossgate.core.sets import spans as line
from crossgate.core.sets.addresses import AddressSet, apart
from crossgate.core.sets.atoms import address_atoms, bits_of, swept
from crossgate.core.sets.frame import PacketSet
from crossgate.core.sets.region import Region, every_packet, packet_region
from crossgate.core.sets.services import cubes
from crossgate.core.sets.spans import Spans
from tests import small

slow = settings(
    max_examples=20,
    deadline=None,
    suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow],
)


@st.composite
def some_spans(draw: st.DrawFn) -> Spans:
    cuts = draw(st.lists(st.integers(0, 40), max_size=8, unique=True))
    return line.joined(zip(sorted(cuts)[::2], sorted(cuts)[1::2], strict=False))


def numbers(spans: Spans) -> set[int]:
    return {each for first, end in spans for each in range(first, end)}


@given(some_spans(), some_spans())
def test_spans_are_sets_of_numbers(one: Spans, other: Spans) -> None:
    assert numbers(line.common(one, other)) == numbers(one) & numbers(other)
    assert numbers(line.less(one, other)) == numbers(one) - numbers(other)
    assert numbers(line.joined((*one, *other))) == numbers(one) | numbers(other)
    assert line.size(one) == len(numbers(one))
    assert [line.contains(one, each) for each in range(-1, 42)] == [
        each in numbers(one) for each in range(-1, 42)
    ]
    for found in (line.common(one, other), line.less(one, other), line.joined((*one, *other))):
        assert all(left[1] < right[0] for left, right in pairwise(found))


@given(st.lists(some_spans(), max_size=6), some_spans())
def test_sweeping_tells_numbers_apart_that_lie_in_different_sets(
    sets: list[Spans], within: Spans
) -> None:
    atoms = swept(sets, within)
    if not within:
        return
    for spans, mask in zip(sets, atoms.masks, strict=True):
        assert numbers(atoms.span_set(mask)) == numbers(spans) & numbers(within)
        assert atoms.size(mask) == len(numbers(spans) & numbers(within))
    assert numbers(atoms.span_set(atoms.full)) == numbers(within)


def members(addresses: AddressSet) -> set[int]:
    return {
        value
        for value in range(1 << 10)
        if any(each.contains(value) for each in addresses.patterns)
    }


@st.composite
def scattered(draw: st.DrawFn) -> AddressSet:
    drawn = st.builds(
        lambda value, wildcard: pattern(Family.IPV4, value, wildcard),
        st.integers(0, 1023),
        st.integers(0, 1023),
    )
    return AddressSet.of(Family.IPV4, draw(st.lists(drawn, min_size=1, max_size=3)))


@settings(max_examples=30, deadline=None)
@given(st.lists(scattered(), min_size=1, max_size=8), scattered(), st.booleans())
def test_atoms_of_scattered_addresses_are_exact(
    sets: list[AddressSet], within: AddressSet, few: bool
) -> None:
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr("crossgate.core.sets.addresses.MOST_SPANS", 4)
        if few:
            patch.setattr("crossgate.core.sets.atoms._MOST_CLOSED", 1)
        atoms = address_atoms(sets, within)
        for each, mask in zip(sets, atoms.masks, strict=True):
            wanted = members(each) & members(within)
            assert members(atoms.address_set(Family.IPV4, mask)) == wanted
            assert atoms.size(mask) == len(wanted)
        owned = [members(atoms.address_set(Family.IPV4, 1 << atom)) for atom in bits_of(atoms.full)]
        assert all(owned)
        assert sum(map(len, owned)) == len(members(within)) == len(set().union(*owned))


@settings(max_examples=30, deadline=None)
@given(scattered(), scattered())
def test_sets_of_addresses_are_sets(one: AddressSet, other: AddressSet) -> None:
    assert members(one & other) == members(one) & members(other)
    assert one.meets(other) is bool(members(one) & members(other))
    assert members(one - other) == members(one) - members(other)
    assert members(one | other) == members(one) | members(other)
    assert bool(one - other) is bool(members(one) - members(other))
    assert one.middle() in members(one)
    assert members(one) <= members(AddressSet.of(Family.IPV4, (one.hull,)))
    alone = members(one)
    assert one.single == (alone.pop() if len(alone) == 1 else None)
    assert apart(one, other) is any(
        here != there for here in members(one) for there in members(other)
    )


@settings(max_examples=30, deadline=None)
@given(scattered(), scattered(), st.booleans())
def test_sets_of_addresses_are_equal_where_they_have_the_same_addresses(
    one: AddressSet, other: AddressSet, few: bool
) -> None:
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr("crossgate.core.sets.addresses.MOST_SPANS", 4 if few else 64)
        one, other = (
            AddressSet.of(Family.IPV4, one.patterns),
            AddressSet.of(Family.IPV4, other.patterns),
        )
        assert (one == other) is (members(one) == members(other))
        assert (one <= other) is (members(one) <= members(other))
        assert one.size == len(members(one))
        assert one.witness().value in members(one)
        # The same addresses, put together in another way: piece by piece, apart or not.
        rebuilt = AddressSet.union([one - other, one & other, one])
        assert rebuilt == one
        assert hash(rebuilt) == hash(one)
        assert len({one, rebuilt, one - other, one & other}) == len(
            {frozenset(members(each)) for each in (one, one - other, one & other)}
        )
        assert (
            AddressSet.of(Family.IPV4, [each for text in one.lines() for each in parsed(text)])
            == one
        )


def parsed(text: str) -> tuple[Pattern, ...]:
    """Read an address, a prefix, or an address with its wildcard."""
    value, _, wildcard = text.partition(" wild ")
    if wildcard:
        return (pattern(Family.IPV4, parse_address(value).value, parse_address(wildcard).value),)
    return (parse_block(text) if "/" in text else single(parse_address(text)),)


@given(st.lists(st.tuples(st.integers(0, 250), st.integers(1, 90)), min_size=1, max_size=4))
def test_the_hull_of_spans_is_that_of_their_patterns(spans: list[tuple[int, int]]) -> None:
    counted = line.joined((first, first + size) for first, size in spans)
    patterns = AddressSet(Family.IPV4, spans=counted).patterns
    assert AddressSet(Family.IPV4, spans=counted).hull == AddressSet.of(Family.IPV4, patterns).hull


@given(st.integers(0, (1 << 64) - 1))
def test_cubes_are_apart_and_hold_just_the_set(chosen: int) -> None:
    held = [each for each in range(64) for test in cubes(chosen, 6) if test.holds(each)]
    assert sorted(held) == [each for each in range(64) if chosen >> each & 1]


def nothing(family: Family) -> PacketSet:
    return PacketSet.of(every_packet(family)) - PacketSet.of(every_packet(family))


def drawn_set(data: st.DataObject, folder: Path, family: Family) -> PacketSet:
    entries = data.draw(st.lists(small.entry_words(family, marked=True), min_size=1, max_size=3))
    regions = [
        EntryRegion(each, family).region
        for each in small.read_list(folder, family, entries).entries
    ]
    found = [each for each in regions if each is not None]
    return PacketSet.of(*found) if found else nothing(family)


def tried(packets: PacketSet) -> list[bool]:
    return small.held(packets.regions(), packets.family, marked=True)


@slow
@given(st.data(), st.sampled_from(Family))
def test_operators_are_those_of_sets(tmp_path: Path, data: st.DataObject, family: Family) -> None:
    one, other = drawn_set(data, tmp_path, family), drawn_set(data, tmp_path, family)
    for own, another in product(one.regions(), other.regions()):
        assert own.meets(another) is (own.common(another) is not None)
    here, there = tried(one), tried(other)
    assert tried(one & other) == [left and right for left, right in zip(here, there, strict=True)]
    assert tried(one | other) == [left or right for left, right in zip(here, there, strict=True)]
    assert tried(one - other) == [
        left and not right for left, right in zip(here, there, strict=True)
    ]
    inside = all(right or not left for left, right in zip(here, there, strict=True))
    assert (one <= other) is inside
    assert (one == other) is (here == there)
    assert bool(one) is any(here)
    assert (one & other).size + (one - other).size == one.size
    for mine in one.regions():
        for theirs in other.regions():
            assert not theirs.holds(mine) or PacketSet.of(mine) <= PacketSet.of(theirs)
    rebuilt = (one - other) | (one & other)
    assert rebuilt == one
    assert hash(rebuilt) == hash(one)
    for packets in (one, one & other, one - other):
        if packets:
            found = packets.witness()
            assert any(small.holds(each, found) for each in packets.regions())
            assert PacketSet.of(packet_region(found)) <= packets


def test_everything_is_one_product_and_its_witness_is_what_people_know() -> None:
    for family in Family:
        everything = PacketSet.of(every_packet(family))
        packet = everything.witness()
        assert (packet.protocol, packet.destination_port, packet.flags) == (6, 443, 2)
        assert packet.source != packet.destination
        assert not nothing(family)
        assert nothing(family) <= everything
        assert not everything <= nothing(family)


def test_a_witness_is_between_two_machines_where_it_can_be() -> None:
    def at(*values: int) -> AddressSet:
        return AddressSet.of(Family.IPV4, (single(Address(Family.IPV4, each)) for each in values))

    def ends(packet: Packet) -> tuple[int, int]:
        return packet.source, packet.destination

    assert ends(PacketSet.of(Region(at(5), at(5))).witness()) == (5, 5)
    assert ends(PacketSet.of(Region(at(5), at(5, 9))).witness()) == (5, 9)
    assert ends(PacketSet.of(Region(at(5, 9), at(5))).witness()) == (9, 5)


def test_two_groups_are_one_product_however_large() -> None:
    groups = [
        AddressSet.of(
            Family.IPV4, (Pattern(Family.IPV4, base + 2 * each, 0) for each in range(2_000))
        )
        for base in (0x0A000000, 0x0A080000)
    ]
    everything = PacketSet.of(every_packet(Family.IPV4))
    both = PacketSet.of(Region(groups[0], groups[1]))
    assert len((everything - both).products) == 2
    assert everything - (everything - both) == both


@given(st.lists(some_spans(), min_size=1, max_size=6), some_spans())
def test_a_mask_is_told_where_atoms_have_all_or_none(sets: list[Spans], asked: Spans) -> None:
    atoms = swept(sets, ((0, 41),))
    owned = [numbers(atoms.span_set(1 << atom)) for atom in bits_of(atoms.full)]
    mixed = any(each & numbers(asked) not in (set(), each) for each in owned)
    wanted = sum(1 << index for index, each in enumerate(owned) if each <= numbers(asked))
    assert atoms.mask_of(asked) == (None if mixed else wanted)


@pytest.mark.parametrize("count", [40, 41, 60])
def test_many_atoms_are_told_apart_like_few(count: int) -> None:
    atoms = swept([((number * 3, number * 3 + 2),) for number in range(count)], ((0, 3 * count),))
    whole = numbers(atoms.span_set(sum(atoms.masks)))
    assert whole == {each for each in range(3 * count) if each % 3 < 2}
    assert atoms.span_set(atoms.full) == ((0, 3 * count),)
    assert bits_of(atoms.full) == list(range(count + 1))
    assert bits_of(1 << count | 1) == [0, count]


def test_atoms_are_wild_where_a_wildcard_told_them_apart() -> None:
    plain, scattered_few = (
        AddressSet.of(Family.IPV4, (pattern(Family.IPV4, 0, each),)) for each in (255, 5)
    )
    for sets in ([plain], [plain, plain]):
        assert not address_atoms(sets, plain).wild
    assert address_atoms([plain, scattered_few], plain).wild
