"""How machines get leases: the messages, what stops them, and what is said of it."""

from __future__ import annotations

import re
from collections.abc import Callable
from datetime import datetime
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as some

from crossgate.core.answers.leases import Leased, clients, exchanges, exchanges_of, followed
from crossgate.core.audit import audit
from crossgate.core.conversation.packets import Tracer
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.address import Family
from crossgate.core.model.packet import UDP, Packet
from crossgate.core.model.plan import Plan
from crossgate.core.network.ways import Network
from crossgate.core.traffic.session import Session
from crossgate.library import parse
from tests.conftest import Run
from tests.documents import checked

Read = Callable[[str], Plan]
NOW = datetime(2026, 12, 1, 12, 0)

NET = """\
subnet hall 10.64.8.0/24 2001:db8:64:8::/64
subnet office 10.64.20.0/24 2001:db8:64:14::/64
router gate
    interface hall   10.64.8.1/24  2001:db8:64:8::1/64  on hall
    interface office 10.64.20.1/24 2001:db8:64:14::1/64 on office
switch jetty
    port 3
host kiosk  10.64.8.60 2001:db8:64:8::60 on hall at jetty.3
host server 10.64.20.10 2001:db8:64:14::10 on office
window night daily 22:00-06:00
"""
BY_GATE = NET + "leases 10.64.8.60-10.64.8.99 on hall by gate\n"
BY_SERVER = NET + "leases 10.64.8.60-10.64.8.99 on hall by server\n"
SIX = NET + "leases 2001:db8:64:8::60-2001:db8:64:8::ff on hall by server\n"


def lists(*entries: str, kind: str = "extended ipv4", at: str = "inbound on gate.hall") -> str:
    lines = "".join(f"    {each}\n" for each in entries)
    return f"list fence {kind}\n{lines}place fence {at}\n"


def leased(plan: Plan, word: str = "kiosk") -> list[Leased]:
    network = Network(plan)
    return [followed(Tracer(network), each) for each in exchanges_of(network, word)]


def packets(one: Leased) -> list[tuple[str, str]]:
    """Return the messages of an exchange, each with its packet."""
    from crossgate.core.wording.sentences import packet_text

    return [(each.what, packet_text(each.conversation.first)) for each in one.exchange.messages]


def found(plan: Plan, *names: str) -> list[tuple[str, str | None, int | None]]:
    every = audit(Session(plan), NOW).findings
    return [(e.name, e.access_list, e.entry) for e in every if e.name in names]


def test_a_device_gives_leases_itself(plan_of: Read) -> None:
    (one,) = leased(plan_of(BY_GATE))
    assert packets(one) == [
        ("discover and request", "udp/67 from 0.0.0.0 port 68 to 255.255.255.255"),
        ("offer and acknowledgement", "udp/68 from 10.64.8.1 port 67 to 255.255.255.255"),
        ("renewal", "udp/67 from 10.64.8.60 port 68 to 10.64.8.1"),
    ]
    assert (one.verdict, one.stopped, one.exchange.relay) == (Verdict.PERMITTED, None, None)


def test_the_devices_of_a_subnet_hand_requests_on(plan_of: Read) -> None:
    (one,) = leased(plan_of(BY_SERVER))
    assert packets(one) == [
        ("discover and request", "udp/67 from 0.0.0.0 port 68 to 255.255.255.255"),
        ("handing on to server", "udp/67 from 10.64.8.1 port 67 to 10.64.20.10"),
        ("offer and acknowledgement", "udp/68 from 10.64.8.1 port 67 to 255.255.255.255"),
        ("renewal", "udp/67 from 10.64.8.60 port 68 to 10.64.20.10"),
    ]
    assert one.exchange.relay is not None
    assert one.exchange.relay.name == "gate.hall"


def test_a_host_on_the_subnet_needs_no_relay(plan_of: Read) -> None:
    text = BY_SERVER.replace("by server", "by near") + lists("10 deny ip any to any")
    (one,) = leased(
        plan_of(text.replace("host server", "host near 10.64.8.5 on hall\nhost server"))
    )
    assert one.exchange.relay is None
    assert one.verdict is Verdict.PERMITTED  # no frame between the two meets the gateway
    assert [each.what for each in one.exchange.messages][1:] == [
        "offer and acknowledgement",
        "renewal",
    ]


def test_ipv6_machines_speak_under_link_local_addresses(plan_of: Read) -> None:
    (one,) = leased(plan_of(SIX))
    assert packets(one) == [
        ("solicit, request and renew", "udp/547 from fe80::1 port 546 to ff02::1:2"),
        ("handing on to server", "udp/547 from 2001:db8:64:8::1 port 547 to 2001:db8:64:14::10"),
        ("advertise and reply", "udp/546 from fe80::2 port 547 to fe80::1"),
    ]
    stopped = plan_of(SIX + lists("10 permit ip hall to any", kind="extended ipv6"))
    assert found(stopped, "lease-blocked") == [("lease-blocked", "fence", None)]
    let_by = lists("10 permit udp/547 fe80::/10 to ff02::1:2 source port 546", kind="extended ipv6")
    assert found(plan_of(SIX + let_by), "lease-blocked") == []


