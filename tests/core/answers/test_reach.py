"""What `reach`, claims and compare say of devices' own addresses, of ICMP codes, TCP flags and
loops.
"""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime

import pytest

from crossgate.core.answers.compare import differences
from crossgate.core.answers.reach import Reached, reach
from crossgate.core.answers.verify import Verified, Verifier
from crossgate.core.conversation.opening import conversations
from crossgate.core.conversation.packets import Tracer
from crossgate.core.conversation.story import Trace
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.address import Family
from crossgate.core.model.conditions import When
from crossgate.core.model.plan import Plan
from crossgate.core.network.endpoints import pairs
from crossgate.core.network.ways import Network
from crossgate.core.sets.region import whole_packets
from crossgate.core.traffic.session import Session
from crossgate.core.wording.sentences import packet_text, sentence
from crossgate.core.wording.services import Sort
from crossgate.core.wording.sets import Wording
from tests import net

Read = Callable[[str], Plan]
NOON = datetime(2026, 11, 30, 12)
NET = """
subnet a 10.0.1.0/24
subnet b 10.0.2.0/24
outside world
router r
    interface a 10.0.1.1/24 on a
    interface b 10.0.2.1/24 on b
    interface o 203.0.113.2/28 on world
host h 10.0.1.7 on a
host k 10.0.2.7 on b
host v 198.51.100.8 on world
"""


def listed(entries: str, *places: str, more: str = "") -> str:
    lines = "".join(f"    {entry}\n" for entry in entries.split("; ") if entry)
    return (
        NET
        + f"list f extended ipv4\n{lines}"
        + "".join(f"place f {place}\n" for place in places)
        + more
    )


def reached(
    plan: Plan, source: str, destination: str, service: str | None = None, strays: bool = False
) -> list[Reached]:
    return list(reach(Session(plan), source, destination, When(NOON), service, strays))


def traced(plan: Plan, source: str, destination: str, service: str) -> Trace:
    network = Network(plan)
    start, end = pairs(network, source, destination)[0]
    return Tracer(network).trace(
        conversations(plan.service(service, start.address.family), start, end)[0]
    )


def verified(plan: Plan) -> list[Verified]:
    verifier = Verifier(Session(plan))
    return [verifier.verify(each) for each in plan.expectations]


@pytest.mark.parametrize(
    "places",
    [
        ("inbound on r itself", "inbound on r.o"),
        ("outbound on r.o",),
        ("inbound on r.a",),
        ("inbound on r.b",),
    ],
)
@pytest.mark.parametrize(
    "ends",
    [
        ("v", "r.o"),
        ("a", "r.o"),
        ("h", "r"),
        ("r", "h"),
        ("h", "10.0.1.1"),
        ("k", "r.a"),
        ("world", "203.0.113.2"),
    ],
)
def test_a_device_as_an_end_has_one_answer_and_it_is_what_traces_say(
    plan_of: Read, places: tuple[str, ...], ends: tuple[str, str]
) -> None:
    plan = plan_of(listed("10 deny ip any to any", *places))
    found = reached(plan, *ends, service="https")
    assert [each.devices for each in found] == [True]
    network = Network(plan)
    for part in found[0].parts:
        assert Tracer(network).trace(net.conversation(network, part.packet)).verdict is part.verdict
    if len(found[0].parts) == 1 and "r" not in ends:
        start = "v" if ends[0] == "world" else "h" if ends[0] == "a" else ends[0]
        assert traced(plan, start, ends[1], "https").verdict is found[0].parts[0].verdict


def test_in_a_subnets_answer_devices_stand_apart_and_no_example_is_another_parts(
    plan_of: Read,
) -> None:
    plan = plan_of(
        listed(
            "10 deny ip any to 10.0.1.1; 20 permit ip any to any",
            "inbound on r.a",
            "inbound on r.b",
        )
    )
    network = Network(plan)
    for ends in (("a", "a"), ("b", "a"), ("any", "a"), ("a", "any"), ("world", "any")):
        for answer in reached(plan, *ends):
            for part in answer.parts:
                trace = Tracer(network).trace(net.conversation(network, part.packet))
                assert trace.verdict is part.verdict
                assert {
                    trace.conversation.source.device,
                    trace.conversation.destination.device,
                } == {None} or answer.devices


