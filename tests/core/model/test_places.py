"""Comparing what two plans have never compares where it stood."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from pathlib import Path

import pytest

from crossgate.core.audit import Audited
from crossgate.core.impact import impact_of
from crossgate.core.model.plan import Plan
from crossgate.core.traffic.session import Session
from crossgate.demo import PLAN, write
from crossgate.language.reader import read_plan

PARTS = (
    "segments",
    "devices",
    "hosts",
    "groups",
    "services",
    "windows",
    "placements",
    "expectations",
    "acceptances",
)


@pytest.fixture
def demo(tmp_path: Path) -> str:
    write(tmp_path)
    return (tmp_path / PLAN).read_text()


def shifted(text: str) -> str:
    """Put a line above every statement that is not part of a block."""
    return "\n".join(
        f"# a remark\n{line}" if line[:1].isalpha() else line for line in text.split("\n")
    )


def test_a_plan_whose_lines_have_moved_is_the_same(
    plan_of: Callable[[str], Plan], demo: str
) -> None:
    one, other = plan_of(demo), plan_of(shifted(demo))
    for part in PARTS:
        assert getattr(one, part) == getattr(other, part), part
        assert (getattr(one, part) != getattr(other, part)) is False, part
    assert one.expectations[0].place != other.expectations[0].place
    assert len({*one.placements, *other.placements}) == len(one.placements)
    assert [[entry.meaning for entry in each.entries] for each in one.lists.values()] == [
        [entry.meaning for entry in each.entries] for each in other.lists.values()
    ]


@pytest.mark.parametrize("part", PARTS)
def test_what_differs_in_meaning_is_not_the_same(
    plan_of: Callable[[str], Plan], demo: str, part: str
) -> None:
    statement = {
        "segments": "subnet",
        "devices": "router",
        "hosts": "host",
        "groups": "group",
        "services": "service",
        "windows": "window",
        "placements": "place",
        "expectations": "expect",
        "acceptances": "accept",
    }[part]
    named = {
        "segments": "subnet spare 10.99.0.0/24",
        "devices": "router spare",
        "hosts": "host spare 10.64.20.77 on harbour",
        "groups": "group spare 10.99.0.1",
        "services": "service spare tcp/4",
        "windows": "window spare daily 03:00-04:00",
        "placements": "",
        "expectations": "expect permit tcp/9 harbour to internet",
        "acceptances": 'accept unplaced in 12 "spare"',
    }[part]
    lines = demo.split("\n")
    first = next(index for index, line in enumerate(lines) if line.startswith(statement + " "))
    changed = [*lines, named] if named else [*lines[:first], *lines[first + 1 :]]
    assert getattr(plan_of(demo), part) != getattr(plan_of("\n".join(changed)), part)


def test_only_what_changed_is_looked_at_wherever_it_stands(
    tmp_path: Path, demo: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    """An edit above everything else shifts every line, and still only the entries near it are
    audited again.
    """
    from crossgate.core import impact

    focused = []

    def audit(session: Session, now: datetime, focus: dict[str, set[int]], **_: object) -> object:
        focused.append(focus)
        return Audited([], [], [])

    monkeypatch.setattr(impact, "audit", audit)
    monkeypatch.setattr(impact, "differences", lambda *arguments: [])
    plans = []
    for text in (
        demo,
        "# above\n"
        + demo.replace(
            "    10 permit domain guests to resolver\n", "    10 permit domain guests to manifest\n"
        ),
    ):
        (tmp_path / "p.gate").write_text(text)
        plans.append(Session(read_plan(tmp_path / "p.gate")))
    impact_of(plans[0], plans[1], datetime(2026, 12, 1))
    assert {name for each in focused for name, numbers in each.items() if numbers} == {
        "guest-fence"
    }
