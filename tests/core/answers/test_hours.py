"""How conversations fare over time."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from crossgate.core.answers.hours import WEEK, ConversationHours, Opened, hours
from crossgate.core.answers.traces import TraceLimits, asked
from crossgate.core.conversation.packets import Tracer
from crossgate.core.model.conditions import When
from crossgate.core.model.errors import PlanErrors
from crossgate.core.model.plan import Plan
from crossgate.core.network.ways import Network
from tests.net import plans

Read = Callable[[str], Plan]
NOON = datetime(2026, 11, 30, 12)
NET = (
    "subnet a 10.0.0.0/24\nsubnet b 10.0.1.0/24\nrouter r{state}\n"
    "    interface a 10.0.0.1/24 on a\n    interface b 10.0.1.1/24 on b\n"
    "host h 10.0.0.2 on a\nhost k 10.0.1.2 on b\n"
    "window day daily 08:00-18:00\nwindow once 2027-02-01 06:00 to 2027-02-03 06:00\n"
)


def over(
    plan: Plan, source: str, destination: str, service: str, until: timedelta = WEEK
) -> list[ConversationHours]:
    network = Network(plan)
    wanted = asked(network, [source], [destination], [service], TraceLimits())
    return [
        hours(network, conversation, When(NOON), NOON + until)
        for each in wanted
        for conversation in each.conversations
    ]


def text(found: ConversationHours) -> list[str]:
    return [
        f"{each.start:%d %H:%M}-{'' if each.end is None else f'{each.end:%d %H:%M}'} {each.fares}"
        for each in found.stretches
    ]


@settings(max_examples=5, deadline=None)
@given(text=plans(), more=st.sampled_from(["weekdays 06:00-20:00", "sun 22:00-02:00"]))
def test_every_hour_of_a_week_fares_as_it_is_traced(plan_of: Read, text: str, more: str) -> None:
    text += f"window other {more}\nlist o extended ipv4\n    deny ip any to any during other\n"
    try:
        plan = plan_of(f"{text}    otherwise permit\nplace o outbound on right.b\n")
    except PlanErrors:  # a list is placed there already
        return
    for service in ("tcp/22", "ping"):
        for found in over(plan, "plain", "server", service):
            assert found.stretches[0].start == NOON
            for one, other in zip(found.stretches, found.stretches[1:], strict=False):
                assert one.end == other.start
            for hour in range(24 * 7):
                at = NOON + timedelta(hours=hour)
                tracer = Tracer(Network(plan), plan.state_at(When(at)))
                trace = tracer.trace(found.told)
                (own,) = (
                    each
                    for each in found.stretches
                    if each.start <= at and (each.end is None or at < each.end)
                )
                assert own.trace.verdict is trace.verdict
                assert [each.key for each in own.trace.deciders()] == [
                    each.key for each in trace.deciders()
                ]


def test_hours_a_date_and_what_never_changes(plan_of: Read) -> None:
    plan = plan_of(
        NET.format(state="") + "list l extended ipv4\n    permit tcp/22 h to k during day\n"
        "    permit ping h to k during once\n    permit tcp/23 h to k\nplace l inbound on r.a\n"
    )
    (ssh,) = over(plan, "h", "k", "tcp/22", timedelta(days=1))
    assert text(ssh) == [
        "30 12:00-30 18:00 permitted",
        "30 18:00-01 08:00 denied",
        "01 08:00-01 18:00 permitted",
    ]
    assert ssh.next is ssh.stretches[1]
    assert ssh.then is not None
    assert f"{ssh.then.start:%d %H:%M}" == "01 18:00"
    (ping,) = over(plan, "h", "k", "ping")
    assert len(ping.stretches) == 1
    assert ping.next is not None
    assert ping.next.start == datetime(2027, 2, 1, 6)
    assert str(ping.next.fares) == "permitted"
    (telnet,) = over(plan, "h", "k", "tcp/23")
    assert (telnet.next, telnet.stretches[0].end) == (None, None)


@pytest.mark.parametrize(
    ("state", "more", "opened"),
    [
        (" stateful", "", Opened.REMEMBERED),
        ("", "    permit tcp any to any established\n", Opened.PERMITTED),
        ("", "", Opened.STOPPED),
    ],
)
def test_what_becomes_of_conversations_that_are_open(
    plan_of: Read, state: str, more: str, opened: Opened
) -> None:
    plan = plan_of(
        NET.format(state=state)
        + f"list l extended ipv4\n    permit tcp/22 h to k during day\n{more}place l inbound on r.a\n"
    )
    (found,) = over(plan, "h", "k", "tcp/22", timedelta(days=1))
    turns = [each.turn for each in found.stretches]
    assert turns[0] is None
    assert turns[2] is None
    assert turns[1] is not None
    assert (turns[1].opened, turns[1].by) == (opened, "r")


def test_a_change_at_the_very_end_is_not_in_the_time_asked_about(plan_of: Read) -> None:
    plan = plan_of(
        NET.format(state="")
        + "list l extended ipv4\n    permit tcp/22 h to k during day\nplace l inbound on r.a\n"
    )
    (found,) = over(plan, "h", "k", "tcp/22", timedelta(hours=6))
    assert text(found) == ["30 12:00-30 18:00 permitted"]
    assert found.then is not None
    assert found.then.start == NOON + timedelta(hours=6)


AT = ("--at", "2026-11-30 12:00")


def test_it_is_told_and_drawn(demo: Path, run: Any, answer: Any) -> None:
    told = run("trace", "duty", "crane-1", "ssh", "--week", *AT).stdout
    assert "next change Mon 2026-11-30 22:00: permitted, by list 12 entry 30" in told
    assert "break off: lighthouse remembers nothing" in told
    (found,) = answer("trace", "duty", "crane-1", "ssh", "--until", "2026-12-01", *AT)[
        "conversations"
    ]
    assert [each["from"][-8:-3] for each in found["stretches"]] == [
        "12:00",
        "22:00",
        "05:30",
        "22:00",
    ]
    assert found["stretches"][1]["lines"][0] == {
        "list": "12",
        "entry": 30,
        "action": "permit",
        "line": 88,
    }
    assert found["stretches"][2]["open_conversations"]["what"] == "stopped"
    several = run("trace", "tickets", "servers", "ping", "--week", "-4", *AT).stdout.splitlines()
    assert several[0].endswith(
        "until Tue 2037-12-01 06:00  then permitted, by kiosk-port 10, kiosk-fence 40"
    )
    assert several[-1].endswith("always")
    drawn = run("draw", "week", "duty", "crane-1", "ssh", *AT)
    assert drawn.returncode == 0
    assert "tcp/22  duty to crane-1  IPv4" in (demo / "week.svg").read_text()


@pytest.mark.parametrize(
    ("words", "message"),
    [
        (("--until", "2020-01-01"), "--until 2020-01-01 is not after Mon 2026-11-30 12:00"),
        (("--until", "soon"), "--until soon: expected a time"),
        (("--week", "--why"), "--why is about one time, and --week about many"),
        (("--week", "--expect", "permit"), "--expect is about one time"),
    ],
)
def test_what_cannot_be_asked_over_time(demo: Path, run: Any, words: Any, message: str) -> None:
    done = run("trace", "duty", "crane-1", "ssh", *AT, *words)
    assert done.returncode == 2
    assert message in done.stderr
