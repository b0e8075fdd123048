"""`only` lines: what they permit and deny, against conversations traced one by one."""

from __future__ import annotations

from itertools import product
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from crossgate.core.answers.verify import Verifier
from crossgate.core.conversation.opening import Conversation, conversations
from crossgate.core.conversation.packets import Tracer
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.address import Address
from crossgate.core.model.claim import Only
from crossgate.core.model.errors import PlanErrors
from crossgate.core.model.packet import Packet
from crossgate.core.model.plan import Plan
from crossgate.core.network.endpoints import at_address, pairs
from crossgate.core.network.ways import Network
from crossgate.core.traffic.session import Session
from crossgate.language.reader import read_plan
from tests.conftest import Read

NET = """
subnet a 10.0.0.0/24
subnet b 10.1.0.0/24
subnet c 10.2.0.0/24
outside net
router r
    interface a 10.0.0.1/24
    interface b 10.1.0.1/24
    interface c 10.2.0.1/24
    interface n 192.0.2.1/30 on net
    route default via 192.0.2.2
host a1 10.0.0.9
host a2 10.0.0.10
host b1 10.1.0.9
host b2 10.1.0.10
host c1 10.2.0.9
host n1 198.51.100.9 on net
group pair a1, b1
service web tcp/80, tcp/443
"""
LIST = "list l extended ipv4\n{}    otherwise {}\nplace l inbound on r.a\n"
HOSTS = ("a1", "a2", "b1", "b2", "c1", "n1")
SERVICES = ("tcp/80", "tcp/443", "tcp/22", "udp/53", "ping")
ENDS = {
    "a": ("a1", "a2"),
    "a1": ("a1",),
    "pair": ("a1", "b1"),
    "b": ("b1", "b2"),
    "b1": ("b1",),
    "any": HOSTS,
}
NAMED = {
    "web": ("tcp/80", "tcp/443"),
    "tcp/22": ("tcp/22",),
    "udp/53": ("udp/53",),
    "ping": ("ping",),
}


def permitted(only: Only, source: str, destination: str, service: str) -> bool | None:
    """What a line says of one conversation: permitted or not; None where it does not speak of
    it.
    """
    if source not in ENDS[only.source] or source == destination:
        return None
    far = (
        [each for each in HOSTS if each[0] not in {name[0] for name in ENDS[only.source]}]
        if only.destination == "elsewhere"
        else ENDS[only.destination]
    )
    return None if destination not in far else any(service in NAMED[name] for name in only.services)


def is_kept(network: Network, only: Only) -> bool:
    """Whether every conversation of the small set is as a line says, traced one by one."""
    plan, tracer = network.plan, Tracer(network)
    for source, destination, service in product(HOSTS, HOSTS, SERVICES):
        own = permitted(only, source, destination, service)
        if own is None:
            continue
        beside = any(permitted(each, source, destination, service) for each in plan.only_lines)
        for start, end in pairs(network, source, destination):
            for conversation in conversations(
                plan.service(service, start.address.family), start, end
            ):
                verdict = tracer.trace(conversation).verdict
                if (own and verdict is not Verdict.PERMITTED) or (
                    not own and not beside and verdict not in (Verdict.DENIED, Verdict.UNROUTABLE)
                ):
                    return False
    return True


def named_by(plan: Plan, only: Only, packet: Packet) -> bool:
    """Whether a line permits a packet's service."""
    return any(
        term.matches(packet)
        for name in only.services
        for term in plan.service(name, packet.family).terms
    )


ENTRY = st.builds(
    "    {} {} {} to {}\n".format,
    st.sampled_from(["permit", "deny"]),
    st.sampled_from([*NAMED, "ip", "tcp"]),
    st.sampled_from(["a", "a1", "any"]),
    st.sampled_from(["b", "b1", "c", "any"]),
)
LINE = st.builds(
    "expect only {} {} to {}\n".format,
    st.one_of(
        st.just("nothing"),
        st.lists(st.sampled_from(sorted(NAMED)), min_size=1, max_size=2, unique=True).map(
            " and ".join
        ),
    ),
    st.sampled_from(["a", "a1", "pair", "b1"]),
    st.sampled_from(["b", "b1", "elsewhere"]),
)


@settings(max_examples=80)
@given(
    st.lists(ENTRY, max_size=4),
    st.sampled_from(["permit", "deny"]),
    st.lists(LINE, min_size=1, max_size=3),
)
def test_a_line_holds_only_where_every_conversation_keeps_to_it(
    tmp_path: Path, entries: list[str], otherwise: str, lines: list[str]
) -> None:
    path = tmp_path / "only.gate"
    path.write_text(NET + LIST.format("".join(entries), otherwise) + "".join(lines))
    plan = read_plan(path)
    verifier, network = Verifier(Session(plan)), Network(plan)
    for only in plan.only_lines:
        result = verifier.verify(only)
        assert is_kept(network, only) or not result.held, only.text
        packet = result.counterexample
        if packet is not None:
            # Traced by itself the packet ends as the answer says, and that is not what the line
            # says.
            ends = [
                at_address(network, Address(packet.family, value))
                for value in (packet.source, packet.destination)
            ]
            assert (
                Tracer(network).trace(Conversation(ends[0], ends[1], packet)).verdict
                is result.verdict
            )
            assert named_by(plan, only, packet) is (result.verdict is not Verdict.PERMITTED)


