"""Entries, lists and claims with a last day, and who answers for them."""

from __future__ import annotations

import random
from collections.abc import Callable
from datetime import date, datetime, timedelta
from pathlib import Path

import pytest

from crossgate.core.answers.compare import differences
from crossgate.core.answers.verify import Verifier
from crossgate.core.audit import audit
from crossgate.core.conversation.packets import Tracer
from crossgate.core.model.conditions import When
from crossgate.core.model.errors import PlanErrors
from crossgate.core.model.plan import Plan
from crossgate.core.model.window import Window, last_day, of_window, until_name, until_window
from crossgate.core.network.ways import Network
from crossgate.core.traffic.session import Session
from crossgate.language.lines import entry_line
from crossgate.library import trace
from tests.conftest import Run
from tests.documents import checked

Read = Callable[[str], Plan]

NET = """\
window night daily 22:00-06:00
window fair 2026-12-01 08:00 to 2026-12-05 18:00
subnet a 10.0.0.0/24
subnet b 10.0.1.0/24
router r
    interface a 10.0.0.1/24
    interface b 10.0.1.1/24
host h 10.0.0.5
host k 10.0.1.5
"""
LIST = """\
list l extended ipv4 until 2027-01-31 for "net"
    10 permit https a to b until 2026-12-10 for "cranes" "crane 4 is repaired"
    20 permit ssh a to b during night until 2026-12-10 log
    30 permit smtp a to b during fair until 2026-12-02
    40 permit ping a to b for "me"
place l inbound on r.a
"""


@pytest.mark.parametrize(
    ("service", "at", "permitted"),
    [
        ("https", "2026-12-10T23:59", True),
        ("https", "2026-12-11T00:00", False),
        ("ssh", "2026-12-10T23:00", True),
        ("ssh", "2026-12-10T21:00", False),
        ("ssh", "2026-12-11T01:00", False),
        ("smtp", "2026-12-01T07:59", False),
        ("smtp", "2026-12-02T23:59", True),
        ("smtp", "2026-12-03T00:00", False),
        ("ping", "2030-01-01T00:00", True),
    ],
)
def test_an_entry_is_in_force_to_the_end_of_its_last_day(
    plan_of: Read, service: str, at: str, permitted: bool
) -> None:
    plan = plan_of(NET + LIST)
    (found,) = trace(plan, "h", "k", service, of=When(datetime.fromisoformat(at)))
    assert (str(found.verdict) == "permitted") is permitted


@pytest.mark.parametrize("seed", range(20))
def test_a_window_to_a_last_day_is_the_window_and_the_day(plan_of: Read, seed: int) -> None:
    chance = random.Random(seed)
    plan = plan_of(NET)
    base = chance.choice(("", "night", "fair"))
    day = date(2026, 12, 1) + timedelta(days=chance.randrange(6))
    name = until_name(day, base)
    assert (of_window(name), last_day(name)) == (base, day)
    own = until_window(name, plan.windows)
    for _ in range(200):
        moment = datetime(2026, 11, 29) + timedelta(minutes=chance.randrange(9 * 24 * 60))
        wanted = moment.date() <= day and (not base or plan.windows[base].is_open(moment))
        assert own.is_open(moment) is wanted


def test_plain_windows_have_no_last_day() -> None:
    assert (of_window("until-2026-12-01"), last_day("until-2026-12-01")) == (
        "until-2026-12-01",
        None,
    )
    assert Window("w", "", None, opens=datetime(2026, 1, 1), closes=datetime(2026, 1, 2)).is_open(  # type: ignore[arg-type]
        datetime(2026, 1, 1)
    )


def test_every_moment_fares_as_a_plan_without_what_is_over(plan_of: Read) -> None:
    """Against the plain way: entries that are over are taken out, the others have no day."""
    dated = plan_of(NET + LIST)
    for day in (datetime(2026, 12, 2, 12), datetime(2026, 12, 5, 23), datetime(2026, 12, 11, 23)):
        lines = []
        for line in LIST.splitlines():
            body, until, rest = line.partition(" until ")
            if until and line.startswith("    ") and date.fromisoformat(rest[:10]) < day.date():
                continue
            lines.append(body + (" log" if " log" in rest else ""))
        plain = plan_of(NET + "\n".join(lines) + "\n")
        for service in ("https", "ssh", "smtp", "ping"):
            verdicts = [
                str(trace(plan, "h", "k", service, of=When(day))[0].verdict)
                for plan in (dated, plain)
            ]
            assert verdicts[0] == verdicts[1], (service, day)


