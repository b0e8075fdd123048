"""Small networks that decide what docs/language.md says in one sentence each."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from crossgate import trace, verify
from crossgate.core.model.plan import Plan

Read = Callable[[str], Plan]
L = "list L extended ipv4\n    10 deny ip any to any\n"


def verdicts(plan: Plan, source: str, destination: str, service: str) -> set[str]:
    return {str(each.verdict) for each in trace(plan, source, destination, service)}


def test_an_outside_in_an_only_line_is_its_own_addresses(plan_of: Read) -> None:
    text = (
        "subnet n0 10.1.0.0/24\nsubnet n2 10.2.0.0/24\noutside abroad\nrouter a\n    interface n0 "
        "10.1.0.1/24 on n0\n"
        "    interface n2 10.2.0.1/24 on n2\n    interface o 203.0.113.2/28 on abroad\nlist f "
        "extended ipv4\n"
        "    10 permit https n0 to any\n    20 permit ip any to n0\nplace f inbound on a.n0\n"
        "expect only https n0 to abroad\nexpect only nothing n0 to n2\n"
    )
    assert [each.held for each in verify(plan_of(text))] == [True, False]
    assert [each.held for each in verify(plan_of(text + "expect only https n0 to n2\n"))] == [
        True,
        True,
        True,
    ]


@pytest.mark.parametrize("where", ["z1", "b2"])
def test_a_static_route_takes_all_equal_interfaces(plan_of: Read, where: str) -> None:
    plan = plan_of(
        "subnet a 10.1.0.0/24\nsubnet t 10.9.0.0/24\nsubnet b 10.2.0.0/24\nrouter r\n    "
        "interface a 10.1.0.1/24 on a\n"
        "    interface z1 10.9.0.1/24 on t\n    interface b2 10.9.0.3/24 on t\n    route "
        "10.2.0.0/24 via 10.9.0.2\nrouter s\n"
        "    interface t 10.9.0.2/24 on t\n    interface b 10.2.0.1/24 on b\nhost h 10.1.0.5 on "
        "a\nhost k 10.2.0.5 on b\n"
        f"{L}place L outbound on r.{where}\n"
    )
    (found,) = trace(plan, "h", "k", "udp/514")
    assert found.differing is not None


def test_a_device_is_connected_only_to_prefixes_that_it_has_an_address_in(plan_of: Read) -> None:
    text = (
        "subnet n1 10.1.0.0/24 10.2.0.0/24\nsubnet n3 10.3.0.0/24\nrouter b0\n    interface a "
        "10.1.0.1/24 on n1\n"
        "    interface c 10.3.0.1/24 on n3\nrouter b1\n    interface a 10.2.0.1/24 on n1\n"
        "host h5 10.3.0.5 on n3\nhost h2 10.2.0.5 on n1\n"
    )
    assert verdicts(plan_of(text), "h5", "h2", "udp/514") == {"permitted"}
    assert verdicts(plan_of(f"{text}{L}place L outbound on b1.a\n"), "h5", "h2", "udp/514") == {
        "denied"
    }
    assert verdicts(
        plan_of(text.replace("router b1\n    interface a 10.2.0.1/24 on n1\n", "")),
        "h5",
        "h2",
        "udp/514",
    ) == {"unroutable"}


@pytest.mark.parametrize(
    "destination", ["239.1.1.1", "127.0.0.1", "10.1.0.9", "10.9.0.9", "255.255.255.255"]
)
@pytest.mark.parametrize("gateway", ["router a\n    interface n0 10.1.0.1/24 on n0\n", ""])
def test_a_machines_own_list_is_asked_of_all_that_it_sends(
    plan_of: Read, destination: str, gateway: str
) -> None:
    text = f"subnet n0 10.1.0.0/24\nsubnet n9 10.9.0.0/24\n{gateway}host h 10.1.0.5 on n0\n"
    assert verdicts(
        plan_of(f"{text}{L}place L inbound on host h\n"), "h", destination, "udp/514"
    ) == {"denied"}
    assert "denied" not in verdicts(plan_of(text), "h", destination, "udp/514")


def test_a_machines_own_list_is_asked_where_no_cable_leads_on(plan_of: Read) -> None:
    plan = plan_of(
        "subnet n0 10.1.0.0/24\nsubnet n1 10.2.0.0/24\nrouter r\n    interface a 10.1.0.1/24 on "
        "n0 at two.1\n"
        "    interface b 10.2.0.1/24 on n1\nswitch one\n    port 1\nswitch two\n    port 1\nhost "
        "h 10.1.0.5 on n0 at one.1\nhost k 10.2.0.5 on n1\n"
        f"{L}place L inbound on host h\n"
    )
    assert verdicts(plan, "h", "k", "ping") == {"denied"}


def test_a_broadcast_goes_only_to_links_on_which_its_sender_has_the_family(plan_of: Read) -> None:
    plan = plan_of(
        "subnet n1 10.1.0.0/24 2001:db8:1::/64\nsubnet n2 10.2.0.0/24\nrouter a\n    interface n "
        "10.1.0.1/24 2001:db8:1::1/64 on n1\n"
        "    interface m 10.2.0.1/24 on n2\nrouter b\n    interface n 2001:db8:1::2/64 on n1\n    "
        "interface m 10.2.0.2/24 on n2\n"
        f"{L}place L inbound on a.m\n"
    )
    assert verdicts(plan, "b.m", "10.1.0.255", "udp/514") == {"denied"}


@pytest.mark.parametrize("where", ["s.1", "s.2"])
def test_a_devices_packet_for_its_link_leaves_by_each_of_its_interfaces_there(
    plan_of: Read, where: str
) -> None:
    plan = plan_of(
        "subnet n 10.1.0.0/24\nrouter a\n    interface x 10.1.0.1/24 on n at s.1\n    interface y "
        "10.1.0.2/24 on n at s.2\n"
        "router b\n    interface n 10.1.0.3/24 on n at s.3\nswitch s\n    port 1\n    port 2\n    "
        "port 3\n"
        f"{L}place L inbound on {where}\n"
    )
    (found,) = trace(plan, "a.x", "10.1.0.255", "udp/514")
    assert found.differing is not None


def test_a_device_that_answers_for_a_shared_address_hands_it_to_nobody(plan_of: Read) -> None:
    plan = plan_of(
        "subnet n0 10.0.0.0/24\nsubnet n4 10.4.0.0/24\nrouter c\n    interface n0 10.0.0.1/24 on "
        "n0\n    interface n4 10.4.0.4/24 on n4\n"
        "    route 10.4.0.0/25 via 10.4.0.8\nrouter y\n    interface n4 10.4.0.8/24 on "
        "n4\ngateway 10.4.0.41 on n4 by c.n4, y.n4\n"
        f"host h 10.0.0.5 on n0\n{L}place L outbound on c.n4\n"
    )
    assert verdicts(plan, "h", "10.4.0.41", "udp/514") == {"permitted"}
