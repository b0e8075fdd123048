"""What an edit does, found from what it touched, against looking at both plans whole: on the sites
of the benchmarks, made small.
"""

from __future__ import annotations

import sys
from collections import Counter
from datetime import datetime
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from crossgate.core.answers.verify import Verifier
from crossgate.core.audit import audit
from crossgate.core.impact import impact_of
from crossgate.core.model.address import Family
from crossgate.core.model.finding_kinds import Severity
from crossgate.core.model.plan import Plan
from crossgate.core.traffic.session import Session
from crossgate.language.kept import Kept
from crossgate.language.reader import read, read_plan

sys.path.insert(0, str(Path(__file__).parents[2] / "benchmarks"))
from sites import SHAPES, Size, site

NOON = datetime(2026, 12, 1, 12)
SMALL = Size(5, 7, 4, 9, 14, least=8, most=14)
EDITS = {
    "an entry more": lambda lines: [*lines[:2], "    15 permit tcp/443 s1 to s3", *lines[2:]],
    "an entry less": lambda lines: [*lines[:2], *lines[3:]],
    "another otherwise": lambda lines: [
        line.replace("otherwise deny", "otherwise permit") for line in lines
    ],
    "not placed": lambda lines: [line for line in lines if not line.startswith("place")],
    "the other way": lambda lines: [line.replace(" inbound ", " outbound ") for line in lines],
}


def plan_in(folder: Path, text: str) -> Plan:
    path = folder / "site.gate"
    path.write_text(text)
    return read_plan(path)


def held(plan: Plan) -> dict[str, bool]:
    verifier = Verifier(Session(plan))
    return {each.text: verifier.verify(each).held for each in plan.expectations}


def found(plan: Plan) -> Counter[tuple[object, ...]]:
    """Return the findings by what they are known by whatever their line."""
    told: Counter[tuple[object, ...]] = Counter()
    for each in audit(Session(plan), NOON).findings:
        entry = (
            None
            if each.access_list is None or each.entry is None
            else plan.lists[each.access_list].entry(each.entry)
        )
        told[(each.name, each.access_list, "" if entry is None else entry.text)] += 1
    return told


def a_host_moves(lines: list[str]) -> list[str]:
    """Give the first host the address of another one's subnet, and take the last out."""
    hosts = [index for index, line in enumerate(lines) if line.startswith("host ")]
    other = lines[hosts[1]].split()
    address = other[2][:-1] + ("7" if other[2][-1] != "7" else "6")
    moved = [*lines]
    moved[hosts[0]] = f"host {lines[hosts[0]].split()[1]} {address} {' '.join(other[3:])}"
    moved.insert(hosts[-1], f"host new {address[:-1]}5 {' '.join(other[3:])}")
    return moved


@pytest.mark.parametrize("shape", SHAPES)
@pytest.mark.parametrize("family", Family)
def test_hosts_are_answered_as_from_nothing(tmp_path: Path, shape: str, family: Family) -> None:
    lines = site(SMALL, shape, family).splitlines()
    before, after = (
        plan_in(tmp_path, "\n".join(text) + "\n") for text in (lines, a_host_moves(lines))
    )
    assert before.hosts != after.hosts
    old, new = Session(before), Session(after)
    impact = impact_of(old, new, NOON)
    was, now = held(before), held(after)
    assert {each.now.expectation.text: each.now.held for each in impact.turned} == {
        text: holds for text, holds in now.items() if holds is not was[text]
    }
    told = (found(after) - found(before), found(before) - found(after))
    for findings, wanted in zip((impact.findings, impact.gone), told, strict=True):
        assert Counter((each.name, each.access_list) for each in findings) == Counter(
            (name, access_list)
            for (name, access_list, _), count in wanted.items()
            for _ in range(count)
        )
    # No other way is worked out anew for what is no more than a name.
    beside = Session(after, beside=old)
    assert (beside.matrix(family) is old.matrix(family)) is (
        before.machines_between == after.machines_between
    )


@pytest.mark.parametrize("shape", SHAPES)
@pytest.mark.parametrize("family", Family)
@pytest.mark.parametrize("edit", EDITS)
def test_an_edit_is_answered_as_from_nothing(
    tmp_path: Path, shape: str, family: Family, edit: str
) -> None:
    lines = site(SMALL, shape, family).splitlines()
    start = next(index for index, line in enumerate(lines) if line.startswith("list gate1 "))
    end = next(index for index, line in enumerate(lines) if line.startswith("place gate1 ")) + 1
    before = plan_in(tmp_path, "\n".join(lines) + "\n")
    after = plan_in(
        tmp_path, "\n".join([*lines[:start], *EDITS[edit](lines[start:end]), *lines[end:]]) + "\n"
    )
    impact = impact_of(Session(before), Session(after), NOON)
    was, now = held(before), held(after)
    assert {each.now.expectation.text: each.now.held for each in impact.turned} == {
        text: holds for text, holds in now.items() if holds is not was[text]
    }
    new = Counter((each.name, each.access_list) for each in impact.findings)
    assert new == Counter(
        (name, access_list)
        for (name, access_list, _), count in (found(after) - found(before)).items()
        for _ in range(count)
    )
    brief = impact_of(Session(before), Session(after), NOON, brief=True)
    errors = any(each.severity is Severity.ERROR for each in impact.findings)
    assert brief.turned == impact.turned
    assert brief.findings == ([] if impact.broken else impact.findings)
    assert brief.differences == ([] if impact.broken or errors else impact.differences)
    changed = impact_of(Session(after), Session(before), NOON)
    assert {(each.was.verdict, each.now.verdict) for each in changed.differences} == {
        (each.now.verdict, each.was.verdict) for each in impact.differences
    }


