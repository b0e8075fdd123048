"""The way of a packet: a plan for each rule of the order of crossings, a slow walk as reference,
and what must always be.
"""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from itertools import pairwise

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from crossgate.core.answers.points import crossed, suited
from crossgate.core.conversation.opening import conversations
from crossgate.core.conversation.packets import Tracer
from crossgate.core.conversation.rules import Leg, legs_of, packet_on
from crossgate.core.conversation.story import Outcome, Trace
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.address import Address, Family
from crossgate.core.model.entry import Action
from crossgate.core.model.errors import PlanError
from crossgate.core.model.packet import Packet
from crossgate.core.model.plan import Plan
from crossgate.core.model.window import open_at
from crossgate.core.network.endpoints import at_address, pairs
from crossgate.core.network.ways import Network
from crossgate.core.wording.sentences import noticed, sentence
from tests import net

Read = Callable[[str], Plan]
slow = settings(
    max_examples=40,
    deadline=None,
    suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow],
)


def send(
    plan: Plan,
    source: str,
    destination: str,
    service: str = "ping",
    opened: frozenset[str] = frozenset(),
) -> Trace:
    """Trace one conversation over IPv4."""
    network = Network(plan)
    start, end = pairs(network, source, destination)[0]
    return Tracer(network, opened).trace(
        conversations(plan.service(service, start.address.family), start, end)[0]
    )


def way(trace: Trace, leg: int = 0) -> list[str]:
    return [f"{asked.crossing.point} {asked.crossing.direction}" for asked in trace.legs[leg].asked]


LAB = """
subnet a 10.1.0.0/24
subnet b 10.2.0.0/24
subnet link 10.9.0.0/24
outside world
switch core
    interface va 10.1.0.1/24 on a
    interface up 10.9.0.1/24 on link
    port 1 to edge.9
    port 2
switch edge
    port 1
    port 2
    port 9
router far{stateful}
    interface up 10.9.0.2/24 on link
    interface b  10.2.0.1/24 on b
    interface w  203.0.113.1/30 on world
host pc    10.1.0.10 on a at edge.1
host mate  10.1.0.11 on a at edge.2
host loose 10.1.0.12 on a
host box   10.2.0.10 on b
host out   198.51.100.1 on world
"""


def lab(more: str = "", stateful: str = "") -> str:
    return LAB.format(stateful=stateful) + more


def test_a_routed_leg_crosses_ports_subnet_interfaces_and_subnet_in_this_order(
    plan_of: Read,
) -> None:
    trace = send(plan_of(lab()), "pc", "box")
    assert way(trace) == [
        "edge.1 inbound",
        "edge.9 outbound",
        "core.1 inbound",
        "subnet a outbound",
        "core.va inbound",
        "core.up outbound",
        "subnet link inbound",
        "far.up inbound",
        "far.b outbound",
        "subnet b inbound",
    ]
    assert way(trace, 1) == [
        "subnet b outbound",
        "far.b inbound",
        "far.up outbound",
        "subnet link inbound",
        "core.up inbound",
        "core.va outbound",
        "subnet a inbound",
        "core.1 outbound",
        "edge.9 inbound",
        "edge.1 outbound",
    ]


def test_machines_of_one_subnet_reach_each_other_through_ports_only(plan_of: Read) -> None:
    plan = plan_of(lab())
    assert way(send(plan, "pc", "mate")) == ["edge.1 inbound", "edge.2 outbound"]
    assert way(send(plan, "pc", "loose")) == ["edge.1 inbound"]
    assert way(send(plan, "loose", "pc")) == ["edge.1 outbound"]


def test_traffic_to_a_device_ends_at_itself(plan_of: Read) -> None:
    plan = plan_of(lab())
    assert way(send(plan, "pc", "core"))[-2:] == ["core.va inbound", "core itself inbound"]
    assert way(send(plan, "pc", "far.b"))[-2:] == ["far.up inbound", "far itself inbound"]


def test_a_device_is_not_asked_at_its_own_interfaces(plan_of: Read) -> None:
    assert way(send(plan_of(lab()), "far", "pc")) == [
        "subnet link inbound",
        "core.up inbound",
        "core.va outbound",
        "subnet a inbound",
        "core.1 outbound",
        "edge.9 inbound",
        "edge.1 outbound",
    ]
    listed = lab("list none extended ipv4\nplace none outbound on far itself\n")
    trace = send(plan_of(listed), "far", "pc")
    assert (trace.verdict, way(trace)) == (Verdict.DENIED, ["far itself outbound"])


def test_an_address_of_a_subnet_that_nobody_has_is_still_delivered(plan_of: Read) -> None:
    trace = send(plan_of(lab()), "pc", "10.2.0.77")
    assert (trace.verdict, way(trace)[-1]) == (Verdict.PERMITTED, "subnet b inbound")


