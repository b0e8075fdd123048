"""Cables, gateways, routes and address classes of the network; windows and their states; grids."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime, timedelta
from itertools import product

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from crossgate.core.answers.grid import cells, changes, default_services, hosts_of
from crossgate.core.conversation.packets import Tracer
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.address import Address, Family, parse_address
from crossgate.core.model.errors import PlanError
from crossgate.core.model.named import UnknownName
from crossgate.core.model.network import Direction
from crossgate.core.model.plan import Plan
from crossgate.core.model.window import open_at, states
from crossgate.core.network.endpoints import at_address, candidates, endpoint_set, pairs
from crossgate.core.network.layer2 import Wire
from crossgate.core.network.paths import Endpoint
from crossgate.core.network.ways import Network

Read = Callable[[str], Plan]

SWITCHES = """
subnet a 10.0.0.0/24
switch one
    interface va 10.0.0.1/24 on a
    port 1
    port 2 to two.1
switch two
    port 1
    port 2 to three.1
    port 3
switch three
    port 1
    port 2
switch alone
    port 1
host left   10.0.0.11 on a at one.1
host middle 10.0.0.12 on a at two.3
host right  10.0.0.13 on a at three.2
host off    10.0.0.14 on a at alone.1
host loose  10.0.0.15 on a
"""


def crossings(plan: Plan, source: str, destination: str) -> list[str]:
    network = Network(plan)
    start, end = pairs(network, source, destination)[0]
    path = network.path(start, end.address)
    return (
        [f"{each.point} {each.direction}" for each in path.crossings]
        if path.arrived
        else [path.reason]
    )


def test_frames_follow_the_cables_between_switches(plan_of: Read) -> None:
    plan = plan_of(SWITCHES)
    assert crossings(plan, "left", "right") == [
        "one.1 inbound",
        "one.2 outbound",
        "two.1 inbound",
        "two.2 outbound",
        "three.1 inbound",
        "three.2 outbound",
    ]
    assert crossings(plan, "middle", "left") == [
        "two.3 inbound",
        "two.1 outbound",
        "one.2 inbound",
        "one.1 outbound",
    ]
    assert crossings(plan, "right", "one") == [
        "three.2 inbound",
        "three.1 outbound",
        "two.2 inbound",
        "two.1 outbound",
        "one.2 inbound",
        "one.va inbound",
        "one itself inbound",
    ]
    assert crossings(plan, "left", "loose") == ["one.1 inbound"]
    assert "no cable leads to off" in crossings(plan, "left", "off")[0]


def test_a_wire_knows_where_machines_hang(plan_of: Read) -> None:
    plan = plan_of(SWITCHES)
    wire = Wire(plan)
    at = {name: host.at for name, host in plan.hosts.items()}
    assert wire.between(at["left"], at["left"]) == []
    assert wire.between(at["left"], at["off"]) is None
    there, back = wire.between(at["left"], at["right"]), wire.between(at["right"], at["left"])
    assert there is not None
    assert back is not None
    turned = {Direction.INBOUND: Direction.OUTBOUND, Direction.OUTBOUND: Direction.INBOUND}
    assert [(point, turned[direction]) for point, direction in reversed(there)] == back


GATEWAYS = """
subnet a 10.1.0.0/24 2001:db8:1::/64
subnet b 10.2.0.0/24 2001:db8:2::/64
subnet c 10.3.0.0/24
outside sea
router near
    interface a 10.1.0.1/24 2001:db8:1::1/64 on a
    interface b 10.2.0.1/24 2001:db8:2::1/64 on b
router other
    interface a 10.1.0.2/24 on a
    interface c 10.3.0.1/24 on c
    interface sea 203.0.113.1/30 on sea
