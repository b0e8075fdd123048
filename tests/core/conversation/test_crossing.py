"""Conversations across translations, one packet and whole sets, against a plain reference that
takes each packet from hop to hop.
"""

from __future__ import annotations

import random
from collections.abc import Callable, Iterator
from typing import Any

import numpy as np
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

from crossgate.core.answers.compare import differences
from crossgate.core.conversation.endings import Ending
from crossgate.core.conversation.opening import Conversation, conversations
from crossgate.core.conversation.packets import Tracer
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.accesslist import AnyList, line_name
from crossgate.core.model.address import Family, parse_address, single
from crossgate.core.model.packet import Packet
from crossgate.core.model.packets import packet_columns
from crossgate.core.model.plan import Plan
from crossgate.core.network.endpoints import at_address
from crossgate.core.network.ways import Network
from crossgate.core.sets.frame import PacketSet
from crossgate.core.sets.region import packet_region
from crossgate.core.traffic.between import flows
from crossgate.core.traffic.bulk import BulkTracer
from crossgate.core.traffic.courses import openings
from crossgate.core.traffic.fates import VERDICTS
from crossgate.core.traffic.question import answers
from crossgate.core.traffic.session import Session
from tests.core.conversation.crossing import fares

Read = Callable[[str], Plan]
PORTS = [1999, 2000]
"""On both sides of the one port at which the lists tell choices apart."""
INSIDE = {
    Family.IPV4: ["10.0.0.9", "10.0.0.20", "10.0.1.3", "10.0.1.9"],
    Family.IPV6: ["2001:db8:1::9", "2001:db8:2::3", "2001:db8:2::9"],
}
FAR = {Family.IPV4: ["192.0.2.77", "198.51.100.77"], Family.IPV6: ["2001:db8:ffff::7"]}
PUBLIC = {
    Family.IPV4: [
        "203.0.113.2",
        "203.0.113.9",
        "203.0.113.35",
        "203.0.113.50",
        "198.51.100.2",
        "198.51.100.9",
    ],
    Family.IPV6: ["2001:db8:9::2", "2001:db8:aaaa::3", "2001:db8:aaaa::9", "2001:db8:bbbb::9"],
}
SERVICES = ["tcp/443", "tcp/22", "tcp/8443", "udp/53", "ping"]
RULES = (
    "translate in leaving {wan} as itself",
    "translate in tcp leaving {wan} as itself",
    "translate 10.0.0.0/24 udp/53 leaving {wan} unchanged",
    "translate 10.0.0.16/28 leaving {wan} as {pool}",
    "translate in, dmz leaving {wan} as {pool}",
    "translate any leaving {wan} as itself",
    "translate 10.0.1.0/28 both ways {wan} as {block}",
    "translate dmz6 both ways {wan} as {block6}",
    "translate 10.0.1.3 both ways {wan} as {one}",
    "translate itself tcp/443 entering {wan} to web port 8443",
    "translate {one} entering {wan} to web",
    "translate {one} tcp/22 entering {wan} to 10.0.0.9",
    "translate itself entering {wan} to 10.0.1.9",
    "translate 2001:db8:9::2 tcp/443 entering {wan} to 2001:db8:2::3 port 8443",
)
BORDERS = (
    {
        "pool": "203.0.113.9-203.0.113.10",
        "block": "203.0.113.32/28",
        "block6": "2001:db8:aaaa::/64",
        "one": "203.0.113.50",
    },
    {
        "pool": "198.51.100.9",
        "block": "198.51.100.32/28",
        "block6": "2001:db8:bbbb::/64",
        "one": "198.51.100.50",
    },
)
PLACES = ("r0.in", "r0.core", "r0.dmz", "b1.core", "b1.wan", "b2.core", "b2.wan")


