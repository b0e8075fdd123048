"""Sets in the fewest lines: exact, with the plan's names where they fit, and as all but a few where
that is shorter.
"""

from __future__ import annotations

from collections.abc import Callable

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from crossgate.core.lists.split import ListRegions
from crossgate.core.model.address import Family, Pattern, parse_block, parse_range, pattern
from crossgate.core.model.packet import Packet
from crossgate.core.model.plan import Plan
from crossgate.core.sets.addresses import AddressSet
from crossgate.core.sets.frame import PacketSet
from crossgate.core.sets.minimise import SetLine, fewest_lines
from crossgate.core.sets.patterns import joined, less
from crossgate.core.sets.region import WHOLE, every_packet, term_line
from crossgate.core.wording.services import Sort
from crossgate.core.wording.sets import Wording
from tests import small

slow = settings(
    max_examples=40,
    deadline=None,
    suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow],
)

PLAN = """
subnet hall   10.64.8.0/22  2001:db8:64:8::/64
subnet office 10.64.20.0/24 2001:db8:64:14::/64
router r
    interface a 10.64.8.1/22 on hall
    interface b 10.64.20.1/24 on office
host kiosk 10.64.9.21 2001:db8:64:8::21 on hall
host box   10.64.20.10 on office
group ours 10.64.0.0/16
group cranes 10.64.30.8-10.64.30.27
service booking tcp/8443, tcp/9443
"""


@pytest.fixture
def wording(plan_of: Callable[[str], Plan]) -> Wording:
    return Wording(plan_of(PLAN))


def blocks(*texts: str) -> frozenset[Pattern]:
    return frozenset(
        each
        for text in texts
        for each in (parse_range(text) if "-" in text else (parse_block(text),))
    )


@pytest.mark.parametrize(
    ("patterns", "written"),
    [
        (blocks("0.0.0.0/0"), "any"),
        (blocks("10.64.8.0/22"), "hall"),
        (blocks("10.64.9.21"), "kiosk"),
        (blocks("10.64.8.0/22", "10.64.20.0/24"), "hall, office"),
        (blocks("10.64.30.8-10.64.30.27"), "cranes"),
        (blocks("192.0.2.0/28"), "192.0.2.0/28"),
        (less(blocks("10.64.8.0/22"), blocks("10.64.9.21")), "hall but kiosk"),
        (less(blocks("10.64.20.0/24"), blocks("10.64.20.1", "10.64.20.10")), "office but box, r.b"),
        (less(blocks("0.0.0.0/0"), blocks("10.64.0.0/16")), "any but ours"),
        # All of a name, in pieces of which wildcards overlap.
        (
            blocks("10.64.8.0/23", "10.64.10.0/24", "10.64.11.0/25")
            | {pattern(Family.IPV4, 0x0A400A00, 0x1FF)},
            "hall",
        ),
        (less(blocks("10.64.0.0/16"), blocks("10.64.8.0/22")), "ours but hall"),
        (blocks("2001:db8:64:8::/64"), "hall"),
        (less(blocks("2001:db8:64:8::/64"), blocks("2001:db8:64:8::21")), "hall but kiosk"),
        (frozenset((pattern(Family.IPV4, 0x0A40200A, 0x300),)), "10.64.32.10 wild 0.0.3.0"),
    ],
)
def test_addresses_are_written_with_the_plans_names(
    wording: Wording, patterns: frozenset[Pattern], written: str
) -> None:
    assert wording.addresses(patterns) == written


def test_the_rest_of_a_group_is_told_where_nobody_has_what_lies_between(
    plan_of: Callable[[str], Plan],
) -> None:
    more = "".join(f"subnet s{each} 10.64.{each}.0/24\n" for each in (40, 50, 60, 70))
    wording = Wording(plan_of(PLAN + more))
    others = blocks("10.64.8.0/22", "10.64.40.0/24", "10.64.60.0/24", "10.64.70.0/24")
    rest = joined([*others, *less(blocks("10.64.20.0/24"), blocks("10.64.20.10"))])
    assert wording.addresses(rest, machines=True) == "ours but s50, box"
    # Said of all packets it is told exactly.
    assert "ours" not in wording.addresses(rest)
    # What somebody has is never told as if it were among them.
    assert wording.addresses(others, machines=True) == "hall, s40, s60, s70"


def test_leased_addresses_are_told_as_such(plan_of: Callable[[str], Plan]) -> None:
    wording = Wording(plan_of(PLAN + "leases 10.64.20.32-10.64.20.63 on office by r\n"))
    leased = blocks("10.64.20.32/27")
    assert wording.addresses(leased) == "leases of office"
    assert wording.addresses(less(blocks("10.64.20.0/24"), leased)) == "office but leases of office"


def test_machines_are_told_without_the_devices_among_them(wording: Wording) -> None:
    patterns = less(blocks("10.64.20.0/24"), blocks("10.64.20.1"))
    assert wording.addresses(patterns) == "office but r.b"
    assert wording.addresses(patterns, machines=True) == "office"
    assert (
        wording.addresses(less(patterns, blocks("10.64.20.10")), machines=True)
        == "office but box, r.b"
    )


