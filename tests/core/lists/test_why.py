"""Why entries do not take packets: the first field that differs."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from crossgate.core.lists.index import ListIndex
from crossgate.core.lists.why import Field, differing, passed_over
from crossgate.core.model.accesslist import AccessList
from crossgate.core.model.address import Addresses, Family, parse_address
from crossgate.core.model.conditions import When
from crossgate.core.model.entry import Entry
from crossgate.core.model.packet import Packet
from crossgate.core.model.plan import Plan
from crossgate.core.wording.why import bits, reasons
from tests.net import openings, plans

Read = Callable[[str], Plan]
MONDAY, SUNDAY = datetime(2026, 11, 30, 12), datetime(2026, 11, 29, 12)


@settings(max_examples=25, deadline=None)
@given(text=plans(), family=st.sampled_from(Family), at=st.sampled_from([MONDAY, SUNDAY]))
def test_all_entries_above_the_line_that_decides_are_passed(
    plan_of: Read, text: str, family: Family, at: datetime
) -> None:
    plan = plan_of(text)
    for flooding in (False, True):
        state = plan.state_at(When(at, flooding))
        for own in plan.lists.values():
            index = ListIndex(own, state)
            for packet in openings(family) if own.family is family else ():
                decider = index.decide(packet)
                above = [
                    each
                    for each in own.entries
                    if decider.entry is None or each.number < decider.entry.number
                ]
                passed = list(passed_over(own, packet, state, decider))
                assert [each.entry for each in passed] == above
                if isinstance(decider.entry, Entry):
                    assert differing(decider.entry, packet, state) is None


WINDOWS = "window night daily 22:00-05:30\n"
FIRST = Packet(
    Family.IPV4,
    parse_address("10.0.0.9").value,
    parse_address("10.1.7.12").value,
    6,
    51000,
    80,
    flags=2,
)
PING = FIRST._replace(
    protocol=1, source_port=None, destination_port=None, flags=None, icmp_type=8, icmp_code=0
)


@pytest.mark.parametrize(
    ("entry", "packet", "field", "text"),
    [
        ("off permit tcp/80 any to any", FIRST, Field.OFF, "it is off"),
        ("permit tcp/80 any to any during night", FIRST, Field.WINDOW, "night is shut"),
        ("permit udp/80 any to any", FIRST, Field.PROTOCOL, "another protocol, tcp"),
        ("permit tcp/81,443 10.9.9.9 to any", FIRST, Field.PORT, "another port, 80"),
        ("permit icmp/3 any to any", PING, Field.TYPE, "another ICMP type, 8"),
        ("permit icmp/8/1 any to any", PING, Field.TYPE, "another ICMP type, 8"),
        ("permit tcp/80 10.0.0.8 to 10.9.9.9", FIRST, Field.SOURCE, "another source, 10.0.0.9"),
        ("permit ip any to 10.1.7.13", PING, Field.DESTINATION, "another destination, 10.1.7.12"),
        (
            "permit tcp any to any source port 80",
            FIRST,
            Field.SOURCE_PORT,
            "another source port, 51000",
        ),
        ("permit tcp any to any established", FIRST, Field.FLAGS, "other flags, SYN"),
        ("permit ip any to any fragments", FIRST, Field.FRAGMENT, "no later fragment"),
        (
            "permit tcp/80 any to any",
            FIRST._replace(source_port=None, destination_port=None, flags=None, fragment=True),
            Field.FRAGMENT,
            "a later fragment has no ports",
        ),
        ("permit ip any to any dscp ef", FIRST, Field.DSCP, "another marking, 0"),
    ],
)
def test_the_first_field_that_differs(
    plan_of: Read, entry: str, packet: Packet, field: Field, text: str
) -> None:
    plan = plan_of(f"{WINDOWS}list l extended ipv4\n    10 {entry}\n")
    (own,) = plan.lists.values()
    decider = ListIndex(own, frozenset()).decide(packet)
    (passed,) = passed_over(own, packet, frozenset(), decider)
    assert passed.field is field
    (reason,) = reasons([passed], packet)
    assert reason.text == text


def test_what_is_beyond_a_limit(plan_of: Read) -> None:
    plan = plan_of("list l extended ipv4\n    10 permit tcp/80 any to any at most 5 a second\n")
    own = plan.lists["l"]
    assert differing(own.entries[0], FIRST, frozenset()) is None
    assert differing(own.entries[0], FIRST, plan.limits) is Field.LIMIT


def numbered(plan: Plan) -> AccessList:
    return plan.lists["l"]


def test_long_runs_are_folded(plan_of: Read) -> None:
    entries = "".join(f"    permit tcp/{port} any to any\n" for port in range(81, 90))
    own = numbered(plan_of(f"list l extended ipv4\n    permit udp any to any\n{entries}"))
    passed = list(passed_over(own, FIRST, frozenset(), ListIndex(own, frozenset()).decide(FIRST)))
    told = [
        (each.first.entry.number, each.last.entry.number, each.text)
        for each in reasons(passed, FIRST)
    ]
    assert told == [(10, 10, "another protocol, tcp"), (20, 100, "other ports")]
    assert len(list(reasons(passed, FIRST, every=True))) == 10


def of(plan_of: Read, text: str) -> Addresses:
    entry = numbered(plan_of(f"list l standard ipv4\n    permit {text}\n")).entries[0]
    return entry.source


def test_a_wildcard_bit_by_bit(plan_of: Read) -> None:
    address = parse_address("10.1.7.13")
    rows = bits(of(plan_of, "10.1.1.12 wild 0.0.6.0"), address)
    assert rows == [
        ("10.1.1.12", "00001010.00000001.00000001.00001100"),
        ("0.0.6.0", "00000000.00000000.00000110.00000000"),
        ("10.1.7.13", "00001010.00000001.00000111.00001101"),
        ("", " " * 34 + "^"),
    ]
    assert bits(of(plan_of, "10.1.0.0/16"), address) == []