def plan_text(seed: int) -> str:
    """Return a plan of a site with one or two borders, lists and rules drawn for it."""
    chance = random.Random(seed)
    two = chance.random() < 0.5
    lines = [
        "subnet in   10.0.0.0/24 2001:db8:1::/64",
        "subnet core 10.0.9.0/24 2001:db8:3::/64",
        "subnet dmz  10.0.1.0/28",
        "subnet dmz6 2001:db8:2::/64",
        "outside net",
        f"router r0{' stateful' * (chance.random() < 0.2)}",
        "    interface in   10.0.0.1/24 2001:db8:1::1/64 on in",
        "    interface core 10.0.9.1/24 2001:db8:3::1/64 on core",
        "    interface dmz  10.0.1.1/28 on dmz",
        "    interface dmz6 2001:db8:2::1/64 on dmz6",
    ]
    for number in range(1 + two):
        address = ("203.0.113.2/29", "198.51.100.2/29")[number]
        cost = chance.choice(["", "", " cost 7"])
        lines += [
            f"router b{number + 1} stateful",
            f"    interface core 10.0.9.{number + 2}/24 2001:db8:3::{number + 2}/64 on core{cost}",
            f"    interface wan  {address} 2001:db8:{9 + number}::2/64 on net",
        ]
        wan = "wan" if chance.random() < 0.85 else "core"
        for _ in range(chance.choice([1, 1, 2, 3]) if number == 0 or chance.random() < 0.7 else 0):
            rule = chance.choice(RULES).format(wan=wan, **BORDERS[number])
            if "2001:db8:9::2" not in rule or (number, wan) == (0, "wan"):
                lines.append(f"    {rule}")
    lines += [
        "host web 10.0.1.3 on dmz",
        "host far 192.0.2.77 2001:db8:ffff::7 on net",
    ]
    names = []
    ends = ["10.0.0.0/24", "10.0.0.9", "10.0.1.0/28", "203.0.113.2", "203.0.113.32/28", "any"]
    ends += ["203.0.113.9", "192.0.2.77", "10.0.0.16/28", "any", "198.51.100.0/24"]
    sixes = ["2001:db8:1::/64", "2001:db8:2::/64", "2001:db8:aaaa::/64", "any", "2001:db8:9::2"]
    for place in PLACES:
        if place.startswith("b2") and not two:
            continue
        for way in ("inbound", "outbound"):
            for family, those in (("ipv4", ends), ("ipv6", sixes)):
                if chance.random() < 0.35:
                    name = f"l-{place.replace('.', '-')}-{way}-{family}"
                    lines.append(f"list {name} extended {family}")
                    for _ in range(chance.randint(1, 3)):
                        service = chance.choice([*SERVICES[:4], "ip", "ip", "tcp", "udp"])
                        end = " source port 2000-65535" * (
                            service[:3] in ("tcp", "udp") and chance.random() < 0.25
                        )
                        end = end or " established" * (service == "tcp" and chance.random() < 0.3)
                        action = chance.choice(["permit", "permit", "deny"])
                        if chance.random() < 0.15 and service[:3] == "tcp":
                            service, end = "tcp/2000-65535", ""
                        lines.append(
                            f"    {action} {service} {chance.choice(those)} to "
                            f"{chance.choice(those)}{end}"
                        )
                    lines.append(f"    otherwise {chance.choice(['permit', 'permit', 'deny'])}")
                    names.append(f"place {name} {way} on {place}")
    if not any(each.startswith("    translate") for each in lines):
        return plan_text(seed + 1)
    return "\n".join([*lines, *names]) + "\n"


def told(ending: Ending) -> tuple[Verdict, str, object]:
    stop = ending.stop
    return (
        ending.verdict,
        str(ending.leg),
        None if stop is None else (stop.crossing.place, stop.decider.key),
    )


def ends(family: Family, chance: random.Random) -> Iterator[tuple[str, str]]:
    """Yield ends of conversations: out, in, and round by a public address."""
    inside, far, public = INSIDE[family], FAR[family], PUBLIC[family]
    for _ in range(3):
        yield chance.choice(inside), chance.choice(far)
        yield chance.choice(far), chance.choice(public)
    yield chance.choice(inside), chance.choice(public)
    yield chance.choice(far), chance.choice(inside)


def check(plan: Plan, seed: int) -> None:
    """Hold all that is sent between some ends against the reference."""
    chance = random.Random(seed)
    session = Session(plan)
    network, tracer, asking = session.network, session.tracer(), session.flows()
    for family in Family:
        classes = session.address_classes(family)
        sent, stopped = list[Packet](), list[tuple[Verdict, str]]()
        for one, other in ends(family, chance):
            start, end = (at_address(network, parse_address(each)) for each in (one, other))
            for service in SERVICES:
                meaning = plan.service(service, family)
                (wanted,) = conversations(meaning, start, end)
                every = fares(network, start, end, wanted.first, PORTS)
                expected = {way for there in every for way in there}
                where = f"{service} {one} to {other}"
                endings = tracer.endings(wanted)
                found = {told(each) for each in endings}
                assert found == expected, (where, found, expected)
                assert [told(each) for each in endings if each.first] == [tuple(every[0][0])], where
                trace = tracer.trace(wanted)
                last = trace.legs[-1]
                assert (trace.verdict, str(last.leg)) == every[0][0][:2], where
                tracer.alternatives(wanted)
                tracer.examples(wanted)
                here, there = [single(start.address)], [single(end.address)]
                begun = openings(meaning, family, plan.client_ports)
                verdicts = set()
                for flow in flows(network, classes, classes, here, there):
                    for answer in answers(asking, flow, begun):
                        verdicts.add(answer.verdict)
                        assert {told(each) for each in answer.endings} == expected, where
                kinds = {each.verdict for each in expected}
                verdict = Verdict.VARIES if len(kinds) > 1 else next(iter(kinds))
                assert verdicts == {verdict}, where
                sent.append(wanted.first)
                stop = endings[0].stop if len(kinds) == 1 else None
                stopped.append((verdict, "" if stop is None else stop.decider.name))
        ones = np.ones(len(sent), np.int64)
        bulk = BulkTracer(network)
        fates = bulk.trace(packet_columns(family, sent), ones * 0, [frozenset()], ones, ones)
        for number, (verdict, by) in enumerate(stopped):
            assert VERDICTS[fates.verdict[number]] is verdict, sent[number]
            own, entry = int(fates.list[number]), int(fates.entry[number])
            line = "" if own < 0 else line_of(bulk.asked.lists[own], entry)
            assert line == by, sent[number]


