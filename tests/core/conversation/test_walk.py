"""The walk against a plain reference: each way by itself, leg by leg, on random networks; and walks
that are long.
"""

from __future__ import annotations

import random
from collections.abc import Callable
from itertools import product
from unittest import mock

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from crossgate.core.conversation import walk
from crossgate.core.conversation.endings import Ending
from crossgate.core.conversation.opening import Conversation, conversations
from crossgate.core.conversation.packets import Tracer
from crossgate.core.conversation.story import astray
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.accesslist import Decider, DeciderKey
from crossgate.core.model.address import Address, Family
from crossgate.core.model.condition import State
from crossgate.core.model.plan import Plan
from crossgate.core.model.tls import classes, hello_of, settled
from crossgate.core.network.endpoints import at_address
from crossgate.core.network.ways import Network
from tests import net
from tests.core.conversation.plain import Fared, Way, fare
from tests.core.network import reference

Read = Callable[[str], Plan]
SLOW = settings(
    max_examples=25,
    deadline=None,
    suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow],
)


def fares(network: Network, wanted: Conversation, state: State = frozenset()) -> list[list[Fared]]:
    """Return how a conversation fares on each way there, the first one first, by the plain
    reference: one for each way back on which it differs.
    """
    first, strays = wanted.first, astray(network, wanted) is not None
    # The newest version first, as lists try them.
    hellos = classes(frozenset(test for each in network.plan.lists.values() for test in each.tls))
    hello = hello_of(state)
    found = []
    for there in network.ways(wanted.source, Address(first.family, first.destination)):
        several = []
        for back in network.ways(wanted.destination, Address(first.family, first.source)):
            way = Way(
                there,
                back,
                wanted.source.segment == wanted.destination.segment,
                strays,
                frozenset(state),
                hello,
            )
            several.append(fare(network, first, way, hellos))
            if several[-1].leg in ("SYN", "request"):
                break  # nothing comes back
        found.append(several)
    return found


def hold(
    network: Network, wanted: Conversation, by: DeciderKey | None, state: State = frozenset()
) -> None:
    """Hold the endings of the walk, and the stories that are told of them, against the plain
    reference.
    """
    tracer = Tracer(network, state)
    every = [each for several in fares(network, wanted, state) for each in several]
    endings = tracer.endings(wanted, by=by)
    counts: dict[object, int] = {}
    for ending in endings:
        counts[told(ending)] = counts.get(told(ending), 0) + ending.number
    assert counts == {
        how: sum(each[:3] == how for each in every) for how in {each[:3] for each in every}
    }
    assert [told(each) for each in endings if each.first] == [every[0][:3]]
    for ending in endings:
        alike = [each for each in every if each[:3] == told(ending)]
        permitting = {each for fared in alike for each in fared.deciders if each.permits}
        assert {each.decider for each in ending.passed} <= permitting
        if ending.number == len(alike):
            assert {each.decider for each in ending.passed} == permitting
            assert ending.by == all(
                any(each.key == by for each in fared.deciders) for fared in alike
            )
    shown = tracer.examples(wanted, by)
    assert {(each.verdict, each.legs[-1].leg, *deciding(each.deciders())) for each in shown} <= {
        (each.verdict, each.leg, *deciding(each.deciders)) for each in every
    }
    first = tracer.trace(wanted)
    assert (first.verdict, first.ways, *deciding(first.deciders())) == (
        every[0].verdict,
        len(every),
        *deciding(every[0].deciders),
    )
    assert (first.differing is None) == (len({each.verdict for each in every}) == 1)
    alternatives = tracer.alternatives(wanted)
    assert [(each.verdict, *deciding(each.deciders())) for each in alternatives] == [
        (each.verdict, *deciding(each.deciders)) for each in every
    ]


def told(ending: Ending) -> tuple[Verdict, str, object]:
    leg = ending.leg.value
    if (
        ending.verdict is Verdict.PERMITTED
        and ending.example is not None
        and ending.example.walk.script.unanswered
    ):
        leg = ending.example.walk.script.legs[0].value  # nothing follows
    return ending.verdict, leg, ending.stop


def deciding(deciders: object) -> list[Decider]:
    """Return the lines that decided, in their order."""
    return list(deciders)  # type: ignore[call-overload,no-any-return]


def wanted_of(network: Network, family: Family, chance: random.Random) -> list[Conversation]:
    """Return a few conversations between hosts, some of which claim the address of another."""
    hosts = [
        each
        for host in network.plan.hosts.values()
        for each in host.addresses
        if each.family is family
    ]
    pairs = [(one, other) for one in hosts for other in hosts if one != other]
    found = []
    for one, other in chance.sample(pairs, min(5, len(pairs))):
        for service in (
            "tcp/80",
            "udp/53",
            "ping",
            "icmp/3" if family is Family.IPV4 else "icmp/1",
        ):
            claimed = chance.choice(hosts).value if chance.random() < 0.3 else None
            start, end = at_address(network, one), at_address(network, other)
            found += conversations(
                network.plan.service(service, family), start, end, claimed=claimed
            )
    return found