def test_only_an_address_by_itself_names_a_device(plan_of: Read) -> None:
    claims = (
        "group pool 10.0.1.1-10.0.1.9\ngroup two 10.0.1.1-10.0.1.2\ngroup named r.a, h\ngroup "
        "nested named, k\ngroup every any\n"
        "expect deny ip pool to k\nexpect deny ip 10.0.1.1-10.0.1.9 to k\nexpect deny ip two to "
        "k\nexpect deny ip a to k\n"
        "expect deny ip named to b\nexpect deny ip nested to b\nexpect deny ip 10.0.1.1 to "
        "k\nexpect deny udp every to v\n"
    )
    plan = plan_of(listed("10 deny ip any to any", "inbound on r.a", "inbound on r.b", more=claims))
    held = [each.held for each in verified(plan)]
    assert held == [True, True, True, True, False, False, False, False]
    assert "10.0.1.1" in verified(plan)[4].why
    assert set(plan.groups["every"].members) == set(Family)


def test_icmp_codes_are_packets_like_any_other(plan_of: Read) -> None:
    claims = (
        "expect permit ping h to k\nexpect permit icmp/8 h to k\nexpect deny "
        "icmp/echo-request/1 h to k\n"
    )
    results = verified(
        plan_of(listed("10 permit icmp/echo-request/0 a to b", "inbound on r.a", more=claims))
    )
    assert [each.held for each in results] == [True, False, True]
    assert results[1].counterexample is not None
    assert packet_text(results[1].counterexample).startswith("icmp/8/1 ")
    old, new = (
        plan_of(listed(f"10 {action} icmp/8/1 a to b; 20 permit ip any to any", "inbound on r.a"))
        for action in ("reject", "permit")
    )
    found = [each for each in differences(Session(old), Session(new)) if not each.devices]
    assert [packet_text(each.packet) for each in found] == ["icmp/8/1 from 10.0.1.7 to 10.0.2.7"]
    assert Wording(new).rows(found[0].lines, Sort.OPENING) == [("icmp/8/1", "a", "b")]


@pytest.mark.parametrize("test", ["flags ACK", "established", "flags SYN,ACK", "flags !SYN,FIN"])
def test_parts_of_strays_are_what_traces_say_and_name_their_flags(plan_of: Read, test: str) -> None:
    plan = plan_of(listed(f"10 deny tcp a to b {test}; 20 permit ip any to any", "inbound on r.a"))
    network = Network(plan)
    (answer,) = [each for each in reached(plan, "a", "b", "tcp", strays=True) if not each.devices]
    parts = {part.verdict: part for part in answer.parts}
    asked = plan.lists["f"].entries[0].qualifiers.flags
    for verdict, part in parts.items():
        if part.packet.fragment:
            assert packet_text(part.packet).startswith("tcp fragment from")
            continue
        assert part.packet.flags is not None
        assert any(each.holds(part.packet.flags) for each in asked) is (verdict is Verdict.DENIED)
        assert "flags" in packet_text(part.packet)
        for line in part.lines:
            for services in line.services:
                if services.what == whole_packets(6):
                    held = {
                        any(each.holds(flags) for each in asked)
                        for flags in range(256)
                        if services.flags >> flags & 1 and flags != 2
                    }
                    assert held == {verdict is Verdict.DENIED}
    words = [
        service for service, _, _ in Wording(plan).rows(parts[Verdict.DENIED].lines, Sort.STRAY)
    ]
    expected = {"flags ACK": "tcp flags ACK", "established": "tcp established"}
    assert words == [expected.get(test, f"tcp {test}".replace("!SYN,FIN", "FIN,!SYN"))]
    assert network.plan is plan


def test_a_difference_of_strays_has_a_packet_that_fares_so(plan_of: Read) -> None:
    old, new = (
        plan_of(
            listed(f"10 {action} tcp a to b flags ACK; 20 permit ip any to any", "inbound on r.a")
        )
        for action in ("deny", "permit")
    )
    found = [
        each for each in differences(Session(old), Session(new)) if each.stray and not each.devices
    ]
    assert [
        (each.was.decided.decider.key, each.now.decided.decider.key)
        for each in found
        if each.was.decided and each.now.decided
    ] == [(("f", 10), ("f", 10))]
    assert found[0].packet.flags is not None
    assert found[0].packet.flags & 16


def test_a_claim_of_everything_speaks_of_conversations(plan_of: Read) -> None:
    back = "list g extended ipv4\n    deny ip any to any\nplace g inbound on r.b\n"
    claims = (
        "expect half-open ip h to k\nexpect permit icmp/3 h to k\nexpect half-open icmp h to "
        "k\nexpect half-open icmp/10 h to k\n"
    )
    assert [
        each.held
        for each in verified(
            plan_of(listed("10 permit ip any to any", "inbound on r.a", more=back + claims))
        )
    ] == [
        True,
        True,
        True,
        False,
    ]


