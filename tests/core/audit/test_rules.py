"""Rules that are easy to get wrong by one, a small plan each."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime

import pytest

from crossgate.core.answers.verify import Verifier
from crossgate.core.audit import audit
from crossgate.core.conversation.opening import conversations
from crossgate.core.conversation.packets import Tracer
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.impact import impact_of
from crossgate.core.lists.index import ListIndex
from crossgate.core.lists.split import EntryRegion
from crossgate.core.model.address import Family, parse_address
from crossgate.core.model.finding import Finding
from crossgate.core.model.iana import services
from crossgate.core.model.packet import Packet
from crossgate.core.model.plan import Plan
from crossgate.core.model.service import join_ports
from crossgate.core.network.endpoints import at_address, pairs
from crossgate.core.network.ways import Network
from crossgate.core.sets.boxes import overlap, packet_box
from crossgate.core.traffic.session import Session
from crossgate.core.wording.sentences import noticed
from tests.core.network import reference

Read = Callable[[str], Plan]
NOW = datetime(2026, 12, 1, 12)
NET = """
subnet a 10.0.1.0/24 2001:db8:1::/64
subnet b 10.0.2.0/24 2001:db8:2::/64
subnet m 10.0.9.0/24 2001:db8:9::/64
outside world
router one
    interface a 10.0.1.1/24 2001:db8:1::1/64 on a
    interface m 10.0.9.1/24 2001:db8:9::1/64 on m
    interface o 203.0.113.2/28 on world
router two
    interface m 10.0.9.2/24 2001:db8:9::2/64 on m
    interface b 10.0.2.1/24 2001:db8:2::1/64 on b
