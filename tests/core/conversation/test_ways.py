"""Equal paths in every answer: against tracing a packet along each way, on random networks and on
two routers side by side.
"""

from __future__ import annotations

import random
from collections.abc import Callable, Sequence
from datetime import datetime

import pytest
from hypothesis import HealthCheck, assume, given, settings
from hypothesis import strategies as st

from crossgate.core.answers.compare import differences
from crossgate.core.answers.grid import cells
from crossgate.core.answers.points import crossed
from crossgate.core.answers.reach import reach
from crossgate.core.answers.verify import Verifier
from crossgate.core.audit import audit
from crossgate.core.audit.claims import getting_by
from crossgate.core.conversation.endings import Ending
from crossgate.core.conversation.opening import Conversation, conversations
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.accesslist import DeciderKey
from crossgate.core.model.address import Family, single
from crossgate.core.model.conditions import When
from crossgate.core.model.entry import Action, Entry
from crossgate.core.model.plan import Plan
from crossgate.core.network.endpoints import at_address, pairs
from crossgate.core.network.way_graph import WayGraph
from crossgate.core.network.ways import Ways
from crossgate.core.sets.region import every_packet, packet_region
from crossgate.core.traffic.between import Flow, flows
from crossgate.core.traffic.courses import by_course
from crossgate.core.traffic.flows import placed_on
from crossgate.core.traffic.question import Answer, answers
from crossgate.core.traffic.session import Session
from crossgate.core.wording.sentences import parting
from tests import net, small
from tests.core.network import reference

Read = Callable[[str], Plan]
NOON = datetime(2026, 12, 1, 12)
SLOW = settings(
    max_examples=40,
    deadline=None,
    suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow],
)
SIDES = """
subnet one 10.0.1.0/24
subnet two 10.0.2.0/24
router left{stateful}
    interface one 10.0.1.1/24 on one
    interface two 10.0.2.1/24 on two
router right{stateful}
    interface one 10.0.1.2/24 on one
    interface two 10.0.2.2/24 on two
host a 10.0.1.9 on one
host b 10.0.2.9 on two
list wall extended ipv4
    10 deny ip any to any
list gap extended ipv4
    10 permit tcp any to any established
    20 deny ip any to any
"""


@pytest.mark.parametrize("side", ["left", "right"])
@pytest.mark.parametrize("claim", ["keep deny ping one to two", "keep permit ping one to two"])
def test_a_wall_at_one_of_two_routers_keeps_no_promise(
    plan_of: Read, side: str, claim: str
) -> None:
    """The first path alone would hold one of the claims, whichever router has the wall."""
    plan = plan_of(SIDES.format(stateful="") + f"place wall inbound on {side}.one\n{claim}\n")
    (result,) = [Verifier(Session(plan)).verify(each) for each in plan.expectations]
    assert not result.held
    other = {"left": "right", "right": "left"}[side]
    wanted = (
        f"is permitted by way of {other}"
        if "permit" not in claim
        else f"is denied by way of {side}: wall 10"
    )
    assert wanted in result.why
    assert "locked-out" in {each.name for each in audit(Session(plan), NOON).findings}


def test_walls_at_both_routers_are_a_wall(plan_of: Read) -> None:
    plan = plan_of(
        SIDES.format(stateful="")
        + (
            "place wall inbound on left.one\nplace wall inbound on right.one\nkeep deny ip one to "
            "two\n"
        )
    )
    assert Verifier(Session(plan)).verify(plan.expectations[0]).held


@pytest.mark.parametrize(
    ("stateful", "verdict"), [("", Verdict.HALF_OPEN), (" stateful", Verdict.VARIES)]
)
def test_there_and_back_are_independent_and_a_stateful_device_knows_only_what_it_saw(
    plan_of: Read, stateful: str, verdict: Verdict
) -> None:
    """The way back is closed at both; a stateful router lets it by only where the request came by
    it, too.
    """
    session = Session(
        plan_of(
            SIDES.format(stateful=stateful)
            + "place wall inbound on left.two\nplace wall inbound on right.two\n"
        )
    )
    (found,) = reach(session, "a", "b", When(NOON), "ping")
    assert [part.verdict for part in found.parts] == [verdict]
    start, end = pairs(session.network, "a", "b")[0]
    (wanted,) = conversations(session.plan.service("ping", Family.IPV4), start, end)
    traces = list(session.tracer().alternatives(wanted))
    assert len(traces) == (4 if stateful else 2)
    assert {each.verdict for each in traces} == (
        {Verdict.PERMITTED, Verdict.HALF_OPEN} if stateful else {Verdict.HALF_OPEN}
    )