def line_of(access_list: AnyList[Any], entry: int) -> str:
    number = None if entry < 0 else access_list.entries[entry].number
    return line_name(access_list.name, number)


@settings(
    max_examples=10,
    deadline=None,
    suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow],
)
@given(st.integers(0, 1 << 32))
@example(
    431497
)  # two machines of which one border takes the answers of one alone for something new
def test_conversations_fare_as_from_hop_to_hop(plan_of: Read, seed: int) -> None:
    check(plan_of(plan_text(seed)), seed)


def changed(text: str, chance: random.Random) -> str:
    """Return a plan with one line of a list or of a device otherwise, or gone."""
    lines = text.split("\n")
    own = [n for n, each in enumerate(lines) if each.startswith(("    permit", "    deny"))]
    rules = [n for n, each in enumerate(lines) if each.startswith("    translate")]
    if own and chance.random() < 0.6:
        line = chance.choice(own)
        was = lines[line].split()[0]
        lines[line] = lines[line].replace(was, {"permit": "deny", "deny": "permit"}[was], 1)
    else:
        del lines[chance.choice(rules)]
    return "\n".join(lines)


def fate(tracer: Tracer, wanted: Conversation) -> Verdict:
    verdicts = {each.verdict for each in tracer.endings(wanted)}
    return verdicts.pop() if len(verdicts) == 1 else Verdict.VARIES


@settings(
    max_examples=15,
    deadline=None,
    suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow],
)
@given(st.integers(0, 1 << 32))
def test_plans_differ_just_where_conversations_do(plan_of: Read, seed: int) -> None:
    chance, text = random.Random(seed), plan_text(seed)
    sessions = [Session(plan_of(each)) for each in (text, changed(text, chance))]
    found = differences(sessions[0], sessions[1])
    for family in Family:
        for one, other in ends(family, chance):
            for service in SERVICES:
                fates, packet = [], None
                for each in sessions:
                    meaning = each.plan.service(service, family)
                    start, end = (
                        at_address(each.network, parse_address(word)) for word in (one, other)
                    )
                    (wanted,) = conversations(meaning, start, end)
                    fates.append(fate(each.tracer(), wanted))
                    packet = wanted.first
                assert packet is not None
                region = packet_region(packet)
                if packet.source_port is None:  # of differences the part from client ports is told
                    low, high = sessions[0].plan.client_ports
                    region = region._replace(source_ports=((low, high + 1),))
                here = PacketSet.of(region)
                told = [each for each in found if any(here <= own for own in each.sets)]
                expected = [] if fates[0] is fates[1] else [tuple(fates)]
                assert [(each.was.verdict, each.now.verdict) for each in told] == expected, (
                    f"{service} {one} to {other}"
                )


def test_what_a_device_translates_to_its_own_address_twice_is_told(plan_of: Read) -> None:
    plan = plan_of(
        "subnet core 10.0.9.0/24\nsubnet dmz 10.0.1.0/28\noutside net\n"
        "router r\n    interface core 10.0.9.1/24 on core\n    interface dmz 10.0.1.1/28 on dmz\n"
        "router b stateful\n    interface core 10.0.9.2/24 on core\n"
        "    interface wan 203.0.113.2/29 on net\n"
        "    translate itself entering core to 10.0.1.9\n"
        "    translate any leaving core as itself\n"
    )
    network = Network(plan)
    start, end = (at_address(network, parse_address(each)) for each in ("192.0.2.7", "10.0.9.2"))
    (wanted,) = conversations(plan.service("tcp/443", Family.IPV4), start, end)
    trace = Tracer(network).trace(wanted)
    assert trace.verdict is Tracer(network).endings(wanted)[0].verdict
    assert trace.verdict is not Verdict.PERMITTED
