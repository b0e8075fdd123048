"""What is done by the TLS that a conversation settles on: all engines against going over every
version and suite by hand.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from itertools import product
from pathlib import Path
from unittest import mock

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from crossgate.core.answers.compare import differences
from crossgate.core.conversation.opening import Conversation
from crossgate.core.conversation.packets import Tracer
from crossgate.core.conversation.story import Trace
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.accesslist import DeciderKey
from crossgate.core.model.address import Family, parse_address, single
from crossgate.core.model.condition import State
from crossgate.core.model.entry import Action
from crossgate.core.model.packet import Packet
from crossgate.core.model.packets import packet_columns
from crossgate.core.model.plan import Plan
from crossgate.core.model.tls import Hello, TlsTest
from crossgate.core.network.endpoints import at_address
from crossgate.core.sets.region import packet_region
from crossgate.core.traffic import lane_table
from crossgate.core.traffic.between import flows
from crossgate.core.traffic.bulk import BulkTracer
from crossgate.core.traffic.courses import by_course
from crossgate.core.traffic.fates import VERDICTS
from crossgate.core.traffic.question import answers
from crossgate.core.traffic.session import Session
from crossgate.language.reader import read_plan
from tests.core.conversation.plain import Way, fare
from tests.core.traffic.test_flows import in_line

SUITES = (0x1301, 0x1302, 0xC02F, 0xC030, 0xC013, 0x002F)
HELLOS = [
    None,
    *(
        Hello(version, suite)
        for version, suite in product(range(0x0300, 0x0305), SUITES)
        if (version == 0x0304) is (suite >> 8 == 0x13)
        # RFC 5289 section 3.2: not with what is older than TLS 1.2.
        and not (suite in (0xC02F, 0xC030) and version < 0x0303)
    ),
]
SPOKEN = [
    None,
    Hello(0x0304, 0x1301),
    Hello(0x0303, 0xC02F),
    Hello(0x0303, 0xC013),
    Hello(0x0301, 0xC013),
    Hello(0x0300, 0x002F),
]
TESTS = [
    "",
    "",
    " tls 1.2-",
    " tls -1.1",
    " tls 1.0,1.3",
    " cipher TLS_AES_128_GCM_SHA256,0xC02F",
    " tls 1.2 cipher 0xC013",
    " cipher 0x1302,0x002f",
]
HEAD = """
subnet in 10.0.0.0/24
subnet mid 10.0.1.0/24
subnet end 10.0.2.0/24
router one{one}
    interface in 10.0.0.1/24 on in
    interface mid 10.0.1.1/24 on mid
router two{two}
    interface mid 10.0.1.2/24 on mid
    interface end 10.0.2.1/24 on end
host c 10.0.0.9 on in
host s 10.0.2.9 on end
"""
BESIDE = """
router beside stateful
    interface in 10.0.0.2/24 on in
    interface mid 10.0.1.3/24 on mid