def test_claims_are_of_the_time_to_their_last_day(plan_of: Read) -> None:
    claims = (
        "expect permit https a to b until 2026-12-10\n"
        "expect permit https a to b until 2026-12-11\n"
        "expect permit ssh a to b during night until 2026-12-10\n"
        "expect deny smtp a to b until 2026-11-30\n"
        'expect deny https a to b at 2026-12-12 10:00 until 2026-12-20 for "cranes" "as said"\n'
    )
    plan = plan_of(NET + LIST + claims)
    verifier = Verifier(Session(plan))
    found = [verifier.verify(each) for each in plan.expectations]
    assert [each.held for each in found] == [True, False, True, True, True]
    assert "after 2026-12-10" in found[1].why
    assert (plan.expectations[4].owner, plan.expectations[4].comment) == ("cranes", "as said")
    over = plan.wanted(datetime(2026, 12, 11, 0, 0))
    assert [each.place.line for each in plan.expectations if each not in over] == [16, 18, 19]


@pytest.mark.parametrize(
    ("now", "wanted"),
    [
        ("2026-11-09T23:59", []),
        ("2026-11-10T00:00", [("expires-soon", 10)]),
        ("2026-12-10T23:59", [("expires-soon", 10)]),
        ("2026-12-11T00:00", [("expired", 10)]),
        ("2027-01-01T00:00", [("expired", 10), ("expires-soon", None)]),
        ("2027-02-01T00:00", [("expired", None), ("expired", 10)]),
    ],
)
def test_check_tells_of_last_days(
    plan_of: Read, now: str, wanted: list[tuple[str, int | None]]
) -> None:
    text = LIST.replace("    20", "    #20").replace("    30", "    #30")
    found = audit(Session(plan_of(NET + text)), datetime.fromisoformat(now)).findings
    told = [(each.name, each.entry) for each in found if each.name.startswith("expire")]
    assert told == wanted
    assert all(each.name != "window-never" for each in found)


def test_plans_are_compared_before_the_day_and_after(plan_of: Read) -> None:
    dated, plain = plan_of(NET + LIST), plan_of(NET + LIST.replace(" until 2026-12-10 for", " for"))
    found = differences(Session(dated), Session(plain))
    told = {(str(each.was.verdict), str(each.now.verdict)) for each in found}
    assert told == {("denied", "permitted"), ("half-open", "permitted")}
    assert all(each.moment and each.moment.date() > date(2026, 12, 10) for each in found)


@pytest.mark.parametrize(
    ("line", "told"),
    [
        ("10 permit https a to b until tomorrow", "tomorrow is no day; write it as 2027-03-31"),
        ("10 permit https a to b until 9999-01-01", "further off than any day here"),
        ("10 permit https a to b log until 2027-01-01", "until stands too late or twice"),
        ("10 permit https a to b for cranes", "expected a name in double quotes, not cranes"),
    ],
)
def test_what_is_no_last_day_is_told(plan_of: Read, line: str, told: str) -> None:
    with pytest.raises(PlanErrors, match=told):
        plan_of(NET + f"list l extended ipv4\n    {line}\n")


def test_outside_a_window_and_a_last_day_do_not_go_together(plan_of: Read) -> None:
    with pytest.raises(PlanErrors, match="outside night and until do not go together"):
        plan_of(NET + LIST + "expect deny ssh a to b outside night until 2026-12-10\n")


