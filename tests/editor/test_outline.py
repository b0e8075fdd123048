"""The outline of a file: statements that give names, with the lines of their blocks as long as
these are few enough to be shown.
"""

from __future__ import annotations

from crossgate.editor.outline import MOST_LINES, parts
from crossgate.language.texts import Text

SMALL = (
    "subnet a 10.0.0.0/24\nrouter r  # the only one\n    interface i 10.0.0.1/24 on a\n\n    "
    "# nothing more\nlist l extended ipv4\n    10 deny ip any to any\n"
)


def test_lines_of_blocks_stand_below_their_statement() -> None:
    assert [
        (
            each.what,
            each.name,
            [(line.what, line.name, line.first, line.column) for line in each.lines],
        )
        for each in parts(Text("f", SMALL))
    ] == [
        ("subnet", "a", []),
        ("router", "r", [("interface", "i", 2, 14)]),
        ("list", "l", [("deny ip any to any", "10", 6, 4)]),
    ]


def test_the_longest_blocks_stay_closed_where_there_is_too_much() -> None:
    long = "".join(f"    {number} permit ip any to any\n" for number in range(1, MOST_LINES + 1))
    found = {
        each.name: len(each.lines)
        for each in parts(
            Text(
                "f",
                SMALL
                + f"list m extended ipv4\n{long}list n extended ipv4\n    10 deny ip any to any\n",
            )
        )
    }
    assert found == {"a": 0, "r": 1, "l": 1, "m": 0, "n": 1}
    alone = {
        each.name: len(each.lines) for each in parts(Text("f", f"list m extended ipv4\n{long}"))
    }
    assert alone == {"m": MOST_LINES}
