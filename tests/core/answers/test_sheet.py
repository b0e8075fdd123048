"""Sheets of tests: what they show, that none is needless, and results held against them."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Callable, Mapping
from datetime import datetime
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from crossgate.core.answers.sheet import Sheet, SheetReason, SheetWanted, sheet
from crossgate.core.answers.sheet.cover import fewest
from crossgate.core.answers.sheet.tests import Can, SeenInTest
from crossgate.core.answers.sheet.words import command_line, plain_words
from crossgate.core.conversation.opening import Conversation
from crossgate.core.conversation.packets import Tracer
from crossgate.core.conversation.story import Outcome
from crossgate.core.conversation.verdict import Verdict
from crossgate.core.model.accesslist import AccessList, DeciderKey
from crossgate.core.model.conditions import When
from crossgate.core.model.plan import Plan
from crossgate.core.network.ways import Network
from crossgate.language.reader import read_plan
from tests.net import plans

Read = Callable[[str], Plan]
NOON = datetime(2026, 11, 30, 12)


def made(plan: Plan, *machines: str, can: frozenset[Can] = frozenset(Can)) -> Sheet:
    return sheet(Network(plan), When(NOON), SheetWanted((), machines, can))


def seen(plan: Plan, conversation: Conversation) -> SeenInTest:
    """Return what is seen of a conversation by its trace."""
    trace = Tracer(Network(plan), plan.state_at(When(NOON))).trace(conversation)
    if trace.verdict is Verdict.PERMITTED or trace.legs[-1].leg.settles:
        return SeenInTest.ANSWERED
    rejected = trace.legs[-1].outcome is Outcome.REJECTED and not trace.legs[-1].leg.returns
    return SeenInTest.REFUSED if rejected else SeenInTest.SILENCE


def without(text: str, line: DeciderKey) -> str:
    """Return a plan's text without an entry, or with the opposite of an otherwise line."""
    before, head, rest = text.partition(f"list {line.access_list} ")
    block = re.match(r"[^\n]*\n(?: +[^\n]*\n)*", rest)
    assert block is not None
    own = block.group()
    if line.entry is not None:
        number = line.entry // 10
        lines = own.split("\n")
        lines[number] = ""  # entries without numbers have 10, 20 and so on
        return (
            before + head + "\n".join(each for each in lines if each) + "\n" + rest[block.end() :]
        )
    turned = re.sub(
        "otherwise (permit|deny|reject)",
        lambda found: f"otherwise {'deny' if found[1] == 'permit' else 'permit'}",
        own,
    )
    return before + head + turned + rest[block.end() :]


@settings(max_examples=20, deadline=None)
@given(text=plans())
def test_what_is_shown_looks_otherwise_without_the_line(plan_of: Read, text: str) -> None:
    plan = plan_of(text)
    found = made(plan)
    numbered = {name: [each.number for each in own.entries] for name, own in plan.lists.items()}
    for row in found.rows:
        conversation = row.tried.conversation
        assert row.tried.seen is seen(plan, conversation)
        assert conversation.source.name in plan.hosts
        for reason in row.reasons:
            if reason.what == "shows" and reason.line is not None:
                if reason.line.access_list not in numbered:
                    continue  # frames
                other = plan_of(without(text, reason.line))
                assert seen(other, conversation) is not row.tried.seen


@settings(max_examples=20, deadline=None)
@given(text=plans())
def test_every_line_is_shown_or_said_why_not_and_no_test_is_needless(
    plan_of: Read, text: str
) -> None:
    plan = plan_of(text)
    found = made(plan)
    reasons = [each for row in found.rows for each in row.reasons]
    told = {each.line for each in reasons if each.what in ("shows", "counts")}
    told |= {each.line for each in found.not_shown}
    for own in plan.lists.values():
        assert {
            DeciderKey(own.name, None),
            *(DeciderKey(own.name, e.number) for e in own.entries),
        } <= told
    for row in found.rows:
        others = {each for other in found.rows if other is not row for each in other.reasons}
        assert not set(row.reasons) <= others


@settings(max_examples=15, deadline=None)
@given(text=plans())
def test_a_test_beside_an_entry_is_not_taken_by_it(plan_of: Read, text: str) -> None:
    plan = plan_of(text)
    for row in made(plan).rows:
        for reason in row.reasons:
            if reason.what == "beside" and reason.line is not None:
                own = plan.lists[reason.line.access_list]
                assert isinstance(own, AccessList)
                entry = own.entry(reason.line.entry or 0)
                assert entry is not None
                assert not entry.matches(row.tried.conversation.first)
                assert reason.line not in row.tried.deciders


