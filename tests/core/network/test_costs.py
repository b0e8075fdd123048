"""Costs of interfaces, passive ones and routes that discard: networks that decide one sentence of
docs/language.md each.
"""

from __future__ import annotations

from collections.abc import Callable

import pytest

from crossgate.core.model.address import parse_address
from crossgate.core.model.errors import PlanErrors
from crossgate.core.model.plan import Plan
from crossgate.core.network.carriers import carriers_of
from crossgate.core.network.endpoints import at_address, pairs
from crossgate.core.network.failure import FailureKind
from crossgate.core.network.paths import Path
from crossgate.core.network.ways import Network

Read = Callable[[str], Plan]
TWO_GATEWAYS = """
subnet users 10.0.1.0/24
subnet link 10.0.255.0/30
subnet far 10.0.2.0/24
router left
    interface users 10.0.1.2/24 on users
    interface link 10.0.255.1/30 on link
router right
    interface users 10.0.1.3/24 on users
    interface link 10.0.255.2/30 on link
    interface far 10.0.2.1/24 on far
gateway 10.0.1.1 on users by left.users, right.users
"""
HOSTS = "host one 10.0.1.10\nhost two 10.0.2.10\n"
SQUARE = """
subnet a 10.0.1.0/24
subnet b 10.0.2.0/24
subnet up 10.0.3.0/24
subnet down 10.0.4.0/24
subnet over 10.0.5.0/24
router near
    interface a 10.0.1.1/24 on a
    interface up 10.0.3.1/24 on up{up}
    interface down 10.0.4.1/24 on down{down}
router short
    interface up 10.0.3.2/24 on up
    interface over 10.0.5.2/24 on over
router long
    interface down 10.0.4.3/24 on down
    interface over 10.0.5.3/24 on over{over}
router end
    interface over 10.0.5.4/24 on over{into}
    interface b 10.0.2.4/24 on b
host one 10.0.1.10
host two 10.0.2.10
"""


def paths(plan: Plan, source: str, destination: str) -> set[tuple[str, ...]]:
    """Return the devices of each equal path, found hop by hop."""
    network = Network(plan)
    start, end = at_address(network, parse_address(source)), parse_address(destination)
    found: set[tuple[str, ...]] = set()

    def go(path: Path) -> None:
        if path.ended:
            found.add(path.devices)
            return
        for hop in network.hops(path.devices[-1], end):
            go(network.along(path, hop, False))

    for begun, hops in network.starts(start, end):
        for hop in hops:
            go(network.along(begun, hop, False))
    return found


def first(plan: Plan, source: str, destination: str) -> Path:
    network = Network(plan)
    return network.path(at_address(network, parse_address(source)), parse_address(destination))


def test_a_subnet_with_machines_is_no_way_through_while_there_is_another(plan_of: Read) -> None:
    assert paths(plan_of(TWO_GATEWAYS + HOSTS), "10.0.1.10", "10.0.2.10") == {
        ("left", "right"),
        ("right",),
    }
    entered = first(plan_of(TWO_GATEWAYS + HOSTS), "10.0.1.10", "10.0.2.10").crossings
    assert [str(each.point) for each in entered].count("left.users") == 1
    alone = TWO_GATEWAYS.replace("    interface link 10.0.255.2/30 on link\n", "") + HOSTS
    assert [
        str(each.point) for each in first(plan_of(alone), "10.0.1.10", "10.0.2.10").crossings
    ].count("left.users") == 2


def test_a_first_machine_between_devices_makes_it_another_network(plan_of: Read) -> None:
    square = SQUARE.format(up="", down="", over="", into="")
    plain, same, other = (
        Network(plan_of(square + more))
        for more in ("", "host three 10.0.2.20\n", "host three 10.0.3.20\n")
    )
    assert same.same_addresses(plain)
    assert not other.same_addresses(plain)
    ways = [paths(each.plan, "10.0.1.10", "10.0.2.10") for each in (plain, other)]
    assert ways[0] != ways[1]
    follows = "list own extended ipv4\n    otherwise permit\nplace own outbound on host one\n"
    followed = Network(plan_of(square + follows))
    assert not followed.same_addresses(plain)


def test_costs_that_are_written_go_before_what_is_on_the_subnet(plan_of: Read) -> None:
    text = (TWO_GATEWAYS + HOSTS).replace("10.0.1.2/24 on users", "10.0.1.2/24 on users cost 1")
    points = [
        str(each.point)
        for each in first(
            plan_of(text.replace("255.1/30 on link", "255.1/30 on link cost 2")),
            "10.0.1.10",
            "10.0.2.10",
        ).crossings
    ]
    assert points.count("left.users") == 2


@pytest.mark.parametrize(
    ("up", "down", "over", "into", "expected"),
    [
        ("", "", "", "", {("near", "short", "end"), ("near", "long", "end")}),
        (" cost 2", "", "", "", {("near", "long", "end")}),
        (" cost 2", "", " cost 2", "", {("near", "short", "end"), ("near", "long", "end")}),
        (" cost 2", "", " cost 3", "", {("near", "short", "end")}),
        ("", " cost 65535", "", "", {("near", "short", "end")}),
        (" passive", "", "", "", {("near", "long", "end")}),
        ("", "", " passive", "", {("near", "short", "end")}),
        # What it costs to leave by the far interface of a link does not count on the way there.
        ("", "", "", " cost 9", {("near", "short", "end"), ("near", "long", "end")}),
    ],
)
def test_the_least_sum_of_the_interfaces_left_by_is_taken(
    plan_of: Read, up: str, down: str, over: str, into: str, expected: set[tuple[str, ...]]
) -> None:
    assert (
        paths(
            plan_of(SQUARE.format(up=up, down=down, over=over, into=into)), "10.0.1.10", "10.0.2.10"
        )
        == expected
    )