@pytest.mark.parametrize(
    ("tokens", "written"),
    [
        ("ip", "ip"),
        ("tcp/8443,9443", "booking"),
        ("domain", "domain"),
        ("tcp/443", "https"),
        ("tcp/80,443", "tcp/80,443"),
        ("tcp/8080", "tcp/8080"),
        ("ping", "ping"),
        ("icmp", "icmp"),
        ("gre", "gre"),
        ("253,254", "253, 254"),
        ("252,253,254", "protocols 252-254"),
        ("tcp/1024-,udp/53", "tcp/1024-, udp/53"),
        ("icmp/3/1", "icmp/3/1"),
    ],
)
def test_services_are_written_as_people_do(wording: Wording, tokens: str, written: str) -> None:
    services = [
        every_packet(Family.IPV4)
        ._replace(what=term_line(wording.plan.service(tokens, Family.IPV4).terms))
        .services
    ]
    assert wording.service_words.write(services, Family.IPV4, Sort.PACKET) == written
    if tokens not in ("icmp/3/1",):
        assert wording.service_words.write(services, Family.IPV4, Sort.OPENING) == written


@pytest.mark.parametrize(
    ("tokens", "written"),
    [
        ("tcp/22", "ip but tcp/22"),
        ("tcp/22,23", "ip but tcp/22-23"),
        ("tcp", "ip but tcp"),
        ("ping", "ip but ping"),
    ],
)
def test_all_but_a_few_services_are_written_so(wording: Wording, tokens: str, written: str) -> None:
    every = every_packet(Family.IPV4)
    named = every._replace(what=term_line(wording.plan.service(tokens, Family.IPV4).terms))
    rest = PacketSet.of(every._replace(what=WHOLE)) - PacketSet.of(named)
    assert (
        wording.service_words.write(
            [each.services for each in rest.regions()], Family.IPV4, Sort.OPENING
        )
        == written
    )


def test_qualifiers_are_told_where_any_packet_is_meant(
    wording: Wording, plan_of: Callable[[str], Plan]
) -> None:
    told = {}
    for words in (
        "tcp any to any established flags !ACK",
        "udp any to any source port 53",
        "ip any to any fragments",
        "ip any to any dscp ef",
    ):
        access_list = plan_of(f"list l extended ipv4\n    permit {words}\n").lists["l"]
        region = ListRegions(access_list).regions[0].region
        assert region is not None
        told[words] = wording.service_words.write([region.services], Family.IPV4, Sort.PACKET)
    assert list(told.values()) == [
        "tcp flags RST,!ACK",
        "udp source port 53",
        "ip fragments",
        "ip dscp ef",
    ]


@given(st.sets(st.integers(0, 63), max_size=40))
def test_joined_addresses_are_the_same_and_fewer(values: set[int]) -> None:
    singles = [Pattern(Family.IPV4, value, 0) for value in values]
    found = joined(singles)
    assert {each for one in found for each in range(64) if one.contains(each)} == values
    assert len(found) <= len(singles)
    assert sum(each.size for each in found) == len(values)


@given(
    st.lists(st.tuples(st.integers(0, 15), st.integers(0, 15)), min_size=1, max_size=4),
    st.lists(st.integers(0, 15), max_size=4),
)
def test_less_takes_away_just_what_is_named(
    patterns: list[tuple[int, int]], gone: list[int]
) -> None:
    here = [pattern(Family.IPV4, *each) for each in patterns]
    left = less(here, [Pattern(Family.IPV4, each, 0) for each in gone])
    wanted = {each for each in range(16) if any(one.contains(each) for one in here)} - set(gone)
    assert {each for each in range(16) if any(one.contains(each) for one in left)} == wanted


@slow
@given(st.data(), st.sampled_from(Family))
def test_lines_hold_just_the_packets_of_their_pieces(
    plan_of: Callable[[str], Plan], data: st.DataObject, family: Family
) -> None:
    entries = data.draw(st.lists(small.entry_words(family), min_size=1, max_size=5))
    access_list = plan_of(small.list_text("small", family, entries)).lists["small"]
    first, second = (
        AddressSet.of(family, (Pattern(family, small.BASE[family] | low, 0),)) for low in (0, 1)
    )
    every = every_packet(family)
    asked = every.between(every.source - first, every.destination - second)
    pieces = [
        packets
        for packets, decider in ListRegions(access_list).split(asked)
        if decider.entry is not None
    ]
    written = fewest_lines(pieces)
    for packet in data.draw(
        st.lists(st.sampled_from(list(small.packets(family))), min_size=60, max_size=60)
    ):
        left_out = (
            packet.source == small.BASE[family] or packet.destination == small.BASE[family] | 1
        )
        wanted = not left_out and access_list.decide(packet).entry is not None
        assert any(_holds(line, packet) for line in written) is wanted, packet


def _holds(line: SetLine, packet: Packet) -> bool:
    ends = any(each.contains(packet.source) for each in line.source) and any(
        each.contains(packet.destination) for each in line.destination
    )
    return ends and any(small.serves(each, packet) for each in line.services)