def test_an_answer_that_is_stopped_on_the_first_way_alone_is_found(plan_of: Read) -> None:
    ask = (
        "list ask extended ipv4\n    10 permit ip one to any\nplace ask inbound on "
        "left.one\nplace wall inbound on left.two\n"
    )
    (found,) = (
        each
        for each in audit(Session(plan_of(SIDES.format(stateful="") + ask)), NOON).findings
        if each.name == "replies-blocked"
    )
    assert (found.access_list, found.entry) == ("ask", 10)


def test_what_varies_is_told_everywhere(plan_of: Read) -> None:
    text = SIDES.format(stateful="")
    closed, opened = plan_of(text + "place wall inbound on right.one\n"), plan_of(text)
    session = Session(closed)
    (found,) = reach(session, "a", "b", When(NOON), "ping")
    (part,) = found.parts
    assert part.verdict is Verdict.VARIES
    assert part.stop is not None
    assert (part.stop.decider.name, str(part.stop.crossing.point)) == ("wall 10", "right.one")
    (cell,) = cells(session.tracer(), ["a"], ["b"], ["ping"])
    assert cell.verdicts() == {Family.IPV4: (Verdict.VARIES,)}
    start, end = pairs(session.network, "a", "b")[0]
    assert {str(each.crossing.point) for each in crossed(session.network, start, end)} >= {
        "left.one",
        "right.one",
        "left.two",
        "right.two",
    }
    (wanted,) = conversations(closed.service("ping", Family.IPV4), start, end)
    trace = session.tracer().trace(wanted)
    assert (trace.verdict, trace.ways) == (Verdict.PERMITTED, 2)
    assert trace.differing is not None
    assert (trace.differing.verdict, parting(trace.differing, trace)) == (Verdict.DENIED, "right")
    turned = {
        (each.was.verdict, each.now.verdict)
        for each in differences(session, Session(opened))
        if not each.stray and not each.devices
    }
    assert turned == {(Verdict.VARIES, Verdict.PERMITTED)}


def check_endings(
    session: Session, wanted: Conversation, answer: Answer, by: DeciderKey | None
) -> None:
    """Hold the endings of an answer about sets against those of the packet, which are held against
    each way by itself.
    """
    assert alike(answer.endings) == alike(session.tracer().endings(wanted, by=by))


def alike(endings: Sequence[Ending]) -> dict[object, object]:
    """Return what becomes of how many ways, with the lines that decided on some and whether the
    line asked about did on each.

    Which way is the first is told of one sender of a set alone, and which lines of an ethernet list
    may decide of one machine.
    """
    found: dict[object, tuple[int, set[object], bool]] = {}
    for each in endings:
        number, lines, by = found.get(each[:3], (0, set[object](), True))
        lines |= {(decided.crossing.place, decided.decider.key) for decided in each.passed}
        found[each[:3]] = number + each.number, lines, by and each.by
    return dict(found)


@settings(max_examples=16, deadline=None)
@given(st.integers(0, 1 << 32), st.data())
def test_an_answer_speaks_of_all_ways(seed: int, data: st.DataObject) -> None:
    """The verdict over all ways is the one that tracing along each of them finds, or that they
    vary.
    """
    session = Session(reference.random_plan(seed))
    family = data.draw(st.sampled_from(Family))
    ends = session.address_classes(family)
    hosts = [
        address
        for host in session.plan.hosts.values()
        for address in host.addresses
        if address.family is family
    ]
    between = st.sampled_from([(one, other) for one in hosts for other in hosts if one != other])
    for source, destination in data.draw(st.lists(between, max_size=6)):
        found = flows(session.network, ends, ends, [single(source)], [single(destination)])
        for service in ("tcp/80", "udp/53", "ping"):
            start, end = (
                at_address(session.network, source),
                at_address(session.network, destination),
            )
            (wanted,) = conversations(session.plan.service(service, family), start, end)
            verdicts = {each.verdict for each in session.tracer().alternatives(wanted)}
            expected = verdicts.pop() if len(verdicts) == 1 else Verdict.VARIES
            begun = by_course([packet_region(wanted.first)])
            several = [answer for flow in found for answer in answers(session.flows(), flow, begun)]
            assert {answer.verdict for answer in several} == {expected}, (
                seed,
                str(source),
                str(destination),
                service,
            )
            for answer in several:
                check_endings(session, wanted, answer, None)