@pytest.mark.parametrize(("family", "foreign"), [(Family.IPV4, "58"), (Family.IPV6, "1")])
def test_the_other_familys_icmp_is_a_protocol_like_others(
    plan_of: Read, family: Family, foreign: str
) -> None:
    plan = plan_of(net.NETWORK.format(left="", right=""))
    network = Network(plan)
    start, end = next(
        pair for pair in pairs(network, "plain", "server") if pair[0].address.family is family
    )
    (wanted,) = conversations(plan.service(foreign, family), start, end)
    trace = Tracer(network).trace(wanted)
    assert (trace.verdict, len(trace.legs)) == (Verdict.PERMITTED, 2)
    assert packet_text(wanted.first).startswith(f"{foreign} from")
    (answer,) = [
        each
        for each in reach(Session(network.plan), "plain", "server", When(NOON), foreign)
        if each.family is family
    ]
    rows = Wording(plan).rows(answer.parts[0].lines, Sort.OPENING)
    assert (answer.parts[0].verdict, [row[0] for row in rows]) == (Verdict.PERMITTED, [foreign])


@pytest.mark.parametrize("service", ["udp", "tcp", "sctp", "17", "tcp/80,udp/53"])
def test_a_claim_may_name_the_source_port_of_a_whole_protocol(plan_of: Read, service: str) -> None:
    plan = plan_of(
        listed(
            (
                f"10 permit {service.split(',')[0]} any to any source port 53; 20 permit udp any "
                "to "
                "any source port 53"
            ),
            "inbound on r.a",
            more=(
                f"expect permit {service} h to k source port 53\nexpect permit {service} h to k "
                "source port 54\n"
            ),
        )
    )
    assert [each.held for each in verified(plan)] == [True, False]


LOOP = """
routing static
subnet a 10.0.1.0/24
subnet m 10.0.9.0/24
subnet b 10.0.2.0/24
router one
    interface a 10.0.1.1/24 on a
    interface m 10.0.9.1/24 on m
    route 10.0.2.0/24 via 10.0.9.2
router two
    interface m 10.0.9.2/24 on m
    route 10.0.2.0/24 via 10.0.9.3
router three
    interface m 10.0.9.3/24 on m
    route 10.0.2.0/24 via 10.0.9.2
host h 10.0.1.7 on a
"""


@pytest.mark.parametrize(
    "place",
    [
        "inbound on two.m",
        "outbound on two.m",
        "inbound on three.m",
        "outbound on three.m",
        "inbound on subnet m",
    ],
)
def test_every_list_on_the_way_round_a_loop_is_asked(plan_of: Read, place: str) -> None:
    trace = traced(plan_of(LOOP), "h", "10.0.2.9", "ping")
    assert trace.verdict is Verdict.UNROUTABLE
    assert "it goes round in a circle: two to three to two" in sentence(trace)
    stopped = LOOP + (
        f"list f extended ipv4\n    deny ip any to any\nplace f {place}\nexpect deny ping h to "
        "10.0.2.9\n"
    )
    plan = plan_of(stopped)
    assert traced(plan, "h", "10.0.2.9", "ping").verdict is Verdict.DENIED
    assert verified(plan)[0].held


def test_a_device_that_its_own_packet_comes_back_to_asks_it_on_its_second_way_out(
    plan_of: Read,
) -> None:
    text = LOOP + "list f extended ipv4\n    deny ip any to any\nplace f outbound on two.m\n"
    assert traced(plan_of(text), "two", "10.0.2.9", "ping").verdict is Verdict.DENIED


def test_many_routers_in_a_row_are_a_way(plan_of: Read) -> None:
    count = 70
    text = "".join(f"subnet n{each} 10.1.{each}.0/24\n" for each in range(count + 1))
    for each in range(count):
        text += (
            f"router r{each}\n    interface a 10.1.{each}.2/24 on n{each}\n    interface b "
            f"10.1.{each + 1}.1/24 on n{each + 1}\n"
        )
    text += f"host x 10.1.0.9 on n0\nhost y 10.1.{count}.9 on n{count}\n"
    trace = traced(plan_of(text), "x", "y", "ping")
    assert trace.verdict is Verdict.PERMITTED
    assert len(trace.legs[0].path.devices) == count


