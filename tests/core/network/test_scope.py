"""Addresses that nothing is routed to: how far their packets get, and that they belong to no set of
machines.
"""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime

import pytest

from crossgate.core.answers.compare import differences
from crossgate.core.answers.reach import reach
from crossgate.core.answers.verify import Verifier
from crossgate.core.conversation.opening import conversations
from crossgate.core.conversation.packets import Tracer
from crossgate.core.conversation.story import Trace
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.address import Family, parse_address
from crossgate.core.model.conditions import When
from crossgate.core.model.plan import Plan
from crossgate.core.model.scope import Scope, scope_of
from crossgate.core.network.endpoints import pairs
from crossgate.core.network.ways import Network
from crossgate.core.traffic.session import Session

Read = Callable[[str], Plan]
NOON = datetime(2026, 11, 30, 12)

NET = """
subnet a 10.0.1.0/24 2001:db8:1::/64
subnet b 10.0.2.0/24 2001:db8:2::/64
outside world
router one
    interface a 10.0.1.1/24 2001:db8:1::1/64 on a
    interface b 10.0.2.1/24 2001:db8:2::1/64 on b
    interface o 203.0.113.2/28 2001:db8:f::2/64 on world
router two
    interface a 10.0.1.2/24 2001:db8:1::2/64 on a at hub.9
switch hub
    port 1
    port 9
host h 10.0.1.7 2001:db8:1::7 on a at hub.1
host k 10.0.2.7 2001:db8:2::7 on b
"""


def traces(plan: Plan, source: str, destination: str, service: str = "udp/5353") -> list[Trace]:
    network = Network(plan)
    start, end = pairs(network, source, destination)[0]
    (wanted,) = conversations(plan.service(service, start.address.family), start, end)
    return list(Tracer(network).alternatives(wanted))


def way(trace: Trace) -> list[str]:
    return [f"{asked.crossing.point} {asked.crossing.direction}" for asked in trace.legs[0].asked]


@pytest.mark.parametrize(
    ("address", "scope"),
    [
        ("127.9.9.9", Scope.MACHINE),
        ("::1", Scope.MACHINE),
        ("0.0.0.0", Scope.MACHINE),
        ("::", Scope.MACHINE),
        ("0.0.0.1", None),
        ("169.254.3.4", Scope.LINK),
        ("169.255.0.0", None),
        ("255.255.255.255", Scope.LINK),
        ("255.255.255.254", None),
        ("224.0.0.255", Scope.LINK),
        ("224.0.1.0", Scope.GROUP),
        ("239.255.255.255", Scope.GROUP),
        ("240.0.0.0", None),
        ("fe80::1", Scope.LINK),
        ("febf::1", Scope.LINK),
        ("fec0::1", None),
        ("ff02::1", Scope.LINK),
        ("ff05::1", Scope.GROUP),
        ("ff01::1", Scope.MACHINE),
        ("2001:db8::1", None),
    ],
)
def test_how_far_a_packet_for_an_address_gets(address: str, scope: Scope | None) -> None:
    assert scope_of(parse_address(address)) is scope


@pytest.mark.parametrize(
    "address",
    ["224.0.0.251", "255.255.255.255", "169.254.1.1", "10.0.1.255", "fe80::1", "ff02::fb"],
)
def test_what_stays_on_its_link_is_handed_to_every_device_there_and_no_further(
    plan_of: Read, address: str
) -> None:
    open_lists = (
        "list o extended ipv4\n    otherwise permit\nlist o6 extended ipv6\n    otherwise permit\n"
    )
    found = traces(
        plan_of(NET + open_lists + "place o outbound on hub.9\nplace o6 outbound on hub.9\n"),
        "h",
        address,
    )
    assert [each.verdict for each in found] == [Verdict.PERMITTED] * 2
    assert [len(each.legs) for each in found] == [1, 1]
    assert way(found[0]) == ["hub.1 inbound", "one.a inbound", "one itself inbound"]
    assert way(found[1]) == [
        "hub.1 inbound",
        "hub.9 outbound",
        "two.a inbound",
        "two itself inbound",
    ]
    listed = NET + (
        "list n extended ipv4\nplace n inbound on hub.1\nlist n6 extended ipv6\nplace n6 "
        "inbound on hub.1\n"
    )
    assert {each.verdict for each in traces(plan_of(listed), "h", address)} == {Verdict.DENIED}