host h 10.0.1.7 2001:db8:1::7 on a
host k 10.0.2.7 2001:db8:2::7 on b
"""
FENCE = "list f extended ipv4\n    {}\nplace f inbound on one.a\n"


def ways(plan: Plan, source: str, destination: str) -> list[list[str]]:
    network = Network(plan)
    (start, end), *_ = pairs(network, source, destination)
    return [
        [str(each.point) for each in path.crossings if each.point.device]
        for path in network.ways(start, end.address)
    ]


def held(plan: Plan) -> list[bool]:
    verifier = Verifier(Session(plan))
    return [verifier.verify(each).held for each in plan.expectations]


def found(plan: Plan, name: str) -> list[Finding]:
    return [each for each in audit(Session(plan), NOW).findings if each.name == name]


@pytest.mark.parametrize(
    ("hours", "moment", "is_open"),
    [
        ("daily 08:00-08:00", datetime(2026, 11, 30, 7, 59), True),
        ("mon 08:00-08:00", datetime(2026, 12, 1, 7, 59), True),
        ("mon 08:00-08:00", datetime(2026, 12, 1, 8, 0), False),
        ("sun 22:00-06:00", datetime(2026, 11, 30, 5, 59), True),
        ("sun 22:00-06:00", datetime(2026, 11, 30, 6, 0), False),
        ("sun 22:00-06:00", datetime(2026, 12, 1, 5, 59), False),
    ],
)
def test_windows_round_the_clock_and_the_week(
    plan_of: Read, hours: str, moment: datetime, is_open: bool
) -> None:
    assert plan_of(f"window w {hours}\n").windows["w"].is_open(moment) is is_open


def test_connected_beats_static_and_static_beats_computed(plan_of: Read) -> None:
    static = NET.replace(
        "    interface m 10.0.9.2/24",
        "    route 10.0.2.0/24 via 10.0.9.1\n    interface m 10.0.9.2/24",
    )
    assert ways(plan_of(static), "h", "k")[0][-1] == "two.b"
    third = "router three\n    interface m 10.0.9.3/24 on m\n    interface b 10.0.2.3/24 on b\n"
    led = (
        NET.replace("on world\nrouter", "on world\n    route 10.0.2.0/24 via 10.0.9.3\nrouter")
        + third
    )
    assert [way[-1] for way in ways(plan_of(led), "h", "k")] == ["three.b"]


def test_equal_static_routes_are_equal_paths(plan_of: Read) -> None:
    third = "router three\n    interface m 10.0.9.3/24 on m\n    interface b 10.0.2.3/24 on b\n"
    routes = (
        "on world\n    route 10.0.2.0/24 via 10.0.9.3\n    route 10.0.2.0/24 via 10.0.9.2\nrouter"
    )
    listed = "list f standard ipv4\n    permit any\nplace f outbound on three.b\n"
    assert [
        way[-1]
        for way in ways(plan_of(NET.replace("on world\nrouter", routes) + third + listed), "h", "k")
    ] == ["three.b", "two.b"]


def test_a_claim_about_a_set_sees_what_a_static_route_a_gateway_and_a_connected_prefix_tell_apart(
    plan_of: Read,
) -> None:
    claim = "expect permit udp a to b over ipv4\n"
    assert held(plan_of(NET + claim)) == [True]
    astray = NET.replace(
        "on world\nrouter", "on world\n    route 10.0.2.64/26 via 10.0.9.77\nrouter"
    )
    assert held(plan_of(astray + claim)) == [False]
    side = (
        "router side\n    interface a 10.0.1.2/24 on a\n    interface m 10.0.9.4/24 on m\nhost "
        "x 10.0.1.9 on a gateway 10.0.1.2\n"
    )
    stop = "list s extended ipv4\nplace s inbound on side.a\n"
    nearer = NET.replace("router one", "router one stateful")
    assert held(plan_of(nearer + claim)) == [True]
    assert held(
        plan_of(
            nearer + side + stop + "expect permit udp x to b\nexpect permit udp a to b over ipv4\n"
        )
    ) == [False, False]
    out = (
        "router exit\n    interface m 10.0.9.5/24 on m\n    interface o 198.51.100.2/28 on world\n"
    )
    led = (
        NET.replace("on world\nrouter", "on world\n    route default via 10.0.9.5\nrouter")
        + out
        + "list s extended ipv4\nplace s outbound on one.o\n"
    )
    assert held(
        plan_of(
            led
            + (
                "expect permit udp h to 192.0.2.1\nexpect permit udp h to 203.0.113.9\nexpect "
                "permit udp h to world\n"
            )
        )
    ) == [
        True,
        False,
        False,
    ]


def test_by_on_a_permit_may_name_any_list_on_the_way(plan_of: Read) -> None:
    second = (
        "list g extended ipv4\n    permit ip any to any\nplace g outbound on two.b\nlist e "
        "extended ipv4\n    permit ip any to any\nplace e inbound on two.b\n"
    )
    claims = (
        "expect permit udp h to k by f 10 \nexpect permit udp h to k by g 10\nexpect permit "
        "udp h to k by e 10\nexpect permit udp h to k over ipv4 by g otherwise\n"
    )
    text = (
        NET.replace(" 2001:db8:1::7 on a", " on a")
        + FENCE.format("permit ip any to any")
        + second
        + claims
    )
    assert held(plan_of(text)) == [True, True, True, False]


def test_the_hours_of_the_way_back_count(plan_of: Read) -> None:
    back = (
        "window w daily 08:00-18:00\nlist g extended ipv4\n    permit ip any to any during "
        "w\nplace g inbound on two.b\n"
    )
    claims = (
        "expect permit udp h to k over ipv4\nexpect permit udp h to k at mon 12:00 over "
        "ipv4\nexpect half-open udp h to k at mon 20:00 over ipv4\n"
    )
    assert held(plan_of(NET + back + claims)) == [False, True, True]


@pytest.mark.parametrize(
    ("message", "needed"),
    [
        ("icmp/3/0", True),
        ("icmp/3/1", False),
        ("icmp/4/0", False),
        ("icmp/4/1", True),
        ("icmp/4/2", True),
        ("icmp/4/3", False),
        ("icmp/1/6", True),
        ("icmp/2", True),
    ],
)
def test_the_codes_of_rfc_4890(plan_of: Read, message: str, needed: bool) -> None:
    text = NET + (
        f"list six extended ipv6\n    deny {message} any to any\n    permit ip any to "
        "any\nplace six inbound on two.m\n"
    )
    assert bool(found(plan_of(text), "icmp6-needed")) is needed


def test_an_outside_may_claim_the_addresses_of_another(plan_of: Read) -> None:
    text = NET.replace("outside world", "outside world\noutside partner 198.51.100.0/24")
    text = text.replace("router two", "    interface p 198.51.100.2/28 on partner\nrouter two")
    listed = text + "list s standard ipv4\n    permit {}\nplace s inbound on one.o\n"
    assert found(plan_of(listed.format("198.51.100.0/24")), "spoofable") == []
    assert "on world can claim 10.0.1" in found(plan_of(listed.format("a")), "spoofable")[0].message


def test_a_permit_bound_to_hours_is_not_too_broad(plan_of: Read) -> None:
    entries = "permit ip any to any{}\n    deny udp h to k"
    assert (
        len(
            found(
                plan_of(NET + "window w daily 08:00-18:00\n" + FENCE.format(entries.format(""))),
                "too-broad",
            )
        )
        == 1
    )
    assert (
        found(
            plan_of(
                NET + "window w daily 08:00-18:00\n" + FENCE.format(entries.format(" during w"))
            ),
            "too-broad",
        )
        == []
    )


def test_the_first_of_those_that_hide_an_entry_alone_is_named(plan_of: Read) -> None:
    entries = (
        "10 deny tcp h to k\n    20 permit udp any to any\n    30 permit udp a to any\n    "
        "40 deny udp h to k"
    )
    hidden = {
        each.entry: each.because
        for each in found(plan_of(NET + FENCE.format(entries)), "never-reached")
    }
    assert hidden == {30: (20,), 40: (20,)}


def test_an_accept_without_a_number_is_for_the_whole_list(plan_of: Read) -> None:
    entries = "10 permit udp any to any\n    20 permit udp a to any\n    30 deny udp h to k"
    text = NET + FENCE.format(entries)
    assert len(found(plan_of(text), "never-reached")) == 2
    assert (
        found(plan_of(text + 'accept never-reached in f "kept for the record"\n'), "never-reached")
        == []
    )
    assert (
        len(
            found(
                plan_of(text + 'accept never-reached in f 20 "kept for the record"\n'),
                "never-reached",
            )
        )
        == 1
    )


@pytest.mark.parametrize("asked", ["source port 53", "source port -65535"])
def test_a_source_port_takes_no_fragment(plan_of: Read, asked: str) -> None:
    (entry,) = plan_of(NET + FENCE.format(f"permit udp any to any {asked}")).lists["f"].entries
    fragment = Packet(Family.IPV4, 1, 2, 17, fragment=True)
    whole = Packet(Family.IPV4, 1, 2, 17, 53, 53)
    region = EntryRegion(entry, Family.IPV4)
    for packet, taken in ((fragment, False), (whole, True)):
        assert entry.matches(packet) is taken
        assert any(overlap(box, packet_box(packet)) for box in region.boxes()) is taken


def test_the_index_tells_markings_apart(plan_of: Read) -> None:
    index = ListIndex(
        plan_of(NET + FENCE.format("permit udp any to any dscp ef")).lists["f"], frozenset()
    )
    unmarked = Packet(Family.IPV4, 1, 2, 17, 53, 53)
    assert [
        str(index.decide(packet).action)
        for packet in (unmarked, unmarked._replace(dscp=46), unmarked)
    ] == ["deny", "permit", "deny"]


def test_a_port_interval_within_another_is_joined_to_it() -> None:
    assert join_ports([(1, 100), (5, 10), (100, 101), (103, 104)]) == ((1, 101), (103, 104))


def test_snmp_and_its_traps_have_their_ports() -> None:
    assert (services()["snmp"], services()["snmptrap"]) == (
        ((161, 161), ("udp",)),
        ((162, 162), ("udp",)),
    )


def test_a_moved_placement_shows_its_findings_before_it_is_made(plan_of: Read) -> None:
    text = NET + "list f extended ipv4\n    permit udp a to b\nplace f {} on one.a\n"
    new = impact_of(
        Session(plan_of(text.format("inbound"))), Session(plan_of(text.format("outbound"))), NOW
    ).findings
    assert "wrong-side" in {each.name for each in new}


@pytest.mark.parametrize(
    ("family", "told"),
    [(Family.IPV4, "ICMP type 3 code 13"), (Family.IPV6, "ICMPv6 type 1 code 1")],
)
def test_a_rejected_sender_is_told_by_the_familys_message(
    plan_of: Read, family: Family, told: str
) -> None:
    plan = plan_of(
        NET
        + "".join(
            (
                f"list r{each.word} extended {each.word}\n    reject ip any to any\nplace "
                f"r{each.word} inbound on one.a\n"
            )
            for each in Family
        )
    )
    network = Network(plan)
    start, end = next(pair for pair in pairs(network, "h", "k") if pair[0].address.family is family)
    assert told in noticed(
        Tracer(network).trace(conversations(plan.service("https", family), start, end)[0])
    )


def test_a_static_gateway_is_one_that_has_a_route(plan_of: Read) -> None:
    text = "routing static\n" + NET.replace(
        "router one", "router eins\n    interface a 10.0.1.9/24 on a\nrouter one"
    )
    text = text.replace(
        "on world\nrouter two", "on world\n    route 10.0.2.0/24 via 10.0.9.2\nrouter two"
    )
    assert ways(plan_of(text), "h", "k")[0][0] == "one.a"
    assert at_address(Network(plan_of(text)), parse_address("10.0.1.9")).device == "eins"


@pytest.mark.parametrize(
    ("more", "told"),
    [
        ("", {}),
        (
            "subnet z 10.0.7.0/24\n",
            {"z": "no device has an interface on z, so nothing gets in or out"},
        ),
        (
            "subnet y 10.0.6.0/24\nsubnet z 10.0.7.0/24\nrouter three\n    interface y "
            "10.0.6.1/24\n    interface z 10.0.7.1/24\n"
            "    interface o 203.0.113.3/28 on world\n",
            {"y": "no device joins y, z with the rest of the network (a, b, m)"},
        ),
        (
            "subnet y 10.0.6.0/24\nsubnet z 10.0.7.0/24\nrouter three\n    interface y "
            "10.0.6.1/24\nrouter four\n    interface z 10.0.7.1/24\n"
            "router five\n    interface y 10.0.6.2/24\n    interface z 10.0.7.2/24\n    interface "
            "b 10.0.2.9/24\n",
            {},
        ),
    ],
)
def test_a_part_is_told_once_and_an_outside_joins_none(
    plan_of: Read, more: str, told: dict[str, str]
) -> None:
    plan = plan_of(NET + more)
    findings = found(plan, "parts-apart")
    assert [each.place for each in findings] == [plan.segments[name].place for name in told]
    assert all(
        each.message.startswith(what) for each, what in zip(findings, told.values(), strict=True)
    ), [each.message for each in findings]


def test_a_shared_gateway_is_one(plan_of: Read) -> None:
    more = (
        "subnet z 10.0.7.0/24 10.0.8.0/24\nrouter three\n    interface z 10.0.7.1/24\n    "
        "interface b 10.0.2.9/24\n"
    )
    (finding,) = found(plan_of(NET + more), "no-gateway")
    assert finding.fault.what == (
        "no device has an address in 10.0.8.0/24 of z, so nothing leaves it or gets there by IPv4"
    )
    assert (
        found(
            plan_of(NET + more.replace("24\n    interface b", "24 10.0.8.1/24\n    interface b")),
            "no-gateway",
        )
        == []
    )
    two = (
        "router four\n    interface z 10.0.7.2/24\n    interface b 10.0.2.8/24\ngateway "
        "10.0.8.1 on z by three.z, four.z\n"
    )
    assert found(plan_of(NET + more + two), "no-gateway") == []


def test_the_index_tells_the_codes_of_icmp_apart(plan_of: Read) -> None:
    access_list = plan_of(
        "list l extended ipv4\n    permit icmp/3/4 any to any\n    deny icmp/3 any to any\n"
    ).lists["l"]
    index = ListIndex(access_list, frozenset())
    for code, number in ((4, 10), (1, 20), (4, 10), (0, 20)):
        decided = index.decide(Packet(Family.IPV4, 1, 2, 1, icmp_type=3, icmp_code=code))
        assert decided.entry is not None
        assert decided.entry.number == number


def test_an_entry_is_over_from_the_minute_its_window_closes(plan_of: Read) -> None:
    dated = (
        "window w 2026-11-01 00:00 to {}\n"
        + NET
        + "list f extended ipv4\n    permit ip h to k during w\nplace f inbound on one.a\n"
    )
    assert len(found(plan_of(dated.format("2026-12-01 12:00")), "window-never")) == 1
    assert found(plan_of(dated.format("2026-12-01 12:01")), "window-never") == []


def test_what_stays_on_its_link_is_asked_for_by_its_destination_alone(plan_of: Read) -> None:
    lease = FENCE.format("permit udp/67 0.0.0.0 to 255.255.255.255")
    assert found(plan_of(NET + lease), "wrong-side") == []
    assert len(found(plan_of(NET + FENCE.format("permit udp/67 0.0.0.0 to k")), "wrong-side")) == 1


ASYMMETRIC = """subnet a 10.0.0.0/24
subnet b 10.0.1.0/24
subnet m 10.0.2.0/24
router west {west}
    interface a 10.0.0.1/24
    interface b 10.0.1.1/24
