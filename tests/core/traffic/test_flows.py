"""Sets of conversations through the network against one trace a packet: flows, proofs, reach,
compare.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import replace
from datetime import datetime

import pytest
from hypothesis import HealthCheck, assume, given, settings
from hypothesis import strategies as st

from crossgate.core.answers.compare import differences, named_differences
from crossgate.core.answers.reach import reach
from crossgate.core.answers.verify import Verifier
from crossgate.core.conversation.packets import Tracer
from crossgate.core.conversation.story import Trace
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.address import Family, everything
from crossgate.core.model.condition import State
from crossgate.core.model.conditions import Limit, When
from crossgate.core.model.errors import PlanError
from crossgate.core.model.packet import Packet
from crossgate.core.model.plan import Plan
from crossgate.core.network.address_classes import address_classes, free_address
from crossgate.core.network.endpoints import endpoint_set
from crossgate.core.network.ways import Network
from crossgate.core.sets.frame import PacketSet
from crossgate.core.sets.minimise import SetLine
from crossgate.core.sets.patterns import common, first_outside
from crossgate.core.sets.region import every_packet
from crossgate.core.traffic.between import flows
from crossgate.core.traffic.courses import by_course, courses
from crossgate.core.traffic.question import answers
from crossgate.core.traffic.session import Session
from tests import net, small

slow = settings(
    max_examples=12,
    deadline=None,
    suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow],
)
OPEN, SHUT = datetime(2026, 11, 30, 12), datetime(2026, 11, 30, 22)
Read = Callable[[str], Plan]


def traced(network: Network, packet: Packet, opened: State = frozenset()) -> Trace:
    return Tracer(network, opened).trace(net.conversation(network, packet))


def in_line(line: SetLine, packet: Packet) -> bool:
    """Whether a packet is in a line of a cover."""
    return (
        any(each.contains(packet.source) for each in line.source)
        and any(each.contains(packet.destination) for each in line.destination)
        and any(small.serves(each, packet) for each in line.services)
    )


def in_set(packets: PacketSet, packet: Packet) -> bool:
    """Whether a packet is in a set."""
    return any(small.holds(each, packet) for each in packets.regions())


@pytest.mark.parametrize("family", Family)
def test_courses_part_all_packets(family: Family) -> None:
    for packet in small.packets(family):
        for on_link in (False, True):
            fitting = [
                each
                for each in courses(family)
                if each.on_link in (None, on_link) and small.holds(each.openings, packet)
            ]
            assert len(fitting) == 1, packet


@slow
@given(st.data(), st.sampled_from(Family), st.booleans())
def test_an_answer_is_what_a_trace_finds(
    plan_of: Read, data: st.DataObject, family: Family, is_open: bool
) -> None:
    session = Session(plan_of(data.draw(net.plans())))
    network, opened = session.network, frozenset(["open"] if is_open else [])
    ends, every = address_classes(network, family), (everything(family),)
    found = flows(network, ends, ends, every, every)
    asking = session.flows(opened)
    begun = by_course([every_packet(family)])
    several = [
        (answer, list(answer.packets.regions()))
        for flow in found
        for answer in answers(asking, flow, begun)
    ]
    for packet in data.draw(
        st.lists(st.sampled_from(list(net.openings(family))), min_size=20, max_size=20)
    ):
        trace = traced(network, packet, opened)
        fitting = [
            answer
            for answer, regions in several
            if any(small.holds(each, packet) for each in regions)
        ]
        assert {answer.verdict for answer in fitting} == {trace.verdict}, packet
        decided = trace.decided
        told = None if decided is None else (decided.crossing, decided.decider)
        assert {answer.first.stop for answer in fitting} == {told}
        lines = {
            stop.decider
            for stop in (*fitting[0].first.passed, fitting[0].first.stop)
            if stop is not None
        }
        assert lines == {*trace.deciders()}


CLAIMS = ["permit", "deny", "half-open"]
ENDS = ["a", "b", "pinned", "server", "some", "any", "sea", "10.0.0.0/30", "far", "left", "right.b"]


@slow
@given(
    st.data(),
    st.sampled_from(CLAIMS),
    st.sampled_from(["tcp/80", "udp", "ping", "ip", "gre"]),
    st.sampled_from(ENDS),
    st.sampled_from(ENDS),
)
def test_a_claim_holds_just_when_no_packet_breaks_it(
    plan_of: Read, data: st.DataObject, claim: str, service: str, source: str, destination: str
) -> None:
    family = data.draw(st.sampled_from(Family))
    text = (
        data.draw(net.plans(3))
        + f"expect {claim} {service} {source} to {destination} over {family.word}\n"
    )
    plan = plan_of(text)
    network = Network(plan)
    (result,) = (Verifier(Session(network.plan)).verify(each) for each in plan.expectations)
    meaning = plan.service(service, family)
    wanted = {"permit": Verdict.PERMITTED, "deny": Verdict.DENIED, "half-open": Verdict.HALF_OPEN}[
        claim
    ]
    spoken_of = False
    for packet in net.openings(family):
        unanswered = packet.icmp_type == 3 and all(term.icmp_type is None for term in meaning.terms)
        if not meaning.matches(packet) or (packet.source_port or 50000) < 32768 or unanswered:
            continue
        if _claims(plan, source, packet.source, family) and _claims(
            plan, destination, packet.destination, family
        ):
            spoken_of = True
            for opened in (frozenset(), frozenset(["open"])):
                verdict = traced(network, packet, opened).verdict
                if verdict is not wanted:
                    assert not result.held, (packet, opened, verdict)
                    break
    if not result.held and spoken_of:
        assert result.counterexample is not None
        verdicts = {
            traced(network, result.counterexample, opened).verdict
            for opened in (frozenset(), frozenset(["open"]))
        }
        assert verdicts != {wanted}


def _claims(plan: Plan, word: str, address: int, family: Family) -> bool:
    """Whether a claim about a word speaks of an address, told from the words alone."""
    ends = endpoint_set(plan, word, family)
    own = next(
        (each for each in plan.interface_of if each.family is family and each.value == address),
        None,
    )
    if own is not None:
        return any(each.wildcard == 0 and each.value == address for each in ends.patterns)
    if ends.outside is not None:
        return not any(
            block.family is family and block.contains(address)
            for each in plan.segments.values()
            for block in each.prefixes
        )
    return any(each.contains(address) for each in ends.patterns)


@slow
@given(
    st.data(),
    st.sampled_from(Family),
    st.sampled_from(["a", "any", "some", "pinned"]),
    st.sampled_from(["b", "any", "server", "sea"]),
)
def test_reach_tells_each_packet_its_fate(
    plan_of: Read, data: st.DataObject, family: Family, source: str, destination: str
) -> None:
    plan = plan_of(data.draw(net.plans()))
    network = Network(plan)
    at = data.draw(st.sampled_from([OPEN, SHUT]))
    opened = frozenset(["open"] if at is OPEN else [])
    parts = [
        (each.devices, part)
        for each in reach(Session(network.plan), source, destination, When(at))
        if each.family is family
        for part in each.parts
    ]
    here, far = endpoint_set(plan, source, family), endpoint_set(plan, destination, family)
    interfaces = {address.value for address in plan.interface_of if address.family is family}
    for packet in data.draw(
        st.lists(st.sampled_from(list(net.openings(family))), min_size=20, max_size=20)
    ):
        inside = any(each.contains(packet.source) for each in here.patterns) and any(
            each.contains(packet.destination) for each in far.patterns
        )
        if far.outside and net.conversation(network, packet).destination.segment != far.outside:
            inside = False
        answered = packet.icmp_type in (None, 8, 128)
        own = bool({packet.source, packet.destination} & interfaces)
        told = {
            devices: {
                part.verdict
                for each, part in parts
                if each is devices and any(in_line(line, packet) for line in part.lines)
            }
            for devices in (False, True)
        }
        # Devices' own addresses are told apart only where they fare otherwise than the machines
        # around them.
        told_of = told[True] or told[False] if own else told[False]
        assert told_of == (
            {traced(network, packet, opened).verdict} if inside and answered else set()
        ), packet


@slow
@given(st.data())
def test_compare_tells_just_the_packets_that_fare_otherwise(
    plan_of: Read, data: st.DataObject
) -> None:
    text = data.draw(net.plans())
    other = data.draw(
        st.one_of(
            net.plans(),
            st.just(re.sub(r"permit(.*?)( at most .*)?\n", r"deny\1\n", text, count=1)),
            st.just(text),
        )
    )
    old, new = Session(plan_of(text)), Session(plan_of(other))
    limits = sorted(old.plan.limits | new.plan.limits)
    assume(len(limits) < 4)
    over = [
        frozenset(each for bit, each in enumerate(limits) if mask >> bit & 1)
        for mask in range(1 << len(limits))
    ]
    # What is beyond a limit is beyond a lower one of the same line, which another plan has.
    over = [
        each
        for each in over
        if not any(
            replace(low, most=high.most) == high and low.most < high.most and low not in each
            for high in each
            for low in limits
        )
    ]
    found = differences(old, new)
    for difference in found:
        assert (
            _fates(old.network, difference.packet, over)
            != _fates(new.network, difference.packet, over)
            or difference.stray
        )
    devices = {address.value for address in old.plan.interface_of}
    for family in Family:
        for packet in data.draw(
            st.lists(st.sampled_from(list(net.openings(family))), min_size=20, max_size=20)
        ):
            if packet.icmp_type in (1, 3):
                continue
            own = bool({packet.source, packet.destination} & devices)
            told = any(
                each.family is family
                and not each.stray
                and any(in_line(line, packet) for line in each.lines)
                for each in found
            )
            differs = _fates(old.network, packet, over) != _fates(new.network, packet, over)
            # A line about machines does not leave out the devices' own addresses among them.
            assert told >= differs if own else told is differs, packet


def _fates(
    network: Network, packet: Packet, over: list[frozenset[Limit]]
) -> list[tuple[Verdict, bool]]:
    """Return what becomes of a packet in each state of the window and of the limits: the verdict,
    and whether the sender is told.
    """
    traces = [
        traced(network, packet, opened | each)
        for opened in (State(), State(["open"]))
        for each in over
    ]
    return [(trace.verdict, trace.legs[-1].outcome == "rejected") for trace in traces]


@slow
@given(st.data(), st.sampled_from(Family))
def test_two_lists_differ_just_where_they_decide_otherwise(
    plan_of: Read, data: st.DataObject, family: Family
) -> None:
    one = data.draw(st.lists(small.entry_words(family), max_size=5))
    other = data.draw(
        st.one_of(
            st.lists(small.entry_words(family), max_size=5), st.permutations(one), st.just(one)
        )
    )
    ends = [data.draw(st.sampled_from(["deny", "deny", "permit"])) for _ in range(2)]
    old, new = (
        plan_of(small.list_text("small", family, entries, end))
        for entries, end in ((one, ends[0]), (other, ends[1]))
    )
    found = named_differences(Session(old), Session(new), "small")
    if one == other and ends[0] == ends[1]:
        assert found == []
    for packet in small.packets(family):
        was, now = old.lists["small"].decide(packet), new.lists["small"].decide(packet)
        told = [each for each in found if any(in_line(line, packet) for line in each.lines)]
        assert bool(told) is (was.action is not now.action), packet
        for each in told:
            assert (each.was.action, each.now.action) == (was.action, now.action)


@given(
    st.integers(0, 15),
    st.integers(0, 15),
    st.lists(st.tuples(st.integers(0, 15), st.integers(0, 15)), max_size=4),
)
def test_what_is_outside_some_patterns_is_found(
    value: int, wildcard: int, parts: list[tuple[int, int]]
) -> None:
    from crossgate.core.model.address import pattern

    one = pattern(Family.IPV4, value, wildcard)
    others = tuple(pattern(Family.IPV4, *part) for part in parts)
    rest = {
        each
        for each in range(16)
        if one.contains(each) and not any(other.contains(each) for other in others)
    }
    piece = first_outside(one, others)
    assert (piece is not None) is bool(rest)
    assert piece is None or {each for each in range(16) if piece.contains(each)} <= rest
    if others:
        shared = common(one, others[0])
        assert {each for each in range(16) if shared and shared.contains(each)} == {
            each for each in range(16) if one.contains(each) and others[0].contains(each)
        }


def test_spots_hold_every_address_once(plan_of: Read) -> None:
    network = Network(plan_of(net.NETWORK.format(left="", right="")))
    for family in Family:
        found = address_classes(network, family)
        for text in net.ADDRESSES[family]:
            from crossgate.core.model.address import parse_address

            value = parse_address(text).value
            holding = [
                address_class
                for address_class in found
                if address_class.pattern.contains(value)
                and not any(each.contains(value) for each in address_class.excluded)
            ]
            assert len(holding) == 1
            segment = network.plan.segment_of(parse_address(text))
            assert segment is not None
            assert holding[0].end.segment == segment.name


def test_a_full_prefix_has_no_free_address() -> None:
    from crossgate.core.model.address import parse_block

    whole_prefix = parse_block("10.0.0.0/31")
    assert free_address(whole_prefix, [parse_block("10.0.0.0"), parse_block("10.0.0.1")]) is None
    assert str(free_address(whole_prefix, [parse_block("10.0.0.0")])) == "10.0.0.1"


def test_reach_needs_a_family_in_common(plan_of: Read) -> None:
    plan = plan_of(
        net.NETWORK.format(left="", right="")
        + "host six 2001:db8:a::6 on a\nhost four 10.0.1.6 on b\n"
    )
    with pytest.raises(PlanError, match="share no address family"):
        list(reach(Session(plan), "six", "four", When(OPEN)))


def test_a_stray_is_told_apart(plan_of: Read) -> None:
    text = net.NETWORK.format(left="", right="") + (
        "list l extended ipv4\n    permit tcp a to b established\n    deny ip any to any\nplace l "
        "inbound on left.a\n"
    )
    network = Network(plan_of(text))
    (conversations,) = [
        each
        for each in reach(Session(network.plan), "pinned", "server", When(OPEN))
        if each.family is Family.IPV4
    ]
    assert [part.verdict for part in conversations.parts] == [Verdict.DENIED]
    (strays,) = [
        each
        for each in reach(Session(network.plan), "pinned", "server", When(OPEN), strays=True)
        if each.family is Family.IPV4
    ]
    assert [part.verdict for part in strays.parts] == [Verdict.PERMITTED, Verdict.DENIED]
    assert strays.parts[0].packet.flags not in (None, 2)