@pytest.mark.parametrize(
    ("destination", "says"),
    [
        ("127.0.0.1", "it never leaves a machine"),
        ("::1", "it never leaves a machine"),
        ("239.1.1.1", "multicast is not routed here"),
        ("ff05::2", "multicast is not routed here"),
        ("10.0.2.255", "one hands on nothing for 10.0.2.255"),
    ],
)
def test_what_is_no_destination_says_so(plan_of: Read, destination: str, says: str) -> None:
    (trace,) = traces(plan_of(NET), "h", destination)
    assert trace.verdict is Verdict.UNROUTABLE
    assert says in trace.legs[-1].path.reason


def test_a_device_sends_to_its_links_too_and_a_link_without_devices_takes_the_packet(
    plan_of: Read,
) -> None:
    assert [way(each) for each in traces(plan_of(NET), "two", "224.0.0.5", "ospf")] == [
        ["hub.9 inbound", "one.a inbound", "one itself inbound"]
    ]
    assert way(traces(plan_of(NET), "one", "10.0.2.255")[0]) == []
    lonely = "subnet lone 10.9.0.0/24\nhost x 10.9.0.2 on lone at s.1\nswitch s\n    port 1\n"
    (trace,) = traces(plan_of(lonely), "x", "255.255.255.255")
    assert (trace.verdict, way(trace)) == (Verdict.PERMITTED, ["s.1 inbound"])


def test_a_broadcast_address_that_a_machine_is_given_or_a_31_has_is_an_address_as_others(
    plan_of: Read,
) -> None:
    plan = plan_of(NET + "host last 10.0.2.255 on b\nsubnet pair 10.0.3.0/31\n")
    assert {str(parse_address("10.0.1.255").value)} == {str(value) for value in plan.broadcasts}
    assert traces(plan, "h", "10.0.2.255")[0].verdict is Verdict.PERMITTED


def test_such_addresses_belong_to_no_set_unless_they_are_named(plan_of: Read) -> None:
    """The list lets nothing by to them, and permits the rest."""
    stopped = (
        "127.0.0.0/8, 169.254.0.0/16, 224.0.0.0/4, 255.255.255.255, 10.0.2.255, 0.0.0.0, "
        "fe80::/10, ff00::/8, ::1, ::"
    )
    text = NET + (
        f"group stopped {stopped}\n"
        "list l extended ipv4\n    deny ip any to stopped\n    permit ip any to any\nplace l "
        "inbound on one.a\nplace l inbound on two.a\n"
        "list l6 extended ipv6\n    deny ip any to stopped\n    permit ip any to any\nplace l6 "
        "inbound on one.a\nplace l6 inbound on two.a\n"
        "expect permit udp a to b\nexpect permit udp a to world\nexpect permit udp b to a\nexpect "
        "deny udp/5353 h to 224.0.0.0/24\n"
        "expect deny udp/5353 h to 255.255.255.255\nexpect permit udp/5353 h to "
        "10.0.2.0/24\nexpect deny udp/5353 169.254.0.0/16 to k\n"
    )
    plan = plan_of(text)
    network = Network(plan)
    results = [Verifier(Session(network.plan)).verify(each) for each in plan.expectations]
    assert [each.held for each in results] == [True] * 6 + [False]
    assert "nobody can have 169.254.0.0/16" in results[-1].why
    for source, destination in (("a", "b"), ("a", "any"), ("a", "world")):
        for found in reach(Session(network.plan), source, destination, When(NOON)):
            assert found.devices or [part.verdict for part in found.parts] == [Verdict.PERMITTED]


def test_they_are_not_compared(plan_of: Read) -> None:
    text = NET + (
        "list l extended ipv4\n    10 {} ip any to 224.0.0.0/4\n    20 permit ip any to "
        "any\nplace l inbound on one.a\n"
    )
    assert (
        differences(Session(plan_of(text.format("deny"))), Session(plan_of(text.format("permit"))))
        == []
    )


def test_messages_of_one_link_are_answered_there_only(plan_of: Read) -> None:
    plan = plan_of(NET)
    on, off = (
        traces(plan, "2001:db8:1::77", end, "icmp/neighbor-solicitation")[0] for end in ("h", "k")
    )
    assert (len(on.legs), len(off.legs)) == (2, 1)
    assert on.legs[1].packet.icmp_type == 136
    network = Network(plan)
    for source, destination, strays, opens in (
        ("a", "b", True, False),
        ("a", "a", True, True),
        ("a", "a", False, True),
        ("a", "b", False, False),
    ):
        six = [
            each
            for each in reach(
                Session(network.plan), source, destination, When(NOON), "icmp/135", strays
            )
            if each.family is Family.IPV6
        ]
        assert bool(six) is (strays is not opens)