@pytest.mark.parametrize(
    ("more", "source", "destination", "says"),
    [
        ("routing static\n", "pc", "box", "core has no route to 10.2.0.10"),
        (
            "subnet lone 10.7.0.0/24\nhost island 10.7.0.2 on lone\n",
            "island",
            "box",
            "lone has no gateway for IPv4",
        ),
    ],
)
def test_what_has_no_way_is_told_where_and_why(
    plan_of: Read, more: str, source: str, destination: str, says: str
) -> None:
    trace = send(plan_of(lab(more)), source, destination)
    assert trace.verdict is Verdict.UNROUTABLE
    assert says in sentence(trace)


def test_static_routes_lead_the_way_and_a_circle_ends(plan_of: Read) -> None:
    static = "routing static\n" + lab().replace(
        "on link\n    port 1", "on link\n    route 10.2.0.0/24 via 10.9.0.2\n    port 1"
    )
    trace = send(plan_of(static), "pc", "box")
    assert trace.legs[0].outcome is Outcome.ARRIVED
    assert (trace.verdict, trace.legs[-1].leg) == (Verdict.UNROUTABLE, Leg.REPLY)
    round_and_round = static.replace(
        "interface b  10.2.0.1/24 on b", "route 10.2.0.0/24 via 10.9.0.1"
    )
    circle = send(
        plan_of(round_and_round.replace("host box   10.2.0.10 on b\n", "")), "pc", "10.2.0.10"
    )
    assert circle.verdict is Verdict.UNROUTABLE
    assert "goes round in a circle" in sentence(circle)


def test_the_longest_prefix_wins(plan_of: Read) -> None:
    text = lab().replace(
        "interface w  203.0.113.1/30 on world",
        "interface w  203.0.113.1/30 on world\n    route 10.2.0.128/25 via 10.9.0.1",
    )
    assert way(send(plan_of(text), "pc", "10.2.0.10"))[-1] == "subnet b inbound"
    assert send(plan_of(text), "pc", "10.2.0.200").verdict is Verdict.UNROUTABLE


TWO_WAYS = """
subnet a 10.1.0.0/24
subnet b 10.2.0.0/24
router east
    interface a 10.1.0.1/24 on a
    interface b 10.2.0.1/24 on b
router west
    interface a 10.1.0.2/24 on a
    interface b 10.2.0.2/24 on b
host one 10.1.0.10 on a
host two 10.2.0.10 on b
list no extended ipv4
place no inbound on west.a
"""


def test_of_equal_paths_the_first_by_name_is_taken_and_the_others_told(plan_of: Read) -> None:
    plan = plan_of(TWO_WAYS)
    trace = send(plan, "one", "two")
    assert trace.forks
    assert trace.verdict is Verdict.PERMITTED
    assert "east.a inbound" in way(trace)
    every = list(Tracer(Network(plan)).alternatives(trace.conversation))
    assert {each.verdict for each in every} == {Verdict.PERMITTED, Verdict.DENIED}


def test_a_stateful_device_lets_the_answer_by_unasked(plan_of: Read) -> None:
    lists = (
        "list only extended ipv4\n    permit tcp/80 a to b\nplace only inbound on "
        "far.up\nplace only outbound on far.up\n"
    )
    plain, stateful = (
        send(plan_of(lab(lists, word)), "pc", "box", "tcp/80") for word in ("", " stateful")
    )
    assert (plain.verdict, plain.decided and str(plain.decided.crossing.point)) == (
        Verdict.HALF_OPEN,
        "far.up",
    )
    assert stateful.verdict is Verdict.PERMITTED
    assert [asked.remembered for asked in stateful.legs[1].asked if asked.access_list] == [True]


def test_denied_and_rejected_are_noticed_differently(plan_of: Read) -> None:
    for word, says in (
        ("deny", "pc hears nothing and times out"),
        ("reject", "pc is told at once: administratively prohibited"),
    ):
        trace = send(
            plan_of(
                lab(f"list l extended ipv4\n    {word} ip any to any\nplace l inbound on core.va\n")
            ),
            "pc",
            "box",
        )
        assert says in noticed(trace)
        assert trace.verdict is Verdict.DENIED


def test_a_claimed_address_is_sent_from_where_the_sender_sits(plan_of: Read) -> None:
    plan = plan_of(lab())
    network = Network(plan)
    start, end = pairs(network, "pc", "box")[0]
    claimed = Address(
        Family.IPV4, at_address(network, Address(Family.IPV4, 0x0A01000B)).address.value
    )
    (conversation,) = conversations(
        plan.service("ping", Family.IPV4), start, end, claimed=claimed.value
    )
    trace = Tracer(network).trace(conversation)
    assert way(trace)[0] == "edge.1 inbound"
    assert (trace.verdict, trace.strayed and trace.strayed.name) == (Verdict.HALF_OPEN, "mate")
    assert "goes to mate, who really has 10.1.0.11, not to pc" in sentence(trace)