def test_a_reply_to_another_address_of_the_sender_comes_home(plan_of: Read) -> None:
    plan = plan_of(NET + "host two 10.0.1.21 10.0.1.22 on a\n")
    network = Network(plan)
    for source, claimed, verdict in (
        ("two", 0x0A000116, Verdict.PERMITTED),
        ("two", 0x0A000107, Verdict.HALF_OPEN),
        ("r", 0x0A000201, Verdict.PERMITTED),
    ):
        start, end = pairs(network, source, "v")[0]
        wanted = conversations(plan.service("https", Family.IPV4), start, end, claimed=claimed)[0]
        assert Tracer(network).trace(wanted).verdict is verdict


def test_ports_in_a_row_are_traced_as_others_are(plan_of: Read) -> None:
    plan = plan_of(NET)
    start, end = pairs(Network(plan), "h", "k")[0]
    for text, count in (("tcp/22,23", 2), ("tcp/22,80", 2), ("tcp/22-24", 3), ("tcp/1-16", 16)):
        assert len(conversations(plan.service(text, Family.IPV4), start, end)) == count
    with pytest.raises(Exception, match="17 ports"):
        conversations(plan.service("tcp/1-17", Family.IPV4), start, end)


def test_what_would_take_a_but_within_a_but_is_written_without(plan_of: Read) -> None:
    plan = plan_of(NET)
    from crossgate.core.model.address import everything, parse_block
    from crossgate.core.sets.patterns import joined, less

    kept = less([everything(Family.IPV4)], [parse_block("10.0.1.0/24")]) | {
        parse_block("10.0.1.7"),
        parse_block("10.0.1.200"),
    }
    assert (
        Wording(plan).addresses(joined(kept))
        == "h, 0.0.0.0-10.0.0.255, 10.0.1.200, 10.0.2.0-255.255.255.255"
    )


def test_a_machine_at_a_switch_that_no_cable_joins_reaches_no_interface_in_another(
    plan_of: Read,
) -> None:
    switches = (
        "switch s1\n    interface v 10.0.4.1/24 on c\n    port 1\nswitch s2\n    port "
        "1\nsubnet c 10.0.4.0/24\nhost x 10.0.4.7 on c at s2.1\n"
    )
    trace = traced(plan_of(NET + switches), "x", "s1.v", "ping")
    assert trace.verdict is Verdict.UNROUTABLE
    assert "no cable leads to s1.v" in sentence(trace)
    joined_ports = switches.replace("port 1\nswitch", "port 1\n    port 2 to s2.2\nswitch").replace(
        "port 1\nsubnet", "port 1\n    port 2\nsubnet"
    )
    assert traced(plan_of(NET + joined_ports), "x", "s1.v", "ping").verdict is Verdict.PERMITTED
    loose = switches.replace("    port 1\nswitch s2", "switch s2")
    assert traced(plan_of(NET + loose), "x", "s1.v", "ping").verdict is Verdict.PERMITTED


def test_what_only_one_link_tells_apart_is_not_written_twice(plan_of: Read) -> None:
    plan = plan_of(listed("10 deny ip h to r", "inbound on r itself"))
    (answer,) = reached(plan, "h", "r")
    assert [Wording(plan).rows(part.lines, Sort.OPENING) for part in answer.parts] == [
        [("ip", "h", "r.a, r.b, r.o")]
    ]


def test_on_a_link_solicitations_are_answered(plan_of: Read) -> None:
    plan = plan_of(
        "subnet hall 2001:db8::/64\nswitch s\n    port 1\n    port 2\n"
        "host h 2001:db8::5 on hall at s.1\nhost k 2001:db8::6 on hall at s.2\n"
        "list there extended ipv6\n    permit icmp/neighbor-solicitation any to any\n"
        "place there inbound on s.1\nlist back extended ipv6\nplace back inbound on s.2\n"
    )
    (found,) = reached(plan, "h", "k", "icmp/neighbor-solicitation")
    assert [part.verdict for part in found.parts] == [Verdict.HALF_OPEN]
    plan = plan_of(
        "subnet yard 2001:db8:1::/64\nhost far 2001:db8:1::6 on yard\nrouter r\n"
        "    interface a 2001:db8::1/64 on hall\n    interface b 2001:db8:1::1/64 on yard\n"
        "subnet hall 2001:db8::/64\nhost h 2001:db8::5 on hall\n"
    )
    assert reached(plan, "h", "far", "icmp/neighbor-solicitation") == []