router east
    interface a 10.0.0.2/24
    interface b 10.0.1.2/24
host h 10.0.0.5 gateway 10.0.0.1
host k 10.0.1.5 gateway 10.0.1.{back}
list l extended ipv4
    permit tcp/443 h to k tls 1.2-
place l inbound on west.a
"""


@pytest.mark.parametrize(("back", "told"), [(1, False), (2, True)])
def test_only_a_device_that_sees_both_ways_learns_what_tls_is_spoken(
    plan_of: Read, back: int, told: bool
) -> None:
    findings = found(plan_of(ASYMMETRIC.format(west="stateful", back=back)), "never-settled")
    assert [
        "the answers to what it takes do not come through west" in each.message for each in findings
    ] == [True] * told


@pytest.mark.parametrize(
    ("lines", "mend"),
    [
        (
            ["deny tcp/443 any to any", "permit ip h to any", "permit ip any to any"],
            "move 20 before 10",
        ),
        (
            [
                "permit udp a to k",
                "deny tcp/443 any to any",
                "deny tcp/22 any to any",
                "permit tcp h to any",
                "permit ip any to any",
            ],
            "move 40 before 20",
        ),
        (
            ["deny tcp/443 a to k", "permit tcp a to any", "permit ip any to any"],
            "drop it, or add log if it is there to be seen",
        ),
        (
            [
                "permit tcp/443 any to any",
                "deny tcp/443 any to k",
                "permit tcp/443 h to any",
                "permit ip any to any",
            ],
            None,
        ),
        (
            ["deny udp any to any", "permit tcp h to any", "permit ip any to any"],
            "drop it, or add log if it is there to be seen",
        ),
        (
            [
                "permit tcp/443 any to any",
                "deny tcp any to k",
                "deny ip a to k",
                "deny ip any to any",
            ],
            "move 30 before 10",
        ),
    ],
)
def test_an_exception_below_what_it_excepts_is_moved_and_never_dropped(
    plan_of: Read, lines: list[str], mend: str | None
) -> None:
    findings = found(plan_of(NET + FENCE.format("\n    ".join(lines))), "no-effect")
    told = [each for each in findings if each.entry == 10 * (len(lines) - 1)]
    assert [each.fault.mend for each in told] == ([] if mend is None else [mend])


@pytest.mark.parametrize(
    ("lines", "told"),
    [
        (
            ["deny tcp/443 a to k", "permit ip any to any"],
            [
                "what it denies of tcp/443 passes over UDP (QUIC): 20 permits it",
                "ports are closed and ping is open: 20 permits it",
            ],
        ),
        (
            ["deny udp/domain a to k", "permit tcp a to any"],
            ["what it denies of udp/53 passes over TCP: 20 permits it"],
        ),
        (["deny tcp/22 a to k", "permit tcp a to any"], []),
        (["deny tcp/22 a to k", "permit ping a to any", "permit tcp a to any"], []),
        (
            ["deny tcp/22 a to k", "deny tcp/23 a to k", "permit ip any to any"],
            ["ports are closed and ping is open: 30 permits it"],
        ),
        (["deny tcp/443 a to k", "deny udp,ping a to k", "permit ip any to any"], []),
        (["deny ip a to k", "permit udp a to any"], []),
        (["deny tcp/1-2000 a to k", "permit udp a to any"], []),
        (["permit tcp/443 a to k", "permit udp a to any"], []),
        (["deny tcp/443 h to k", "permit udp/443 k to any"], []),
    ],
)
def test_the_other_half_of_what_is_closed_is_named(
    plan_of: Read, lines: list[str], told: list[str]
) -> None:
    findings = found(plan_of(NET + FENCE.format("\n    ".join(lines))), "other-half")
    assert [each.fault.what.partition(", so a ping")[0] for each in findings] == told


WITH_SEA = """
subnet a 10.0.0.0/24
subnet b 10.0.1.0/24
outside sea but private
router r
    interface a 10.0.0.1/24 on a
    interface b 10.0.1.1/24 on b
    interface up 203.0.113.2/30 on sea
    route default via 203.0.113.1