"""


@st.composite
def plans(draw: st.DrawFn) -> str:
    """Two routers one behind the other, now and then a third beside the first, each stateful or
    not, with lists on the way.
    """
    stateful = {name: draw(st.booleans()) for name in ("one", "two")}
    beside = draw(st.integers(0, 3)) == 0
    text = (
        HEAD.format(**{name: " stateful" * own for name, own in stateful.items()}) + BESIDE * beside
    )
    places = [
        ("one", "in"),
        ("one", "mid"),
        ("two", "mid"),
        ("two", "end"),
        *([("beside", "in"), ("beside", "mid")] if beside else []),
    ]
    stands = []
    for number, (device, interface) in enumerate(
        draw(st.lists(st.sampled_from(places), unique=True, max_size=4))
    ):
        tests = TESTS if stateful.get(device, True) else [""]
        text += f"list l{number} extended ipv4\n"
        for _ in range(draw(st.integers(1, 4))):
            service = draw(st.sampled_from(["tcp", "tcp/443", "tcp/22"]))
            ends = draw(st.sampled_from(["any to any", "in to end", "end to in", "any to s"]))
            flags = draw(st.sampled_from(["", "", "", " established", " flags PSH", " flags !PSH"]))
            action = draw(st.sampled_from(["permit", "permit", "deny", "reject"]))
            text += f"    {action} {service} {ends}{flags}{draw(st.sampled_from(tests))}\n"
        text += draw(st.sampled_from(["", "    otherwise permit\n"]))
        stands.append(
            f"place l{number} {draw(st.sampled_from(['inbound', 'outbound']))} on "
            f"{device}.{interface}\n"
        )
    return text + "".join(stands)


def plan_in(folder: Path, text: str) -> Plan:
    path = folder / "plan.gate"
    path.write_text(text)
    return read_plan(path)


ENDS = [("10.0.0.9", "10.0.2.9"), ("10.0.2.9", "10.0.0.9"), ("10.0.0.9", "10.0.2.77")]


def told(trace: Trace) -> tuple[Verdict, DeciderKey | None]:
    return (
        trace.verdict,
        trace.decided.decider.key if trace.decided and trace.decided.decider else None,
    )


@settings(deadline=None, max_examples=18)
@given(plans())
def test_every_engine_does_what_going_over_all_of_tls_does(
    tmp_path_factory: pytest.TempPathFactory, text: str
) -> None:
    plan = plan_in(tmp_path_factory.mktemp("tls"), text)
    session = Session(plan)
    network, classes = session.network, session.address_classes(Family.IPV4)
    states: list[State] = [
        frozenset() if hello is None else frozenset((hello,)) for hello in SPOKEN
    ]
    packets, windows, wanted = [], [], []
    legs: Counter[DeciderKey] = Counter()
    for source, destination in ENDS:
        start, end = parse_address(source), parse_address(destination)
        between = flows(network, classes, classes, [single(start)], [single(end)])
        for port, (window, state) in product((443, 22), enumerate(states)):
            first = Packet(Family.IPV4, start.value, end.value, 6, 51_000, port, flags=2)
            conversation = Conversation(at_address(network, start), at_address(network, end), first)
            tracer = Tracer(network, state)
            traces = tracer.alternatives(conversation)
            every = [
                (fared.verdict, fared.stop[1].key if fared.stop else None)
                for there in network.ways(conversation.source, end)
                for back in network.ways(conversation.destination, start)
                for fared in [
                    fare(network, first, Way(there, back, hello=SPOKEN[window]), tuple(HELLOS))
                ]
            ]
            assert {told(each) for each in traces} == {*every}
            assert told(tracer.trace(conversation)) == every[0]
            (answer,) = [
                each
                for flow in between
                for each in answers(session.flows(state), flow, by_course([packet_region(first)]))
            ]
            verdicts = {verdict for verdict, _ in every}
            assert answer.verdict is (every[0][0] if len(verdicts) == 1 else Verdict.VARIES)
            assert {way.stop.decider.key if way.stop else None for way in answer.endings} == {
                line for _, line in every
            }
            ways = network.between(conversation.source, conversation.destination)
            fate = tracer.fate(conversation, (ways,))
            assert (fate.verdict, fate.stopped.key if fate.stopped else None) == every[0]
            assert fate.agreed == (len(verdicts) == 1)
            assert {told(each) for each in tracer.examples(conversation)} == {*every}
            packets.append(first)
            windows.append(window)
            wanted.append(every)
            legs.update(each.key for each in tracer.trace(conversation).deciders())
    ones = np.ones(len(packets), np.int64)
    for lanes in (1, 32):
        bulk = BulkTracer(network)
        with mock.patch.object(lane_table, "_MOST_LANES", lanes):
            fates = bulk.trace(
                packet_columns(Family.IPV4, packets), np.array(windows), states, ones, ones
            )
        for verdict, every in zip(fates.verdict.tolist(), wanted, strict=True):
            verdicts = {each for each, _ in every}
            assert VERDICTS[verdict] is (verdicts.pop() if len(verdicts) == 1 else Verdict.VARIES)
    counted = {
        DeciderKey(each.name, entry.number if entry else None): int(hits.legs[place])
        for each, hits in zip(bulk.asked.lists, bulk.asked.hits, strict=True)
        for place, entry in enumerate((*each.entries, None))
    }
    assert {key: count for key, count in counted.items() if count} == legs


@settings(deadline=None, max_examples=25)
@given(plans(), st.data())
def test_two_plans_differ_where_some_spoken_tls_fares_otherwise(
    tmp_path_factory: pytest.TempPathFactory, text: str, data: st.DataObject
) -> None:
    lines = text.splitlines()
    entries = [
        number for number, line in enumerate(lines) if line.startswith(("    permit", "    deny"))
    ]
    if entries:
        chosen = data.draw(st.sampled_from(entries))
        words = [word for word in ("tls", "cipher") if f" {word} " in lines[chosen]]
        start = lines[chosen].index(f" {words[0]} ") if words else len(lines[chosen])
        # At a stateless router such an entry would be an error: there the action changes instead.
        action, rest = ("    deny", "    permit")[
            :: -1 if lines[chosen].startswith("    deny") else 1
        ]
        lines[chosen] = (
            lines[chosen][:start] + data.draw(st.sampled_from(TESTS))
            if words
            else lines[chosen].replace(rest, action, 1)
        )
    old, new = (
        Session(plan_in(tmp_path_factory.mktemp("tls"), each))
        for each in (text, "\n".join(lines) + "\n")
    )
    found = [each for each in differences(old, new) if not each.stray]
    tests = {
        test for session in (old, new) for each in session.plan.lists.values() for test in each.tls
    }
    for source, destination in ENDS:
        one, other = parse_address(source), parse_address(destination)
        for port, hello in product((443, 22), SPOKEN):
            first = Packet(Family.IPV4, one.value, other.value, 6, 51_000, port, flags=2)
            fares = []
            for session in (old, new):
                conversation = Conversation(
                    at_address(session.network, one), at_address(session.network, other), first
                )
                traces = Tracer(
                    session.network, frozenset() if hello is None else frozenset((hello,))
                ).alternatives(conversation)
                verdicts = {each.verdict for each in traces}
                stopped = {
                    each.decided.decider.action
                    for each in traces
                    if each.decided and each.decided.decider
                }
                fares.append(
                    (
                        verdicts.pop() if len(verdicts) == 1 else Verdict.VARIES,
                        Action.REJECT in stopped,
                    )
                )
            assert (fares[0] != fares[1]) is any(
                in_line(line, first)
                and (each.spoken is None or any(alike(tests, hello, own) for own in each.spoken))
                for each in found
                for line in each.lines
            ), (source, destination, port, hello)


FLAGGED = """
list flags extended ipv4
    deny tcp any to any flags psh
    permit ip any to any