def test_the_first_packet_has_no_source_that_a_list_could_name(plan_of: Read) -> None:
    plan = plan_of(BY_GATE + lists("10 permit ip hall to any"))
    (one,) = leased(plan)
    assert (one.verdict, len(one.traces)) == (Verdict.DENIED, 1)
    assert one.stopped is one.exchange.messages[0]
    assert found(plan, "lease-blocked") == [("lease-blocked", "fence", None)]


@pytest.mark.parametrize(
    ("entries", "at", "what"),
    [
        (["10 permit ip any to any"], "inbound on gate.hall", None),
        (["10 deny udp/67 any to any"], "inbound on gate.hall", "discover and request"),
        (["10 permit udp/68 any to any"], "inbound on jetty.3", "discover and request"),
        (["10 permit udp/67 any to any"], "outbound on jetty.3", "offer and acknowledgement"),
        (["10 permit udp/67 any to any"], "outbound on gate.office", "renewal"),
        (["10 deny udp any to server"], "outbound on gate itself", "handing on to server"),
        (["10 permit udp/67 0.0.0.0 to any"], "inbound on gate itself", "handing on to server"),
        (["10 permit udp/67 any to any"], "inbound on gate itself", None),
        (["10 deny udp/67 any to any"], "inbound on host server", "handing on to server"),
        (["10 permit udp/67 0.0.0.0 to any"], "inbound on gate.hall", "renewal"),
    ],
)
def test_each_message_meets_the_lists_on_its_way(
    plan_of: Read, entries: list[str], at: str, what: str | None
) -> None:
    if (at, what) == ("outbound on gate.office", "renewal"):
        entries = ["10 deny udp/67 leases of hall to any", "20 permit ip any to any"]
    (one,) = leased(plan_of(BY_SERVER + lists(*entries, at=at)))
    assert (None if one.stopped is None else one.stopped.what) == what


def test_one_way_is_enough_for_a_lease(plan_of: Read) -> None:
    other = "router side\n    interface hall 10.64.8.2/24 on hall\n    interface o 10.64.20.2/24 on office\n"
    text = BY_SERVER.replace("switch jetty", other + "switch jetty")
    plan = plan_of(text + lists("10 deny ip 0.0.0.0 to any", "20 permit ip any to any"))
    assert [each.verdict for each in leased(plan)] == [Verdict.DENIED, Verdict.PERMITTED]
    assert found(plan, "lease-blocked") == []


def test_what_a_window_stops_is_found_at_every_hour(plan_of: Read) -> None:
    plan = plan_of(BY_GATE + lists("10 deny ip any to any during night", "20 permit ip any to any"))
    assert found(plan, "lease-blocked") == [("lease-blocked", "fence", 10)]


def test_who_gets_leases_are_hosts_in_the_range_and_one_that_nobody_names(plan_of: Read) -> None:
    plan = plan_of(BY_GATE)
    network = Network(plan)
    assert [each.name for each in clients(network, plan.leases[0])] == ["kiosk", "10.64.8.61"]
    away = plan_of(NET + "leases 10.64.8.70-10.64.8.71 on hall by gate\n")
    (one,) = exchanges_of(Network(away), "kiosk")
    assert str(one.messages[-1].conversation.source.address) == "10.64.8.70"  # not its own
    assert one.client.at is not None  # and still at its socket


@pytest.mark.parametrize(
    ("line", "name"),
    [("names server", "names-blocked"), ("time server", "time-blocked")],
)
def test_whom_a_lease_names_can_be_asked_there_and_back(
    plan_of: Read, line: str, name: str
) -> None:
    text = BY_GATE.replace("by gate", f"by gate {line}")
    permit = {"names-blocked": "udp/53", "time-blocked": "udp/123"}[name]
    lets = "10 permit udp/67 0.0.0.0 to any", f"20 permit {permit} leases of hall to server"
    assert found(plan_of(text + lists(*lets)), name) == []
    assert found(plan_of(text + lists(lets[0])), name) == [(name, "fence", None)]
    answers = lists(
        "10 deny udp server to hall", "20 permit ip any to any", at="inbound on gate.office"
    )
    assert found(plan_of(text + answers), name) == [(name, "fence", 10)]