host k 10.0.1.5
list f extended ipv4
    {}
place f {} on r.{}
"""


@pytest.mark.parametrize(
    ("lines", "place", "told"),
    [
        (["deny domain a to any", "permit ip any to any"], ("inbound", "a"), ["names-round 10"]),
        # Only what goes outside, where it does, and where some line lets the way round by.
        (["deny domain a to b", "permit ip any to any"], ("inbound", "a"), []),
        (["deny domain any to any", "permit ip any to any"], ("inbound", "up"), []),
        (
            [
                "deny domain a to any",
                "deny tcp/853 a to any",
                "deny udp/853 a to any",
                "permit ip any to any",
            ],
            ("inbound", "a"),
            [],
        ),
        (["deny ip a to any", "permit ip any to any"], ("inbound", "a"), []),
        (["deny tcp/1-2000 a to any", "permit ip any to any"], ("inbound", "a"), []),
        (
            ["permit domain a to k", "deny udp a to any", "permit ip any to any"],
            ("inbound", "a"),
            [],
        ),
        (["deny tcp/443 a to any", "permit tcp/8080 a to k"], ("inbound", "a"), []),
        (
            ["deny tcp/443 a to any", "permit tcp/8080 a to any"],
            ("inbound", "a"),
            ["proxy-round 10"],
        ),
        # Once a list and way, at the first line that is got round.
        (
            ["deny smtp k to any", "deny smtp any to any", "permit tcp/465 any to any"],
            ("outbound", "up"),
            ["mail-round 10"],
        ),
        (["deny tcp/22 a to k", "permit tcp/23 a to k"], ("inbound", "a"), ["management-round 10"]),
        (["deny tcp/23 a to k", "permit tcp/22 a to k"], ("inbound", "a"), []),
        # Where a line above permits it, nothing of it is got round.
        (
            ["permit tcp/22 a to k", "deny tcp/22 a to b", "permit tcp/23 a to k"],
            ("inbound", "a"),
            [],
        ),
        (
            ["deny tcp/443 a to k", "permit tcp/80 a to k"],
            ("inbound", "a"),
            ["management-round 10"],
        ),
        (["deny tcp/444 a to k", "permit tcp/80 a to k"], ("inbound", "a"), []),
        (
            ["deny udp/161 a to k", "permit udp/162 a to k"],
            ("inbound", "a"),
            ["management-round 10"],
        ),
        (["permit tcp/21 a to k"], ("inbound", "a"), ["second-connection 10"]),
        (["permit tcp/21 a to k", "permit tcp/1024- a to k"], ("inbound", "a"), []),
        (
            ["permit tcp/21 a to k", "permit tcp/1025- a to k"],
            ("inbound", "a"),
            ["second-connection 10"],
        ),
        (["permit tcp/1-100 a to k"], ("inbound", "a"), []),
        (["permit tcp/21 k to a"], ("inbound", "a"), []),
        (["permit udp/5060 a to any"], ("inbound", "a"), ["second-connection 10"]),
    ],
)
def test_ways_round_are_told_where_a_list_leaves_them_open(
    plan_of: Read, lines: list[str], place: tuple[str, str], told: list[str]
) -> None:
    plan = plan_of(WITH_SEA.format("\n    ".join(lines), *place))
    found = [
        f"{each.name} {each.entry}"
        for each in audit(Session(plan), NOW).findings
        if each.name.endswith("-round") or each.name == "second-connection"
    ]
    assert found == told


@pytest.mark.parametrize(
    ("outside", "lines", "sources"),
    [
        ("sea but private", ["permit tcp/80 any to k"], "127.0.0.0/8, 169.254.0.0/16, private"),
        # What an outside may have, as far as the plan says, is not bogus there.
        ("sea", ["permit tcp/80 any to k"], "127.0.0.0/8, 169.254.0.0/16"),
        (
            "sea 203.0.113.0/24",
            ["permit tcp/80 any to k"],
            "127.0.0.0/8, 169.254.0.0/16, private",
        ),
        (
            "sea 203.0.113.0/24 10.9.0.0/16",
            ["permit tcp/80 any to k"],
            "127.0.0.0/8, 169.254.0.0/16, 172.16.0.0/12, 192.168.0.0/16, 100.64.0.0/10",
        ),
        (
            "sea but private",
            ["deny ip private to any", "permit tcp/80 any to k"],
            "127.0.0.0/8, 169.254.0.0/16",
        ),
        ("sea but private", ["permit tcp/80 198.51.100.0/24 to k"], ""),
        ("sea but private", ["permit tcp/80 any to 198.51.100.7"], ""),
        ("sea but private", ["deny ip any to k"], ""),
    ],
)
def test_sources_that_nobody_out_there_has_are_told(
    plan_of: Read, outside: str, lines: list[str], sources: str
) -> None:
    text = WITH_SEA.format("\n    ".join(lines), "inbound", "up")
    plan = plan_of(text.replace("outside sea but private", f"outside {outside}"))
    found = [each for each in audit(Session(plan), NOW).findings if each.name == "bogus-source"]
    assert [each.beside for each in found] == ([f"ip {sources} to any"] if sources else [])


def test_a_standard_list_is_to_deny_bogus_sources_in_its_own_form(plan_of: Read) -> None:
    text = WITH_SEA.format("permit 198.51.100.0/24, 127.0.0.1", "inbound", "up")
    plan = plan_of(text.replace("extended", "standard"))
    (found,) = (each for each in audit(Session(plan), NOW).findings if each.name == "bogus-source")
    assert "deny 127.0.0.0/8 first" in found.message


def told(plan: Plan, name: str) -> list[str]:
    return [each.message for each in found(plan, name)]


def test_an_unplaced_list_is_told_where_one_of_its_sort_stands(plan_of: Read) -> None:
    plan = plan_of(
        "list l standard ipv4\n    permit any\nlist f standard ethernet\n    permit any\n"
    )
    assert [each.rpartition("inbound on ")[2] for each in told(plan, "unplaced")] == [
        "DEVICE.INTERFACE",
        "SWITCH.PORT",
    ]


def test_a_closing_line_is_asked_for_only_where_others_stand_above(plan_of: Read) -> None:
    lone = told(
        plan_of(NET + FENCE.format("permit tcp/80 any to any\n    otherwise permit")), "no-effect"
    )
    last = told(
        plan_of(
            NET
            + FENCE.format(
                "deny tcp/22 any to any\n    permit tcp/80 any to any\n    otherwise permit"
            )
        ),
        "no-effect",
    )
    assert ["closing denial missing" in each for each in (*lone, *last)] == [False, True]


def test_a_list_that_permits_something_at_some_hour_permits_something(plan_of: Read) -> None:
    text = "window w daily 08:00-18:00\n" + NET + FENCE
    assert told(plan_of(text.format("permit ip any to any during w")), "nothing-permitted") == []
    assert len(told(plan_of(text.format("deny ip any to any during w")), "nothing-permitted")) == 1


@pytest.mark.parametrize(
    ("lines", "count"),
    [
        (["permit udp/domain a to k"], 1),
        (["permit udp/domain a to k", "permit tcp/80,tcp/domain a to k"], 0),
        (["permit udp/domain a to k", "permit tcp/80 a to k"], 1),
        (["permit udp/domain a to k", "permit tcp/domain a to any"], 2),
        (["permit sctp/domain a to k"], 0),
    ],
)
def test_another_entry_takes_the_other_transport(
    plan_of: Read, lines: list[str], count: int
) -> None:
    assert (
        len(told(plan_of(NET + FENCE.format("\n    ".join(lines))), "transport-narrowed")) == count
    )


@pytest.mark.parametrize(
    ("lines", "count"),
    [
        (["permit tcp/80 h to k", "permit ip any to any"], 1),
        (["deny tcp/22 h to k", "permit ip any to any"], 0),
        (["permit tcp/80 h to k", "deny tcp/22 h to k", "permit ip any to any"], 0),
        (["permit ip any to any", "deny tcp/22 h to k"], 1),
        (["permit ip any to any"], 0),
    ],
)
def test_a_permit_for_everything_is_too_broad_among_permits_or_above_others(
    plan_of: Read, lines: list[str], count: int
) -> None:
    assert len(told(plan_of(NET + FENCE.format("\n    ".join(lines))), "too-broad")) == count


@pytest.mark.parametrize(
    ("back", "count"),
    [
        ("permit tcp any to any established", 0),
        ("permit tcp any to any established during w", 1),
        ("permit tcp any to any source port 80 established", 1),
        ("permit tcp any to any source port 80,443 established", 0),
        ("permit tcp k to any established", 1),
    ],
)
def test_answers_come_back_at_every_hour_for_every_port_from_everybody(
    plan_of: Read, back: str, count: int
) -> None:
    text = "window w daily 08:00-18:00\n" + NET + FENCE.format("permit tcp/80,443 h to b")
    text += f"list back extended ipv4\n    {back}\nplace back inbound on two.b\n"
    assert len(told(plan_of(text), "replies-blocked")) == count


def test_what_one_device_alone_is_on_is_no_link(plan_of: Read) -> None:
    empty = NET.replace("host h 10.0.1.7 2001:db8:1::7 on a\n", "")
    text = empty + (
        "subnet y 10.0.5.0/24\nrouter four\n    interface y 10.0.5.1/24\n    interface m "
        "10.0.9.4/24 on m\nhost w 10.0.5.9\n"
    )
    text += (
        "list s standard ipv4\n    permit w\nplace s outbound on two.b\nlist g standard ipv4\n "
        "   deny y\n    deny b\n    otherwise permit\nplace g inbound on one.o\n"
    )
    assert {each.segment for each in found(plan_of(text), "spoofable")} == {"a"}


def test_an_answer_to_a_ping_has_code_0(plan_of: Read) -> None:
    for code, holds in ((0, True), (1, False)):
        back = (
            f"list back extended ipv4\n    permit icmp/0/{code} any to any\nplace back inbound "
            "on two.b\nexpect permit ping h to k over ipv4\n"
        )
        plan = plan_of(NET + back)
        network = Network(plan)
        (start, end), *_ = pairs(network, "h", "k")
        (asked,) = conversations(plan.service("ping", Family.IPV4), start, end)
        assert (Tracer(network).trace(asked).verdict is Verdict.PERMITTED, held(plan)) == (
            holds,
            [holds],
        )


def test_where_no_gateway_has_a_route_the_first_gets_the_packet_and_drops_it(plan_of: Read) -> None:
    text = (
        "routing static\nsubnet a 10.0.1.0/24\nsubnet z 10.0.9.0/24\nrouter one\n    interface a "
        "10.0.1.1/24\nrouter two\n    interface a 10.0.1.2/24\n"
        "router far\n    interface z 10.0.9.1/24\nhost h 10.0.1.7\nhost k 10.0.9.7\nlist s "
        "standard ipv4\n    deny any\nplace s inbound on one.a\n"
    )
    plan = plan_of(text)
    network = Network(plan)
    (start, end), *_ = pairs(network, "h", "k")
    (path,) = network.ways(start, end.address)
    assert [str(each.point) for each in path.crossings] == ["subnet a", "one.a"]
    assert not path.arrived


def test_a_denial_of_addresses_that_nobody_has_is_told_where_its_destination_never_passes(
    plan_of: Read,
) -> None:
    closed = NET.replace("outside world\n", "").replace(
        "    interface o 203.0.113.2/28 on world\n", ""
    )
    for destination, count in (("k", 0), ("any", 0), ("172.17.0.1", 1), ("h", 1)):
        assert (
            len(
                told(
                    plan_of(closed + FENCE.format(f"deny ip 172.16.0.0/12 to {destination}")),
                    "wrong-side",
                )
            )
            == count
        ), destination


def test_an_entry_with_many_halves_open_is_told_once(plan_of: Read) -> None:
    more = (
        "subnet c 10.0.3.0/24\nrouter four\n    interface m 10.0.9.4/24 on m\n    interface c "
        "10.0.3.1/24 on c\nhost q 10.0.3.7\n"
    )
    back = (
        "list back extended ipv4\n    deny tcp any to any\n    permit ip any to any\nplace "
        "back inbound on two.b\nplace back inbound on four.c\n"
    )
    findings = found(
        plan_of(NET + more + FENCE.format("permit ip h to any") + back), "replies-blocked"
    )
    assert [each.entry for each in findings if each.access_list == "f"] == [10]


def test_the_line_that_lets_the_other_half_by_is_a_cause(plan_of: Read) -> None:
    (half,) = found(
        plan_of(NET + FENCE.format("deny tcp/443 a to k\n    permit udp a to any")), "other-half"
    )
    assert half.because == (20,)
    (otherwise,) = found(
        plan_of(NET + FENCE.format("deny tcp/443 a to k\n    otherwise permit")), "other-half"
    )
    assert otherwise.because == ()


def test_what_is_needed_at_one_hour_has_an_effect(plan_of: Read) -> None:
    text = "window w daily 08:00-18:00\n" + NET + FENCE
    for second in ("permit ip h to any during w", "permit tcp/22 h to any during w"):
        assert told(plan_of(text.format(f"permit tcp/80 h to k\n    {second}")), "no-effect") == []
    assert (
        len(told(plan_of(text.format("permit tcp/80 h to k\n    permit ip h to any")), "no-effect"))
        == 1
    )


def test_only_the_entry_that_lets_a_claimed_address_by_trusts_it(plan_of: Read) -> None:
    text = NET + "list s standard ipv4\n    permit h\n    permit a\nplace s outbound on two.b\n"
    border = (
        "list g standard ipv4\n    permit h\n    deny a\n    deny b\n    permit any\nplace g "
        "inbound on one.o\n"
    )
    for more, entries in ((border, [10]), ("", [10, 20])):
        assert [
            each.entry
            for each in found(plan_of(text + more), "spoofable")
            if each.access_list == "s"
        ] == entries


def test_any_network_is_audited(plan_of: Read) -> None:
    """Networks of all kinds, some with routes to addresses that are nowhere: whatever stands in
    them, no rule stumbles over it.
    """
    for seed in range(16):
        plan = plan_of(reference.network(seed))
        found = audit(Session(plan), NOW).findings
        assert {each.access_list for each in found if each.access_list} <= plan.every_list.keys()