def test_a_window_decides_by_the_hour(plan_of: Read) -> None:
    text = lab(
        "window day daily 08:00-18:00\nlist l extended ipv4\n    permit ip any to any during "
        "day\nplace l inbound on core.va\n"
    )
    plan = plan_of(text)
    for hour, verdict in (
        (7, Verdict.DENIED),
        (8, Verdict.PERMITTED),
        (17, Verdict.PERMITTED),
        (18, Verdict.DENIED),
    ):
        opened = open_at(plan.windows.values(), datetime(2026, 11, 30, hour))
        assert send(plan, "pc", "box", opened=opened).verdict is verdict


@pytest.mark.parametrize(
    ("source", "destination", "says"),
    [
        ("pc", "nobody", "no host nobody"),
        ("PC", "box", "there is pc"),
        ("pc", "a", "stands for many machines"),
        ("pc", "edge.1", "is a port and has no addresses"),
        ("pc", "pc", "same machine"),
        ("pc", "10.1.0.300", "300 is more than 255"),
        ("pc", "2001:db8::1", "no way to talk"),
    ],
)
def test_ends_that_do_not_do(plan_of: Read, source: str, destination: str, says: str) -> None:
    with pytest.raises(PlanError, match=says):
        send(plan_of(lab()), source, destination)


def legs(first: Packet) -> list[tuple[Leg, Packet]]:
    every, answer = legs_of(first, on_link=False)
    return [(leg, packet_on(first, leg, answer)) for leg in every]


def test_legs_follow_the_protocol() -> None:
    tcp = Packet(Family.IPV4, 1, 2, 6, 51000, 80, flags=2)
    assert [(leg, packet.flags) for leg, packet in legs(tcp)] == [
        (Leg.SYN, 2),
        (Leg.SYN_ACK, 18),
        (Leg.ACK, 16),
    ]
    back = legs(tcp)[1][1]
    assert (back.source, back.destination, back.source_port, back.destination_port) == (
        2,
        1,
        80,
        51000,
    )
    echo = Packet(Family.IPV6, 1, 2, 58, icmp_type=128, icmp_code=0)
    assert [packet.icmp_type for _, packet in legs(echo)] == [128, 129]
    assert len(legs(Packet(Family.IPV4, 1, 2, 1, icmp_type=3, icmp_code=1))) == 1
    assert [leg for leg, _ in legs(Packet(Family.IPV4, 1, 2, 47))] == [Leg.REQUEST, Leg.REPLY]


# ---- a slow walk as reference: routers and subnets only, told from the plan's objects in the
# plainest way ----------------


def walk(plan: Plan, packet: Packet) -> Verdict:
    """Follow a conversation of hosts on subnets, hop by hop, breadth first, with every list asked
    in full.
    """
    passed: set[str] = set()
    for number, (leg, current) in enumerate(legs(packet)):
        stops = _way(plan, current)
        if stops is None:
            return Verdict.UNROUTABLE
        met = set()
        for device, point, direction in stops:
            placement = next(
                (
                    each
                    for each in plan.placements
                    if (str(each.point), each.direction) == (point, direction)
                    and plan.lists[each.access_list].family is packet.family
                ),
                None,
            )
            if device is not None:
                met.add(device)
            if placement is None or (device in passed and plan.devices[device or ""].stateful):
                continue
            access_list = plan.lists[placement.access_list]
            entry = next(
                (
                    each
                    for each in access_list.entries
                    if each.window is None and each.matches(current)
                ),
                None,
            )
            if (
                access_list.otherwise.action if entry is None else entry.action
            ) is not Action.PERMIT:
                return Verdict.HALF_OPEN if number else Verdict.DENIED
        passed |= met
        assert leg
    return Verdict.PERMITTED


