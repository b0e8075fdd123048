"""Where a new entry belongs: against trying it at every position with every class of packets."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from crossgate.core.lists.insertion import effective_position, number_between
from crossgate.core.model.address import Family, Pattern
from crossgate.core.model.entry import MOST_NUMBER, Entry
from crossgate.core.model.plan import Plan
from crossgate.core.model.window import states
from crossgate.language.edits import given_entry
from crossgate.language.reader import read, read_plan
from tests import small

EVERY = [
    Pattern(Family.IPV4, value, wildcard)
    for wildcard in range(16)
    for value in range(16)
    if not value & wildcard
]
"""Every pattern of four bits."""


@settings(
    max_examples=25,
    deadline=None,
    suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow],
)
@given(st.data())
def test_a_new_entry_goes_as_far_down_as_it_changes_anything(
    tmp_path: Path, data: st.DataObject
) -> None:
    entries = data.draw(st.lists(small.entry_words(Family.IPV4), max_size=5))
    text = data.draw(small.entry_words(Family.IPV4))
    access_list = small.read_list(tmp_path, Family.IPV4, entries)
    new = given_entry_of(tmp_path, text)
    position = effective_position(access_list, new)
    place = (
        len(entries)
        if position.after is None
        else [each.number for each in access_list.entries].index(position.after.number)
    )
    assert (position.before.number if position.before else None) == (place * 10 if place else None)
    effect = [changes(tmp_path, entries, text, index) for index in range(len(entries) + 1)]
    if any(effect):
        # Positions between entries that share no packet with the new one are alike, and the last of
        # them is taken.
        assert effect[place]
        assert not any(effect[place + 1 :])


def given_entry_of(folder: Path, text: str) -> Entry:
    from crossgate.language.draft import Draft

    path = folder / "given.gate"
    path.write_text(small.list_text("small", Family.IPV4, []))
    reading = read(path)
    return given_entry(Draft(reading), reading.plan.lists["small"], text)


def changes(folder: Path, entries: list[str], text: str, place: int) -> bool:
    """Whether a list with an entry at a place decides any packet otherwise than without it."""
    without = small.read_list(folder, Family.IPV4, entries)
    with_it = small.read_list(folder, Family.IPV4, [*entries[:place], text, *entries[place:]])
    return any(
        without.decide(packet).action is not with_it.decide(packet).action
        for packet in small.packets(Family.IPV4)
    )


@pytest.mark.parametrize(
    ("text", "before", "after", "why"),
    [
        ("permit tcp/22 any to any", None, 10, "takes all of it"),
        ("permit udp/53 any to any", 10, 20, "takes all of it"),
        ("deny gre any to any", 30, None, ""),
    ],
)
def test_the_reason_is_told(
    plan_of: Callable[[str], Plan],
    tmp_path: Path,
    text: str,
    before: int | None,
    after: int | None,
    why: str,
) -> None:
    plan = plan_of(
        "list l extended ipv4\n    deny tcp any to any\n    deny udp any to any\n    permit icmp "
        "any to any\n    otherwise permit\n"
    )
    position = effective_position(plan.lists["l"], given_entry_of(tmp_path, text))
    assert (
        position.before and position.before.number,
        position.after and position.after.number,
    ) == (before, after)
    assert why in position.why


def test_a_new_entry_is_placed_by_the_hours_that_the_list_has(tmp_path: Path) -> None:
    path = tmp_path / "hours.gate"
    path.write_text(
        "window day daily 08:00-18:00\nlist l extended ipv4\n    10 deny tcp/22 any to any\n    "
        "20 permit ip any to any during day\n    otherwise deny\n"
        "list n extended ipv4\n    permit tcp/80 any to any\n    permit tcp/80 any to any during "
        "day\n"
    )
    plan = read_plan(path)
    always, by_day = plan.lists["n"].entries
    hours = list(states([plan.windows["day"]]))
    assert effective_position(plan.lists["l"], always, hours).after is None
    assert effective_position(plan.lists["l"], by_day, hours) == (
        plan.lists["l"].entries[0],
        plan.lists["l"].entries[1],
        "20 (permit ip any to any during day), which takes all of it",
    )


@given(st.integers(0, 60), st.integers(1, 60) | st.none())
def test_a_number_between_two_is_free_and_the_next_ten_where_that_fits(
    low: int, high: int | None
) -> None:
    found = number_between(low, high)
    if high is not None and high - low < 2:
        assert found is None
    else:
        assert found is not None
        assert low < found < (high if high is not None else MOST_NUMBER)
        ten = (low // 10 + 1) * 10
        assert found == ten or (high is not None and high <= ten)


def test_there_is_no_number_behind_the_last() -> None:
    assert number_between(MOST_NUMBER, None) is None
    assert number_between(MOST_NUMBER - 1, None) == MOST_NUMBER