SERVICES = ("tcp/443", "tcp", "udp/53", "udp", "icmp/0", "icmp", "ip", "tcp/1024-")
OPENED = ("", " established", " source port 443", " source port 53")


@settings(max_examples=12)
@given(st.data())
def test_edits_in_a_row_are_answered_as_from_nothing(tmp_path: Path, data: st.DataObject) -> None:
    shape = data.draw(st.sampled_from(list(SHAPES)))
    lines = site(SMALL, shape, Family.IPV4).splitlines()
    points = [
        str(each.point)
        for device in plan_in(tmp_path, "\n".join(lines) + "\n").devices.values()
        for each in device.interfaces.values()
    ]
    ends = st.sampled_from(["any", "s0", "s1", "s3"])
    for _ in range(2):
        heads = [number for number, line in enumerate(lines) if line.startswith("list ")]
        head = data.draw(st.sampled_from(heads))
        service = data.draw(st.sampled_from(SERVICES))
        more = data.draw(st.sampled_from(OPENED)) if service.startswith("tcp") else ""
        asked = f"{service} {data.draw(ends)} to {data.draw(ends)}{more}"
        match data.draw(st.sampled_from(["entry", "entry", "no entry", "list", "no place"])):
            case "entry":
                action = data.draw(st.sampled_from(["permit", "deny"]))
                edited = [*lines[: head + 1], f"    5 {action} {asked}", *lines[head + 1 :]]
            case "no entry":
                edited = [*lines[: head + 1], *lines[head + 2 :]]
            case "list":
                point = data.draw(st.sampled_from(points))
                name, way = f"new{len(lines)}", data.draw(st.sampled_from(["inbound", "outbound"]))
                edited = [
                    *(line for line in lines if not line.endswith(f" {way} on {point}")),
                    f"list {name} extended ipv4",
                    f"    10 deny {asked}",
                    "    otherwise permit",
                    f"place {name} {way} on {point}",
                ]
            case _:
                placed = [number for number, line in enumerate(lines) if line.startswith("place ")]
                edited = list(lines)
                del edited[data.draw(st.sampled_from(placed))]
        edited = renumbered(edited)
        before, after = (plan_in(tmp_path, "\n".join(each) + "\n") for each in (lines, edited))
        impact = impact_of(Session(before), Session(after), NOON)
        was, now = found(before), found(after)
        for findings, wanted in ((impact.findings, now - was), (impact.gone, was - now)):
            assert Counter((each.name, each.access_list) for each in findings) == Counter(
                (name, access_list)
                for (name, access_list, _), count in wanted.items()
                for _ in range(count)
            )
        lines = edited


def renumbered(lines: list[str]) -> list[str]:
    """Number the entries of each list anew, by tens."""
    numbered, number = list[str](), 0
    for line in lines:
        first, _, rest = line.strip().partition(" ")
        number = 0 if line.startswith("list ") else number
        if line.startswith("    ") and first.isdecimal():
            number += 10
            line = f"    {number} {rest}"
        numbered.append(line)
    return numbered


BY_NIGHT = """window night daily {hours}
client ports {ports}
subnet a 10.0.0.0/24
subnet b 10.0.1.0/24
router r
    interface a 10.0.0.1/24
    interface b 10.0.1.1/24
host h 10.0.0.5
host k 10.0.1.5
list l extended ipv4
    permit tcp/22 h to k during night
    permit tcp/80 h to k source port 40000-50000
place l inbound on r.a
expect deny tcp/22 h to k at mon 21:30
expect permit tcp/80 h to k
"""