@given(
    reasons=st.dictionaries(
        st.integers(0, 30), st.frozensets(st.integers(0, 20), max_size=6), max_size=20
    )
)
def test_the_fewest_have_every_reason_and_none_can_be_left_out(
    reasons: Mapping[int, frozenset[int]],
) -> None:
    chosen = fewest(reasons)
    every = set().union(*reasons.values()) if reasons else set()
    assert set().union(*(reasons[each] for each in chosen)) == every if chosen else not every
    for each in chosen:
        rest = [reasons[other] for other in chosen if other != each]
        assert not reasons[each] <= set().union(*rest)


NET = (
    "subnet a 10.0.0.0/24\nsubnet b 10.0.1.0/24\nrouter r\n    interface a 10.0.0.1/24 on a\n"
    "    interface b 10.0.1.1/24 on b\nhost h 10.0.0.2 on a\nhost i 10.0.0.3 on a\n"
    "host k 10.0.1.2 on b\nwindow night daily 22:00-05:30\n"
)


@pytest.mark.parametrize(
    ("entry", "command", "words"),
    [
        ("permit ping h to k", "ping -c 3 10.0.1.2", "ping k"),
        (
            "permit tcp/8443 h to k",
            "curl --connect-timeout 3 telnet://10.0.1.2:8443",
            "connect to k, tcp/8443",
        ),
        ("permit domain h to k", "dig +time=3 +tries=1 @10.0.1.2 example.com", "ask k for a name"),
        (
            "permit tcp h to k source port 53",
            "--local-port 53 telnet://10.0.1.2:443",
            "connect to k, tcp/443, from port 53",
        ),
        ("deny ip h to k", "ping -c 3 10.0.1.2", "ping k"),
        ("permit tcp/9000-9100 h to k", "telnet://10.0.1.2:9000", "connect to k, tcp/9000"),
    ],
)
def test_how_an_entry_is_tried(plan_of: Read, entry: str, command: str, words: str) -> None:
    plan = plan_of(f"{NET}list l extended ipv4\n    {entry}\nplace l inbound on r.a\n")
    rows = [each for each in made(plan).rows if DeciderKey("l", 10) in each.tried.deciders]
    assert (True, words) in [
        (command in command_line(each.tried), plain_words(each.tried)) for each in rows
    ]


@pytest.mark.parametrize(
    ("entry", "reason"),
    [
        ("off permit ping h to k", "it is off"),
        ("permit ping h to k during night", "night is shut at this time"),
        ("permit 47 h to k", "no machine of the plan can send what it asks for"),
        ("permit ping k to h", "no machine of the plan can send what it asks for"),
        ("permit ip 10.9.9.9 to k", "no machine of the plan can send what it asks for"),
        ("permit https h to k tls 1.3", "what it asks of TLS is not tried"),
    ],
)
def test_why_nothing_shows_a_line(plan_of: Read, entry: str, reason: str) -> None:
    plan = plan_of(
        f"{NET.replace('router r', 'router r stateful')}list l extended ipv4\n    {entry}\nplace l inbound on r.a\n"
    )
    (why,) = [each.reason for each in made(plan).not_shown if each.line == DeciderKey("l", 10)]
    assert why.startswith(reason)


def test_a_line_that_others_take_all_of_and_a_list_that_stands_nowhere(plan_of: Read) -> None:
    plan = plan_of(
        f"{NET}list l extended ipv4\n    permit ip any to any\n    deny ping h to k\n"
        "list m extended ipv4\n    permit ping h to k\nplace l inbound on r.a\n"
    )
    told = {each.line: each.reason for each in made(plan).not_shown}
    assert told[DeciderKey("l", 20)].startswith("lines above take all of it")
    assert told[DeciderKey("m", 10)] == "the list stands nowhere"


def test_answers_show_a_line_that_takes_them(plan_of: Read) -> None:
    plan = plan_of(
        f"{NET}list l extended ipv4\n    permit tcp any to any established\nplace l inbound on r.a\n"
    )
    rows = [
        each
        for each in made(plan).rows
        if SheetReason("shows", DeciderKey("l", 10)) in each.reasons
    ]
    assert rows
    assert all(row.tried.conversation.source.name == "k" for row in rows)


def test_only_from_machines_and_only_what_can_be_tried(demo: Path) -> None:
    plan = read_plan(demo / "ternhaven.gate")
    found = made(plan, "kiosk-1", "duty", can=frozenset({Can.PING}))
    assert {row.tried.conversation.source.name for row in found.rows} == {"kiosk-1", "duty"}
    assert {row.tried.can for row in found.rows} == {Can.PING}


AT = ("--at", "2026-11-30 12:00")


def table_of(run: Any, *words: str) -> list[dict[str, str]]:
    done = run("sheet", *words, "--csv", *AT)
    assert done.returncode == 0, done.stderr
    return list(csv.DictReader(io.StringIO(done.stdout)))


