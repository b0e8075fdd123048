"""What a word is: its facts, the lists that are met, and the entries that hold it."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from itertools import pairwise
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings

from crossgate.core.answers.about import about
from crossgate.core.answers.about.met import RECEIVED, SENT
from crossgate.core.answers.about.values import About
from crossgate.core.model.errors import PlanError
from crossgate.core.model.network import PointKind
from crossgate.core.model.plan import Plan
from crossgate.core.model.window import changes, open_at
from crossgate.core.network.endpoints import candidates
from crossgate.core.network.paths import Crossing
from crossgate.core.network.ways import Network
from crossgate.language.reader import read_plan
from tests.net import plans

Read = Callable[[str], Plan]
NOON = datetime(2026, 11, 30, 12)


def told(plan: Plan, word: str) -> dict[str, About]:
    """Return what a word is, by the kinds of things."""
    return {each.kind: each for each in about(Network(plan), word, NOON)}


def facts(thing: About) -> dict[str, tuple[str, ...]]:
    return {each.what: each.values for each in thing.facts}


@settings(max_examples=40, deadline=None)
@given(text=plans())
def test_the_lists_that_are_met_are_those_on_every_way(plan_of: Read, text: str) -> None:
    plan = plan_of(text)
    network = Network(plan)
    for host in ("pinned", "plain", "server"):
        met = told(plan, host)["host"].met
        for end in candidates(network, host):
            family = end.address.family
            far = next(e for e in candidates(network, "far") if e.address.family is family)
            there, back = network.path(end, far.address), network.path(far, end.address)
            ways = {SENT: up_to_first_device(list(there.crossings))}
            ways[RECEIVED] = [*reversed(up_to_first_device([*reversed(back.crossings)]))]
            for heading, crossings in ways.items():
                asked = [(network.list_at(each, family), each.where) for each in crossings]
                assert [
                    (each.access_list.name, each.where)
                    for each in met
                    if each.heading == heading and each.family is family
                ] == [(own.name, where) for own, where in asked if own is not None]


def up_to_first_device(crossings: list[Crossing]) -> list[Crossing]:
    """Return the crossings of a machine's own link, its gateway's interface the last."""
    last = next(n for n, each in enumerate(crossings) if each.point.kind is PointKind.INTERFACE)
    return crossings[: last + 1]


@settings(max_examples=25, deadline=None)
@given(text=plans())
def test_entries_that_hold_a_machine_are_all_that_match_its_address(
    plan_of: Read, text: str
) -> None:
    plan = plan_of(text)
    for host in plan.hosts.values():
        expected = set()
        for own in plan.lists.values():
            address = host.in_family(own.family)
            for entry in own.entries if address is not None else ():
                for part, words in (("from", entry.source), ("to", entry.destination)):
                    held = address is not None and words.contains(address.value)
                    if held and words.text not in ("any", host.name):
                        expected.add((own.name, entry.number, part, words.text))
        assert {
            (each.access_list.name, number, each.part, each.word)
            for each in told(plan, host.name)["host"].held
            for number in each.numbers
        } == expected


def test_every_kind_of_thing_of_the_demo(demo: Path) -> None:
    plan = read_plan(demo / "ternhaven.gate")
    kiosk = facts(told(plan, "kiosk-1")["host"])
    assert kiosk["port"] == ("jetty.3",)
    assert kiosk["on"] == ("subnet tickets (vlan 80)",)
    assert kiosk["gateways"] == ("lighthouse.v80",)
    assert kiosk["in groups"] == ("terminal",)
    assert facts(told(plan, "laptop")["host"])["hardware address"] == ("00:00:5e:00:53:66",)
    assert facts(told(plan, "tickets")["subnet"])["hosts"] == ("kiosk-1", "kiosk-2", "laptop")
    assert facts(told(plan, "quay")["subnet"])["shared gateways"] == (
        "192.0.2.14",
        "2001:db8:64:c0::e",
    )
    assert facts(told(plan, "internet")["outside"])["without"][0] == "10.0.0.0/8"
    assert facts(told(plan, "breakwater")["router"])["marks"] == ("stateful",)
    assert facts(told(plan, "lighthouse.up")["interface"])["on"] == ("subnet spine",)
    assert facts(told(plan, "jetty.24")["switch port"])["cable to"] == ("lighthouse.1",)
    assert facts(told(plan, "lighthouse.1")["switch port"])["cable to"] == ("jetty.24",)
    assert facts(told(plan, "jetty.5")["switch port"])["machines"] == ("laptop",)
    assert facts(told(plan, "servers")["group"])["hosts"] == ("manifest", "resolver")
    assert "tickets" in facts(told(plan, "terminal")["group"])["whole subnets"]
    assert "quay" not in facts(told(plan, "terminal")["group"])["whole subnets"]
    assert facts(told(plan, "night")["window"])["next"] == ("opens Mon 2026-11-30 22:00",)
    assert facts(told(plan, "kiosk-fence")["list"])["stands"] == ("inbound on lighthouse.v80",)
    assert facts(told(plan, "vlan 80")["vlan"])["subnets"][0].startswith("tickets ")
    assert facts(told(plan, "10.64.9.21")["address"])["whose"] == ("host kiosk-1",)
    assert facts(told(plan, "192.0.2.14")["address"])["whose"][0].startswith("shared gateway of")
    assert "stands for others at breakwater.sea" in str(told(plan, "192.0.2.9")["address"].facts)
    assert facts(told(plan, "224.0.0.1")["address"])["routed"][0].startswith("no: ")
    assert facts(told(plan, "10.64.32.0/23")["addresses"])["hosts"] == ("gate-1", "camera-1")
    assert told(plan, "10.64.32.10 wild 0.0.3.0").keys() == {"addresses"}


def test_services_by_the_plan_and_by_iana(demo: Path) -> None:
    plan = read_plan(demo / "ternhaven.gate")
    assert facts(told(plan, "booking")["service"])["services in it"] == (
        "https-alt (tcp/8443)",
        "pcsync-https (tcp/8443)",
    )
    token = told(plan, "tcp/8443")["service"]
    assert facts(token)["part of"] == ("booking",)
    assert {(each.access_list.name, each.word) for each in token.held} == {
        ("kiosk-fence", "booking"),
        ("kiosk-fence6", "booking"),
        ("berth-1-in", "tcp"),
        ("camera-only", "tcp"),
    }
    assert facts(told(plan, "tcp/443")["service"])["called by IANA"] == ("https",)
    assert "called by IANA" not in facts(told(plan, "udp/23")["service"])
    assert "for port 22 write ssh" in facts(told(plan, "22")["protocol"])["take care"][0]
    assert told(plan, "12").keys() == {"list"}
    assert told(plan, "icmp/8").keys() == {"service"}


def test_a_word_that_the_plan_and_iana_know_is_both(plan_of: Read) -> None:
    plan = plan_of("subnet a 10.0.0.0/24\nhost ssh 10.0.0.2 on a\nservice https tcp/444\n")
    assert told(plan, "ssh").keys() == {"host", "service of IANA"}
    assert told(plan, "https").keys() == {"service", "service of IANA"}


@pytest.mark.parametrize(
    ("word", "message"),
    [
        ("kiosk-3", "nothing called kiosk-3, and IANA neither; there is kiosk-2"),
        ("vlan 81", "no subnet of the plan has vlan 81; there is 80, 160, 200, 400"),
        ("10.64.9.300", "300 is more than 255"),
        ("tcp/70000", "70000 is no port"),
        ("lighthouse.v81", "lighthouse.v80"),
    ],
)
def test_what_is_nothing_is_told(demo: Path, word: str, message: str) -> None:
    with pytest.raises(PlanError, match=message):
        about(Network(read_plan(demo / "ternhaven.gate")), word, NOON)


def test_lists_within_a_subnet_and_of_frames_are_met(plan_of: Read) -> None:
    plan = plan_of(
        "subnet a 10.0.0.0/24\nrouter r\n    interface v 10.0.0.1/24 on a at s.9\n"
        "switch s\n    port 1\n    port 9\nhost h 10.0.0.2 on a at s.1 mac 00:00:5e:00:53:01\n"
        "list l extended ipv4\nlist w extended ipv4\nlist o standard ipv4\n"
        "list e standard ethernet\nplace l inbound on r.v\nplace w within subnet a\n"
        "place o outbound on host h\nplace e inbound on s.1\n"
    )
    assert [(each.heading, each.access_list.name) for each in told(plan, "h")["host"].met] == [
        (SENT, "e"),
        (SENT, "l"),
        (SENT, "w"),
        (RECEIVED, "o"),
    ]
    assert [each.where for each in told(plan, "a")["subnet"].met] == [
        "inbound on r.v",
        "within subnet a",
    ]


def test_where_names_are_used_is_in_the_document(demo: Path, answer: Any) -> None:
    (thing,) = answer("about", "kiosk-1")["things"]
    assert thing["kind"] == "host"
    assert thing["uses"][0] == {
        "file": "ternhaven.gate",
        "line": 119,
        "text": '10 permit kiosk-1 "nobody else behind this socket"',
        "list": "kiosk-port",
    }
    assert all("kiosk-1" in each["text"] for each in thing["uses"])
    points = answer("about", "lighthouse.v80")["things"][0]["uses"]
    assert [each["line"] for each in points] == [171, 172]


def test_a_long_answer_is_folded_unless_every_line_is_wanted(demo: Path, run: Any) -> None:
    folded, whole = run("about", "terminal").stdout, run("about", "terminal", "--every").stdout
    assert "16 more rows: --every shows all" in folded
    assert "--every" not in whole
    assert "visitor" not in whole
    assert len(whole.splitlines()) > len(folded.splitlines()) + 14


def test_windows_change_when_they_say(plan_of: Read) -> None:
    plan = plan_of(
        "window a mon 08:00-09:00\nwindow b mon 09:00-10:00\nwindow always daily 00:00-00:00\n"
        "window once 2026-12-01 06:00 to 2026-12-01 07:00\n"
    )
    hours = [plan.windows[name] for name in ("a", "b")]
    found = changes(hours, NOON)
    first = [next(found) for _ in range(4)]
    assert [f"{each:%d %H:%M}" for each in first] == [
        "07 08:00",
        "07 09:00",
        "07 10:00",
        "14 08:00",
    ]
    for one, other in pairwise([NOON, *first]):
        assert open_at(hours, one) != open_at(hours, other)
    assert list(changes([plan.windows["always"]], NOON)) == []
    assert [f"{each:%d %H:%M}" for each in changes([plan.windows["once"]], NOON)] == [
        "01 06:00",
        "01 07:00",
    ]


SEVERAL = """subnet hall 10.0.1.0/24 2001:db8:1::/64
subnet quay 10.0.2.0/24
outside sea
router r
    interface h 10.0.1.1/24
    interface q 10.0.2.1/24
    interface s 203.0.113.1/30 on sea
