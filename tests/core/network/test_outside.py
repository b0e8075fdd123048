"""Outsides: whose addresses they have, where packets leave for them and come in, and that they join
no devices.
"""

from __future__ import annotations

import re
from collections.abc import Callable

import pytest

from crossgate.core.answers.verify import Verifier
from crossgate.core.model.address import parse_address
from crossgate.core.model.errors import PlanError
from crossgate.core.model.plan import Plan
from crossgate.core.network.endpoints import pairs
from crossgate.core.network.ways import Network
from crossgate.core.traffic.session import Session

Read = Callable[[str], Plan]

NET = """
subnet a 10.0.1.0/24
subnet m 10.0.9.0/24
outside world
outside partner 192.0.2.0/24
router r1
    interface a 10.0.1.1/24 on a
    interface m 10.0.9.1/24 on m
{route}
router r2
    interface m 10.0.9.2/24 on m
    interface o 198.51.100.2/28 on world
router r3
    interface m 10.0.9.3/24 on m
    interface p 192.0.2.2/28 on partner
host h 10.0.1.7 on a
"""


def net(route: str = "", more: str = "") -> str:
    return NET.format(route=route and f"    route {route}") + more


def way(plan: Plan, source: str, destination: str) -> list[str]:
    network = Network(plan)
    start, end = pairs(network, source, destination)[0]
    path = network.path(start, end.address)
    return [f"{each.point} {each.direction}" for each in path.crossings if each.point.device] + (
        [] if path.arrived else [path.reason]
    )


def test_an_address_is_on_one_outside(plan_of: Read) -> None:
    plan = plan_of(net(more="subnet inner 192.0.2.128/28\nhost w 203.0.113.9 on world\n"))
    texts = ("192.0.2.9", "192.0.2.130", "203.0.113.9", "198.51.100.9", "10.0.1.9")
    where = {
        text: segment.name for text in texts if (segment := plan.segment_of(parse_address(text)))
    }
    assert where == {
        "192.0.2.9": "partner",
        "192.0.2.130": "inner",
        "203.0.113.9": "world",
        "198.51.100.9": "world",
        "10.0.1.9": "a",
    }


def test_the_nearest_exit_is_taken_where_no_static_route_fits(plan_of: Read) -> None:
    plan = plan_of(net())
    assert way(plan, "h", "192.0.2.77")[-1] == "r3.p outbound"
    assert way(plan, "h", "203.0.113.77")[-1] == "r2.o outbound"
    assert way(plan, "192.0.2.77", "h")[0] == "r3.p inbound"
    assert way(plan, "203.0.113.77", "h")[0] == "r2.o inbound"


def test_a_static_route_is_asked_first_and_leaves_where_it_leads(plan_of: Read) -> None:
    plan = plan_of(
        net("default via 10.0.9.2").replace(
            "on world\n", "on world\n    route default via 198.51.100.1\n"
        )
    )
    assert way(plan, "h", "203.0.113.77")[-1] == "r2.o outbound"
    assert way(plan, "h", "192.0.2.77")[-1] == "it goes out to world, but 192.0.2.77 is in partner"


@pytest.mark.parametrize("name", ["", "host v 203.0.113.8 on world\n"])
def test_naming_a_machine_outside_changes_no_way(plan_of: Read, name: str) -> None:
    text = net("default via 10.0.9.3", name).replace("outside partner 192.0.2.0/24\n", "")
    text = text.replace(
        "interface p 192.0.2.2/28 on partner",
        "interface p 203.0.113.33/28 on world\n    route default via 203.0.113.34",
    )
    assert way(plan_of(text), "h", "203.0.113.8")[-1] == "r3.p outbound"
    assert way(plan_of(text.replace("    route default via 10.0.9.3\n", "")), "h", "203.0.113.8")[
        -1
    ] in ("r2.o outbound", "r3.p outbound")


def test_an_outside_joins_no_devices(plan_of: Read) -> None:
    apart = (
        net()
        .replace("outside partner 192.0.2.0/24\n", "")
        .replace("    interface m 10.0.9.2/24 on m\n", "")
        .replace("192.0.2.2/28 on partner", "198.51.100.3/28 on world")
    )
    far = (
        "subnet far 10.0.7.0/24\nrouter r4\n    interface f 10.0.7.1/24 on far\n    interface o "
        "198.51.100.5/28 on world\nhost x 10.0.7.7 on far\n"
    )
    assert "r1 has no route to 10.0.7.7" in way(plan_of(apart + far), "h", "x")[-1]
    told = (
        apart.replace(
            "198.51.100.3/28 on world",
            "198.51.100.3/28 on world\n    route 10.0.7.0/24 via 198.51.100.5",
        )
        + far
    )
    told = told.replace("router r1\n", "router r1\n    route 10.0.7.0/24 via 10.0.9.3\n")
    assert "an outside is no way between two devices" in way(plan_of(told), "h", "x")[-1]
    assert way(plan_of(apart + far), "h", "r4.o")[-2:] == ["r4.o inbound", "r4 itself inbound"]


def test_claims_about_an_outside_are_about_its_addresses(plan_of: Read) -> None:
    text = net(
        more=(
            "list l extended ipv4\n    deny ip any to 192.0.2.0/24\n    permit ip any to "
            "any\nplace l inbound on r1.a\n"
        )
    )
    plan = plan_of(
        text
        + (
            "expect deny udp h to partner\nexpect permit udp h to world\nexpect deny udp h to "
            "192.0.2.0/24\n"
        )
    )
    results = [Verifier(Session(plan)).verify(each) for each in plan.expectations]
    assert [each.held for each in results] == [True, True, True], results


@pytest.mark.parametrize(
    ("change", "says"),
    [
        (
            ("outside partner 192.0.2.0/24", "outside partner"),
            "only one outside can be all the rest; write what partner has",
        ),
        (("host h", "outside third 192.0.2.64/26\nhost h"), "every outside has its own addresses"),
        (
            ("host h", "host v 192.0.2.9 on world\nhost h"),
            "192.0.2.9 is in partner, so it is not on world",
        ),
        (
            ("host h", "host v 203.0.113.9 on partner\nhost h"),
            "203.0.113.9 is not in partner, which is 192.0.2.0/24",
        ),
        (("host h", "host v 10.0.1.99 on world\nhost h"), "10.0.1.99 is in a"),
        (
            ("192.0.2.2/28 on partner", "192.0.2.2/23 on partner"),
            "192.0.2.0/23 reaches beyond partner",
        ),
        (("host h", "subnet all 192.0.2.0/24\nhost h"), "192.0.2.0/24 has no address outside"),
    ],
)
def test_what_is_nobodys_or_two_outsides_is_told(
    plan_of: Read, change: tuple[str, str], says: str
) -> None:
    with pytest.raises(PlanError, match=re.escape(says)):
        plan_of(net().replace(*change))