ENTRIES = (
    "permit udp/67 0.0.0.0 to 255.255.255.255 source port 68",
    "permit udp any to any",
    "deny udp/67 any to any",
    "permit ip hall to any",
    "deny ip 0.0.0.0/8 to any",
    "permit udp/67 any to 255.255.255.255 source port 1024-",
    "deny tcp any to any",
    "permit ip any to 224.0.0.0/3",
)


@given(some.lists(some.sampled_from(ENTRIES), max_size=5), some.booleans())
def test_the_first_message_fares_as_its_packet_does_in_the_list(
    entries: list[str], permits: bool
) -> None:
    own = [f"{10 * number} {each}" for number, each in enumerate(entries, 1)]
    otherwise = "otherwise permit" if permits else "otherwise deny"
    plan = parse(BY_GATE + lists(*own, otherwise))
    (leases,) = plan.leases
    network = Network(plan)
    (kiosk, _) = clients(network, leases)
    (exchange,) = exchanges(network, leases, kiosk)
    discover = Packet(Family.IPV4, 0, 2**32 - 1, UDP, 68, 67)
    decider = plan.lists["fence"].decide(discover, frozenset())
    first = followed(Tracer(network), exchange).traces[0]
    assert (first.verdict is Verdict.PERMITTED) is decider.permits


def test_about_tells_of_leases(run: Run, tmp_path: Path) -> None:
    text = BY_GATE.replace("by gate", "by gate names server time gate")
    (tmp_path / "p.gate").write_text(text)
    for word in ("hall", "leases of hall"):
        told = run("about", word)
        assert told.returncode == 0, told.stderr
        fact = "10.64.8.60-10.64.8.99 by gate, names server, time gate"
        assert re.search(rf"leases +{re.escape(fact)}", told.stdout)
    assert run("about", "leases of office").returncode == 2


def test_trace_shows_the_exchange(run: Run, tmp_path: Path) -> None:
    plan = tmp_path / "p.gate"
    plan.write_text(BY_SERVER + lists("10 permit ip hall to any"))
    whole = run("trace", "kiosk", "lease")
    assert whole.returncode == 0
    assert whole.stdout.startswith(
        "lease  kiosk (10.64.8.60) from server by way of gate.hall  IPv4"
    )
    assert "discover and request: udp/67 from 0.0.0.0 port 68 to 255.255.255.255" in whole.stdout
    assert whole.stdout.endswith(
        "denied: kiosk gets no lease from server: it ends at the discover and request\n"
    )
    short = run("trace", "hall", "lease").stdout
    assert "2 denied" in short
    assert run("trace", "hall", "lease", "--expect", "permit").returncode == 1
    assert run("trace", "hall", "lease", "--expect", "deny").returncode == 0
    document = checked(run("trace", "kiosk", "lease", "--json").stdout)
    assert document["schema"] == "crossgate/leases/1"
    (exchange,) = document["exchanges"]
    assert exchange["stopped"] == "discover and request"
    assert [each["verdict"] for each in exchange["messages"]] == ["denied"]
    assert exchange["messages"][0]["decided"]["list"] == "fence"
    for words, told in (
        (("office", "lease"), "no leases line is for office"),
        (("gate", "lease"), "gate is no host and no subnet"),
        (("kiosk", "lease", "-6"), "no leases line is for IPv6"),
        (("kiosk", "lease", "--week"), "--week is about one conversation"),
        (("kiosk", "server"), "say what kiosk sends to server, as ping or tcp/443"),
    ):
        refused = run("trace", *words)
        assert (refused.returncode, told in refused.stderr) == (2, True), refused.stderr


def test_an_edit_that_ends_leases_is_refused_and_mends_bring_them_back(
    run: Run, tmp_path: Path
) -> None:
    plan = tmp_path / "p.gate"
    plan.write_text(
        BY_GATE
        + lists("10 permit udp/67 any to any", "20 permit ip hall to any")
        + "list door standard ipv4\n    10 permit 0.0.0.0/8\n    20 deny any log\n"
        "place door inbound on gate itself\n"
    )
    assert "lease-blocked" not in run("check").stdout
    refused = run("entry", "drop", "fence", "10", "--yes")
    assert (refused.returncode, "lease-blocked" in refused.stdout) == (1, True)
    for list_name in ("fence", "door"):
        assert run("entry", "drop", list_name, "10", "--yes", "--anyway").returncode == 0
    mended = run("mend", "lease-blocked").stdout
    permit = "permit udp/67 0.0.0.0, leases of hall to 255.255.255.255, gate.hall source port 68"
    assert f"in list fence, at the end: {permit}" in mended
    assert "in list door, before 20: permit 0.0.0.0" in mended
    assert "leases of hall" not in mended.partition("in list door")[2].splitlines()[0]
    written = run("mend", "lease-blocked", "fence", "--take", "a", "--write", "--yes")
    assert written.returncode == 0, written.stderr
    assert "lease-blocked" not in run("check").stdout
