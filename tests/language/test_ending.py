"""Every finding that edits are looked for has some: on the plans that show the findings, one
proposal ends it, and nothing breaks.
"""

from __future__ import annotations

from pathlib import Path
from random import Random

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from crossgate.core.audit import audit
from crossgate.core.conversation.packets import Tracer
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.address import Family
from crossgate.core.model.finding import MENDED
from crossgate.core.model.finding_kinds import Severity
from crossgate.core.model.packet import Packet
from crossgate.core.model.plan import Plan
from crossgate.core.model.window import states
from crossgate.core.network.ways import Network
from crossgate.core.sets.frame import PacketSet
from crossgate.core.sets.region import packet_region
from crossgate.core.traffic.session import Session
from crossgate.language.change import propose
from crossgate.language.draft import Draft
from crossgate.language.ending import mend_finding
from crossgate.language.mending import Mendable
from crossgate.language.reader import read
from tests import net
from tests.core.audit.test_findings import FENCE, NETWORK, NOW, PAIRS

BAD = {
    **{name: bad for name, (bad, _) in PAIRS.items()},
    # One line is to be mended at a time.
    "nothing-permitted": FENCE.format("    10 deny telnet any to any log"),
    "wrong-side": FENCE.format("    10 permit tcp/80 server to kiosk"),
}


def mended(path: Path, name: str) -> Mendable:
    reading = read(path)
    session = Session(reading.plan)
    finding = next(each for each in audit(session, NOW).findings if each.name == name)
    return mend_finding(reading, finding, NOW, session)


@pytest.mark.parametrize("name", sorted(MENDED))
def test_a_finding_is_ended_by_what_is_proposed(tmp_path: Path, name: str) -> None:
    path = tmp_path / "plan.gate"
    path.write_text(NETWORK + BAD[name])
    before = audit(Session(read(path).plan), NOW).findings
    found = mended(path, name)
    assert found.mends, found.reason
    for mend in found.mends:
        plan = read(path, {str(path): path.read_bytes(), **mend.proposal.new}).plan
        after = audit(Session(plan), NOW).findings
        assert sum(each.name == name for each in after) < sum(each.name == name for each in before)
        errors = [
            sum(each.severity is Severity.ERROR for each in several) for several in (before, after)
        ]
        assert errors[1] <= errors[0]


@pytest.mark.parametrize(
    ("body", "name", "said"),
    [
        (
            "    10 permit ip 10.64.8.0 wild 255.255.255.0 to any",
            "mask-reversed",
            "fence 10: 10.64.8.0 wild 0.0.0.255 instead of 10.64.8.0 wild 255.255.255.0",
        ),
        (
            "    10 permit ip server, 10.64.8.0 wild 255.255.255.0 to any",
            "mask-reversed",
            "fence 10: server, 10.64.8.0 wild 0.0.0.255 instead of server, 10.64.8.0 wild "
            "255.255.255.0",
        ),
        (
            "    10 permit ip 10.64.8.0/25, server to any",
            "subnet-missed",
            "fence 10: hall instead of 10.64.8.0/25",
        ),
        (
            "    10 permit ip 10.64.8.0 wild 0.0.0.127 to any",
            "subnet-missed",
            "fence 10: hall instead of 10.64.8.0 wild 0.0.0.127",
        ),
        (
            "    10 permit rdp hall to server",
            "protocol-meant",
            "fence 10: ms-wbt-server instead of rdp",
        ),
        ("    10 permit tcp/80 server to kiosk", "wrong-side", "fence 10: swap its ends"),
    ],
)
def test_what_is_written_is_what_was_meant(tmp_path: Path, body: str, name: str, said: str) -> None:
    path = tmp_path / "plan.gate"
    path.write_text(
        f"{NETWORK}list fence extended ipv4\n{body}\nplace fence inbound on gate.hall\n"
    )
    assert said in {mend.said[0] for mend in mended(path, name).mends}


SIDES = """subnet one 10.1.0.0/24
subnet two 10.2.0.0/24
subnet three 10.3.0.0/24
router r
    interface a 10.1.0.1/24
    interface b 10.2.0.1/24
    interface c 10.3.0.1/24
list L {kind} ipv4
    {entries}
    otherwise permit
place L inbound on r.b
"""


@pytest.mark.parametrize(
    ("kind", "entries", "more", "said"),
    [
        ("extended", "deny https one to three", "", "place L inbound on r.a instead"),
        ("standard", "deny one", "", "place L outbound on r.b instead"),
        ("extended", "permit https one to two", "", "place L outbound on r.b instead"),
        (
            "extended",
            "deny ip one to three\n    deny udp two to one",
            "",
            (
                "move L 10 to a new list r-a-in, inbound on r.a: deny ip one to three; otherwise "
                "permit"
            ),
        ),
        (
            "extended",
            'deny ip one to three "theirs"',
            (
                "list M extended ipv4\n    deny udp one to two\n    otherwise permit\nplace M "
                "inbound "
                "on r.a\n"
            ),
            "move L 10 to M, which stands inbound on r.a",
        ),
    ],
)
def test_what_is_on_the_wrong_side_is_moved_before_anything_is_written(
    tmp_path: Path, kind: str, entries: str, more: str, said: str
) -> None:
    path = tmp_path / "plan.gate"
    path.write_text(SIDES.format(kind=kind, entries=entries) + more)
    first = mended(path, "wrong-side").mends[0]
    assert first.said == (said,)
    if '"theirs"' in entries:
        assert '20 deny ip one to three "theirs"' in first.proposal.new[str(path)].decode()


