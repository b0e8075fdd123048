"""Places on the way between two ends: the machines that stand for a subnet or an outside."""

from __future__ import annotations

import pytest

from crossgate.core.answers.points import points
from crossgate.core.model.errors import PlanError
from crossgate.core.network.ways import Network
from tests.conftest import Read

NET = """
subnet staff 10.0.0.0/24
subnet empty 10.1.0.0/24 2001:db8:1::/64
subnet alone 10.2.0.0/24
outside internet
router r
    interface a 10.0.0.1/24 on staff
    interface b 10.1.0.1/24 2001:db8:1::1/64 on empty
    interface c 203.0.113.1/30 on internet
host first 10.0.0.9 on staff
host second 10.0.0.8 on staff
"""


def ends(plan_of: Read, source: str, destination: str, more: str = "") -> list[tuple[str, str]]:
    found = points(Network(plan_of(NET + more)), source, destination)
    return [(each.source.name, each.destination.name) for each in found]


@pytest.mark.parametrize(
    ("source", "destination", "expected"),
    [
        ("staff", "r", [("first", "r")]),
        ("staff", "first", [("second", "first")]),
        ("first", "staff", [("first", "second")]),
        ("staff", "staff", [("first", "second")]),
        ("empty", "first", [("10.1.0.2", "first")]),
        ("empty", "r.b", [("10.1.0.2", "r.b"), ("2001:db8:1::2", "r.b")]),
        ("internet", "first", [("198.51.100.1", "first")]),
        ("first", "internet", [("first", "198.51.100.1")]),
    ],
)
def test_a_machine_stands_for_where_it_is(
    plan_of: Read, source: str, destination: str, expected: list[tuple[str, str]]
) -> None:
    assert ends(plan_of, source, destination) == expected


def test_a_host_of_the_outside_stands_for_it_first(plan_of: Read) -> None:
    assert ends(plan_of, "internet", "first", "host web 192.0.2.9 on internet\n") == [
        ("web", "first")
    ]


def test_what_the_outside_leaves_out_stands_for_nobody(plan_of: Read) -> None:
    ((_, end),) = ends(plan_of, "first", "internet", "subnet doc 198.51.100.0/24\n")
    assert not end.startswith("198.51.100.")


@pytest.mark.parametrize(
    ("source", "destination", "told"),
    [
        ("alone", "first", "stands for many machines"),
        ("first", "first", "are the same machine"),
        ("first", "10.0.0.9", "are the same machine"),
        ("nowhere", "first", "no host nowhere"),
        ("first", "2001:db8:1::9", "there is no way to talk"),
    ],
)
def test_where_there_is_no_pair_it_is_said(
    plan_of: Read, source: str, destination: str, told: str
) -> None:
    with pytest.raises(PlanError, match=told):
        ends(plan_of, source, destination)