def _way(plan: Plan, packet: Packet) -> list[tuple[str | None, str, str]] | None:
    """Return (device, point, direction) of every crossing between two hosts that hang on subnets of
    a row of routers.
    """
    host_of = {
        address.value: host
        for host in plan.hosts.values()
        for address in host.addresses
        if address.family is packet.family
    }
    start, end = host_of[packet.source].on, host_of[packet.destination].on
    if start == end:
        return []
    routes: list[list[tuple[str, str, str]]] = [[(start, "", "")]]
    while routes:
        route = routes.pop(0)
        here = route[-1][0]
        if here == end:
            found: list[tuple[str | None, str, str]] = [(None, f"subnet {start}", "outbound")]
            for (before, _, _), (after, device, _) in pairwise(route):
                interfaces = {
                    each.on: each.name for each in plan.devices[device].interfaces.values()
                }
                found += [
                    (device, f"{device}.{interfaces[before]}", "inbound"),
                    (device, f"{device}.{interfaces[after]}", "outbound"),
                ]
                if not plan.segments[after].outside:
                    found.append((None, f"subnet {after}", "inbound"))
            return found
        for device in sorted(plan.devices):
            nets = [
                each.on
                for each in plan.devices[device].interfaces.values()
                if each.in_family(packet.family)
            ]
            if here in nets:
                routes += [
                    [*route, (other, device, "")]
                    for other in nets
                    if other not in [step[0] for step in route]
                ]
    return None


@slow
@given(st.data(), st.sampled_from(Family))
def test_a_trace_is_what_the_slow_walk_finds(
    plan_of: Read, data: st.DataObject, family: Family
) -> None:
    text = data.draw(net.plans()).replace(" at hub.2", "").replace(" at hub.1", "")
    plan = plan_of(text)
    network, tracer = Network(plan), Tracer(Network(plan))
    hosts = {
        address.value
        for host in plan.hosts.values()
        if not plan.segments[host.on].outside
        for address in host.addresses
    }
    wanted = [
        packet
        for packet in net.openings(family)
        if packet.source in hosts and packet.destination in hosts
    ]
    for packet in data.draw(st.lists(st.sampled_from(wanted), min_size=30, max_size=30)):
        assert tracer.trace(net.conversation(network, packet)).verdict is walk(plan, packet), packet


@slow
@given(st.data())
def test_a_network_without_lists_denies_nothing(plan_of: Read, data: st.DataObject) -> None:
    plan = plan_of(net.NETWORK.format(left=data.draw(st.sampled_from(["", " stateful"])), right=""))
    network = Network(plan)
    for packet in data.draw(
        st.lists(st.sampled_from(list(net.openings(Family.IPV4))), min_size=20, max_size=20)
    ):
        assert Tracer(network).trace(net.conversation(network, packet)).verdict is Verdict.PERMITTED


@slow
@given(st.data())
def test_adding_a_denial_never_permits_more(plan_of: Read, data: st.DataObject) -> None:
    text = data.draw(net.plans())
    denial = data.draw(net.entry_words()).replace("permit", "deny").partition(" at most")[0]
    at = text.find("list l0")
    if at < 0:
        return
    line_end = text.index("\n", at) + 1
    more = text[:line_end] + f"    1 {denial}\n" + text[line_end:]
    before, after = Network(plan_of(text)), Network(plan_of(more))
    for packet in data.draw(
        st.lists(st.sampled_from(list(net.openings(Family.IPV4))), min_size=30, max_size=30)
    ):
        if Tracer(before).trace(net.conversation(before, packet)).verdict is not Verdict.PERMITTED:
            assert (
                Tracer(after).trace(net.conversation(after, packet)).verdict
                is not Verdict.PERMITTED
            )


@slow
@given(st.data())
def test_a_stateful_device_never_makes_a_conversation_half_open_at_itself(
    plan_of: Read, data: st.DataObject
) -> None:
    plan = plan_of(data.draw(net.plans()))
    network = Network(plan)
    for packet in data.draw(
        st.lists(st.sampled_from(list(net.openings(Family.IPV4))), min_size=30, max_size=30)
    ):
        trace = Tracer(network).trace(net.conversation(network, packet))
        if trace.verdict is Verdict.HALF_OPEN and trace.decided is not None:
            device = trace.decided.crossing.point.device
            request = set(trace.legs[0].path.devices)
            assert device is None or not plan.devices[device].stateful or device not in request


def test_points_are_those_crossed_and_suit_each_kind(plan_of: Read) -> None:
    plan = plan_of(lab("list l standard ipv4\nplace l outbound on far.b\n"))
    network = Network(plan)
    start, end = pairs(network, "pc", "box")[0]
    found = crossed(network, start, end)
    whole = send(plan_of(lab()), "pc", "box")
    told = [
        [f"{each.crossing.point} {each.crossing.direction}" for each in found if each.back is back]
        for back in (False, True)
    ]
    assert told == [way(whole), way(whole, 1)]
    assert {each.placed.name for each in found if each.placed} == {"l"}
    standard, extended = suited(network, start, end)
    assert (str(standard.crossing.point), standard.crossing.direction) == ("far.b", "outbound")
    assert (str(extended.crossing.point), extended.crossing.direction) == ("core.va", "inbound")
    assert ("world", "b") in standard.also
    assert ("a", "world") in extended.also