def told(plan_of: Read, lines: str, *claims: str) -> list[bool]:
    plan = plan_of(
        NET + LIST.format(lines, "deny") + "".join(f"expect only {each}\n" for each in claims)
    )
    verifier = Verifier(Session(plan))
    return [verifier.verify(each).held for each in plan.expectations]


WEB = "    10 permit web a to b1\n"


def test_lines_add_up_where_their_ends_overlap(plan_of: Read) -> None:
    both = WEB + "    20 permit ping a to b\n"
    assert told(plan_of, both, "web a to b1") == [False]
    assert told(plan_of, both, "web and ping a to b1") == [True]
    assert told(plan_of, both, "web a to b1", "ping a to b") == [True, True]
    assert told(plan_of, both, "web a to b1", "ping a to b", "nothing a to elsewhere") == [
        True,
        True,
        True,
    ]
    assert told(plan_of, both, "web a to b1", "nothing a to elsewhere") == [False, False]
    # A line of the other family, or of another hour, permits nothing here.
    assert told(plan_of, WEB, "nothing a to elsewhere", "web a to b1 over ipv4") == [True, True]
    assert told(plan_of, WEB, "nothing a to elsewhere over ipv4", "web a to b1 at mon 08:00") == [
        False,
        True,
    ]
    assert told(plan_of, WEB, "nothing a to elsewhere", "web a to b1 over ipv6") == [False, False]
    # What an `expect permit` says adds nothing.
    plan = plan_of(
        NET
        + LIST.format(WEB, "deny")
        + "expect permit web a to b1\nexpect only nothing a to elsewhere\n"
    )
    assert [Verifier(Session(plan)).verify(each).held for each in plan.expectations] == [
        True,
        False,
    ]


def test_all_that_is_named_must_get_through(plan_of: Read) -> None:
    assert told(plan_of, WEB, "web a to b") == [False]
    assert told(plan_of, "    10 permit tcp/80 a to b1\n", "web a to b1") == [False]
    assert told(plan_of, "", "nothing a to b") == [True]


def test_elsewhere_is_off_the_sources_own_subnets(plan_of: Read) -> None:
    assert told(
        plan_of, "    10 permit ip any to any\n", "ip a to elsewhere", "ip a1 to elsewhere"
    ) == [True, True]
    assert told(
        plan_of, "    10 permit ip a to a\n", "nothing a to elsewhere", "nothing a1 to elsewhere"
    ) == [True, True]
    assert told(
        plan_of,
        "    10 permit udp a to net\n".replace("net", "198.51.100.0/24"),
        "nothing a to elsewhere",
    ) == [False]
    # From an outside it is the plan's own subnets; what has no way passes as denied, and is no
    # failure of what is permitted there.
    assert told(plan_of, WEB, "nothing net to elsewhere", "nothing n1 to b") == [False, False]
    lonely = "subnet d 10.9.0.0/24\nhost d1 10.9.0.9\n"
    plan = plan_of(
        NET
        + lonely
        + LIST.format(WEB, "permit")
        + "expect only ip d to elsewhere\nexpect only nothing d to b\nexpect only ip d to b\n"
    )
    assert [Verifier(Session(plan)).verify(each).held for each in plan.expectations] == [
        True,
        True,
        False,
    ]


def test_a_failed_line_says_what_is_needed(plan_of: Read) -> None:
    opened, closed = (
        Verifier(Session(plan)).verify(plan.expectations[0])
        for claim in ("nothing a to elsewhere", "web and tcp/22 a to b1")
        for plan in [plan_of(NET + LIST.format(WEB, "deny") + f"expect only {claim}\n")]
    )
    assert "is permitted: l 10 permits it on the way into r.a" in opened.why
    assert opened.needed.startswith("in list l, before 10: 5 deny tcp/")
    assert opened.needed.endswith(" a to b1")
    assert closed.needed == "in list l, at the end: 20 permit tcp/22 a to b1"


@pytest.mark.parametrize(
    ("line", "message"),
    [
        ("expect only web a to b1 by l 10", "no single line decides it"),
        ("expect only web a to nowhere", "no name nowhere"),
        ("expect only a to b1", "no service a"),
        ("expect only web and a to b1", "no service a"),
        ("expect only web and nothing a to b1", "no service nothing"),
        ("expect permit web a to elsewhere", "no name elsewhere"),
        ("expect half web a to b1", "expected permit, deny, half-open or only"),
        ("expect only ping a to b1 source port 4", "ping has no source port"),
        ("expect only web elsewhere to b1", "no name elsewhere"),
    ],
)
def test_what_is_no_such_line_is_told(plan_of: Read, line: str, message: str) -> None:
    with pytest.raises(PlanErrors) as errors:
        plan_of(NET + LIST.format(WEB, "deny") + line + "\n")
    assert message in str(errors.value)


def test_a_name_elsewhere_is_that_name(plan_of: Read) -> None:
    plan = plan_of(
        NET + "group elsewhere b1\n" + LIST.format(WEB, "deny") + "expect only web a to elsewhere\n"
    )
    assert Verifier(Session(plan)).verify(plan.expectations[0]).held
