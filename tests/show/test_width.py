"""Folding: what is shown fits, in its order and colours, and nothing but the middle of long names
is lost.
"""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from crossgate.show.console import strong, word
from crossgate.show.width import CODES, columns, hung, screen_width, width, wrapped

WORDS = st.text("abcz09:.渡口é\u0301", min_size=1, max_size=30)
TEXTS = st.lists(WORDS, min_size=1, max_size=12).map(" ".join)


def bare(text: str) -> str:
    return CODES.sub("", text)


@given(TEXTS, st.integers(10, 60), st.integers(10, 60))
def test_every_line_fits_and_nothing_is_lost_but_the_middle_of_names(
    text: str, room: int, rest: int
) -> None:
    lines = wrapped(text, room, rest)
    assert width(lines[0]) <= room
    assert all(width(line) <= rest for line in lines[1:])
    told = "".join(lines).replace(" ", "")
    if "…" not in told:
        assert told == text.replace(" ", "")
    for piece in told.split("…"):
        assert piece[:3] in text.replace(" ", "")


@given(st.lists(st.tuples(WORDS, st.booleans()), min_size=1, max_size=8), st.integers(10, 40))
def test_colours_go_on_behind_a_fold_and_end_with_their_line(
    parts: list[tuple[str, bool]], room: int
) -> None:
    text = " ".join(word("deny", shown=each) if painted else each for each, painted in parts)
    lines = wrapped(text, room)
    assert [bare(line) for line in lines] == wrapped(bare(text), room)
    for line in lines:
        codes = CODES.findall(line)
        assert not codes or codes[-1] == "\x1b[0m"


def test_a_name_is_shortened_in_the_middle_and_an_address_is_parted() -> None:
    assert wrapped("lighthouse-switch-number.passenger-hall", 20) == ["lighthouse…nger-hall"]
    assert wrapped("2001:db8:64:1108:aaaa:bbbb:cccc:d001", 20) == [
        "2001:db8:64:1108:aaa",
        "a:bbbb:cccc:d001",
    ]
    assert wrapped("tcp/8443,9443,10443,11443", 12) == ["tcp/8443,", "9443,10443,", "11443"]


@given(
    st.lists(st.lists(TEXTS | st.just(""), min_size=1, max_size=4), min_size=1, max_size=5),
    st.integers(60, 120),
    st.integers(0, 6),
)
def test_a_table_fits_its_screen(rows: list[list[str]], screen: int, indent: int) -> None:
    with pytest.MonkeyPatch.context() as patch:
        patch.setenv("COLUMNS", str(screen))
        lines = columns(rows, indent)
    assert all(width(line) <= screen for line in lines)
    assert all(line == line.rstrip() or not line.strip() for line in lines)


def test_columns_that_fit_stay_as_they_are_and_the_widest_give_way_evenly(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setenv("COLUMNS", "40")
    assert columns([["a", "bb", "c"], ["aaa", "b"]]) == ["a    bb  c", "aaa  b"]
    folded = columns([["a " * 15, "b " * 30, "ok"]])
    assert folded[0].split("  ")[-1] == "ok"
    assert abs(folded[0].count("a") - folded[0].count("b")) <= 1


def test_a_line_that_is_too_wide_hangs_two_columns_in(monkeypatch: pytest.MonkeyPatch) -> None:
    line = "    denied by " + strong("guest-fence") + " 20, inbound on lighthouse.v80 and further"
    assert list(hung(line)) == [line]
    monkeypatch.setenv("COLUMNS", "40")
    assert [bare(each) for each in hung(line)] == [
        "    denied by guest-fence 20, inbound on",
        "      lighthouse.v80 and further",
    ]


def test_the_width_is_columns_or_the_terminals_or_none(monkeypatch: pytest.MonkeyPatch) -> None:
    assert screen_width() is None
    for told, is_taken in (("132", 132), ("7", 40), ("x", None), ("0", None)):
        monkeypatch.setenv("COLUMNS", told)
        assert screen_width() == is_taken


def test_a_wide_letter_takes_two_columns_and_a_combining_one_none() -> None:
    assert [width(each) for each in ("渡口", "e\u0301", "\x1b[1m渡\x1b[0m")] == [4, 1, 2]
    assert wrapped("渡口渡口渡口", 5) == ["渡口", "渡口", "渡口"]
    assert columns([["渡口", "x"], ["abcd", "y"]]) == ["渡口  x", "abcd  y"]
