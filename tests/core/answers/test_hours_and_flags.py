"""Claims about all hours of a window, and about TCP segments that open nothing; and such segments
traced.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from crossgate.core.answers.verify import Verifier
from crossgate.core.model.errors import PlanErrors
from crossgate.core.model.plan import Plan
from crossgate.core.model.service import format_flags
from crossgate.core.model.service_words import parse_flags
from crossgate.core.model.window import states
from crossgate.core.traffic.session import Session
from tests.conftest import Ask, Run

Read = Callable[[str], Plan]
PLAN = """subnet hall 10.0.8.0/24
subnet office 10.0.20.0/24
router gate
    interface hall 10.0.8.1/24
    interface office 10.0.20.1/24
host kiosk 10.0.8.21
host box 10.0.20.10
window night daily 22:00-05:30
window fair 2026-12-01 08:00 to 2026-12-03 18:00
window idle sat 00:00-12:00
list l extended ipv4
{entries}
    otherwise deny
place l inbound on gate.hall
"""
ENTRIES = """    10 permit ssh hall to office during night
    20 permit tcp/80 hall to office during fair
    30 permit tcp hall to office established"""


def held(plan: Plan) -> list[bool]:
    verifier = Verifier(Session(plan))
    return [verifier.verify(each).held for each in plan.expectations]


some_entries = st.lists(
    st.builds(
        lambda action, service, source, window: (
            f"    {action} {service} {source} to office{window}"
        ),
        st.sampled_from(["permit", "permit", "deny"]),
        st.sampled_from(["tcp/22", "tcp/22,80", "ip"]),
        st.sampled_from(["hall", "kiosk", "any"]),
        st.sampled_from(["", " during night", " during fair", " during idle"]),
    ),
    min_size=1,
    max_size=4,
)


@settings(
    max_examples=40, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture]
)
@given(
    some_entries,
    st.sampled_from(["night", "fair", "idle"]),
    st.booleans(),
    st.sampled_from(["permit", "deny"]),
)
def test_a_claim_of_hours_holds_just_where_it_holds_at_every_time_in_them(
    plan_of: Read, entries: list[str], window: str, inside: bool, claim: str
) -> None:
    text = PLAN.format(entries="\n".join(entries))
    plan = plan_of(text)
    moments = [
        when
        for state, when in states(list(plan.windows.values())).items()
        if (window in state) is inside
    ]
    times = [f"expect {claim} tcp/22 hall to office at {when:%Y-%m-%d %H:%M}" for when in moments]
    one_by_one = held(plan_of(text + "\n".join(times) + "\n"))
    (together,) = held(
        plan_of(
            text
            + f"expect {claim} tcp/22 hall to office {'during' if inside else 'outside'} {window}\n"
        )
    )
    assert together is all(one_by_one)


@pytest.mark.parametrize(
    ("claim", "expected"),
    [
        ("permit ssh hall to office during night", True),
        ("deny ssh hall to office outside night", True),
        ("permit ssh hall to office", False),
        ("only ssh and tcp/80 hall to office during night", False),
        ("deny tcp/80 hall to office outside fair", True),
        ("permit tcp hall to office flags ACK", True),
        ("deny tcp hall to office flags FIN,!ACK,!RST outside night", False),
        ("deny tcp hall to office flags FIN,!ACK,!RST,!SYN during idle", False),
        ("deny tcp/23 hall to office flags FIN,!ACK,!RST", True),
        ("deny tcp/23 hall to office flags FIN", False),
    ],
)
def test_claims_of_hours_and_flags(plan_of: Read, claim: str, expected: bool) -> None:
    assert held(plan_of(PLAN.format(entries=ENTRIES) + f"expect {claim}\n")) == [expected]


@pytest.mark.parametrize(
    ("claim", "message"),
    [
        (
            "deny ssh hall to office at mon 08:00 during night",
            "at mon 08:00 is one time; leave it out, or what stands from during on",
        ),
        ("deny ssh hall to office outside evening", "no window evening"),
        ("deny ping hall to office flags FIN", "flags are TCP's, and ping is not tcp alone"),
        (
            "half-open ssh hall to office flags FIN",
            "nobody answers such a segment, so it is never half-open",
        ),
        ("deny ssh hall to office flags FUN", "FUN is no TCP flag"),
        ("only ssh hall to office flags FIN", "only speaks of conversations"),
        (
            "deny ssh hall to office flags SYN,!ACK,!FIN,!RST,!PSH,!URG,!ECE,!CWR",
            "a segment with SYN alone opens a conversation",
        ),
    ],
)
def test_claims_that_cannot_be(plan_of: Read, claim: str, message: str) -> None:
    with pytest.raises(PlanErrors, match=message):
        plan_of(PLAN.format(entries=ENTRIES) + f"expect {claim}\n")


def test_what_is_needed_names_the_window_and_the_flags(run: Run, tmp_path: Path) -> None:
    claims = (
        "expect permit tcp/443 hall to office during night\nexpect deny tcp/22 hall to "
        "office flags ACK,!RST\n"
    )
    (tmp_path / "p.gate").write_text(PLAN.format(entries=ENTRIES) + claims)
    told = run("verify").stdout
    assert "permit tcp/443 hall to office during night" in told
    assert "deny tcp/22 hall to office flags !RST,ACK" in told
    assert "as at" not in told
    assert run("mend", "--all", "--write", "--yes").returncode == 0
    assert run("verify").returncode == 0


def test_a_segment_by_itself_is_traced(run: Run, answer: Ask, tmp_path: Path) -> None:
    (tmp_path / "p.gate").write_text(PLAN.format(entries=ENTRIES))
    assert "denied" in run("trace", "kiosk", "box", "tcp/23", "--flags", "FIN").stdout
    (found,) = answer("trace", "kiosk", "box", "tcp/23", "--flags", "FIN,ACK")["conversations"]
    assert (found["verdict"], [each["leg"] for each in found["legs"]]) == ("permitted", ["request"])
    assert (
        "it arrives, and nobody answers"
        in run("trace", "kiosk", "box", "tcp/23", "--flags", "FIN,ACK").stdout
    )
    assert (
        "icmp/8 has no TCP flags" in run("trace", "kiosk", "box", "ping", "--flags", "FIN").stderr
    )
    assert (
        "opens a conversation; leave --flags out"
        in run("trace", "kiosk", "box", "ssh", "--flags", "SYN").stderr
    )
    assert "FUN is no TCP flag" in run("trace", "kiosk", "box", "ssh", "--flags", "FUN").stderr


@given(st.sets(st.sampled_from(["FIN", "SYN", "!RST", "PSH", "!ACK", "URG"]), min_size=1))
def test_flags_are_written_as_they_are_read(flags: set[str]) -> None:
    test = parse_flags(",".join(sorted(flags)))
    assert parse_flags(format_flags(test)) == test
