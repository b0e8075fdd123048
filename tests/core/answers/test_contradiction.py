"""Two claims of which no lists hold both are found, with a packet; two that some lists hold are
never said to contradict each other.
"""

from __future__ import annotations

from itertools import combinations
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from crossgate.core.answers.contradiction import contradiction
from crossgate.core.answers.verify import Verifier
from crossgate.core.traffic.session import Session
from crossgate.language.reader import read_plan
from tests import net

NETWORK = """
subnet here 10.0.0.0/24 2001:db8:1::/64
subnet far 10.0.1.0/24 2001:db8:2::/64
router one
    interface here 10.0.0.1/24 2001:db8:1::1/64 on here
    interface far 10.0.1.1/24 2001:db8:2::1/64 on far
host a 10.0.0.9 2001:db8:1::9 on here
host b 10.0.0.10 on here
host s 10.0.1.9 2001:db8:2::9 on far
"""


def against(path: Path, one: str, other: str) -> str:
    """Return the packet of which two claims say something else, as far as a person would name it;
    "" where there is none.
    """
    path.write_text(f"{NETWORK}expect {one}\nexpect {other}\n")
    plan = read_plan(path)
    packet = contradiction(Verifier(Session(plan)), *plan.expectations)
    return (
        ""
        if packet is None
        else (
            f"{packet.protocol}/{packet.destination_port or 0} {packet.source & 0xFF} "
            f"{packet.destination & 0xFF}"
        )
    )


@pytest.mark.parametrize(
    ("one", "other", "packet"),
    [
        ("permit tcp/80,443 here to far", "deny tcp/443-450 a to far", "6/443 9 9"),
        ("permit tcp/80 here to far", "deny tcp/443 a to far", ""),
        ("permit tcp/80 here to far", "permit tcp/80 a to s", ""),
        ("permit tcp/80 a to s over ipv4", "deny tcp/80 a to s over ipv6", ""),
        ("permit tcp/80 a to s", "deny tcp/80 b to s", ""),
        ("deny ip a to s", "half-open tcp/80 a to s", "6/80 9 9"),
        ("permit tcp/80 a to s at mon 12:00", "deny tcp/80 a to s at mon 13:00", ""),
        ("permit tcp/80 a to s at mon 12:00", "deny tcp/80 a to s", "6/80 9 9"),
        ("permit tcp/80 a to s", "deny tcp/80 a to s flooding", ""),
        ("permit tcp/80 a to s tls 1.2-", "deny tcp/80 a to s no tls", ""),
        ("only tcp/80 a to far", "permit tcp/80 a to s", ""),
        ("only tcp/80 a to far", "permit tcp/443 a to s", "6/443 9 9"),
        ("only tcp/80 a to far", "only nothing a to elsewhere", ""),
        ("only tcp/80 a to far", "deny tcp/80 a to s", "6/80 9 9"),
        ("permit tcp/80 a to s source port 5000", "deny tcp/80 a to s source port 6000", ""),
    ],
)
def test_a_packet_shows_it(tmp_path: Path, one: str, other: str, packet: str) -> None:
    assert against(tmp_path / "p.gate", one, other) == packet
    assert bool(against(tmp_path / "p.gate", other, one)) is bool(packet)


CLAIMS = [
    "permit tcp/80",
    "deny tcp/80",
    "half-open tcp/80",
    "deny ip",
    "permit ping",
    "permit udp/53",
    "deny udp",
    "only tcp/80",
    "only nothing",
]


@settings(max_examples=30)
@given(text=net.plans(), data=st.data())
def test_what_holds_together_does_not_contradict(
    tmp_path: Path, text: str, data: st.DataObject
) -> None:
    path = tmp_path / "plan.gate"
    path.write_text(text)
    hosts = [*read_plan(path).hosts]
    if len(hosts) < 2:
        return
    claims = data.draw(
        st.lists(st.tuples(st.sampled_from(CLAIMS), st.permutations(hosts)), min_size=2, max_size=5)
    )
    path.write_text(
        text + "".join(f"expect {claim} {ends[0]} to {ends[1]}\n" for claim, ends in claims)
    )
    plan = read_plan(path)
    verifier = Verifier(Session(plan))
    held = [each for each in plan.expectations if verifier.verify(each).held]
    assert not any(contradiction(verifier, one, other) for one, other in combinations(held, 2))