CLAIMED = """subnet hall 10.0.0.0/24
subnet yard 10.0.1.0/24
subnet link 10.0.2.0/30
outside sea
router gate
    interface hall 10.0.0.1/24 on hall
    interface yard 10.0.1.1/24 on yard
    interface link 10.0.2.1/30 on link
router wall
    interface link 10.0.2.2/30 on link
    interface sea 203.0.113.2/30 on sea
host desk 10.0.0.9 on hall
host crane 10.0.1.9 on yard
list cranes standard ipv4
    10 permit desk
place cranes outbound on gate.yard
"""


def test_a_source_is_dropped_wherever_others_could_claim_it(tmp_path: Path) -> None:
    path = tmp_path / "plan.gate"
    path.write_text(CLAIMED)
    (mend,) = mended(path, "spoofable").mends
    # Not at the link, by which what the other router hands on comes in as well.
    assert mend.said == (
        (
            "new list wall-sea-in, inbound on wall.sea: deny hall; deny yard; deny link; otherwise "
            "permit"
        ),
    )


@pytest.mark.parametrize(
    ("family", "other"), [("ipv4", "0.0.0.0"), ("ipv6", "fe80::/10; permit ::")]
)
def test_where_machines_come_in_only_their_own_addresses_are_let_by(
    tmp_path: Path, family: str, other: str
) -> None:
    path = tmp_path / "plan.gate"
    six = "" if family == "ipv4" else " 2001:db8:{}::{}/64"
    path.write_text(
        f"subnet hall 10.0.0.0/24{six.format(1, '')}\nsubnet yard "
        f"10.0.1.0/24{six.format(2, '')}\nsubnet lab 10.0.2.0/24{six.format(3, '')}\nrouter gate\n"
        f"    interface hall 10.0.0.1/24{six.format(1, 1)}\n    interface yard "
        f"10.0.1.1/24{six.format(2, 1)}\n    interface lab 10.0.2.1/24{six.format(3, 1)}\n"
        f"host desk 10.0.0.9{six.format(1, 9).partition('/')[0]}\nlist cranes standard {family}\n "
        "   permit desk\nplace cranes outbound on gate.yard\n"
    )
    (mend,) = mended(path, "spoofable").mends
    assert mend.said == (
        (
            f"new list gate-lab-in{'6' * (family == 'ipv6')}, inbound on gate.lab: permit lab; "
            "permit "
            f"{other}; otherwise deny"
        ),
    )
    assert mend.proposal.impact is not None
    assert not mend.proposal.impact.differences
    assert {each.name for each in mend.proposal.impact.findings} <= {"one-family"}


def test_an_edit_ends_no_finding_that_other_traffic_shows(tmp_path: Path) -> None:
    path = tmp_path / "plan.gate"
    path.write_text(
        CLAIMED.replace("outside sea", "outside sea\nsubnet store 10.0.3.0/24").replace(
            "    interface sea", "    interface store 10.0.3.1/24 on store\n    interface sea"
        )
    )
    reading = read(path)

    def change(draft: Draft) -> str:
        draft.append(
            "list sea-in standard ipv4",
            "    deny hall",
            "    otherwise permit",
            "place sea-in inbound on wall.sea",
        )
        return "the sea is closed"

    impact = propose(reading, change, NOW).impact
    assert impact is not None
    assert "spoofable" not in {each.name for each in (*impact.gone, *impact.findings)}


def test_answers_are_let_by_where_they_are_stopped(tmp_path: Path) -> None:
    path = tmp_path / "plan.gate"
    path.write_text(NETWORK + PAIRS["replies-blocked"][0])
    (mend,) = mended(path, "replies-blocked").mends
    assert mend.said == ("in list back: 20 permit tcp server to kiosk established",)


def fates(plan: Plan, packets: list[Packet]) -> list[frozenset[Verdict]]:
    """What becomes of each packet, by every way that it can take and in every state of the windows,
    traced one by one.
    """
    network = Network(plan)
    tracers = [Tracer(network, opened) for opened in states([*plan.windows.values()])]
    asked = [net.conversation(network, each) for each in packets]
    return [
        frozenset(trace.verdict for tracer in tracers for trace in tracer.alternatives(each))
        for each in asked
    ]


@settings(max_examples=18)
@given(text=net.plans(), chosen=st.integers(0, 1_000))
def test_what_an_edit_that_ends_a_finding_treats_otherwise_is_told_packet_by_packet(
    tmp_path: Path, text: str, chosen: int
) -> None:
    path = tmp_path / "plan.gate"
    path.write_text(text)
    reading = read(path)
    session, chance = Session(reading.plan), Random(chosen)
    findings = [each for each in audit(session, NOW).findings if each.name in MENDED]
    if not findings:
        return
    clients = [
        each
        for family in Family
        for each in net.openings(family)
        if each.source_port in (None, 50_000)
    ]
    packets = chance.sample(clients, 60)
    before = fates(reading.plan, packets)
    for mend in mend_finding(reading, chance.choice(findings), NOW, session).mends:
        after = read(path, {**reading.data, **mend.proposal.new}).plan
        assert mend.proposal.impact is not None
        told = [each for difference in mend.proposal.impact.differences for each in difference.sets]
        for packet, was, now in zip(packets, before, fates(after, packets), strict=True):
            own = PacketSet.of(packet_region(packet))
            assert was == now or any(each & own for each in told if each.family is packet.family), (
                mend.said,
                packet,
                was,
                now,
            )