def test_nothing_goes_through_a_passive_interface_and_its_subnet_is_reached(plan_of: Read) -> None:
    plan = plan_of(SQUARE.format(up=" passive", down=" passive", over="", into=""))
    lost = first(plan, "10.0.1.10", "10.0.2.10")
    assert lost.failure is not None
    assert lost.failure.kind is FailureKind.NO_ROUTE
    assert first(plan, "10.0.1.10", "10.0.3.2").devices == ("near", "short")


def test_the_exit_to_an_outside_is_the_cheapest_not_the_nearest(plan_of: Read) -> None:
    text = """
outside internet
subnet a 10.0.1.0/24
subnet b 10.0.2.0/24
router slow
    interface a 10.0.1.1/24 on a
    interface b 10.0.2.1/24 on b
    interface sea 203.0.113.1/30 on internet{slow}
router fast
    interface b 10.0.2.2/24 on b
    interface sea 203.0.113.5/30 on internet
host one 10.0.1.10
"""
    assert paths(plan_of(text.format(slow="")), "10.0.1.10", "192.0.2.1") == {("slow",)}
    assert paths(plan_of(text.format(slow=" cost 2")), "10.0.1.10", "192.0.2.1") == {
        ("slow",),
        ("slow", "fast"),
    }
    assert paths(plan_of(text.format(slow=" cost 10")), "10.0.1.10", "192.0.2.1") == {
        ("slow", "fast")
    }
    # Who is connected to the address hands it out itself, whatever that costs.
    assert paths(plan_of(text.format(slow=" cost 10")), "10.0.1.10", "203.0.113.2") == {("slow",)}


def test_a_route_that_discards_ends_a_packet_where_it_is_the_longest(plan_of: Read) -> None:
    text = (
        TWO_GATEWAYS.replace("router right", "    route 10.0.2.0/25 discard\nrouter right")
        + HOSTS
        + "host three 10.0.1.11 on users gateway 10.0.1.2\n"
    )
    plan = plan_of(text)
    lost = first(plan, "10.0.1.11", "10.0.2.10")
    assert lost.failure == (FailureKind.DISCARDED, "discarded at left")
    assert str(lost.failure) == lost.reason
    assert first(plan, "10.0.1.11", "10.0.2.200").arrived


@pytest.mark.parametrize(
    ("line", "message"),
    [
        ("on users cost 0", "0 is no cost; write a cost from 1 to 65535"),
        ("on users cost 65536", "65536 is too large for a cost from 1 to 65535: at most 65535"),
        ("on users cost 2 cost 2", "cost is written twice"),
        ("on users passive passive", "passive is written twice"),
    ],
)
def test_costs_that_are_none(plan_of: Read, line: str, message: str) -> None:
    with pytest.raises(PlanErrors, match=message):
        plan_of(TWO_GATEWAYS.replace("10.0.1.2/24 on users", f"10.0.1.2/24 {line}"))


def test_neighbours_over_an_outside_are_none_so_passive_says_nothing_there(plan_of: Read) -> None:
    text = "outside net\nrouter one\n    interface w 203.0.113.1/30 on net passive\n"
    with pytest.raises(
        PlanErrors,
        match="net is an outside, over which no device is a neighbour; leave passive out",
    ):
        plan_of(text)
    with pytest.raises(PlanErrors, match="write 0\\.0\\.0\\.0/0 or ::/0"):
        plan_of(text.replace(" passive", "") + "    route default discard\n")


def test_a_dear_exit_keeps_others_from_a_cheaper_way(plan_of: Read) -> None:
    plan = plan_of("""
subnet a 10.0.1.0/24
subnet b 10.0.2.0/24
subnet left 10.0.3.0/24
subnet right 10.0.4.0/24
subnet between 10.0.5.0/24
router near
    interface a 10.0.1.1/24 on a
    interface left 10.0.3.1/24 on left
    interface right 10.0.4.1/24 on right cost 10
router dear
    interface left 10.0.3.2/24 on left
    interface between 10.0.5.2/24 on between
    interface b 10.0.2.2/24 on b cost 65535
router plain
    interface right 10.0.4.3/24 on right
    interface between 10.0.5.3/24 on between
    interface b 10.0.2.3/24 on b
host one 10.0.1.10
host two 10.0.2.10
""")
    exit_of_dear = plan.devices["dear"].interfaces["b"].point
    assert paths(plan, "10.0.1.10", "10.0.2.10") == {("near", "plain")}
    network = Network(plan)
    assert exit_of_dear in carriers_of(
        network, at_address(network, parse_address("10.0.1.10")), parse_address("10.0.2.10")
    )
    assert paths(plan.without([exit_of_dear]), "10.0.1.10", "10.0.2.10") == {
        ("near", "dear", "plain")
    }


@pytest.mark.parametrize(
    ("link", "own"), [("", "10.0.255.1"), (" cost 100", "10.0.1.2"), (" cost 101", "10.0.1.2")]
)
def test_a_device_sends_from_the_interface_that_it_leaves_by(
    plan_of: Read, link: str, own: str
) -> None:
    text = TWO_GATEWAYS.replace("10.0.255.1/30 on link", f"10.0.255.1/30 on link{link}") + HOSTS
    ((start, _),) = pairs(Network(plan_of(text)), "left", "two")
    assert str(start.address) == own
