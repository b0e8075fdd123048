"""Words for addresses stand for exactly these, or for the least around them."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from crossgate.core.answers.entry_words import EntryWords, prefix_around
from crossgate.core.answers.groups import Term
from crossgate.core.model.address import Family
from crossgate.core.model.packet import TCP
from crossgate.library import parse

PLAN = """
subnet a 10.0.0.0/29
router r
    interface a 10.0.0.1/29 on a
host one 10.0.0.2 on a
host two 10.0.0.5 on a
group pair 10.0.0.4-10.0.0.5
group odd 10.0.0.1 wild 0.0.0.6
service web tcp/80, tcp/443
service spare tcp/80-82
"""
START = 10 << 24
WORDS = EntryWords(parse(PLAN), Family.IPV4)
some = st.frozensets(st.integers(START, START + 9), min_size=1)


@given(some)
def test_words_stand_for_exactly_the_addresses_each_once(addresses: frozenset[int]) -> None:
    words = WORDS.for_exactly(addresses)
    assert sorted(value for each in words for value in each.members) == sorted(addresses)
    plain = parse(PLAN + f"group asked {', '.join(each.text for each in words)}\n")
    taken = plain.groups["asked"].members[Family.IPV4].patterns
    more = {START, START + 1, START + 7} if any(each.text == "a" for each in words) else set()
    for value in range(START, START + 10):
        taking = any(each.contains(value) for each in taken)
        assert taking == (value in addresses | more), [each.text for each in words]


@given(some)
def test_what_is_around_addresses_has_them_all_and_is_the_smallest(
    addresses: frozenset[int],
) -> None:
    word = WORDS.around(addresses)
    assert all(any(each.contains(value) for each in word.patterns) for value in addresses)
    assert word.size <= max(addresses) - min(addresses) + 1


def test_a_name_is_used_where_it_is_smaller_than_a_range() -> None:
    assert WORDS.around(frozenset({START + 1, START + 7})).text == "odd"
    assert WORDS.around(frozenset({START + 1, START + 6})).text == "10.0.0.1-10.0.0.6"


def test_the_smallest_prefix_around_addresses() -> None:
    assert str(prefix_around(Family.IPV4, 4, 5)) == "0.0.0.4/31"
    assert str(prefix_around(Family.IPV4, 3, 4)) == "0.0.0.0/29"
    assert str(prefix_around(Family.IPV4, 9, 9)) == "0.0.0.9"


@pytest.mark.parametrize(
    ("ports", "text"),
    [((80, 443), "web"), ((80, 81, 82), "tcp/80-82"), ((80,), "tcp/80"), ((443, 8), "tcp/8,443")],
)
def test_a_name_of_a_service_is_used_for_exactly_its_ports(
    ports: tuple[int, ...], text: str
) -> None:
    terms = frozenset(Term(TCP, port) for port in ports)
    assert WORDS.service(terms, (1024, 65535)) == (text, "")


def test_answers_have_the_ports_of_clients_and_that_of_the_service() -> None:
    answer = frozenset({Term(TCP, 22, reply=True)})
    assert WORDS.service(answer, (2000, 3000)) == ("tcp/2000-3000", " source port 22 established")