def keys_of(plan: Plan) -> list[DeciderKey | None]:
    """Return the lines of a plan's lists, and None."""
    return [
        None,
        *(
            DeciderKey(each.name, number)
            for each in plan.lists.values()
            for number in (None, *(own.number for own in each.entries))
        ),
    ]


@SLOW
@given(st.integers(0, 1 << 32))
def test_the_walk_finds_what_each_way_by_itself_does_in_any_network(
    plan_of: Read, seed: int
) -> None:
    network, chance = Network(plan_of(reference.network(seed))), random.Random(seed)
    for family in Family:
        for wanted in wanted_of(network, family, chance):
            hold(network, wanted, chance.choice(keys_of(network.plan)))


@SLOW
@given(net.ladders(), st.integers(0, 1 << 32))
def test_the_walk_finds_what_each_way_by_itself_does_in_ladders(
    plan_of: Read, text: str, seed: int
) -> None:
    network, chance = Network(plan_of(text)), random.Random(seed)
    for wanted in wanted_of(network, Family.IPV4, chance):
        hold(network, wanted, chance.choice(keys_of(network.plan)))


@SLOW
@given(net.ladders(tls=True), st.integers(0, 1 << 32), st.sampled_from([0, 4]))
def test_the_walk_finds_what_each_way_by_itself_does_with_tls(
    plan_of: Read, text: str, seed: int, few: int
) -> None:
    """Few lists that judge are told apart by kinds of ways, and more by what each way met."""
    network, chance = Network(plan_of(text)), random.Random(seed)
    hellos = sorted({each for own in network.plan.lists.values() for each in own.hellos})
    for wanted in wanted_of(network, Family.IPV4, chance):
        state = settled(frozenset(), chance.choice([None, *hellos]))
        by_kinds = Tracer(network, state).endings(wanted)
        with mock.patch.object(walk, "_FEW_JUDGES", few):
            hold(network, wanted, chance.choice(keys_of(network.plan)), state)
            told_so = Tracer(network, state).endings(wanted)
        assert [(each[:3], each.first, each.judges) for each in told_so] == [
            (each[:3], each.first, each.judges) for each in by_kinds
        ]


@SLOW
@given(net.plans(), st.integers(0, 1 << 32), st.booleans())
def test_the_walk_finds_what_the_one_way_does(
    plan_of: Read, text: str, seed: int, is_open: bool
) -> None:
    network, chance = Network(plan_of(text)), random.Random(seed)
    for family in Family:
        packets = list(net.openings(family))
        for packet in chance.sample(packets, 30):
            wanted = net.conversation(network, packet)
            if wanted.source.segment and wanted.destination.segment:
                hold(
                    network,
                    wanted,
                    chance.choice(keys_of(network.plan)),
                    frozenset(["open"] if is_open else []),
                )


def test_what_is_due_stops_a_leg_before_it_meets_a_list(plan_of: Read) -> None:
    """The server's hello of what is stopped by then is never asked about on its way."""
    lines = ["subnet s0 10.0.0.0/24", "subnet s1 10.0.1.0/24", "subnet s2 10.0.2.0/24"]
    for name, near, far in (
        ("out", "10.0.0.1/24 on s0", "10.0.1.1/24 on s1"),
        ("judge stateful", "10.0.1.2/24 on s1", "10.0.2.1/24 on s2"),
    ):
        lines += [f"router {name}", f"    interface near {near}", f"    interface far {far}"]
    lines += [
        "host left 10.0.0.9",
        "host right 10.0.2.9",
        "list old extended ipv4",
        "    deny tcp/80 any to any tls 1.3",
        "    otherwise permit",
    ]
    lines += [
        "list flags extended ipv4",
        "    permit tcp any to any flags syn,ack",
        "    otherwise permit",
    ]
    lines += ["place old outbound on judge.near", "place flags inbound on out.near"]
    network = Network(plan_of("\n".join(lines) + "\n"))
    start, end = (
        at_address(network, network.plan.hosts[each].addresses[0]) for each in ("right", "left")
    )
    (wanted,) = conversations(network.plan.service("tcp/80", Family.IPV4), start, end)
    state = settled(frozenset(), network.plan.lists["old"].hellos[0])
    (ending,) = Tracer(network, state).endings(wanted)
    assert (ending.verdict, ending.leg) == (Verdict.HALF_OPEN, "server hello")
    assert [each.decider.key for each in ending.passed] == [
        DeciderKey("old", None),
        DeciderKey("flags", 10),
    ]
    hold(network, wanted, DeciderKey("flags", None), state)


def in_a_row(count: int) -> str:
    """Return routers in a row, a list on each."""
    lines = ["list l extended ipv4", "    permit tcp any to any", "subnet s0 10.0.0.0/24"]
    for each in range(count):
        lines += [
            f"subnet s{each + 1} 10.{(each + 1) >> 8}.{(each + 1) & 255}.0/24",
            f"router r{each}",
        ]
        lines += [
            f"    interface {name} 10.{at >> 8}.{at & 255}.{last}/24 on s{at}"
            for name, at, last in (("near", each, 2), ("far", each + 1, 1))
        ]
        lines.append(f"place l inbound on r{each}.near")
    return "\n".join([*lines, "host a 10.0.0.9", f"host b 10.{count >> 8}.{count & 255}.9"]) + "\n"