def test_frames_have_last_days_too(plan_of: Read) -> None:
    text = (
        "subnet a 10.0.0.0/24\nswitch s\n    port 1\n    port 2\n"
        "host h 10.0.0.5 on a at s.1 mac 00:00:5e:00:53:01\n"
        "host k 10.0.0.6 on a at s.2 mac 00:00:5e:00:53:02\n"
        'list f extended ethernet\n    10 deny ipv4 h to any until 2026-12-10 for "me" "why"\n'
        "    otherwise permit\nplace f inbound on s.1\n"
    )
    plan = plan_of(text)
    verdicts = [
        str(trace(plan, "h", "k", "ping", of=When(datetime(2026, 12, day, 12)))[0].verdict)
        for day in (10, 11)
    ]
    assert verdicts == ["denied", "permitted"]
    assert (plan.frame_lists["f"].entries[0].owner, plan.frame_lists["f"].entries[0].comment) == (
        "me",
        "why",
    )


@pytest.mark.parametrize(
    ("text", "owner", "comment"),
    [
        ('10 permit a for "me" "why"', 'for "me"', '"why"'),
        ('10 permit a for "me"', 'for "me"', None),
        ('10 permit a "why"', None, '"why"'),
        ("10 permit a", None, None),
        ('10 permit for "why"  # remark', 'for "why"', None),
    ],
)
def test_the_parts_of_an_entrys_line(text: str, owner: str | None, comment: str | None) -> None:
    parts = entry_line(text)
    assert (parts.owner.text if parts.owner else None) == owner
    assert (parts.comment.text if parts.comment else None) == comment
    assert text[parts.body : parts.end].startswith("permit")
    assert '"' not in text[parts.body : parts.end]


def test_the_layout_keeps_who_answers_beside_what_it_is_for(tmp_path: Path, run: Run) -> None:
    path = tmp_path / "net.gate"
    claims = 'expect permit ping a to b for "me"\nexpect permit https a to b until 2026-12-10 for "you" "told"\n'
    path.write_text(NET + LIST + claims)
    assert run("tidy", "--yes").returncode == 0
    told = path.read_text().splitlines()
    assert 'expect permit ping  a to b for "me"' in told
    assert 'expect permit https a to b until 2026-12-10 for "you" "told"' in told


def test_edits_and_tables_keep_the_day_and_who_answers(tmp_path: Path, run: Run) -> None:
    path = tmp_path / "net.gate"
    path.write_text(NET + LIST)
    run(
        "entry", "change", "l", "10", "permit tcp/8443 a to b until 2027-01-01", "--yes", "--anyway"
    )
    assert (
        '10 permit tcp/8443 a to b until 2027-01-01 for "cranes" "crane 4 is repaired"'
        in " ".join(path.read_text().split())
    )
    run("entry", "change", "l", "40", 'permit ping a to b for "you" "told"', "--yes", "--anyway")
    assert '40 permit ping a to b for "you" "told"' in " ".join(path.read_text().split())
    before = path.read_text()
    (tmp_path / "l.csv").write_text(run("export", "csv").stdout)
    told = run("import", "csv", "l.csv", "--replace", "--yes")
    assert told.returncode == 0, told.stderr
    now = path.read_text().replace("    otherwise deny\n", "")
    assert [each.split() for each in now.splitlines()] == [
        each.split() for each in before.splitlines()
    ]
    dates = checked(run("lists", "--until", "--json", "--at", "2026-12-05 10:00").stdout)["lines"]
    assert [(each["until"], each["over"], each["entry"]) for each in dates] == [
        ("2026-12-02", True, 30),
        ("2026-12-10", False, 20),
        ("2027-01-01", False, 10),
        ("2027-01-31", False, None),
    ]
    shown = run("lists", "--until").stdout
    assert "l 10" in shown
    assert "cranes" in shown
    assert "over" in run("lists", "--at", "2026-12-05 10:00").stdout


def test_a_network_knows_which_of_the_times_are_open(plan_of: Read) -> None:
    plan = plan_of(NET + LIST)
    names = {"until 2026-12-10", "night until 2026-12-10", "fair until 2026-12-02"}
    assert plan.every_window.keys() - plan.windows.keys() == names
    state = plan.state_at(When(datetime(2026, 12, 2, 23)))
    assert state == {"night", "fair", *names}
    assert Tracer(Network(plan), state) is not None