place flags inbound on two.mid
list other extended ipv4
    permit ip any to any
place other outbound on one.mid
"""


@pytest.mark.parametrize(
    "now",
    [
        "",
        (
            "list seen extended ipv4\n    permit tcp/443 any to any\n    otherwise permit\nplace "
            "seen "
            "inbound on one.in\n"
        ),
    ],
)
def test_a_list_that_stops_nothing_but_judges_makes_a_difference(
    plan_of: Callable[[str], Plan], now: str
) -> None:
    """Where it judges, more legs follow, and another list stops one of these, for every port."""
    head = HEAD.format(one=" stateful", two="") + FLAGGED
    judging = (
        "list seen extended ipv4\n    permit tcp/443 any to any tls 1.3\n    otherwise "
        "permit\nplace seen inbound on one.in\n"
    )
    old, new = (Session(plan_of(head + each)) for each in (judging, now))
    for sessions in ((old, new), (new, old)):
        found = [each for each in differences(*sessions) if not each.stray and not each.devices]
        for port in (443, 22):
            first = Packet(
                Family.IPV4,
                parse_address("10.0.0.9").value,
                parse_address("10.0.2.9").value,
                6,
                51_000,
                port,
                flags=2,
            )
            assert any(in_line(line, first) for each in found for line in each.lines), port


def alike(tests: set[TlsTest], hello: Hello | None, other: Hello | None) -> bool:
    """Whether no test tells two conversations apart."""
    return (hello is None) is (other is None) and all(
        each.takes(hello) is each.takes(other) for each in tests
    )