@pytest.mark.parametrize("count", [3, 900])
def test_many_lists_in_a_row_are_a_way(plan_of: Read, count: int) -> None:
    network = Network(plan_of(in_a_row(count)))
    start, end = (at_address(network, network.plan.hosts[each].addresses[0]) for each in "ab")
    for service, verdict in (("tcp/80", Verdict.PERMITTED), ("udp/53", Verdict.DENIED)):
        (wanted,) = conversations(network.plan.service(service, Family.IPV4), start, end)
        (ending,) = Tracer(network).endings(wanted)
        assert (ending.verdict, ending.number) == (verdict, 1)
        assert len(ending.passed) == (2 * count if verdict is Verdict.PERMITTED else 0)


def in_pairs(count: int) -> str:
    """Return pairs of stateful routers in a row; their lists let nothing back but what each of them
    has let by.
    """
    lines = ["subnet s0 10.0.0.0/24"]
    for tier in range(count):
        lines.append(f"subnet s{tier + 1} 10.0.{tier + 1}.0/24")
        for side in "ab":
            lines.append(f"router {side}{tier} stateful")
            for way, at, last in (
                ("near", tier, 11 if side == "a" else 12),
                ("far", tier + 1, 1 if side == "a" else 2),
            ):
                lines.append(f"    interface {way} 10.0.{at}.{last}/24 on s{at}")
    lines += [
        "host a 10.0.0.99",
        f"host b 10.0.{count}.99",
        "list in extended ipv4",
        "    permit ip any to b",
    ]
    lines += ["list back extended ipv4", "    deny ip b to any", "    otherwise permit"]
    for side, tier in product("ab", range(count)):
        lines += [
            f"place in inbound on {side}{tier}.near",
            f"place back inbound on {side}{tier}.far",
        ]
    return "\n".join(lines) + "\n"


def test_any_number_of_stateful_pairs_is_followed(plan_of: Read) -> None:
    """Of 2^40 ways there and as many back an answer comes through where it goes by the same
    routers, else it ends where it first does not.
    """
    pairs = 40
    network = Network(plan_of(in_pairs(pairs)))
    start, end = (at_address(network, network.plan.hosts[each].addresses[0]) for each in "ab")
    (wanted,) = conversations(network.plan.service("tcp/80", Family.IPV4), start, end)
    endings = Tracer(network).endings(wanted, by=DeciderKey("in", 10))
    assert sum(each.number for each in endings if each.verdict is Verdict.PERMITTED) == 2**pairs
    stops = {
        str(each.stop.crossing.point): each.number for each in endings if each.stop is not None
    }
    assert stops == {
        f"{side}{tier}.far": 2 ** (pairs - 1 + tier) for side, tier in product("ab", range(pairs))
    }
    assert all(each.by for each in endings)
    for each in endings:
        tiers = pairs if each.stop is None else pairs - 1 - int(str(each.stop.crossing.point)[1:-4])
        assert len({decided.crossing for decided in each.passed}) == (
            pairs if each.first else 2 * pairs - (tiers < pairs)
        )
    traces = Tracer(network).examples(wanted)
    assert [trace.verdict for trace in traces] == [each.verdict for each in endings]


def test_any_number_of_lists_that_ask_for_tls_is_followed(plan_of: Read) -> None:
    """Of twelve pairs of routers each judges what comes back by it; a single one that does stops
    what is due.
    """
    pairs = 12
    text = (
        in_pairs(pairs)
        .replace("    deny ip b to any\n", "")
        .replace(
            "    permit ip any to b", "    deny tcp/80 any to b tls -1.1\n    permit ip any to b"
        )
    )
    network = Network(plan_of(text))
    start, end = (at_address(network, network.plan.hosts[each].addresses[0]) for each in "ab")
    (wanted,) = conversations(network.plan.service("tcp/80", Family.IPV4), start, end)
    asking = network.plan.lists["in"]
    (old,) = [each for each in asking.hellos if each.version < 0x0303]
    endings = Tracer(network, settled(frozenset(), old)).endings(wanted)
    # Half of the ways go by another router of each pair than the answers do.
    assert sum(each.number for each in endings if each.verdict is Verdict.PERMITTED) == 2**pairs
    assert sum(each.number for each in endings) == 4**pairs
    stops = {
        str(each.stop.crossing.point): each.number
        for each in endings
        if each.stop is not None and not each.first
    }
    assert {each.leg for each in endings if each.stop is not None} == {"server hello"}
    assert [stops[f"a{tier}.near"] for tier in (0, pairs - 1)] == [
        2 ** (pairs - 1),
        4 ** (pairs - 1) - 1,
    ]