host desk 10.0.1.9
host crane 10.0.2.9
leases 10.0.1.100-10.0.1.119 on hall by r
list 1 standard ipv4
    permit hall
"""


@pytest.mark.parametrize(
    ("word", "size", "hosts"),
    [
        ("10.0.1.7,10.0.2.9", "2 addresses", ("crane",)),
        ("10.0.1.7, quay", "257 addresses", ("crane",)),
        ("quay, hall but desk", "511 IPv4 addresses", ("crane",)),
        ("leases of hall,desk", "21 addresses", ("desk",)),
        ("10.0.1.9,crane but crane", "1 address", ("desk",)),
        ("any but hall", f"{2**32 - 256:,} IPv4 addresses", ("crane",)),
        ("private", f"{2**24 + 2**20 + 2**16 + 2**22:,} IPv4 addresses", ("desk", "crane")),
    ],
)
def test_several_words_are_told_as_their_addresses(
    plan_of: Read, word: str, size: str, hosts: tuple[str, ...]
) -> None:
    found = facts(told(plan_of(SEVERAL), word)["addresses"])
    assert found["size"][0] == size
    assert found["hosts"] == hosts


@pytest.mark.parametrize(
    ("word", "says"),
    [
        ("desk,nobody", "no name nobody"),
        ("desk,,crane", "missing beside a comma"),
        ("desk but desk", "nothing is left"),
        ("sea but 203.0.113.0/24", "sea is an outside; ask about it by itself"),
        ("leases of quay,desk", "no name leases of quay"),
    ],
)
def test_what_is_wrong_with_several_words_is_told(plan_of: Read, word: str, says: str) -> None:
    with pytest.raises(PlanError, match=says):
        told(plan_of(SEVERAL), word)


@pytest.mark.parametrize("word", ["tcp/80,443", "udp/domain,ntp", "icmp/3/1"])
def test_a_service_with_commas_is_one(plan_of: Read, word: str) -> None:
    assert "addresses" not in told(plan_of(SEVERAL), word)