@pytest.mark.parametrize(
    ("hours", "ports", "turned", "differences"),
    [
        ("22:00-06:00", "40000-50000", [], False),
        ("21:00-06:00", "40000-50000", ["expect deny tcp/22 h to k at mon 21:30"], True),
        ("22:00-06:00", "40000-60000", ["expect permit tcp/80 h to k"], False),
        ("22:00-06:00", "39999-50000", ["expect permit tcp/80 h to k"], False),
    ],
)
def test_other_hours_and_other_client_ports_are_a_change(
    tmp_path: Path, hours: str, ports: str, turned: list[str], differences: bool
) -> None:
    (tmp_path / "old").mkdir()
    (tmp_path / "new").mkdir()
    old = plan_in(tmp_path / "old", BY_NIGHT.format(hours="22:00-06:00", ports="40000-50000"))
    new = plan_in(tmp_path / "new", BY_NIGHT.format(hours=hours, ports=ports))
    impact = impact_of(Session(old), Session(new), NOON)
    assert [each.now.expectation.text for each in impact.turned] == turned
    assert bool(impact.differences) is differences


THREE = """subnet a 10.0.0.0/24
subnet b 10.0.1.0/24
subnet c 10.0.2.0/24
router r
    interface a 10.0.0.1/24
    interface b 10.0.1.1/24
    interface c 10.0.2.1/24
list l extended ipv4
    10 permit tcp/80 a to b
    20 {off}deny tcp/443 a to b
    otherwise {otherwise}
"""


@pytest.mark.parametrize("otherwise", ["permit", "deny"])
def test_a_list_that_is_placed_stops_what_no_entry_names(tmp_path: Path, otherwise: str) -> None:
    text = THREE.format(off="", otherwise=otherwise)
    old, new = (Session(plan_in(tmp_path, text + more)) for more in ("", "place l inbound on r.a"))
    for before, after, gone in ((old, new, True), (new, old, False)):
        found = impact_of(before, after, NOON).differences
        verdicts = {(each.was if gone else each.now).verdict.value for each in found}
        assert verdicts == {"permitted"}
        to_c = any(
            pattern.contains(0x0A000205)
            for each in found
            for line in each.lines
            for pattern in line.destination
        )
        assert to_c is (otherwise == "deny")


def test_an_entry_that_is_switched_off_is_a_change(tmp_path: Path) -> None:
    texts = [THREE.format(off=off, otherwise="permit") for off in ("", "off ")]
    path = tmp_path / "site.gate"
    kept = Kept()
    readings = [
        read(path, {str(path): f"{text}place l inbound on r.a\n".encode()}, kept) for text in texts
    ]
    first, second = (each.plan.lists["l"].entries for each in readings)
    assert first[0].has_only_moved(second[0])
    assert not first[1].has_only_moved(second[1])
    impact = impact_of(Session(readings[0].plan), Session(readings[1].plan), NOON)
    assert {each.now.verdict.value for each in impact.differences} == {"permitted"}


SIDES = """\
subnet a 10.0.1.0/24
subnet b 10.0.2.0/24
router r
    interface a 10.0.1.1/24 on a
    interface b 10.0.2.1/24 on b
host x 10.0.1.9
"""
CLAIMED = f"""{SIDES}\
service shop tcp/443
expect permit https x to b "why"
"""


@pytest.mark.parametrize(
    ("now", "told"),
    [
        ("expect permit https 10.0.1.9 to b", []),
        ("expect permit shop x to 10.0.2.0/24", []),
        ("expect permit https x to a", [None]),
        ("expect permit tcp/444 x to b", [None]),
        ("expect deny https x to b", [None]),
        ("keep permit https x to b", [None]),
        ("expect permit https x to b source port 50000", [None]),
    ],
)
def test_an_expectation_in_other_words_is_no_new_one(
    tmp_path: Path, now: str, told: list[bool | None]
) -> None:
    before = plan_in(tmp_path, CLAIMED)
    after = plan_in(tmp_path, CLAIMED.replace('expect permit https x to b "why"', now))
    assert [each.held for each in impact_of(Session(before), Session(after), NOON).turned] == told


FENCED = f"""{SIDES}\
host y 10.0.1.8
group some x
list l extended ipv4
    10 permit https x to any
    20 permit ssh   x to any
    30 deny   ip    x to any
    40 permit ip    any to any
place l inbound on r.a
"""


@pytest.mark.parametrize(
    ("claims", "old", "new", "told"),
    [
        # What a name stands for, of which no list speaks.
        ("expect deny ping some to b\n", "group some x\n", "group some x, y\n", [True]),
        ("expect deny ping some to b\n", "group some x\n", "group some y\n", [True]),
        # One more line of what alone may pass.
        (
            "expect only https x to b\n",
            "expect only https x to b\n",
            "expect only https x to b\nexpect only ssh x to b\n",
            [False, None],
        ),
        (
            "expect only https x to b\n",
            "expect only https x to b\n",
            "expect only https x to b\nexpect only ssh y to b\n",
            [None],
        ),
    ],
)
def test_an_expectation_turns_without_a_change_of_lists(
    tmp_path: Path, claims: str, old: str, new: str, told: list[bool | None]
) -> None:
    before = plan_in(tmp_path, FENCED + claims)
    after = plan_in(tmp_path, (FENCED + claims).replace(old, new))
    found = impact_of(Session(before), Session(after), NOON).turned
    assert [each.held for each in found] == told
