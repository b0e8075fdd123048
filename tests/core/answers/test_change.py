"""What two plans can treat differently: another line that does the same is no difference, but may
be a finding.
"""

from __future__ import annotations

from datetime import datetime

import pytest

from crossgate.core.answers.change import PlanChange
from crossgate.core.answers.compare import differences
from crossgate.core.audit import audit
from crossgate.core.impact import impact_of
from crossgate.core.model.address import Family
from crossgate.core.traffic.session import Session
from crossgate.library import parse

NOON = datetime(2026, 12, 1, 12)
NETWORK = """
subnet desk 10.0.1.0/24
subnet lab 10.0.2.0/24
subnet yard 10.0.3.0/24
router edge stateful
    interface desk 10.0.1.1/24 on desk
    interface lab 10.0.2.1/24 on lab
    interface yard 10.0.3.1/24 on yard
    translate desk leaving yard as itself
host one 10.0.1.9 on desk
host two 10.0.2.9 on lab
host three 10.0.3.9 on yard
window night daily 22:00-06:00
"""
WALL = "list wall extended ipv4\n    {}\n    otherwise {}\nplace wall {}\n"


def sessions(old: list[str], new: list[str], otherwise: str, place: str) -> tuple[Session, Session]:
    first, second = (
        Session(parse(NETWORK + WALL.format("\n    ".join(lines), otherwise, place)))
        for lines in (old, new)
    )
    return first, second


@pytest.mark.parametrize(
    ("old", "new", "otherwise", "place", "differs"),
    [
        # Taken by another line before it, or by one behind it that does the same.
        (
            ["permit ip any to two"],
            ["permit ip any to two", "deny tcp/22 any to two"],
            "deny",
            "inbound on edge.desk",
            False,
        ),
        (
            ["permit ip any to two"],
            ["permit tcp/22 any to two", "permit ip any to two"],
            "deny",
            "inbound on edge.desk",
            False,
        ),
        (
            ["permit ip any to two"],
            ["deny tcp/22 any to two", "permit ip any to two"],
            "deny",
            "inbound on edge.desk",
            True,
        ),
        # Only while a window is open.
        (
            ["deny tcp/22 any to two during night"],
            ["permit tcp/22 any to two", "deny tcp/22 any to two during night"],
            "permit",
            "inbound on edge.desk",
            True,
        ),
        (
            ["deny tcp/22 any to two during night"],
            ["deny tcp/22 any to two during night", "permit tcp/22 any to two"],
            "permit",
            "inbound on edge.desk",
            False,
        ),
        # Only beyond what another line takes at most.
        (
            ["permit tcp/22 any to two at most 5 a minute"],
            ["permit tcp/22 any to two at most 5 a minute", "permit tcp/22 any to two"],
            "deny",
            "inbound on edge.desk",
            True,
        ),
        # A list behind a translation sees the address that was made.
        (
            ["deny udp any to any"],
            ["deny tcp/22 10.0.3.1 to three", "deny udp any to any"],
            "permit",
            "outbound on edge.yard",
            True,
        ),
        (
            ["deny udp any to any"],
            ["deny tcp/22 one to three", "deny udp any to any"],
            "permit",
            "outbound on edge.yard",
            False,
        ),
    ],
)
def test_only_what_is_treated_otherwise_is_a_difference(
    old: list[str], new: list[str], otherwise: str, place: str, differs: bool
) -> None:
    before, after = sessions(old, new, otherwise, place)
    assert bool(differences(before, after)) is differs
    assert bool(differences(after, before)) is differs


def test_what_does_not_matter_to_packets_is_not_looked_at() -> None:
    lines = ["permit ip any to two", "deny tcp/22 any to two"]
    for several in (lines, [*lines[:1], "deny ip one to two during night"]):
        before, after = sessions(lines[:1], several, "deny", "inbound on edge.desk")
        change = PlanChange(before, after)
        assert not list(change.pairs(Family.IPV4))
        touched = change.touched(before, Family.IPV4, there=False)
        assert touched is not None  # a finding may be about it
        assert touched.mask.any()


def test_another_line_that_does_the_same_may_be_a_finding() -> None:
    """A machine elsewhere gets by, with the address that it claims, by the line that permits it."""
    line = "permit ip two to one"
    new = ["5 permit tcp two to one", f"10 {line}"]
    before, after = sessions([f"10 {line}"], new, "deny", "outbound on edge.desk")
    impact = impact_of(before, after, NOON)
    assert impact.differences == []
    was, now = (
        {(each.name, each.entry) for each in audit(own, NOON).findings} for own in (before, after)
    )
    assert ("spoofable", 10) in was
    assert ("spoofable", 5) in now
    assert {(each.name, each.entry) for each in impact.findings} == now - was
    assert {(each.name, each.entry) for each in impact.gone} == was - now