@SLOW
@given(net.ladders(), st.data())
def test_endings_are_what_tracing_each_way_finds(
    plan_of: Read, text: str, data: st.DataObject
) -> None:
    session = Session(plan_of(text))
    every = [
        access_list for access_list in session.plan.lists.values() for _ in access_list.entries
    ]
    keys = [
        DeciderKey(each.name, number)
        for each in every
        for number in (None, *(entry.number for entry in each.entries))
    ]
    by = data.draw(st.sampled_from([None, *keys]))
    ends, family = session.address_classes(Family.IPV4), Family.IPV4
    addresses = [host.addresses[0] for host in session.plan.hosts.values()]
    for source, destination in (addresses, addresses[::-1]):
        (flow,) = flows(session.network, ends, ends, [single(source)], [single(destination)])
        for service in ("tcp/80", "tcp/22", "udp/53", "ping", "icmp/3"):
            start, end = (
                at_address(session.network, source),
                at_address(session.network, destination),
            )
            (wanted,) = conversations(session.plan.service(service, family), start, end)
            (answer,) = answers(session.flows(), flow, by_course([packet_region(wanted.first)]), by)
            check_endings(session, wanted, answer, by)


def changed(data: st.DataObject, text: str, read: Read) -> Plan:
    """Draw a plan that is like another but for one place, one router that is stateful or down, or
    what one list ends with.
    """
    lines = text.splitlines()
    places = [
        number
        for number, each in enumerate(lines)
        if each.startswith(("place", "router", "    otherwise"))
    ]
    number = data.draw(st.sampled_from(places))
    line, down = lines[number], False
    if line.startswith("place"):
        del lines[number]
    elif line.startswith("    otherwise"):
        lines[number] = f"    otherwise {'deny' if 'permit' in line else 'permit'}"
    else:
        down = data.draw(st.booleans())
        if not down:
            lines[number] = (
                line.removesuffix(" stateful") if line.endswith(" stateful") else f"{line} stateful"
            )
    plan = read("\n".join(lines) + "\n")
    return plan.without([plan.devices[line.split()[1]].itself]) if down else plan


def fares(session: Session, conversation: Conversation) -> tuple[set[Verdict], bool]:
    """Return what becomes of a conversation on its ways, and whether its sender is told on some of
    them.
    """
    traces = session.tracer().alternatives(conversation)
    return {each.verdict for each in traces}, any(
        each.legs[-1].outcome == "rejected" for each in traces
    )


@settings(SLOW, max_examples=20)
@given(net.ladders(), st.data())
def test_ladders_differ_just_where_tracing_each_way_does(
    plan_of: Read, text: str, data: st.DataObject
) -> None:
    old, new = Session(plan_of(text)), Session(changed(data, text, plan_of))
    found = [each for each in differences(old, new) if not each.devices]
    addresses = [host.addresses[0] for host in old.plan.hosts.values()]
    for source, destination in (addresses, addresses[::-1]):
        for service in ("tcp/80", "tcp/22", "udp/53", "ping"):
            start, end = at_address(old.network, source), at_address(old.network, destination)
            (wanted,) = conversations(old.plan.service(service, Family.IPV4), start, end)
            was, now = fares(old, wanted), fares(new, wanted)
            apart = was != now and not (len(was[0]) > 1 and len(now[0]) > 1 and was[1] == now[1])
            told = [
                each
                for each in found
                for packets in each.sets
                for region in packets.regions()
                if small.holds(region, wanted.first)
            ]
            assert bool(told) == apart
            for each in told:
                assert each.was.verdict is (Verdict.VARIES if len(was[0]) > 1 else min(was[0]))
                assert each.now.verdict is (Verdict.VARIES if len(now[0]) > 1 else min(now[0]))


@settings(
    max_examples=16, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture]
)
@given(st.integers(0, 1 << 32), st.data())
def test_a_place_more_or_less_differs_just_where_tracing_does(
    plan_of: Read, seed: int, data: st.DataObject
) -> None:
    """A list that only one of two plans has at a place, of any kind, on networks of all kinds."""
    lines = reference.network(seed).splitlines()
    places = [
        number
        for number, each in enumerate(lines)
        if each.startswith("place ") and "ethernet" not in each
    ]
    assume(places)
    fewer = list(lines)
    follow = [
        number for number in places if " on host " in lines[number] or " on group " in lines[number]
    ]
    following = bool(follow) and data.draw(st.booleans())
    del fewer[data.draw(st.sampled_from(follow if following else places))]
    old, new = (
        Session(plan_of("\n".join(each) + "\n"))
        for each in data.draw(st.permutations([lines, fewer]))
    )
    found = [each for each in differences(old, new) if not each.devices]
    for family in Family:
        hosts = [
            each
            for host in old.plan.hosts.values()
            for each in host.addresses
            if each.family is family
        ]
        between = [(one, other) for one in hosts for other in hosts if one != other]
        for source, destination in random.Random(seed).sample(between, min(len(between), 20)):
            start, end = at_address(old.network, source), at_address(old.network, destination)
            (wanted,) = conversations(old.plan.service("tcp/80", family), start, end)
            # Where it comes in may depend on the lists that follow a machine, so each plan looks
            # for its ends itself.
            both = [net.conversation(each.network, wanted.first) for each in (old, new)]
            was, now = (
                fares(session, each) for session, each in zip((old, new), both, strict=True)
            )
            apart = was != now and not (len(was[0]) > 1 and len(now[0]) > 1 and was[1] == now[1])
            told = any(
                small.holds(region, wanted.first)
                for each in found
                for packets in each.sets
                for region in packets.regions()
            )
            assert told == apart, (str(source), str(destination))


