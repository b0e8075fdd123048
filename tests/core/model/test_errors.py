"""The line that is shown with an error, and the marker under its words."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from crossgate.core.model.errors import Place, PlanError
from crossgate.core.model.plaintext import columns_of

LINES = st.text('ab ,"日本e\u0301', min_size=1, max_size=90)


def shown(error: PlanError, room: int | None) -> tuple[str, str]:
    """Return the line and the marker under it as they are shown."""
    _, line, marker = error.told(room).split("\n")
    return line, marker


def test_the_marker_stands_under_its_word_behind_wide_letters() -> None:
    error = PlanError("no", place=Place("a", 1), source='"日本" x to 港湾', column=11, width=2)
    assert shown(error, None) == ('    "日本" x to 港湾', "                ^~~~")
    assert error.told() == str(error)


def test_of_a_line_wider_than_the_screen_what_surrounds_the_word_is_shown() -> None:
    source = "permit tcp/443 " + "10.64.32.10, " * 9 + "harbur during night and what follows it"
    column = source.index("harbur") + 1
    error = PlanError("no", place=Place("a", 1), source=source, column=column, width=6)
    line, marker = shown(error, 60)
    assert line == "    … 10.64.32.10, 10.64.32.10, harbur during night and wha…"
    assert marker == " " * 32 + "^~~~~~"
    whole = shown(error, len(source) + 4)
    assert whole[0] == f"    {source}"
    assert shown(error, len(source) + 3)[0] != f"    {source}"


@given(LINES, st.integers(40, 100), st.data())
def test_no_line_is_wider_than_the_room_and_the_marker_is_under_the_word(
    source: str, room: int, data: st.DataObject
) -> None:
    start = data.draw(st.integers(0, len(source) - 1))
    width = data.draw(st.integers(1, len(source) - start))
    error = PlanError("no", place=Place("a", 1), source=source, column=start + 1, width=width)
    line, marker = shown(error, room)
    assert columns_of(line) <= room
    assert len(marker) <= room
    under = len(marker) - len(marker.lstrip())
    assert any(
        source[:start].endswith(line[4:end].removeprefix("…"))
        for end in range(4, len(line) + 1)
        if columns_of(line[:end]) == under
    )