host one  10.1.0.10 2001:db8:1::10 on a
host told 10.1.0.11 on a gateway 10.1.0.2
host two  10.2.0.10 2001:db8:2::10 on b
host three 10.3.0.10 on c
host far  198.51.100.1 on sea
"""


def test_the_nearest_gateway_is_taken_unless_another_is_told(plan_of: Read) -> None:
    plan = plan_of(GATEWAYS)
    assert crossings(plan, "one", "two")[1] == "near.a inbound"
    assert crossings(plan, "one", "three")[1] == "other.a inbound"
    assert crossings(plan, "told", "two")[:3] == [
        "subnet a outbound",
        "other.a inbound",
        "other.a outbound",
    ]
    assert crossings(plan, "two", "three")[-2:] == ["other.c outbound", "subnet c inbound"]
    assert crossings(plan, "two", "far")[-1] == "other.sea outbound"
    assert crossings(plan, "far", "two")[0] == "other.sea inbound"


def test_each_family_has_ways_of_its_own(plan_of: Read) -> None:
    network = Network(plan_of(GATEWAYS + "subnet d 2001:db8:4::/64\nhost six 2001:db8:4::6 on d\n"))
    found = [start.address.family for start, _ in pairs(network, "one", "two")]
    assert found == [Family.IPV4, Family.IPV6]
    start, end = pairs(network, "one", "six")[0]
    path = network.path(start, end.address)
    assert not path.arrived
    assert "no route to 2001:db8:4::6" in path.reason


def test_an_address_stands_for_who_has_it(plan_of: Read) -> None:
    network = Network(plan_of(GATEWAYS))
    told = {
        text: at_address(network, parse_address(text))
        for text in ("10.1.0.10", "10.2.0.1", "10.2.0.99", "192.0.2.1")
    }
    assert [end.name for end in told.values()] == ["one", "10.2.0.1", "10.2.0.99", "192.0.2.1"]
    assert [end.segment for end in told.values()] == ["a", "b", "b", "sea"]
    assert [end.device for end in told.values()] == [None, "near", None, None]
    with pytest.raises(PlanError, match="is in no subnet, and the plan has no outside"):
        at_address(Network(plan_of("subnet a 10.1.0.0/24\n")), parse_address("192.0.2.1"))


def test_a_device_stands_for_its_nearest_interface(plan_of: Read) -> None:
    network = Network(plan_of(GATEWAYS))
    assert len(candidates(network, "near")) == 4
    assert str(pairs(network, "two", "near")[0][1].address) == "10.2.0.1"
    assert str(pairs(network, "one", "near")[0][1].address) == "10.1.0.1"
    assert str(pairs(network, "three", "other")[0][1].address) == "10.3.0.1"


@pytest.mark.parametrize(
    ("word", "four", "six"),
    [
        ("any", ["any"], ["any"]),
        ("one", ["10.1.0.10"], ["2001:db8:1::10"]),
        ("c", ["10.3.0.0/24"], []),
        ("near", ["10.1.0.1", "10.2.0.1"], ["2001:db8:1::1", "2001:db8:2::1"]),
        ("near.b", ["10.2.0.1"], ["2001:db8:2::1"]),
        ("10.1.0.0/25", ["10.1.0.0/25"], []),
        ("10.1.0.2-10.1.0.3", ["10.1.0.2/31"], []),
        ("2001:db8::/32", [], ["2001:db8::/32"]),
        ("sea", ["any"], ["any"]),
    ],
)
def test_a_word_stands_for_a_set(plan_of: Read, word: str, four: list[str], six: list[str]) -> None:
    plan = plan_of(GATEWAYS)
    told = [[str(each) for each in endpoint_set(plan, word, family).patterns] for family in Family]
    assert told == [four, six]
    assert endpoint_set(plan, word, Family.IPV4).outside == ("sea" if word == "sea" else None)


def test_points_and_lists_are_found_by_name(plan_of: Read) -> None:
    plan = plan_of(GATEWAYS + "list l extended ipv4\n")
    assert str(plan.point("near.a")) == "near.a"
    assert plan.access_list("l").name == "l"
    for look, says in (
        (lambda: plan.point("neer.a"), "there is near"),
        (lambda: plan.access_list("L"), "there is l"),
    ):
        with pytest.raises(UnknownName, match=says):
            look()


def test_paths_are_kept_and_the_first_of_the_good_ones(plan_of: Read) -> None:
    network = Network(plan_of(GATEWAYS))
    start = Endpoint("one", Address(Family.IPV4, 0x0A01000A), "a")
    end = parse_address("10.2.0.10")
    assert network.path(start, end) is network.path(start, end)
    assert network.ways(start, end) == [network.path(start, end)]
    assert network.distance("a", "b", Family.IPV4) == 100
    assert network.distance("b", "c", Family.IPV4) == 200


# ---- windows
# -----

WINDOWS = st.lists(
    st.one_of(
        st.builds(
            lambda days, start, end: (
                f"{days} {start // 4:02}:{start % 4 * 15:02}-{end // 4:02}:{end % 4 * 15:02}"
            ),
            st.sampled_from(["daily", "weekdays", "weekends", "mon", "fri-mon", "sun"]),
            st.integers(0, 95),
            st.integers(0, 95),
        ),
        st.builds(
            lambda day, hours: (
                f"2026-12-{day:02} 06:00 to 2026-12-{day + hours // 24:02} {hours % 24:02}:30"
            ),
            st.integers(1, 20),
            st.integers(7, 180),
        ),
    ),
    min_size=1,
    max_size=4,
)


@settings(
    max_examples=30,
    deadline=None,
    suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow],
)
@given(WINDOWS)
def test_every_state_that_windows_can_be_in_is_found(plan_of: Read, texts: list[str]) -> None:
    plan = plan_of("".join(f"window w{number} {text}\n" for number, text in enumerate(texts)))
    windows = list(plan.windows.values())
    found = states(windows)
    for names, moment in found.items():
        assert open_at(windows, moment) == names
    start = datetime(2026, 11, 20)
    for quarter in range(0, 45 * 96, 3):
        assert open_at(windows, start + timedelta(minutes=15 * quarter)) in found


@settings(
    max_examples=20,
    deadline=None,
    suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow],
)
@given(WINDOWS, st.integers(0, 7 * 24 * 60 - 1))
def test_states_at_a_minute_of_the_week_are_those_of_every_week(
    plan_of: Read, texts: list[str], minute: int
) -> None:
    plan = plan_of("".join(f"window w{number} {text}\n" for number, text in enumerate(texts)))
    windows = list(plan.windows.values())
    found = states(windows, minute)
    monday = datetime(2026, 11, 16)
    for week in range(8):
        assert open_at(windows, monday + timedelta(weeks=week, minutes=minute)) in found


# ---- grids
# -----

GRID = GATEWAYS + (
    "group pair one, 10.2.0.0/28\nlist l extended ipv4\n    permit tcp/80 any to any\n    permit "
    "udp/53 any to three\n"
    "place l inbound on near.a\nplace l inbound on other.a\n"
    "expect permit http one to two over ipv4\nexpect permit ip one to one\nexpect permit tcp one "
    "to two\n"
)


def test_names_stand_for_their_hosts(plan_of: Read) -> None:
    plan = plan_of(GRID)
    assert hosts_of(plan, []) == ["one", "told", "two", "three", "far"]
    assert hosts_of(plan, ["a", "far"]) == ["one", "told", "far"]
    assert hosts_of(plan, ["pair"]) == ["one", "two"]
    with pytest.raises(PlanError, match="no host, subnet or group nobody"):
        hosts_of(plan, ["nobody"])


def test_the_services_expected_are_the_default_as_far_as_they_name_packets(plan_of: Read) -> None:
    network = Network(plan_of(GRID))
    assert default_services(network, ["one", "a"]) == (["http", "ping"], ["ip", "tcp"])
    assert default_services(network, ["a"]) == (["http", "ip", "tcp", "ping"], [])


def test_a_cell_is_what_a_trace_of_each_part_tells(plan_of: Read) -> None:
    plan = plan_of(GRID)
    network = Network(plan)
    names = list(plan.hosts)
    found = {
        (cell.source, cell.destination, cell.service): cell
        for cell in cells(Tracer(network), names, names, ["http", "domain"])
    }
    assert len(found) == 2 * len(names) * (len(names) - 1)
    assert found[("one", "two", "http")].verdicts() == {
        Family.IPV4: (Verdict.PERMITTED,),
        Family.IPV6: (Verdict.PERMITTED,),
    }
    assert found[("one", "two", "domain")].verdicts()[Family.IPV4] == (Verdict.DENIED,)
    assert found[("one", "three", "domain")].verdicts() == {
        Family.IPV4: (Verdict.DENIED, Verdict.PERMITTED)
    }
    for source, destination in product(names, repeat=2):
        if source != destination:
            assert set(found[(source, destination, "http")].fates) == {
                start.address.family for start, _ in pairs(network, source, destination)
            }


def test_only_what_changed_is_told(plan_of: Read) -> None:
    plans = [plan_of(GRID), plan_of(GRID.replace("permit tcp/80", "deny tcp/80"))]
    grids = [
        list(cells(Tracer(Network(plan)), ["one"], ["two", "three"], ["http"])) for plan in plans
    ]
    found = list(changes(*grids))
    assert [(each.destination, each.family, each.was, each.now) for each in found] == [
        ("two", Family.IPV4, (Verdict.PERMITTED,), (Verdict.DENIED,)),
        ("three", Family.IPV4, (Verdict.PERMITTED,), (Verdict.DENIED,)),
    ]
    assert list(changes(grids[0], grids[0])) == []
    assert [each.now for each in changes(grids[0], [])] == [None] * 3


def test_a_route_by_nobody_hides_no_other_one(plan_of: Read) -> None:
    text = """
subnet a 10.0.0.0/24
subnet b 10.0.1.0/24
subnet c 10.0.2.0/24
router one
    interface a 10.0.0.1/24 on a
    interface b 10.0.1.1/24 on b
    ROUTES
router two
    interface b 10.0.1.2/24 on b
    interface c 10.0.2.2/24 on c
host x 10.0.0.9 on a
host y 10.0.2.9 on c
"""
    routes = ["route 10.0.2.0/24 via 10.0.1.2", "route 10.0.2.0/24 via 10.0.1.77"]
    for several in (routes, routes[::-1]):
        network = Network(plan_of(text.replace("ROUTES", "\n    ".join(several))))
        start, end = pairs(network, "x", "y")[0]
        assert network.path(start, end.address).devices == ("one", "two")