@pytest.mark.parametrize(("near", "other"), ["ab", "ba"])
def test_what_gets_by_is_not_lost_where_other_packets_came_before(
    plan_of: Read, near: str, other: str
) -> None:
    """By way of one router all but tcp/80 comes to the second pair, by way of the other that too,
    and only that passes the third pair.
    """
    lines = [
        "host left 10.0.0.99 on s0",
        *(f"subnet s{tier} 10.0.{tier}.0/24" for tier in range(4)),
    ]
    for tier in range(3):
        for number, side in enumerate("ab"):
            lines += [
                f"router {side}{tier}",
                f"    interface near 10.0.{tier}.{11 + number}/24 on s{tier}",
            ]
            lines.append(f"    interface far 10.0.{tier + 1}.{1 + number}/24 on s{tier + 1}")
    lines += [
        "list first extended ipv4",
        "    deny tcp/80 any to any",
        "    otherwise permit",
        f"place first inbound on {near}0.near",
    ]
    lines += [
        "list open extended ipv4",
        "    otherwise permit",
        f"place open inbound on {other}0.near",
    ]
    lines += [
        "list second extended ipv4",
        "    permit ip 172.16.0.0/16 to s3",
        "    otherwise permit",
    ]
    lines += ["list third extended ipv4", "    permit tcp/80 any to any"]
    lines += [
        f"place {name} inbound on {side}{tier}.near"
        for tier, name in ((1, "second"), (2, "third"))
        for side in "ab"
    ]
    (found,) = (
        each
        for each in audit(Session(plan_of("\n".join(lines) + "\n")), NOON).findings
        if each.name == "spoofable" and each.access_list == "second"
    )
    assert found.packet is not None
    assert (found.packet.destination_port, found.segment) == (80, "s0")


@SLOW
@given(net.ladders())
def test_what_gets_by_on_some_way_gets_by_on_one_of_them(plan_of: Read, text: str) -> None:
    """All ways at once against each by itself, for every entry that permits."""
    session = Session(plan_of(text))
    graphs = session.network.graphs(Family.IPV4)
    start, end = (
        at_address(session.network, host.addresses[0]) for host in session.plan.hosts.values()
    )
    there = graphs.graph(start, end.address)
    nodes, tokens = graphs.nodes, graphs.tokens.of
    alone = [
        WayGraph(nodes, tokens, nodes.prepend(each.tokens, nodes.ending(each.end)), None)
        for each in nodes.sequences(there.number)
    ]
    packets = every_packet(Family.IPV4)

    def by(graph: WayGraph, entry: Entry) -> bool:
        flow = Flow(start, end, Ways(graph, graph, True), packets.source, packets.destination)
        packet = getting_by(session.flows(), flow, packets, entry)
        if packet is not None:  # the witness does get by somewhere
            assert any(
                each.first.arrived
                and all(own.decide(packet).action is Action.PERMIT for own in lists)
                and any(own.decide(packet).entry is entry for own in lists)
                for each in alone
                for lists in [[own for _, own in placed_on(session.network, each, Family.IPV4)]]
            )
        return packet is not None

    for access_list in session.plan.lists.values():
        for entry in access_list.entries:
            if entry.action is Action.PERMIT:
                assert by(there, entry) == any(by(each, entry) for each in alone)


@settings(max_examples=12, deadline=None)
@given(st.integers(0, 1 << 32))
def test_a_cell_of_the_grid_is_what_tracing_finds(seed: int) -> None:
    session = Session(reference.random_plan(seed))
    names = list(session.plan.hosts)
    for cell in cells(session.tracer(), names, names, ["tcp/80", "ping"], few=seed % 2 * 1000):
        for fates in cell.fates.values():
            for conversation, fate in fates:
                trace = session.tracer().trace(conversation)
                assert (fate.verdict, fate.agreed) == (trace.verdict, trace.differing is None), (
                    seed,
                    cell,
                )
                assert fate.stopped == (trace.decided.decider if trace.decided else None)