def fill(path: Path, rows: list[dict[str, str]], **other: str) -> None:
    """Write a table as if all was seen as expected, but for some tests by their numbers."""
    with path.open("w", newline="", encoding="utf-8") as file:
        writer = csv.DictWriter(file, rows[0].keys())
        writer.writeheader()
        for row in rows:
            writer.writerow({**row, "seen": other.get(f"test_{row['test']}", row["expected"])})


def test_a_filled_in_sheet_is_held_against_the_plan(demo: Path, run: Any, answer: Any) -> None:
    rows = table_of(run)
    fill(demo / "seen.csv", rows)
    done = run("sheet", "--results", "seen.csv", *AT)
    assert done.returncode == 0, done.stderr
    assert done.stdout.splitlines() == [
        f"{len(rows)} tests of {len(rows)} tried: {len(rows)} as the plan says"
    ]
    (silent,) = [each for each in rows if each["command"] == "ping -c 3 10.64.16.12"]
    connect = next(
        e for e in rows if e["command"].startswith("curl") and e["expected"] == "an answer"
    )
    other = {
        f"test_{silent['test']}": "Works",
        f"test_{connect['test']}": "connection refused",
        f"test_{rows[-1]['test']}": "",
    }
    fill(demo / "seen.csv", rows, **other)
    done = run("sheet", "--results", "seen.csv", *AT)
    assert done.returncode == 1
    assert "differs from the plan" in done.stdout
    assert "an answer instead of silence" in done.stdout
    assert "gets there as the plan says, and nobody listens" in done.stdout
    assert f"not tried: {rows[-1]['test']}" in done.stdout
    tests = answer("sheet", "--results", "seen.csv", *AT, status=1)["tests"]
    assert [
        each["agreement"] for each in tests if each["agreement"] not in ("agrees", "not tried")
    ] == [
        "differs",
        "nobody listens",
    ]


def test_results_that_contradict_are_unknown_or_say_nothing(demo: Path, run: Any) -> None:
    rows = table_of(run, "kiosk-fence")
    fill(demo / "one.csv", rows)
    fill(demo / "two.csv", rows, test_1="an answer")
    done = run("sheet", "--results", "one.csv", "--results", "two.csv", *AT)
    assert (done.returncode, "seen otherwise twice" in done.stdout) == (1, True)
    (demo / "old.csv").write_text(
        "machine,command,seen\nkiosk-9,ping -c 3 10.64.20.10,silence\nkiosk-1,rm -rf /,ok\n"
        "kiosk-1,ping -c 3 10.64.20.40,no answer\n"
    )
    done = run("sheet", "--results", "old.csv", *AT)
    assert "old.csv row 2: nothing that this plan can test" in done.stderr
    assert "old.csv row 3: nothing that this plan can test" in done.stderr
    assert "row 4" not in done.stderr  # it is no test of the sheet, and one of the plan
    (demo / "bad.csv").write_text("machine,command,seen\nkiosk-1,ping -c 3 10.64.20.10,maybe\n")
    done = run("sheet", "--results", "bad.csv", *AT)
    assert done.returncode == 2
    assert "bad.csv row 2: 'maybe' says nothing; write answered, refused or silence" in done.stderr


@pytest.mark.parametrize(
    ("words", "message"),
    [
        (("--can", "flood"), "--can: no test flood"),
        (("--can", ","), "--can names nothing"),
        (("--from", "nobody"), "--from: no host nobody"),
        (("--csv", "--json"), "three forms of one answer"),
        (("--csv", "--results", "x.csv"), "--results is told in words or with --json"),
        (("no-such",), "no list no-such"),
    ],
)
def test_what_cannot_be_asked(demo: Path, run: Any, words: tuple[str, ...], message: str) -> None:
    done = run("sheet", *words)
    assert (done.returncode, message in done.stderr) == (2, True), done.stderr


def test_lines_that_the_tally_has_need_no_test(demo: Path, run: Any, answer: Any) -> None:
    before = answer("sheet", "kiosk-fence", *AT)
    assert before["at_work"] == []
    run("trace", "kiosk-1", "manifest", "booking", "-4", "--tally", *AT)
    after = answer("sheet", "kiosk-fence", "--tally", *AT)
    assert after["at_work"] == [{"list": "kiosk-fence", "entry": 10}]
    reasons = [
        (each.get("list"), each.get("entry")) for test in after["tests"] for each in test["reasons"]
    ]
    assert ("kiosk-fence", 10) not in reasons
    assert ("kiosk-fence", 20) in reasons
    assert len(after["tests"]) < len(before["tests"])
    assert (
        "1 line left out that the tally has at work"
        in run("sheet", "kiosk-fence", "--tally", *AT).stdout
    )
